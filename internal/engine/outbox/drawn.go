package outbox

import (
	"context"
	"slices"

	"dorfbote/internal/core/message"
	"dorfbote/internal/engine/links"
	"dorfbote/internal/picture"
	"dorfbote/internal/store"
)

// drawn draws a post's chart or table, and gives it an address that works without an account and ends. Where it cannot be drawn, its
// words are told.
func (o *Outbox) drawn(ctx context.Context, p *store.Post, doc *message.Document) (*message.Document, error) {
	if doc.Picture == nil || doc.Picture.Chart == nil && doc.Picture.Grid == nil {
		return doc, nil
	}
	out, pic := *doc, *doc.Picture
	out.Picture = &pic
	raw, err := Draw(doc.Picture, false)
	if err != nil {
		o.Log.Warn("drawing a picture failed; its words are told", "post", p.ID, "error", err)
		out.Picture = nil
		out.Body = append(slices.Clip(out.Body), message.TextBlock(pic.Text))
		return &out, nil
	}
	pic.Made = raw
	to, err := o.Links.Address(ctx, links.Link{For: links.Picture, ID: p.ID, Until: p.CreatedAt.Add(links.Lasts)})
	if err != nil {
		return nil, err
	}
	if to != "" {
		pic.From = to + ".png"
	}
	return &out, nil
}

// Draw draws what a message has as its picture.
func Draw(p *message.Picture, dark bool) ([]byte, error) {
	if p.Chart != nil {
		return picture.Chart(p.Chart, dark)
	}
	return picture.Table(p.Grid, dark)
}
