package inbound

import (
	"crypto/subtle"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"dorfbote/internal/api/kit"
	"dorfbote/internal/api/workflows"
	"dorfbote/internal/core/value"
	"dorfbote/internal/engine/intake"
)

// takeCall answers POST /call/{id}: a call from outside that starts a workflow. The body is a JSON object, or a form,
// of what the workflow takes; records to start it for may be named under "records".
func (in *Inbound) takeCall(w http.ResponseWriter, r *http.Request) {
	id, ok := in.called(w, r)
	if !ok {
		return
	}
	answers, problem := readCall(w, r)
	if problem != "" {
		kit.WriteProblem(w, http.StatusBadRequest, "body", problem)
		return
	}
	wait, problem := waitOf(r)
	if problem != "" {
		kit.WriteProblem(w, http.StatusBadRequest, "query wait", problem)
		return
	}
	if wait > 0 { // before anything is started, so that whoever is turned away may call again
		if !in.waiting.enter() {
			in.crowded(w)
			return
		}
		defer in.waiting.leave()
	}
	row, plan, err := in.Workflows.Startable(r.Context(), id)
	var receipts []intake.Receipt
	if err == nil {
		var keys []string
		if list, ok := answers["records"].([]any); ok && plan.Source != "" {
			for _, k := range list {
				if text, ok := k.(string); ok {
					keys = append(keys, text)
				}
			}
			delete(answers, "records")
		}
		once := r.Header.Get("Idempotency-Key")
		if len(once) > 200 {
			once = workflows.TokenHash(once)
		}
		receipts, err = in.Workflows.Begin(r.Context(), row, plan, keys, answers, intake.Cause{By: "a call", Once: once})
	}
	if err != nil {
		if model, ok := errors.AsType[*huma.ErrorModel](err); ok {
			kit.SendProblem(w, model)
			return
		}
		in.Log.Error("starting by call failed", "workflow", id, "error", err)
		kit.Busy(w)
		return
	}
	if receipts == nil {
		receipts = []intake.Receipt{}
	}
	if plan.Answer != nil && len(receipts) == 1 {
		w.Header().Set("Location", fmt.Sprintf("/call/%d/%d", id, receipts[0].Seq))
		if wait > 0 && in.replied(w, r, id, receipts[0].Seq, wait) { // who does not wait is told where the answer will be, however fast it is
			return
		}
	}
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(http.StatusAccepted)
	_ = json.NewEncoder(w).Encode(map[string]any{"accepted": len(receipts), "arrivals": receipts})
}

// called finds the workflow that a call is for, and refuses whoever does not have its token.
func (in *Inbound) called(w http.ResponseWriter, r *http.Request) (id int64, ok bool) {
	id, _ = strconv.ParseInt(chi.URLParam(r, "id"), 10, 64)
	token, _ := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	row, err := in.Store.Workflow(r.Context(), id)
	if err != nil || row.CallToken == "" || subtle.ConstantTimeCompare([]byte(row.CallToken), []byte(workflows.TokenHash(token))) != 1 {
		w.Header().Set("WWW-Authenticate", `Bearer realm="Dorfbote"`)
		kit.WriteProblem(w, http.StatusUnauthorized, "header Authorization", "there is no workflow to be called here with this token")
		return 0, false
	}
	return id, true
}

// longestWait is how long a caller may wait for an answer.
const longestWait = 60 * time.Second

// waitOf reads how long a caller waits; "" is no time at all.
func waitOf(r *http.Request) (time.Duration, string) {
	text := r.URL.Query().Get("wait")
	if text == "" {
		return 0, ""
	}
	d, err := value.ParseSpan(text)
	if err != nil || d < 0 || d > longestWait {
		return 0, fmt.Sprintf("wait is a span of at most 60s, such as 10s, not %q", text)
	}
	return d, ""
}

// crowded turns away who wants to wait while too many do.
func (in *Inbound) crowded(w http.ResponseWriter) {
	w.Header().Set("Retry-After", "5")
	kit.WriteProblem(w, http.StatusServiceUnavailable, "query wait", "too many callers are waiting for an answer at the moment; nothing was started, so call again in a few seconds, or without wait")
}

// replied answers a caller with what the workflow says, if it does so within a time.
func (in *Inbound) replied(w http.ResponseWriter, r *http.Request, workflow, arrival int64, within time.Duration) bool {
	return in.waiting.until(r.Context(), awaited{arrival, workflow}, within, func() bool {
		status, body, there, err := in.Store.ReplyTo(r.Context(), arrival, workflow)
		if err != nil && r.Context().Err() == nil {
			in.Log.Warn("looking for an answer failed", "arrival", arrival, "error", err)
		}
		if !there {
			return false
		}
		w.Header().Del("Location")
		w.Header().Set("Content-Type", "application/json")
		if status == http.StatusInternalServerError {
			w.Header().Set("Content-Type", "application/problem+json")
		}
		w.Header().Set("Cache-Control", "no-store")
		w.WriteHeader(status)
		if status != http.StatusNoContent && status != http.StatusNotModified {
			_, _ = w.Write(append(body, '\n')) //nolint:gosec // JSON, by its type
		}
		return true
	})
}

// showReply answers GET /call/{id}/{arrival}, where a caller comes back to that could not wait for long enough.
func (in *Inbound) showReply(w http.ResponseWriter, r *http.Request) {
	id, ok := in.called(w, r)
	if !ok {
		return
	}
	arrival, _ := strconv.ParseInt(chi.URLParam(r, "arrival"), 10, 64)
	wait, problem := waitOf(r)
	if problem != "" {
		kit.WriteProblem(w, http.StatusBadRequest, "query wait", problem)
		return
	}
	if wait > 0 {
		if !in.waiting.enter() {
			in.crowded(w)
			return
		}
		defer in.waiting.leave()
	}
	if in.replied(w, r, id, arrival, wait) {
		return
	}
	stands, err := in.Store.CallStands(r.Context(), arrival, id)
	switch {
	case err != nil:
		kit.Busy(w)
	case !stands:
		kit.WriteProblem(w, http.StatusNotFound, "path", "there is no such call, or its answer is not kept any more")
	default:
		w.Header().Set("Location", r.URL.Path)
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(http.StatusAccepted)
		_, _ = io.WriteString(w, "{\"decided\":false}\n")
	}
}

func readCall(w http.ResponseWriter, r *http.Request) (map[string]any, string) {
	raw, err := io.ReadAll(http.MaxBytesReader(w, r.Body, 1<<20))
	if err != nil {
		return nil, "the body is larger than 1 MiB, or ended before it was complete"
	}
	if media, _, _ := mime.ParseMediaType(r.Header.Get("Content-Type")); media == "application/x-www-form-urlencoded" {
		values, err := url.ParseQuery(string(raw))
		if err != nil {
			return nil, "the form cannot be read: " + err.Error()
		}
		out := map[string]any{}
		for name, v := range values {
			if out[name] = v[0]; len(v) > 1 {
				list := make([]any, len(v))
				for i, e := range v {
					list[i] = e
				}
				out[name] = list
			}
		}
		return out, ""
	}
	if len(strings.TrimSpace(string(raw))) == 0 {
		return map[string]any{}, ""
	}
	v, err := value.ReadJSON(raw)
	if err != nil {
		return nil, "the body is not JSON that can be read: " + err.Error()
	}
	m, ok := v.(map[string]any)
	if !ok {
		return nil, "the body is a JSON object of what the workflow takes, not " + value.Describe(v)
	}
	return m, ""
}
