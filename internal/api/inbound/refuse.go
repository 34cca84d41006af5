package inbound

import (
	"net/http"

	"dorfbote/internal/api/kit"
)

// refuse answers a request with a problem, and notes it.
func (in *Inbound) refuse(w http.ResponseWriter, r *http.Request, connection string, body []byte, status int, location, detail string) {
	in.Requests.Note(r, connection, body, status, location, detail)
	kit.WriteProblem(w, status, location, detail)
}
