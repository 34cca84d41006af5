package alerts

import (
	"context"
	"net/http"
	"time"

	"dorfbote/internal/api/kit"
	"dorfbote/internal/notify"
	"dorfbote/internal/store"
)

// WorthItem is what came of what a workflow told to one place.
type WorthItem struct {
	Destination string     `json:"destination"`
	Posts       int64      `json:"posts" doc:"that were delivered, without what hangs under them"`
	Led         int64      `json:"led" doc:"posts to which somebody did something: took it, replied, pressed a button, answered, found it useful"`
	Useful      int64      `json:"useful" doc:"people who said so"`
	NotForMe    int64      `json:"not_for_me" doc:"people who said so"`
	MedianS     *float64   `json:"median_s" doc:"seconds until somebody did something, of half of those posts at most; null where nobody has"`
	LastAt      *time.Time `json:"last_at"`
}

type worthOutput struct {
	Body struct {
		Days  int         `json:"days" doc:"that are counted"`
		Items []WorthItem `json:"items" doc:"by places, the most told first; at most 200"`
	}
}

func (al *Alerts) worthRoutes() {
	kit.Register(al.Kit, kit.Op("get-worth", http.MethodGet, "/api/workflows/{id}/worth", "What came of what a workflow told", "Workflows"), kit.Anyone, al.worth)
	kit.Changes(al.Kit, kit.Op("leave-worth", http.MethodPost, "/api/workflows/{id}/left", "Leave a workflow as it is, though few need it; Today names it no more for 30 days", "Workflows"), kit.Editors, kit.ByID[struct{}](store.AboutWorkflow), al.leave)
}

func (al *Alerts) leave(ctx context.Context, _ *kit.Person, in *kit.IDInput) (*struct{}, error) {
	if _, err := al.Store.Workflow(ctx, in.ID); err != nil {
		return nil, err
	}
	err := al.Store.LeaveWorth(ctx, in.ID, al.Engine.Now())
	al.Engine.Tell(ctx, notify.Message{Topic: notify.Today})
	return nil, err
}

func (al *Alerts) worth(ctx context.Context, _ *kit.Person, in *kit.IDInput) (*worthOutput, error) {
	if _, err := al.Store.Workflow(ctx, in.ID); err != nil {
		return nil, err
	}
	list, err := al.Store.WorthOf(ctx, in.ID, al.Engine.Now().AddDate(0, 0, -store.WorthDays))
	if err != nil {
		return nil, err
	}
	out := &worthOutput{}
	out.Body.Days, out.Body.Items = store.WorthDays, []WorthItem{}
	for _, w := range list {
		out.Body.Items = append(out.Body.Items, WorthItem(w))
	}
	return out, nil
}
