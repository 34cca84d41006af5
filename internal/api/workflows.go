package api

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"dorfbote/internal/core/cond"
	"dorfbote/internal/core/report"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
	"dorfbote/internal/store"
)

// WorkflowItem is a workflow in the list.
type WorkflowItem struct {
	ID        int64      `json:"id"`
	Name      string     `json:"name"`
	Note      string     `json:"note"`
	Icon      string     `json:"icon"`
	Colour    string     `json:"colour"`
	On        bool       `json:"on"`
	Version   int        `json:"version" doc:"the version that is or was on; 0 before the first"`
	Changed   bool       `json:"changed" doc:"the draft differs from the version"`
	Source    string     `json:"source"`
	Form      string     `json:"form" enum:",due,lasts,silent,schedule,start,called" doc:"what starts it; empty for a change"`
	Watches   string     `json:"watches" doc:"in words"`
	Tells     []string   `json:"tells"`
	Problems  int        `json:"problems" doc:"errors in the draft"`
	LastTold  *time.Time `json:"last_told"`
	Days      []int64    `json:"days" doc:"arrivals told about on each of the last 14 days, oldest first"`
	UpdatedAt time.Time  `json:"updated_at"`
	UpdatedBy string     `json:"updated_by"`
	Team      *int64     `json:"team" doc:"whose people may change it; null: every editor"`
}

// WorkflowDetail is one workflow with its draft.
type WorkflowDetail struct {
	WorkflowItem
	Text  string `json:"text" doc:"the draft, as YAML"`
	Mark  string `json:"mark" doc:"changes whenever the draft does"`
	Sheet any    `json:"sheet" doc:"the draft, as an object; null while it cannot be read"`
	Live  string `json:"live" doc:"the version's sheet, as YAML"`
	// Changes is what switching on would change.
	Changes []sheet.Change `json:"changes" doc:"what differs between the last version and the draft"`
}

type listOutput[T any] struct {
	Body struct {
		Items []T   `json:"items"`
		Next  int64 `json:"next" doc:"give this as before to read on; 0 at the end"`
	}
}

func list[T any](items []T, next int64) *listOutput[T] {
	out := &listOutput[T]{}
	out.Body.Items, out.Body.Next = items, next
	if items == nil {
		out.Body.Items = []T{}
	}
	return out
}

type idInput struct {
	ID int64 `path:"id"`
}

type workflowOutput struct{ Body WorkflowDetail }

// SheetBody is a sheet as YAML or as an object.
type SheetBody struct {
	Text  string `json:"text,omitempty" doc:"the sheet as YAML or JSON text"`
	Sheet any    `json:"sheet,omitempty" doc:"the sheet as an object; used where there is no text"`
}

// source gives the sheet's text in the form that is stored.
func (b SheetBody) source() (string, error) {
	if b.Text != "" {
		return b.Text, nil
	}
	if b.Sheet == nil {
		return "", huma.Error422UnprocessableEntity("the request holds neither text nor sheet")
	}
	raw, err := json.Marshal(b.Sheet)
	if err != nil {
		return "", err
	}
	text, err := sheet.Format(raw)
	return string(text), err
}

// compiled is the sheet of a request, read and checked against what is known.
type compiled struct {
	plan     *sheet.Plan  // nil where it cannot be run
	sheet    *sheet.Sheet // nil where it cannot be read
	problems []report.Problem
	known    sheet.Known
}

// runnableBody reads the sheet of a request for what is of use only if the sheet can be run.
func (s *Server) runnableBody(ctx context.Context, b SheetBody) (c compiled, err error) {
	text, err := b.source()
	if err != nil {
		return c, err
	}
	if c.known, err = s.Engine.Workflows.Known(ctx); err != nil {
		return c, err
	}
	if c.plan, c.sheet, c.problems = sheet.Compile([]byte(text), c.known); c.plan == nil {
		err = invalid("body.sheet", "the sheet has errors and cannot be run: %v", c.problems[0])
	}
	return c, err
}

func (s *Server) workflowRoutes() {
	register(s, op("list-workflows", http.MethodGet, "/api/workflows", "All workflows", "Workflows"), anyone, s.listWorkflows)
	register(s, op("get-workflow", http.MethodGet, "/api/workflows/{id}", "One workflow", "Workflows"), anyone,
		func(ctx context.Context, _ *Person, in *idInput) (*workflowOutput, error) {
			return s.workflow(ctx, in.ID)
		})
	changes(s, op("create-workflow", http.MethodPost, "/api/workflows", "Make a workflow; it is off", "Workflows"), editors, makes[createInput](aboutWorkflow, func(out *workflowOutput) string { return idText(out.Body.ID) }), s.createWorkflow)
	changes(s, op("save-draft", http.MethodPut, "/api/workflows/{id}/draft", "Keep a workflow's draft", "Workflows"), editors, about[draftInput, workflowOutput](aboutWorkflow, func(in *draftInput) string { return idText(in.ID) }), s.saveDraft)
	changes(s, op("hand-over", http.MethodPatch, "/api/workflows/{id}", "Give a workflow to a team or an owner", "Workflows"), editors, about[handOverInput, workflowOutput](aboutWorkflow, func(in *handOverInput) string { return idText(in.ID) }), s.handOver)
	changes(s, op("switch-on", http.MethodPost, "/api/workflows/{id}/on", "Switch on the draft as a new version", "Workflows"), editors, about[onInput, workflowOutput](aboutWorkflow, func(in *onInput) string { return idText(in.ID) }), s.switchOn)
	register(s, op("ready-on", http.MethodPost, "/api/workflows/{id}/on/ready", "What keeps the draft from being switched on; its channels are asked whether they would take a post", "Workflows"), editors, s.readyToSwitchOn)
	register(s, op("preview-on", http.MethodPost, "/api/workflows/{id}/on/preview", "What switching on would send at once", "Workflows"), anyone, s.beginning)
	changes(s, op("switch-off", http.MethodPost, "/api/workflows/{id}/off", "Switch off", "Workflows"), editors, byID[workflowOutput](aboutWorkflow), s.switchOff)
	changes(s, op("delete-workflow", http.MethodDelete, "/api/workflows/{id}", "Delete a workflow that is off", "Workflows"), editors, byID[struct{}](aboutWorkflow), s.deleteWorkflow)
	register(s, op("list-versions", http.MethodGet, "/api/workflows/{id}/versions", "A workflow's versions, newest first", "Workflows"), anyone, s.versions)
}

