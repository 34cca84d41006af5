package api

import (
	"net/http"
)

// refuse answers a request with a problem, and notes it.
func (s *Server) refuse(w http.ResponseWriter, r *http.Request, connection string, body []byte, status int, location, detail string) {
	s.requests.Note(r, connection, body, status, location, detail)
	writeProblem(w, status, location, detail)
}
