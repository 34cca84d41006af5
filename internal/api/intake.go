package api

import (
	"encoding/json"
	"errors"
	"io"
	"net/http"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"dorfbote/internal/api/hooks"
	"dorfbote/internal/connect/hook"
	"dorfbote/internal/engine/intake"
)

// takeIn answers POST /in/{connection} and /in/{connection}/{kind}. It says 202 only when the events are
// durable.
func (s *Server) takeIn(w http.ResponseWriter, r *http.Request) {
	c, err := s.hooks.Hook(r.Context(), chi.URLParam(r, "connection"))
	if err != nil {
		busy(w)
		return
	}
	if c == nil {
		writeProblem(w, http.StatusNotFound, "path", "there is no hook "+chi.URLParam(r, "connection")+" here")
		return
	}
	if c.Paused {
		w.Header().Set("Retry-After", "60")
		s.refuse(w, r, c.ID, nil, http.StatusServiceUnavailable, "", "this connection is paused; nothing was taken in, so send it again later")
		return
	}
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, hook.MaxBody))
	if err != nil {
		var tooLarge *http.MaxBytesError
		if errors.As(err, &tooLarge) {
			s.refuse(w, r, c.ID, nil, http.StatusRequestEntityTooLarge, "body", "the body is larger than 1 MiB; send fewer events at a time")
			return
		}
		writeProblem(w, http.StatusBadRequest, "body", "the body ended before it was complete")
		return
	}
	secret, err := s.Engine.Sources.Secret(c, "signing")
	if err != nil {
		s.refuse(w, r, c.ID, body, http.StatusInternalServerError, "", err.Error())
		return
	}
	h := hook.Hook{Connection: c.ID, Secret: secret, Shape: func(source string) (hook.Shape, error) { return s.hooks.Shape(r.Context(), c, source) }}
	events, problem := h.Read(r.Header, chi.URLParam(r, "kind"), body, s.Engine.Now().UTC())
	if problem != nil && problem.Status == http.StatusServiceUnavailable {
		busy(w)
		return
	}
	if problem != nil {
		s.refuse(w, r, c.ID, body, problem.Status, problem.Location, problem.Detail)
		return
	}
	for _, e := range events {
		var wrong *hooks.NameError
		switch err := s.hooks.Learn(r.Context(), c, e.Source); {
		case errors.As(err, &wrong):
			s.refuse(w, r, c.ID, body, http.StatusBadRequest, "source", wrong.Words)
			return
		case err != nil:
			s.refuse(w, r, c.ID, body, http.StatusServiceUnavailable, "", err.Error())
			return
		}
	}
	receipts := []intake.Receipt{}
	if len(events) > 0 {
		var many *intake.TooManyError
		switch receipts, err = s.Intake.Take(r.Context(), events); {
		case errors.As(err, &many):
			s.refuse(w, r, c.ID, body, http.StatusRequestEntityTooLarge, "body", many.Error())
			return
		case err != nil:
			busy(w)
			return
		}
	}
	s.requests.Note(r, c.ID, body, http.StatusAccepted, "", "")
	s.arrived(receipts)
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(http.StatusAccepted)
	_ = json.NewEncoder(w).Encode(map[string]any{"accepted": len(receipts), "arrivals": receipts})
}

// arrived counts what was taken in, and logs each by its id.
func (s *Server) arrived(receipts []intake.Receipt) {
	known := 0
	for _, r := range receipts {
		if r.Known {
			known++
		}
		s.Log.Debug("taken in", "arrival", r.Seq, "id", r.ID, "known", r.Known)
	}
	s.Meters.Arrived(len(receipts)-known, known)
}

func busy(w http.ResponseWriter) {
	w.Header().Set("Retry-After", "2")
	writeProblem(w, http.StatusServiceUnavailable, "", "events cannot be stored at the moment; send them again, all of them: what was stored already is known by its id")
}

func problemModel(status int, location, detail string) *huma.ErrorModel {
	m := &huma.ErrorModel{Status: status, Title: http.StatusText(status), Detail: detail}
	if location != "" {
		m.Errors = []*huma.ErrorDetail{{Location: location, Message: detail}}
	}
	return m
}

func writeProblem(w http.ResponseWriter, status int, location, detail string) {
	sendProblem(w, problemModel(status, location, detail))
}

func sendProblem(w http.ResponseWriter, m *huma.ErrorModel) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(m.Status)
	_ = json.NewEncoder(w).Encode(m)
}
