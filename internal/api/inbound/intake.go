package inbound

import (
	"encoding/json"
	"errors"
	"io"
	"net/http"

	"github.com/go-chi/chi/v5"

	"dorfbote/internal/api/kit"
	"dorfbote/internal/connect/hook"
	"dorfbote/internal/core/fault"
	"dorfbote/internal/engine/intake"
)

// takeIn answers POST /in/{connection} and /in/{connection}/{kind}. It says 202 only when the events are
// durable.
func (in *Inbound) takeIn(w http.ResponseWriter, r *http.Request) {
	c, err := in.Hooks.Hook(r.Context(), chi.URLParam(r, "connection"))
	if err != nil {
		kit.Busy(w)
		return
	}
	if c == nil {
		kit.WriteProblem(w, http.StatusNotFound, "path", "there is no hook "+chi.URLParam(r, "connection")+" here")
		return
	}
	if c.Paused {
		w.Header().Set("Retry-After", "60")
		in.refuse(w, r, c.ID, nil, http.StatusServiceUnavailable, "", "this connection is paused; nothing was taken in, so send it again later")
		return
	}
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, hook.MaxBody))
	if err != nil {
		if _, ok := errors.AsType[*http.MaxBytesError](err); ok {
			in.refuse(w, r, c.ID, nil, http.StatusRequestEntityTooLarge, "body", "the body is larger than 1 MiB; send fewer events at a time")
			return
		}
		kit.WriteProblem(w, http.StatusBadRequest, "body", "the body ended before it was complete")
		return
	}
	secret, err := in.Engine.Sources.Secret(c, "signing")
	if err != nil {
		in.refuse(w, r, c.ID, body, http.StatusInternalServerError, "", err.Error())
		return
	}
	h := hook.Hook{Connection: c.ID, Secret: secret, Shape: func(source string) (hook.Shape, error) { return in.Hooks.Shape(r.Context(), c, source) }}
	events, problem := h.Read(r.Header, chi.URLParam(r, "kind"), body, in.Engine.Now().UTC())
	if problem != nil && problem.Status == http.StatusServiceUnavailable {
		kit.Busy(w)
		return
	}
	if problem != nil {
		in.refuse(w, r, c.ID, body, problem.Status, problem.Place, problem.Said)
		return
	}
	for _, e := range events {
		var wrong *fault.Fault
		switch err := in.Hooks.Learn(r.Context(), c, e.Source); {
		case errors.As(err, &wrong):
			in.refuse(w, r, c.ID, body, http.StatusBadRequest, wrong.Place, wrong.Said)
			return
		case err != nil:
			kit.Busy(w)
			return
		}
	}
	receipts := []intake.Receipt{}
	if len(events) > 0 {
		var many *fault.Fault
		switch receipts, err = in.Intake.Take(r.Context(), events); {
		case errors.As(err, &many):
			in.refuse(w, r, c.ID, body, http.StatusRequestEntityTooLarge, "body", many.Said)
			return
		case err != nil:
			kit.Busy(w)
			return
		}
	}
	in.Requests.Note(r, c.ID, body, http.StatusAccepted, "", "")
	in.arrived(receipts)
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(http.StatusAccepted)
	_ = json.NewEncoder(w).Encode(map[string]any{"accepted": len(receipts), "arrivals": receipts})
}

// arrived counts what was taken in, and logs each by its id.
func (in *Inbound) arrived(receipts []intake.Receipt) {
	known := 0
	for _, r := range receipts {
		if r.Known {
			known++
		}
		in.Log.Debug("taken in", "arrival", r.Seq, "id", r.ID, "known", r.Known)
	}
	in.Meters.Arrived(len(receipts)-known, known)
}
