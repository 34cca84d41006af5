package sources

import (
	"context"

	"gorm.io/gorm"

	"dorfbote/internal/core/sheet"
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

// UsedBy is a workflow with the texts that may name a connection.
type UsedBy struct {
	store.Workflow
	Live string
}

func (s *Sources) UsesOf(ctx context.Context, db *gorm.DB, id string) ([]UsedBy, error) {
	var rows []UsedBy
	err := db.WithContext(ctx).Raw(`SELECT w.*, coalesce(v.sheet, '') AS live FROM workflows w
		LEFT JOIN workflow_versions v ON v.workflow = w.id AND v.version = w.version AND w.is_on
		WHERE w.draft LIKE '%' || ? || '/%' OR v.sheet LIKE '%' || ? || '/%' ORDER BY w.name`, id, id).Scan(&rows).Error
	return rows, err
}

func (s *Sources) Uses(ctx context.Context, id string) ([]Use, error) {
	rows, err := s.UsesOf(ctx, s.Store.DB, id)
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
