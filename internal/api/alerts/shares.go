package alerts

import (
	"context"
	"net/http"
	"time"

	"dorfbote/internal/api/kit"
	"dorfbote/internal/store"
)

// ShareItem is a page for people without an account.
type ShareItem struct {
	Post    int64      `json:"post"`
	N       int        `json:"n" doc:"of the link within the post"`
	Text    string     `json:"text"`
	Title   string     `json:"title"`
	Arrival int64      `json:"arrival"`
	MadeAt  time.Time  `json:"made_at"`
	EndsAt  time.Time  `json:"ends_at"`
	EndedAt *time.Time `json:"ended_at"`
	EndedBy string     `json:"ended_by"`
	Opened  int        `json:"opened" doc:"how often it was opened"`
	LastAt  *time.Time `json:"last_at"`
}

type sharesInput struct {
	Post     int64 `query:"post"`
	Workflow int64 `query:"workflow"`
	Limit    int   `query:"limit" default:"50" minimum:"1" maximum:"200"`
}

type sharesOutput struct {
	Body struct {
		Items []ShareItem `json:"items"`
	}
}

type shareInput struct {
	Post int64 `path:"post"`
	N    int   `path:"n"`
}

func (al *Alerts) shareRoutes() {
	kit.Register(al.Kit, kit.Op("list-shares", http.MethodGet, "/api/shares", "Pages that posts share with people without an account", "Outbox"), kit.Anyone, al.shares)
	kit.Changes(al.Kit, kit.Op("end-links", http.MethodDelete, "/api/posts/{id}/links", "End all that a post's links lead to, for good", "Outbox"), kit.Editors, kit.ByID[struct{}](store.AboutPost), al.endLinks)
	kit.Changes(al.Kit, kit.Op("end-share", http.MethodDelete, "/api/posts/{post}/shares/{n}", "End a shared page for good", "Outbox"), kit.Editors,
		kit.Act[shareInput, struct{}](store.AboutPost, func(in *shareInput) string { return kit.IDText(in.Post) }), al.endShare)
}

func (al *Alerts) shares(ctx context.Context, _ *kit.Person, in *sharesInput) (*sharesOutput, error) {
	list, err := al.Store.Shares(ctx, in.Post, in.Workflow, in.Limit)
	out := &sharesOutput{}
	out.Body.Items = []ShareItem{}
	for _, s := range list {
		out.Body.Items = append(out.Body.Items, ShareItem{s.Post, s.N, s.Text, s.Title, s.Arrival, s.MadeAt, s.EndsAt, s.EndedAt, s.EndedBy, s.Opened, s.LastAt})
	}
	return out, err
}

func (al *Alerts) endLinks(ctx context.Context, who *kit.Person, in *kit.IDInput) (*struct{}, error) {
	p, err := al.Store.Post(ctx, in.ID)
	if err != nil {
		return nil, err
	}
	return nil, al.Store.EndLinks(ctx, p, who.Name)
}

func (al *Alerts) endShare(ctx context.Context, p *kit.Person, in *shareInput) (*struct{}, error) {
	return nil, al.Store.EndShare(ctx, in.Post, in.N, p.Name)
}
