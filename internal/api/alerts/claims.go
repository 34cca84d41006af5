package alerts

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"dorfbote/internal/api/kit"
	"dorfbote/internal/store"
)

// AlertItem is what people did with what a run told, and what waits for them to do something.
type AlertItem struct {
	ClaimedBy string     `json:"claimed_by" doc:"who looks after it; empty for nobody"`
	ClaimedAt *time.Time `json:"claimed_at"`
	RepliedBy string     `json:"replied_by" doc:"who answered first"`
	RepliedAt *time.Time `json:"replied_at"`
	Waits     []WaitItem `json:"waits" doc:"what is told to others unless somebody does something"`
	Deeds     []DeedItem `json:"deeds"`
}

// WaitItem is a step that tells others where an alert is not taken care of.
type WaitItem struct {
	Name  string     `json:"name"`
	DueAt *time.Time `json:"due_at" doc:"null until one of the alert's posts is delivered"`
}

// DeedItem is one thing that was done, or that came of an alert by the clock.
type DeedItem struct {
	What  string    `json:"what" enum:"claimed,replied,pressed,answered,followed,withdrawn,handed over,let go,useful,not for me"`
	Name  string    `json:"name" doc:"of the button, the question or the step"`
	By    string    `json:"by"`
	Words string    `json:"words"`
	At    time.Time `json:"at"`
}

type alertInput struct {
	Arrival  int64 `path:"arrival"`
	Workflow int64 `path:"workflow"`
}

type alertOutput struct {
	Body struct {
		AlertItem
		Said string `json:"said" doc:"what came of it, in words"`
	}
}

func (al *Alerts) claimRoutes() {
	about := kit.Act[alertInput, alertOutput](store.AboutWorkflow, func(in *alertInput) string { return kit.IDText(in.Workflow) })
	kit.Register(al.Kit, kit.Op("get-alert", http.MethodGet, "/api/runs/{arrival}/{workflow}/alert", "What people did with what a run told", "Runs"), kit.Anyone, al.alert)
	kit.Changes(al.Kit, kit.Op("claim-alert", http.MethodPost, "/api/runs/{arrival}/{workflow}/claim", "Look after an alert", "Runs"), kit.Anyone, about, al.claim)
	kit.Changes(al.Kit, kit.Op("let-go-alert", http.MethodDelete, "/api/runs/{arrival}/{workflow}/claim", "No longer look after an alert", "Runs"), kit.Anyone, about, al.letGo)
}

// Of gives what people did with what a run told.
func (al *Alerts) Of(ctx context.Context, arrival, workflow int64) (AlertItem, error) {
	out := AlertItem{Waits: []WaitItem{}, Deeds: []DeedItem{}}
	a, err := al.Store.AlertOf(ctx, arrival, workflow)
	if err != nil {
		return out, err
	}
	out.ClaimedBy, out.ClaimedAt, out.RepliedBy, out.RepliedAt = a.ClaimedBy, a.ClaimedAt, a.RepliedBy, a.RepliedAt
	waits, err := al.Store.EscalationsOf(ctx, arrival, workflow)
	if err != nil {
		return out, err
	}
	for _, w := range waits {
		out.Waits = append(out.Waits, WaitItem{w.Name, w.DueAt})
	}
	deeds, err := al.Store.ActsOf(ctx, arrival, workflow)
	for _, d := range deeds {
		out.Deeds = append(out.Deeds, DeedItem{d.What, d.Name, d.By, d.Words, d.At})
	}
	return out, err
}

func (al *Alerts) alert(ctx context.Context, _ *kit.Person, in *alertInput) (*alertOutput, error) {
	out := &alertOutput{}
	var err error
	out.Body.AlertItem, err = al.Of(ctx, in.Arrival, in.Workflow)
	return out, err
}

// called is what somebody who acts is called before others.
func (al *Alerts) called(ctx context.Context, p *kit.Person) (string, error) {
	return al.Engine.Alerts.Called(ctx, &store.Person{ID: p.ID, Name: p.Name, Email: p.Email})
}

func (al *Alerts) claim(ctx context.Context, p *kit.Person, in *alertInput) (*alertOutput, error) {
	if _, err := al.Store.Verdict(ctx, in.Arrival, in.Workflow); err != nil {
		return nil, err
	}
	by, err := al.called(ctx, p)
	if err != nil {
		return nil, err
	}
	done, err := al.Engine.Alerts.Claim(ctx, in.Arrival, in.Workflow, by, p.ID, nil)
	if err != nil {
		return nil, refused(err)
	}
	out, err := al.alert(ctx, p, in)
	if err == nil {
		out.Body.Said = done.Words
	}
	return out, err
}

func (al *Alerts) letGo(ctx context.Context, p *kit.Person, in *alertInput) (*alertOutput, error) {
	if _, err := al.Store.Verdict(ctx, in.Arrival, in.Workflow); err != nil {
		return nil, err
	}
	a, err := al.Store.AlertOf(ctx, in.Arrival, in.Workflow)
	if err != nil {
		return nil, err
	}
	if own := a.ClaimedPerson != nil && *a.ClaimedPerson == p.ID; !own && a.ClaimedBy != "" {
		if p.Role == store.Viewer {
			return nil, huma.Error403Forbidden(a.ClaimedBy + " looks after this; only they, or an editor, can end that")
		}
		if err := al.MayEdit(ctx, p, in.Workflow); err != nil {
			return nil, err
		}
	}
	if err := al.Engine.Alerts.LetGo(ctx, in.Arrival, in.Workflow, p.Name); err != nil {
		return nil, err
	}
	return al.alert(ctx, p, in)
}
