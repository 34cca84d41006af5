package connections

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"dorfbote/internal/api/kit"
	"dorfbote/internal/api/sources"
	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/report"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/notify"
	"dorfbote/internal/store"
)

type moveInput struct {
	ID   string `path:"id"`
	Body struct {
		To    string `json:"to" doc:"the connection to move to, of the same kind"`
		Apply bool   `json:"apply,omitempty" doc:"do it; without, it is only shown what would change"`
	}
}

type moveOutput struct {
	Body struct {
		Uses    []sources.Use `json:"uses"`
		Missing []string      `json:"missing" doc:"sources or channels that the other connection does not have"`
		Persons int64         `json:"persons" doc:"of the people book, whose addresses move along"`
		Applied bool          `json:"applied"`
	}
}

func (s *Connections) movingRoutes() {
	kit.Changes(s.Kit, kit.Op("move-uses", http.MethodPost, "/api/connections/{id}/move", "Move every sheet that names a connection to another", "Connections"), kit.Editors, kit.Act[moveInput, moveOutput](store.AboutConnection, func(in *moveInput) string { return in.ID }), s.moveUses)
}

// moveUses exchanges one connection for another in every sheet that names it, all or none. A workflow that is on goes on
// with a new version.
func (s *Connections) moveUses(ctx context.Context, who *kit.Person, in *moveInput) (*moveOutput, error) {
	from, err := s.Store.Connection(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	to, err := s.Store.Connection(ctx, in.Body.To)
	if err != nil {
		return nil, kit.Invalid("body.to", "there is no connection %s", in.Body.To)
	}
	if from.Kind != to.Kind || from.ID == to.ID {
		return nil, kit.Invalid("body.to", "%s is not another connection of the same kind", to.Title)
	}
	known, err := s.Engine.Workflows.Known(ctx)
	if err != nil {
		return nil, err
	}
	rows, err := s.Store.Mentions(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	out := &moveOutput{}
	out.Body.Uses, out.Body.Missing = []sources.Use{}, []string{}
	type change struct {
		row         store.Mention
		draft, live []byte
		plan        *sheet.Plan
	}
	var changes []change
	missing := map[string]bool{}
	for _, r := range rows {
		draft, places, err := sheet.Move([]byte(r.Draft), from.ID, to.ID)
		if err != nil {
			draft = []byte(r.Draft) // a draft that cannot be read names nothing that could be moved
		}
		live, livePlaces, _ := sheet.Move([]byte(r.Live), from.ID, to.ID)
		if len(places)+len(livePlaces) == 0 {
			continue
		}
		u := sources.Use{WorkflowID: r.ID, Name: r.Name, On: r.IsOn, Draft: len(places) > 0, Live: len(livePlaces) > 0, Places: places}
		if !u.Draft {
			u.Places = livePlaces
		}
		c := change{row: r, draft: draft, live: live}
		if u.Live {
			plan, sh, problems := sheet.Compile(live, known)
			if c.plan = plan; plan == nil {
				u.Problem = firstProblem(problems)
			}
			lacks(sh, known, missing)
		} else if sh, _ := sheet.Read(draft); sh != nil {
			lacks(sh, known, missing)
		}
		out.Body.Uses = append(out.Body.Uses, u)
		changes = append(changes, c)
	}
	for name := range missing {
		out.Body.Missing = append(out.Body.Missing, name)
	}
	if out.Body.Persons, err = s.Store.Over(ctx, from.ID); err != nil {
		return nil, err
	}
	if !in.Body.Apply {
		return out, nil
	}
	for _, c := range changes {
		if err := s.MayEdit(ctx, who, c.row.ID); err != nil {
			return nil, err
		}
	}
	for _, u := range out.Body.Uses {
		if u.Problem != "" {
			return nil, huma.Error409Conflict(fmt.Sprintf("%s could not run after the move: %s Nothing was moved.", u.Name, fault.Sentence(u.Problem)))
		}
	}
	before := map[int64]json.RawMessage{}
	for _, c := range changes {
		if before[c.row.ID], err = s.Store.Snapshot(ctx, store.AboutWorkflow, kit.IDText(c.row.ID)); err != nil {
			return nil, err
		}
	}
	for _, c := range changes { // in the transaction of the whole operation
		moved, err := s.Store.MoveDraft(ctx, c.row.ID, c.row.Draft, string(c.draft), who.Name, s.Engine.Now())
		if err != nil {
			return nil, err
		}
		if !moved {
			return nil, huma.Error409Conflict(c.row.Name + " was changed meanwhile. Nothing was moved; look again.")
		}
	}
	for _, c := range changes {
		if c.plan == nil {
			continue
		}
		on := store.SwitchedOn{Sheet: string(c.live), Note: "Moved from " + from.Title + " to " + to.Title, By: who.Name, Since: -1}
		if _, err := s.Engine.Workflows.SwitchOn(ctx, c.row.ID, c.plan, on); err != nil {
			return nil, fmt.Errorf("%s: %w", c.row.Name, err)
		}
	}
	for _, c := range changes { // each workflow has an entry of its own
		e := store.AuditEntry{Person: &who.ID, Name: who.Name, Did: "move-uses", What: store.AboutWorkflow.What, About: kit.IDText(c.row.ID), Before: before[c.row.ID]}
		if err := s.After(ctx, e, store.AboutWorkflow, false); err != nil {
			return nil, err
		}
	}
	if out.Body.Persons > 0 {
		if err := s.Store.MoveAddresses(ctx, from.ID, to.ID, s.Engine.Now()); err != nil {
			return nil, err
		}
		s.Engine.Sources.ForgetPeople()
	}
	out.Body.Applied = true
	s.Engine.Tell(ctx, notify.Message{Topic: notify.Workflows})
	return out, nil
}

func firstProblem(problems []report.Problem) string {
	for _, p := range problems {
		if !p.Warning {
			return p.String()
		}
	}
	return "it cannot be run"
}

// lacks notes the names in a sheet that are not known.
func lacks(sh *sheet.Sheet, known sheet.Known, into map[string]bool) {
	if sh == nil {
		return
	}
	sources, destinations := sh.Names()
	for _, t := range sources {
		if !slices.Contains(known.Sources(), t.S) && !strings.HasPrefix(t.S, "dorfbote/") {
			into[t.S] = true
		}
	}
	for _, t := range destinations {
		connection, to, _ := strings.Cut(t.S, "/")
		if connection == sheet.Person || strings.Contains(to, "${") {
			continue
		}
		rule, ok := known.Reaches(connection)
		if _, err := rule.Take(to, known.Workspace); !ok || err != nil {
			into[t.S] = true
		}
	}
}
