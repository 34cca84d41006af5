package workflows

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"net/http"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"dorfbote/internal/api/kit"
	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/sheet"
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

func (s *Workflows) startRoutes() {
	kit.Register(s.Kit, kit.Op("start-form", http.MethodGet, "/api/workflows/{id}/start", "What starting a workflow by hand asks for", "Workflows"), kit.Anyone, s.startForm)
	kit.Changes(s.Kit, kit.Op("start-workflow", http.MethodPost, "/api/workflows/{id}/start", "Start a workflow by hand", "Workflows"), kit.Editors, kit.Act[startInput, startedOutput](store.AboutWorkflow, func(in *startInput) string { return kit.IDText(in.ID) }), s.startByHand)
	kit.Changes(s.Kit, kit.Op("make-call-token", http.MethodPost, "/api/workflows/{id}/call-token", "Make a token that a workflow can be called with; an older one ends", "Workflows"), kit.Editors, kit.ByID[tokenOutput](store.AboutWorkflow), s.makeCallToken)
}

// Startable gives a workflow that is on and can be started.
func (s *Workflows) Startable(ctx context.Context, id int64) (*store.Workflow, *sheet.Plan, error) {
	w, err := s.Store.Workflow(ctx, id)
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

func (s *Workflows) callAddress(id int64) string {
	return strings.TrimSuffix(s.PublicURL, "/") + "/call/" + strconv.FormatInt(id, 10)
}

func (s *Workflows) startForm(ctx context.Context, _ *kit.Person, in *kit.IDInput) (*startFormOutput, error) {
	w, plan, err := s.Startable(ctx, in.ID)
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

func (s *Workflows) startByHand(ctx context.Context, who *kit.Person, in *startInput) (*startedOutput, error) {
	w, plan, err := s.Startable(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	if plan.Source != "" && len(in.Body.Records) == 0 {
		return nil, kit.Invalid("body.records", "choose the records to start it for")
	}
	if plan.Source == "" && len(in.Body.Records) > 0 {
		return nil, kit.Invalid("body.records", "this workflow is started without records")
	}
	seen := map[string]bool{}
	for _, key := range in.Body.Records {
		if seen[key] {
			return nil, kit.Invalid("body.records", "%s stands twice", key)
		}
		seen[key] = true
	}
	receipts, err := s.Begin(ctx, w, plan, in.Body.Records, in.Body.Answers, intake.Cause{By: who.Name})
	if err != nil {
		return nil, err
	}
	out := &startedOutput{}
	out.Body.Arrivals = receipts
	return out, nil
}

func (s *Workflows) Begin(ctx context.Context, w *store.Workflow, plan *sheet.Plan, keys []string, answers map[string]any, why intake.Cause) ([]intake.Receipt, error) {
	read, err := sheet.Answers(plan.Trigger.Ask, answers, s.Engine.Workspace)
	var wrong *fault.Fault
	if errors.As(err, &wrong) {
		return nil, kit.Invalid("body.answers."+wrong.Place, "%s", wrong.Said)
	}
	if err != nil {
		return nil, err
	}
	receipts, err := s.Engine.Writer.Start(ctx, store.Live{ID: w.ID, Name: w.Name, Version: w.Version, Source: w.Source, Form: w.Form}, plan, keys, read, why)
	if errors.As(err, &wrong) {
		return nil, kit.Invalid("body."+wrong.Place, "%s", wrong.Said)
	}
	return receipts, err
}

func (s *Workflows) makeCallToken(ctx context.Context, _ *kit.Person, in *kit.IDInput) (*tokenOutput, error) {
	if _, _, err := s.Startable(ctx, in.ID); err != nil {
		return nil, err
	}
	raw := make([]byte, 24)
	_, _ = rand.Read(raw)
	token := base64.RawURLEncoding.EncodeToString(raw)
	if err := s.Store.SetCallToken(ctx, in.ID, TokenHash(token)); err != nil {
		return nil, err
	}
	out := &tokenOutput{}
	out.Body.Address, out.Body.Token = s.callAddress(in.ID), token
	return out, nil
}

func TokenHash(token string) string {
	sum := sha256.Sum256([]byte(token))
	return hex.EncodeToString(sum[:])
}
