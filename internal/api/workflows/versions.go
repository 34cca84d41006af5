package workflows

import (
	"context"
	"time"

	"dorfbote/internal/api/kit"
	"dorfbote/internal/core/sheet"
)

// VersionItem is one version of a workflow.
type VersionItem struct {
	Version int       `json:"version"`
	Note    string    `json:"note"`
	By      string    `json:"by"`
	At      time.Time `json:"at"`
	Text    string    `json:"text"`
	// Changes is what it brought.
	Changes []sheet.Change `json:"changes" doc:"what differs from the version before"`
}

func (s *Workflows) versions(ctx context.Context, _ *kit.Person, in *kit.IDInput) (*kit.List[VersionItem], error) {
	rows, err := s.Store.Versions(ctx, in.ID)
	items := make([]VersionItem, 0, len(rows))
	for i, v := range rows {
		it := VersionItem{Version: v.Version, Note: v.Note, By: v.ByPerson, At: v.At, Text: v.Sheet, Changes: []sheet.Change{}}
		if i+1 < len(rows) {
			it.Changes = append(it.Changes, sheet.Differences([]byte(rows[i+1].Sheet), []byte(v.Sheet))...)
		}
		items = append(items, it)
	}
	return kit.ListOf(items, 0), err
}
