package outbox

import (
	"context"
	"fmt"
	"sync"
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

// coming is a destination's next posts, a few of which are made ready before their turn, so that none waits for what another is to carry.
// Those that carry nothing are prepared in their turn, which costs next to nothing.
type coming struct {
	outbox     *Outbox
	ctx        context.Context
	cancel     context.CancelFunc
	connection *store.Connection
	posts      []store.Post
	ready      []chan prepared // nil of what carries nothing
	claims     []claim
	begun      int // how many have been begun with
	preparing  sync.WaitGroup
}

// prepareAll begins to make posts ready. Whoever takes them ends it.
func (o *Outbox) prepareAll(ctx context.Context, c *store.Connection, posts []store.Post) *coming {
	l := &coming{outbox: o, connection: c, posts: posts, ready: make([]chan prepared, len(posts)), claims: make([]claim, len(posts))}
	l.ctx, l.cancel = context.WithCancel(ctx)
	l.begin(ahead)
	return l
}

// begin makes ready what comes before the post n.
func (l *coming) begin(n int) {
	for ; l.begun < min(n, len(l.posts)); l.begun++ {
		i := l.begun
		l.claims[i].room = l.outbox.room
		if doc, err := message.Stored(l.posts[i].Body); err != nil || !carries(doc) {
			continue
		}
		l.ready[i] = make(chan prepared, 1)
		l.preparing.Go(func() {
			post, err := l.outbox.prepare(l.ctx, l.connection, &l.posts[i], &l.claims[i])
			l.ready[i] <- prepared{post, err}
		})
	}
}

// take gives a post that is ready to go.
func (l *coming) take(i int) (*connect.Post, error) {
	l.begin(i + ahead)
	if l.ready[i] == nil {
		return l.outbox.prepare(l.ctx, l.connection, &l.posts[i], &l.claims[i])
	}
	select {
	case p := <-l.ready[i]:
		return p.post, p.err
	case <-l.ctx.Done():
		return nil, l.ctx.Err()
	}
}

// gone gives back the room of a post that was taken.
func (l *coming) gone(i int) { l.claims[i].free() }

// end stops what is being made ready and gives back all room.
func (l *coming) end() {
	l.cancel()
	l.preparing.Wait()
	for i := range l.claims {
		l.claims[i].free()
	}
}

// carries tells whether something goes with a message that has to be made or fetched.
func carries(doc *message.Document) bool {
	return doc.Picture != nil || len(doc.Attach) > 0 || doc.Sender != nil && doc.Sender.Picture != ""
}

// prepare makes of a post what goes out: with its picture and its files, its shared pages, its buttons, and the page that says why.
func (o *Outbox) prepare(ctx context.Context, c *store.Connection, p *store.Post, room *claim) (*connect.Post, error) {
	doc, err := message.Stored(p.Body)
	if err != nil {
		return nil, fmt.Errorf("post %d: %w", p.ID, err)
	}
	fetch, cancel := context.WithTimeout(ctx, preparing)
	defer cancel()
	if doc, err = o.drawn(ctx, fetch, p, doc); err != nil {
		return nil, err
	}
	doc = o.fetched(fetch, c, p, doc, room)
	if doc, err = o.shared(ctx, p, doc); err != nil {
		return nil, err
	}
	if doc, err = o.carried(ctx, fetch, c, p, doc, room); err != nil {
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
func (o *Outbox) fetched(ctx context.Context, c *store.Connection, p *store.Post, doc *message.Document, room *claim) *message.Document {
	k := kinds.Named(c.Kind)
	if k == nil || k.Sends == nil || k.Sends.Hands == nil || !k.Sends.Hands(c.Settings) {
		return doc
	}
	out := *doc
	if pic := doc.Picture; pic != nil && len(pic.Made) == 0 && pic.From != "" {
		made, err := o.picture(ctx, pic.From, room)
		if err != nil {
			o.Log.Info("a picture does not go along; it is told as a link", "post", p.ID, "error", err)
			return without(doc, pic.Text, pic.From, err)
		}
		with := *pic
		with.Made, out.Picture = made.Data, &with
	}
	if s := doc.Sender; s != nil && s.Picture != "" && len(s.Made) == 0 {
		with := *s
		if made, err := o.picture(ctx, s.Picture, room); err == nil {
			with.Made = made.Data
		} else {
			with.Picture = "" // the name has to do
		}
		out.Sender = &with
	}
	return &out
}

// picture fetches a foreign picture once there is room for it.
func (o *Outbox) picture(ctx context.Context, address string, room *claim) (made *connect.Picture, err error) {
	err = room.fetch(ctx, largestFile, func() (int, error) {
		made, err = connect.FetchPicture(ctx, o.Env, address)
		if err != nil {
			return 0, err
		}
		return len(made.Data), nil
	})
	return made, err
}
