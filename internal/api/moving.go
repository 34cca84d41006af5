package api

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"gorm.io/gorm"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/report"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/notify"
	"dorfbote/internal/store"
)

// Use is a sheet that names a connection.
type Use struct {
	WorkflowID int64         `json:"workflow_id"`
	Name       string        `json:"name"`
	On         bool          `json:"on"`
	Draft      bool          `json:"draft" doc:"the draft names it"`
	Live       bool          `json:"live" doc:"the version that is on names it"`
	Places     []sheet.Moved `json:"places" doc:"where it is named; when moving, with what would stand there"`
	Problem    string        `json:"problem" doc:"why the sheet could not run after the move"`
}

type moveInput struct {
	ID   string `path:"id"`
	Body struct {
		To    string `json:"to" doc:"the connection to move to, of the same kind"`
		Apply bool   `json:"apply,omitempty" doc:"do it; without, it is only shown what would change"`
	}
}

type moveOutput struct {
	Body struct {
		Uses    []Use    `json:"uses"`
		Missing []string `json:"missing" doc:"sources or channels that the other connection does not have"`
		Applied bool     `json:"applied"`
	}
}

func (s *Server) movingRoutes() {
	changes(s, op("move-uses", http.MethodPost, "/api/connections/{id}/move", "Move every sheet that names a connection to another", "Connections"), editors, act[moveInput, moveOutput](aboutConnection, func(in *moveInput) string { return in.ID }), s.moveUses)
}

// usedBy is a workflow with the texts that may name a connection.
type usedBy struct {
	store.Workflow
	Live string
}

func (s *Server) usesOf(ctx context.Context, db *gorm.DB, id string) ([]usedBy, error) {
	var rows []usedBy
	err := db.WithContext(ctx).Raw(`SELECT w.*, coalesce(v.sheet, '') AS live FROM workflows w
		LEFT JOIN workflow_versions v ON v.workflow_id = w.id AND v.version = w.version AND w.is_on
		WHERE w.draft LIKE '%' || ? || '/%' OR v.sheet LIKE '%' || ? || '/%' ORDER BY w.name`, id, id).Scan(&rows).Error
	return rows, err
}

func (s *Server) uses(ctx context.Context, id string) ([]Use, error) {
	rows, err := s.usesOf(ctx, s.store.DB, id)
	if err != nil {
		return nil, err
	}
	out := []Use{}
	for _, r := range rows {
		_, draft, _ := sheet.Move([]byte(r.Draft), id, id)
		_, live, _ := sheet.Move([]byte(r.Live), id, id)
		if len(draft)+len(live) == 0 {
			continue
		}
		u := Use{WorkflowID: r.ID, Name: r.Name, On: r.IsOn, Draft: len(draft) > 0, Live: len(live) > 0, Places: draft}
		if !u.Draft {
			u.Places = live
		}
		out = append(out, u)
	}
	return out, nil
}

// moveUses exchanges one connection for another in every sheet that names it, all or none. A workflow that is on goes on
// with a new version.
func (s *Server) moveUses(ctx context.Context, who *Person, in *moveInput) (*moveOutput, error) {
	var from, to store.Connection
	db := s.store.DB.WithContext(ctx)
	if err := db.First(&from, "id = ?", in.ID).Error; err != nil {
		return nil, err
	}
	if err := db.First(&to, "id = ?", in.Body.To).Error; err != nil {
		return nil, invalid("body.to", "there is no connection %s", in.Body.To)
	}
	if from.Kind != to.Kind || from.ID == to.ID {
		return nil, invalid("body.to", "%s is not another connection of the same kind", to.Title)
	}
	known, err := s.Engine.Workflows.Known(ctx)
	if err != nil {
		return nil, err
	}
	rows, err := s.usesOf(ctx, s.store.DB, in.ID)
	if err != nil {
		return nil, err
	}
	out := &moveOutput{}
	out.Body.Uses, out.Body.Missing = []Use{}, []string{}
	type change struct {
		row         usedBy
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
		u := Use{WorkflowID: r.ID, Name: r.Name, On: r.IsOn, Draft: len(places) > 0, Live: len(livePlaces) > 0, Places: places}
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
	if !in.Body.Apply {
		return out, nil
	}
	for _, c := range changes {
		if err := s.mayEdit(ctx, who, c.row.ID); err != nil {
			return nil, err
		}
	}
	for _, u := range out.Body.Uses {
		if u.Problem != "" {
			return nil, huma.Error409Conflict(fmt.Sprintf("%s could not run after the move: %s Nothing was moved.", u.Name, connect.Sentence(u.Problem)))
		}
	}
	before := map[int64]json.RawMessage{}
	for _, c := range changes {
		if before[c.row.ID], err = s.snapshot(ctx, aboutWorkflow, idText(c.row.ID)); err != nil {
			return nil, err
		}
	}
	err = db.Transaction(func(tx *gorm.DB) error {
		for _, c := range changes {
			err := tx.Exec("UPDATE workflows SET draft = ?, updated_at = ?, updated_by = ? WHERE id = ? AND draft = ?", string(c.draft), s.Engine.Now(), who.Name, c.row.ID, c.row.Draft)
			if err.Error != nil {
				return err.Error
			}
			if err.RowsAffected == 0 {
				return huma.Error409Conflict(c.row.Name + " was changed meanwhile. Nothing was moved; look again.")
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
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
		e := entry{person: &who.ID, name: who.Name, did: "move-uses", what: aboutWorkflow.what, about: idText(c.row.ID), before: before[c.row.ID]}
		if err := s.after(ctx, e, aboutWorkflow, false); err != nil {
			return nil, err
		}
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
		if !slices.Contains(known.Destinations(), t.S) {
			into[t.S] = true
		}
	}
}
