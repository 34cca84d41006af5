package workflows

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"net/http"
	"strings"
	"time"

	"dorfbote/internal/api/kit"
	"dorfbote/internal/core/cond"
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

type workflowOutput struct{ Body WorkflowDetail }

// Routes registers the operations of this room.
func (s *Workflows) Routes() {
	kit.Register(s.Kit, kit.Op("list-workflows", http.MethodGet, "/api/workflows", "All workflows", "Workflows"), kit.Anyone, s.listWorkflows)
	kit.Register(s.Kit, kit.Op("get-workflow", http.MethodGet, "/api/workflows/{id}", "One workflow", "Workflows"), kit.Anyone,
		func(ctx context.Context, _ *kit.Person, in *kit.IDInput) (*workflowOutput, error) {
			return s.workflow(ctx, in.ID)
		})
	kit.Changes(s.Kit, kit.Op("create-workflow", http.MethodPost, "/api/workflows", "Make a workflow; it is off", "Workflows"), kit.Editors, kit.Makes[createInput](store.AboutWorkflow, func(out *workflowOutput) string { return kit.IDText(out.Body.ID) }), s.createWorkflow)
	kit.Changes(s.Kit, kit.Op("save-draft", http.MethodPut, "/api/workflows/{id}/draft", "Keep a workflow's draft", "Workflows"), kit.Editors, kit.About[draftInput, workflowOutput](store.AboutWorkflow, func(in *draftInput) string { return kit.IDText(in.ID) }), s.saveDraft)
	kit.Changes(s.Kit, kit.Op("hand-over", http.MethodPatch, "/api/workflows/{id}", "Give a workflow to a team or an owner", "Workflows"), kit.Editors, kit.About[handOverInput, workflowOutput](store.AboutWorkflow, func(in *handOverInput) string { return kit.IDText(in.ID) }), s.handOver)
	kit.Changes(s.Kit, kit.Op("switch-on", http.MethodPost, "/api/workflows/{id}/on", "Switch on the draft as a new version", "Workflows"), kit.Editors, kit.About[onInput, workflowOutput](store.AboutWorkflow, func(in *onInput) string { return kit.IDText(in.ID) }), s.switchOn)
	kit.Register(s.Kit, kit.Op("ready-on", http.MethodPost, "/api/workflows/{id}/on/ready", "What keeps the draft from being switched on; its channels are asked whether they would take a post", "Workflows"), kit.Editors, s.readyToSwitchOn)
	kit.Register(s.Kit, kit.Op("preview-on", http.MethodPost, "/api/workflows/{id}/on/preview", "What switching on would send at once", "Workflows"), kit.Anyone, s.beginning)
	kit.Changes(s.Kit, kit.Op("switch-off", http.MethodPost, "/api/workflows/{id}/off", "Switch off", "Workflows"), kit.Editors, kit.ByID[workflowOutput](store.AboutWorkflow), s.switchOff)
	kit.Changes(s.Kit, kit.Op("delete-workflow", http.MethodDelete, "/api/workflows/{id}", "Delete a workflow that is off", "Workflows"), kit.Editors, kit.ByID[struct{}](store.AboutWorkflow), s.deleteWorkflow)
	kit.Register(s.Kit, kit.Op("list-versions", http.MethodGet, "/api/workflows/{id}/versions", "A workflow's versions, newest first", "Workflows"), kit.Anyone, s.versions)
	s.tryRoutes()
	s.applyingRoutes()
	s.draftingRoutes()
	s.scheduleRoutes()
	s.startRoutes()
}

func (s *Workflows) item(w store.Workflow, live string, known sheet.Known) WorkflowItem {
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

func (s *Workflows) watchWords(sh *sheet.Sheet) string {
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

func (s *Workflows) listWorkflows(ctx context.Context, _ *kit.Person, _ *struct{}) (*kit.List[WorkflowItem], error) {
	now := s.Engine.Now().In(s.Engine.Workspace.Location())
	today := time.Date(now.Year(), now.Month(), now.Day(), 0, 0, 0, 0, now.Location())
	rows, err := s.Store.Workflows(ctx, today)
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
			if live, err = s.Store.VersionSheet(ctx, r.ID, r.Version); err != nil {
				return nil, err
			}
		}
		it := s.item(r.Workflow, live, known)
		it.LastTold, it.Days = r.LastTold, r.Days
		items = append(items, it)
	}
	return kit.ListOf(items, 0), nil
}

func (s *Workflows) workflow(ctx context.Context, id int64) (*workflowOutput, error) {
	w, err := s.Store.Workflow(ctx, id)
	if err != nil {
		return nil, err
	}
	known, err := s.Engine.Workflows.Known(ctx)
	if err != nil {
		return nil, err
	}
	out := &workflowOutput{}
	if w.Version > 0 {
		if out.Body.Live, err = s.Store.VersionSheet(ctx, id, w.Version); err != nil {
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
