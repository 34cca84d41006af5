package inbound

import (
	"crypto/subtle"
	"encoding/json"
	"errors"
	"io"
	"mime"
	"net/http"
	"net/url"
	"strconv"
	"strings"

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
	id, _ := strconv.ParseInt(chi.URLParam(r, "id"), 10, 64)
	token, _ := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	row, err := in.Store.Workflow(r.Context(), id)
	if err != nil || row.CallToken == "" || subtle.ConstantTimeCompare([]byte(row.CallToken), []byte(workflows.TokenHash(token))) != 1 {
		w.Header().Set("WWW-Authenticate", `Bearer realm="Dorfbote"`)
		kit.WriteProblem(w, http.StatusUnauthorized, "header Authorization", "there is no workflow to be called here with this token")
		return
	}
	answers, problem := readCall(w, r)
	if problem != "" {
		kit.WriteProblem(w, http.StatusBadRequest, "body", problem)
		return
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
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(http.StatusAccepted)
	_ = json.NewEncoder(w).Encode(map[string]any{"accepted": len(receipts), "arrivals": receipts})
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
