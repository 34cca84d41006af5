package outbox

import (
	"context"
	"errors"
	"slices"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/message"
	"dorfbote/internal/engine/links"
	"dorfbote/internal/picture"
	"dorfbote/internal/store"
)

// drawn makes a post's picture, where it is none that lies at an address, and gives it an address that works without an account and
// ends. Where it cannot be made, its words are told.
func (o *Outbox) drawn(ctx context.Context, p *store.Post, doc *message.Document) (*message.Document, error) {
	if doc.Picture == nil || !Makes(doc.Picture) {
		return doc, nil
	}
	out, pic := *doc, *doc.Picture
	out.Picture = &pic
	made, err := o.Picture(ctx, p, doc.Picture, false)
	if err != nil {
		o.Log.Warn("making a picture failed; its words are told", "post", p.ID, "error", err)
		out.Picture = nil
		out.Body = append(slices.Clip(out.Body), message.TextBlock(pic.Text))
		return &out, nil
	}
	pic.Made = made.Data
	to, err := o.Links.Address(ctx, links.Link{For: links.Picture, ID: p.ID, Until: p.CreatedAt.Add(links.Lasts)})
	if err != nil {
		return nil, err
	}
	if to != "" {
		pic.From = to + made.Ending
	}
	return &out, nil
}

// Makes tells whether a picture is made here: a chart, a table, or one that came with the record.
func Makes(p *message.Picture) bool { return p.Chart != nil || p.Grid != nil || p.Held != "" }

// Picture makes the picture of a post: it draws it, or fetches it from the record's source and writes it anew.
func (o *Outbox) Picture(ctx context.Context, post *store.Post, p *message.Picture, dark bool) (*connect.Picture, error) {
	if p.Held == "" {
		raw, err := Draw(p, dark)
		return &connect.Picture{Media: "image/png", Ending: ".png", Data: raw}, err
	}
	raw, _, err := o.held(ctx, post.Arrival, p.Held, largestFile)
	if err != nil {
		return nil, err
	}
	return connect.Recoded(raw)
}

// Draw draws what a message has as its picture, as PNG.
func Draw(p *message.Picture, dark bool) ([]byte, error) {
	switch {
	case p.Chart != nil:
		return picture.Chart(p.Chart, dark)
	case p.Grid != nil:
		return picture.Table(p.Grid, dark)
	}
	return nil, errors.New("there is neither a chart nor a table to draw")
}
