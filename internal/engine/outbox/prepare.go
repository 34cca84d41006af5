package outbox

import (
	"context"
	"fmt"
	"time"

	"dorfbote/internal/connect"
	"dorfbote/internal/connect/kinds"
	"dorfbote/internal/core/decide"
	"dorfbote/internal/core/message"
	"dorfbote/internal/store"
)

// preparing bounds having at hand what goes with one post: pictures and files that lie elsewhere. What is not there by then goes as
// a link, and the post says so.
const preparing = 4 * time.Second

// prepared is a post ready to go, or why it is not.
type prepared struct {
	post *connect.Post
	err  error
}

// prepareAll prepares posts side by side, before it is the turn of any of them, so that none waits for what another is to carry. Those that
// carry nothing are prepared in their turn, which costs next to nothing.
func (o *Outbox) prepareAll(ctx context.Context, c *store.Connection, posts []store.Post) func(i int) (*connect.Post, error) {
	ready := make([]chan prepared, len(posts))
	for i := range posts {
		if doc, err := message.Stored(posts[i].Body); err != nil || !carries(doc) {
			continue
		}
		ready[i] = make(chan prepared, 1)
		go func() {
			post, err := o.prepare(ctx, c, &posts[i])
			ready[i] <- prepared{post, err}
		}()
	}
	return func(i int) (*connect.Post, error) {
		if ready[i] == nil {
			return o.prepare(ctx, c, &posts[i])
		}
		select {
		case p := <-ready[i]:
			return p.post, p.err
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

// carries tells whether something goes with a message that has to be made or fetched.
func carries(doc *message.Document) bool {
	return doc.Picture != nil || len(doc.Attach) > 0 || doc.Sender != nil && doc.Sender.Picture != ""
}

// prepare makes of a post what goes out: with its picture and its files, its shared pages, its buttons, and the page that says why.
func (o *Outbox) prepare(ctx context.Context, c *store.Connection, p *store.Post) (*connect.Post, error) {
	doc, err := message.Stored(p.Body)
	if err != nil {
		return nil, fmt.Errorf("post %d: %w", p.ID, err)
	}
	fetch, cancel := context.WithTimeout(ctx, preparing)
	defer cancel()
	if doc, err = o.drawn(ctx, fetch, p, doc); err != nil {
		return nil, err
	}
	doc = o.fetched(fetch, c, p, doc)
	if doc, err = o.shared(ctx, p, doc); err != nil {
		return nil, err
	}
	if doc, err = o.carried(ctx, fetch, c, p, doc); err != nil {
		return nil, err
	}
	var copied *message.Document
	if (p.Cc != "" || p.Bcc != "") && len(doc.Buttons) > 0 {
		if copied, _, err = o.pressable(ctx, c, p, doc, true); err != nil {
			return nil, err
		}
		if copied, _, err = o.why(ctx, c, p, copied); err != nil {
			return nil, err
		}
	}
	doc, buttons, err := o.pressable(ctx, c, p, doc, false)
	if err != nil {
		return nil, err
	}
	doc, why, err := o.why(ctx, c, p, doc)
	if err != nil {
		return nil, err
	}
	return &connect.Post{Copy: copied, Buttons: buttons, Why: why, Cc: placeOf(p.Cc), Bcc: placeOf(p.Bcc), Doc: doc, Key: p.Key, Through: store.Through(p.Through, p.Workflow), Digest: p.Message == decide.DigestMessage}, nil
}

// fetched has a foreign picture at hand where the kind of connection hands pictures over; one that cannot be had in time is a link.
func (o *Outbox) fetched(ctx context.Context, c *store.Connection, p *store.Post, doc *message.Document) *message.Document {
	k := kinds.Named(c.Kind)
	if k == nil || k.Sends == nil || k.Sends.Hands == nil || !k.Sends.Hands(c.Settings) {
		return doc
	}
	out := *doc
	if pic := doc.Picture; pic != nil && len(pic.Made) == 0 && pic.From != "" {
		made, err := connect.FetchPicture(ctx, o.Env, pic.From)
		if err != nil {
			o.Log.Info("a picture does not go along; it is told as a link", "post", p.ID, "error", err)
			return without(doc, pic.Text, pic.From, err)
		}
		with := *pic
		with.Made, out.Picture = made.Data, &with
	}
	if s := doc.Sender; s != nil && s.Picture != "" && len(s.Made) == 0 {
		with := *s
		if made, err := connect.FetchPicture(ctx, o.Env, s.Picture); err == nil {
			with.Made = made.Data
		} else {
			with.Picture = "" // the name has to do
		}
		out.Sender = &with
	}
	return &out
}
