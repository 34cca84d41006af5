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
//
// What is made is made within fetch.
func (o *Outbox) drawn(ctx, fetch context.Context, p *store.Post, doc *message.Document) (*message.Document, error) {
	if doc.Picture == nil || !Makes(doc.Picture) {
		return doc, nil
	}
	out, pic := *doc, *doc.Picture
	out.Picture = &pic
	to, err := o.Links.Address(ctx, links.Link{For: links.Picture, ID: p.ID, Until: p.CreatedAt.Add(links.Lasts)})
	if err != nil {
		return nil, err
	}
	made, err := o.Picture(fetch, p, doc.Picture, false)
	if err != nil {
		o.Log.Warn("making a picture failed; its words are told", "post", p.ID, "error", err)
		if pic.Held == "" {
			to = "" // what cannot be drawn now cannot be drawn later
		}
		return without(doc, pic.Text, to, err), nil
	}
	pic.Made = made.Data
	if to != "" {
		pic.From = to + made.Ending
	}
	return &out, nil
}

// without is a message without its picture: the words stand in its place, with a link to it where there is one, and with why.
func without(doc *message.Document, text, to string, why error) *message.Document {
	out := *doc
	out.Picture = nil
	words := text
	if to != "" {
		out.Links = append(slices.Clone(doc.Links), message.Link{Text: text, To: to})
		words = "The picture isn't included (" + connect.NoAnswer(why) + "): " + text
	}
	out.Body = append(slices.Clip(out.Body), message.TextBlock(words))
	return &out
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
