package kit

import (
	"encoding/json"
	"fmt"
	"net/http"

	"github.com/danielgtaylor/huma/v2"
)

func Busy(w http.ResponseWriter) {
	w.Header().Set("Retry-After", "2")
	WriteProblem(w, http.StatusServiceUnavailable, "", "events cannot be stored at the moment; send them again, all of them: what was stored already is known by its id")
}

func problemModel(status int, location, detail string) *huma.ErrorModel {
	m := &huma.ErrorModel{Status: status, Title: http.StatusText(status), Detail: detail}
	if location != "" {
		m.Errors = []*huma.ErrorDetail{{Location: location, Message: detail}}
	}
	return m
}

func WriteProblem(w http.ResponseWriter, status int, location, detail string) {
	SendProblem(w, problemModel(status, location, detail))
}

func SendProblem(w http.ResponseWriter, m *huma.ErrorModel) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(m.Status)
	_ = json.NewEncoder(w).Encode(m)
}

// Invalid is an error of the request, with its place.
func Invalid(location, format string, args ...any) error {
	msg := fmt.Sprintf(format, args...)
	return huma.Error422UnprocessableEntity(msg, &huma.ErrorDetail{Location: location, Message: msg})
}
