package outbox

import (
	"context"
	"encoding/json"
	"slices"
	"time"

	"dorfbote/internal/core/message"
	"dorfbote/internal/engine/links"
	"dorfbote/internal/store"
)

// shared makes the pages that a post's links share, and gives the links their addresses. An edit of a post renews what the pages of the
// first show. Without an address by which the outside reaches this installation, the links are left out.
func (o *Outbox) shared(ctx context.Context, p *store.Post, doc *message.Document) (*message.Document, error) {
	if !slices.ContainsFunc(doc.Links, func(l message.Link) bool { return l.Share != nil }) {
		return doc, nil
	}
	root, err := o.Async.RootOf(ctx, p)
	if err != nil {
		return nil, err
	}
	out := *doc
	out.Links = nil
	for n, l := range doc.Links {
		if l.Share == nil {
			out.Links = append(out.Links, l)
			continue
		}
		if l.Share.N != nil {
			n = *l.Share.N
		}
		if !o.Links.Lead() {
			continue
		}
		lasts, err := time.ParseDuration(l.Share.For)
		if err != nil {
			lasts = message.SharedFor
		}
		raw, err := json.Marshal(l.Share.Fields)
		if err != nil {
			return nil, err
		}
		ends := p.CreatedAt.Add(lasts)
		if err := o.Async.PutShare(ctx, store.Share{Post: root, N: n, Workflow: p.Workflow, Arrival: p.Arrival, Text: l.Text, Title: l.Text, Fields: raw, EndsAt: ends}); err != nil {
			return nil, err
		}
		to, err := o.Links.Address(ctx, links.Link{For: links.Shared, ID: root, N: n, Until: ends})
		if err != nil {
			return nil, err
		}
		out.Links = append(out.Links, message.Link{Text: l.Text, To: to})
	}
	return &out, nil
}
