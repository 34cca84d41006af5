package sources

import (
	"context"

	"dorfbote/internal/core/sheet"
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

// Uses lists the sheets that name a connection.
func (s *Sources) Uses(ctx context.Context, id string) ([]Use, error) {
	rows, err := s.Store.Mentions(ctx, id)
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
