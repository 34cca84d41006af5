package inbound

import (
	"crypto/sha256"
	"crypto/subtle"
	"encoding/hex"
	"errors"
	"io"
	"net/http"

	"github.com/go-chi/chi/v5"

	"dorfbote/internal/api/kit"
	"dorfbote/internal/connect"
	"dorfbote/internal/connect/hook"
	"dorfbote/internal/connect/kinds"
	"dorfbote/internal/core/arrival"
	"dorfbote/internal/core/fault"
	"dorfbote/internal/store"
)

// Reports are the records that reports of delivery become: connection/reports.
const Reports = "reports"

// keyed finds the connection behind a door whose address has a key in it; nil, with the request answered, where there is none or
// the key is another.
func (in *Inbound) keyed(w http.ResponseWriter, r *http.Request, door string) *store.Connection {
	c, err := in.Engine.Store.ConnectionOf(r.Context(), chi.URLParam(r, "connection"), kinds.Behind(door)...)
	if err != nil {
		kit.Busy(w)
		return nil
	}
	if c != nil {
		key, err := in.Engine.Sources.Secret(c, "door")
		if err == nil && key != "" && subtle.ConstantTimeCompare([]byte(key), []byte(chi.URLParam(r, "key"))) == 1 {
			return c
		}
	}
	kit.WriteProblem(w, http.StatusNotFound, "path", "there is nothing at this address, or it has another key by now")
	return nil
}

// takeReport answers POST /reports/{connection}/{key}: what became of a message that the connection took. The post shows it, and it
// is an arrival, whose subject is the post's key.
func (in *Inbound) takeReport(w http.ResponseWriter, r *http.Request) {
	c := in.keyed(w, r, connect.DoorReports)
	if c == nil {
		return
	}
	if c.Paused {
		w.Header().Set("Retry-After", "60")
		kit.WriteProblem(w, http.StatusServiceUnavailable, "", "this connection is paused; send it again later")
		return
	}
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, 64<<10))
	if err != nil {
		kit.WriteProblem(w, http.StatusRequestEntityTooLarge, "body", "the report is larger than 64 KiB")
		return
	}
	report, record, err := kinds.Named(c.Kind).ReadReport(c.Settings, r.Header.Get("Content-Type"), body)
	if err != nil {
		in.Requests.Note(r, c.ID, body, http.StatusUnprocessableEntity, "body", fault.Plainly(err))
		kit.WriteProblem(w, http.StatusUnprocessableEntity, "body", fault.Plainly(err))
		return
	}
	if err := in.Engine.Outbox.Reported(r.Context(), c.ID, report); err != nil {
		kit.Busy(w)
		return
	}
	p, _, err := in.Engine.Store.ReportPost(r.Context(), c.ID, report.Of, report.State, report.Words)
	if err != nil {
		kit.Busy(w)
		return
	}
	if p == nil { // of a message that somebody else has sent over the same gateway
		in.Requests.Note(r, c.ID, body, http.StatusAccepted, "", "it is of no message of ours")
		w.WriteHeader(http.StatusAccepted)
		return
	}
	source := c.ID + "/" + Reports
	if err := in.Hooks.Learn(r.Context(), c, source); err != nil {
		kit.Busy(w)
		return
	}
	sum := sha256.Sum256(append([]byte(report.Of+"\x00"+report.State+"\x00"), body...))
	now := in.Engine.Now().UTC()
	rec := map[string]any{
		"id": p.Key, "post": float64(p.ID), "to": p.Destination, "title": p.Title, "workflow": float64(p.Workflow), "state": report.State, "words": report.Words,
		"message": report.Of, "at": now.Format("2006-01-02T15:04:05Z07:00"), "report": record,
	}
	if record == nil {
		delete(rec, "report")
	}
	a := &arrival.Arrival{ID: "report-" + hex.EncodeToString(sum[:12]), Source: source, Type: arrival.Updated, Time: now, Subject: p.Key, Record: rec}
	receipts, err := in.Intake.Take(r.Context(), []hook.Event{{Arrival: a, Compute: true}})
	if many := (*fault.Fault)(nil); errors.As(err, &many) {
		kit.WriteProblem(w, http.StatusUnprocessableEntity, "body", many.Said)
		return
	}
	if err != nil {
		kit.Busy(w)
		return
	}
	in.Requests.Note(r, c.ID, body, http.StatusAccepted, "", "")
	in.arrived(receipts)
	w.WriteHeader(http.StatusAccepted)
}
