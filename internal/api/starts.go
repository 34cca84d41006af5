package api

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
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

	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
	"dorfbote/internal/engine/intake"
	"dorfbote/internal/store"
)

// StartForm is what a person who starts a workflow is asked.
type StartForm struct {
	Form    string           `json:"form" enum:"start,called"`
	Source  string           `json:"source" doc:"the records to choose from; empty where it takes none"`
	Ask     []sheet.Question `json:"ask"`
	Confirm string           `json:"confirm"`
	Address string           `json:"address" doc:"where it can be called"`
	Token   bool             `json:"token" doc:"a token for calls has been made"`
}

type startFormOutput struct{ Body StartForm }

type startInput struct {
	ID   int64 `path:"id"`
	Body struct {
		Records []string       `json:"records,omitempty" maxItems:"500" doc:"the keys of the records to start it for"`
		Answers map[string]any `json:"answers,omitempty"`
	}
}

type startedOutput struct {
	Body struct {
		Arrivals []intake.Receipt `json:"arrivals"`
	}
}

type tokenOutput struct {
	Body struct {
		Address string `json:"address"`
		Token   string `json:"token" doc:"shown this once"`
	}
}

func (s *Server) startRoutes() {
	register(s, op("start-form", http.MethodGet, "/api/workflows/{id}/start", "What starting a workflow by hand asks for", "Workflows"), anyone, s.startForm)
	changes(s, op("start-workflow", http.MethodPost, "/api/workflows/{id}/start", "Start a workflow by hand", "Workflows"), editors, act[startInput, startedOutput](aboutWorkflow, func(in *startInput) string { return idText(in.ID) }), s.startByHand)
	changes(s, op("make-call-token", http.MethodPost, "/api/workflows/{id}/call-token", "Make a token that a workflow can be called with; an older one ends", "Workflows"), editors, byID[tokenOutput](aboutWorkflow), s.makeCallToken)
}

// startable gives a workflow that is on and can be started.
func (s *Server) startable(ctx context.Context, id int64) (*store.Workflow, *sheet.Plan, error) {
	w, err := s.store.Workflow(ctx, id)
	if err != nil {
		return nil, nil, err
	}
	if !w.IsOn {
		return nil, nil, huma.Error409Conflict("the workflow is off; switch it on first")
	}
	plan, err := s.Engine.Workflows.Plan(ctx, w.ID, w.Version, w.Source)
	if err != nil {
		return nil, nil, huma.Error409Conflict(err.Error())
	}
	if !plan.AsksFor() {
		return nil, nil, huma.Error409Conflict("this workflow is not started by hand or by a call; it watches " + plan.Source)
	}
	return w, plan, nil
}

func (s *Server) callAddress(id int64) string {
	return strings.TrimSuffix(s.PublicURL, "/") + "/call/" + strconv.FormatInt(id, 10)
}

func (s *Server) startForm(ctx context.Context, _ *Person, in *idInput) (*startFormOutput, error) {
	w, plan, err := s.startable(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	out := &startFormOutput{StartForm{
		Form: plan.Trigger.Form, Source: plan.Source, Ask: plan.Trigger.Ask, Confirm: plan.Trigger.Confirm, Address: s.callAddress(w.ID), Token: w.CallToken != "",
	}}
	if out.Body.Ask == nil {
		out.Body.Ask = []sheet.Question{}
	}
	return out, nil
}

func (s *Server) startByHand(ctx context.Context, who *Person, in *startInput) (*startedOutput, error) {
	w, plan, err := s.startable(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	if plan.Source != "" && len(in.Body.Records) == 0 {
		return nil, invalid("body.records", "choose the records to start it for")
	}
	if plan.Source == "" && len(in.Body.Records) > 0 {
		return nil, invalid("body.records", "this workflow is started without records")
	}
	seen := map[string]bool{}
	for _, key := range in.Body.Records {
		if seen[key] {
			return nil, invalid("body.records", "%s stands twice", key)
		}
		seen[key] = true
	}
	receipts, err := s.begin(ctx, w, plan, in.Body.Records, in.Body.Answers, who.Name, "")
	if err != nil {
		return nil, err
	}
	out := &startedOutput{}
	out.Body.Arrivals = receipts
	return out, nil
}

func (s *Server) begin(ctx context.Context, w *store.Workflow, plan *sheet.Plan, keys []string, answers map[string]any, by, once string) ([]intake.Receipt, error) {
	read, err := sheet.Answers(plan.Trigger.Ask, answers, s.Engine.Workspace)
	var wrong *sheet.AnswerError
	if errors.As(err, &wrong) {
		return nil, invalid("body.answers."+wrong.Name, "%s", wrong.Problem)
	}
	if err != nil {
		return nil, err
	}
	receipts, err := s.Engine.Writer.Start(ctx, store.Live{ID: w.ID, Name: w.Name, Version: w.Version, Source: w.Source, Form: w.Form}, plan, keys, read, by, once)
	if errors.As(err, &wrong) {
		return nil, invalid("body."+wrong.Name, "%s", wrong.Problem)
	}
	return receipts, err
}

func (s *Server) makeCallToken(ctx context.Context, _ *Person, in *idInput) (*tokenOutput, error) {
	if _, _, err := s.startable(ctx, in.ID); err != nil {
		return nil, err
	}
	raw := make([]byte, 24)
	_, _ = rand.Read(raw)
	token := base64.RawURLEncoding.EncodeToString(raw)
	if err := s.store.DB.WithContext(ctx).Exec("UPDATE workflows SET call_token = ? WHERE id = ?", tokenHash(token), in.ID).Error; err != nil {
		return nil, err
	}
	out := &tokenOutput{}
	out.Body.Address, out.Body.Token = s.callAddress(in.ID), token
	return out, nil
}

func tokenHash(token string) string {
	sum := sha256.Sum256([]byte(token))
	return hex.EncodeToString(sum[:])
}

// takeCall answers POST /call/{id}: a call from outside that starts a workflow. The body is a JSON object, or a form,
// of what the workflow takes; records to start it for may be named under "records".
func (s *Server) takeCall(w http.ResponseWriter, r *http.Request) {
	id, _ := strconv.ParseInt(chi.URLParam(r, "id"), 10, 64)
	token, _ := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	row, err := s.store.Workflow(r.Context(), id)
	if err != nil || row.CallToken == "" || subtle.ConstantTimeCompare([]byte(row.CallToken), []byte(tokenHash(token))) != 1 {
		w.Header().Set("WWW-Authenticate", `Bearer realm="Dorfbote"`)
		writeProblem(w, http.StatusUnauthorized, "header Authorization", "there is no workflow to be called here with this token")
		return
	}
	answers, problem := readCall(w, r)
	if problem != "" {
		writeProblem(w, http.StatusBadRequest, "body", problem)
		return
	}
	row, plan, err := s.startable(r.Context(), id)
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
			once = tokenHash(once)
		}
		receipts, err = s.begin(r.Context(), row, plan, keys, answers, "a call", once)
	}
	if err != nil {
		var model *huma.ErrorModel
		if errors.As(err, &model) {
			sendProblem(w, model)
			return
		}
		s.Log.Error("starting by call failed", "workflow", id, "error", err)
		busy(w)
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