func (s *Server) item(w store.Workflow, live string, known sheet.Known) WorkflowItem {
	it := WorkflowItem{
		ID: w.ID, Name: w.Name, On: w.IsOn, Version: w.Version, Changed: w.Version == 0 || live != w.Draft,
		Source: w.Source, UpdatedAt: w.UpdatedAt, UpdatedBy: w.UpdatedBy, Team: w.Team, Tells: []string{}, Days: []int64{},
	}
	_, sh, problems := sheet.Compile([]byte(w.Draft), known)
	for _, p := range problems {
		if !p.Warning {
			it.Problems++
		}
	}
	if sh == nil {
		return it
	}
	it.Note, it.Icon, it.Colour, it.Source = sh.Note, sh.Look.Icon, sh.Look.Colour, sh.Watch.Source.S
	it.Watches, it.Form = s.watchWords(sh), sh.Watch.Form
	seen := map[string]bool{}
	add := func(tells []sheet.Tell) {
		for _, t := range tells {
			if !seen[t.To.S] {
				seen[t.To.S] = true
				it.Tells = append(it.Tells, t.To.S)
			}
		}
	}
	for _, r := range sh.Route.Rows {
		add(r.Tell)
	}
	if sh.Route.Otherwise != nil {
		add(sh.Route.Otherwise.Tell)
	}
	return it
}

func (s *Server) watchWords(sh *sheet.Sheet) string {
	w := &sh.Watch
	switch w.Form {
	case sheet.Due:
		switch {
		case w.Offset < 0:
			return value.Words(-w.Offset) + " before " + w.Field.S
		case w.Offset > 0:
			return value.Words(w.Offset) + " after " + w.Field.S
		}
		return "at " + w.Field.S
	case sheet.Lasts:
		return condWords(w.That) + " for " + value.Words(w.For)
	case sheet.Silent:
		return "nothing for " + value.Words(w.For)
	case sheet.Schedule:
		if m, _, err := w.Schedule.Compile(s.Engine.Workspace.Location()); err == nil && m != nil {
			return m.Words()
		}
		return "a schedule"
	case sheet.Start:
		return "started by hand"
	case sheet.Called:
		return "started by a call"
	}
	if w.When != nil && w.When.Field.S != "" {
		return condWords(w.When)
	}
	return strings.Join(w.On, " or ")
}

func condWords(c *cond.Spec) string {
	if c == nil || c.Field.S == "" {
		return "a condition"
	}
	out := c.Field.S + " " + strings.ReplaceAll(c.Op.S, "_", " ")
	switch v := c.Value.(type) {
	case string:
		out += " " + v
	case float64:
		out += " " + value.NumberText(v)
	}
	return out
}

func (s *Server) listWorkflows(ctx context.Context, _ *Person, _ *struct{}) (*listOutput[WorkflowItem], error) {
	now := s.Engine.Now().In(s.Engine.Workspace.Location())
	today := time.Date(now.Year(), now.Month(), now.Day(), 0, 0, 0, 0, now.Location())
	rows, err := s.store.Workflows(ctx, today)
	if err != nil {
		return nil, err
	}
	known, err := s.Engine.Workflows.Known(ctx)
	if err != nil {
		return nil, err
	}
	items := make([]WorkflowItem, 0, len(rows))
	for _, r := range rows {
		live := ""
		if r.Version > 0 {
			if live, err = s.store.VersionSheet(ctx, r.ID, r.Version); err != nil {
				return nil, err
			}
		}
		it := s.item(r.Workflow, live, known)
		it.LastTold, it.Days = r.LastTold, r.Days
		items = append(items, it)
	}
	return list(items, 0), nil
}

func (s *Server) workflow(ctx context.Context, id int64) (*workflowOutput, error) {
	w, err := s.store.Workflow(ctx, id)
	if err != nil {
		return nil, err
	}
	known, err := s.Engine.Workflows.Known(ctx)
	if err != nil {
		return nil, err
	}
	out := &workflowOutput{}
	if w.Version > 0 {
		if out.Body.Live, err = s.store.VersionSheet(ctx, id, w.Version); err != nil {
			return nil, err
		}
	}
	out.Body.WorkflowItem = s.item(*w, out.Body.Live, known)
	out.Body.Text, out.Body.Mark, out.Body.Changes = w.Draft, markOf(w.Draft), []sheet.Change{}
	if w.Version > 0 && out.Body.Live != w.Draft {
		out.Body.Changes = append(out.Body.Changes, sheet.Differences([]byte(out.Body.Live), []byte(w.Draft))...)
	}
	if raw, err := sheet.JSON([]byte(w.Draft)); err == nil {
		out.Body.Sheet = json.RawMessage(raw)
	}
	return out, nil
}

// markOf tells drafts apart.
func markOf(draft string) string {
	sum := sha256.Sum256([]byte(draft))
	return hex.EncodeToString(sum[:8])
}

func nameOf(text, fallback string) string {
	if sh, _ := sheet.Read([]byte(text)); sh != nil && sh.Name != "" {
		return sh.Name
	}
	return fallback
}
