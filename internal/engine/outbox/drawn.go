package outbox

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/singleflight"

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

// shown are pictures that somebody asked for by their links: each is made once, however many ask for it, and kept for a while.
type shown struct {
	once  singleflight.Group
	mu    sync.Mutex
	kept  map[string]*connect.Picture
	order []string // the one that was made first is let go first
	size  int
}

// shownMost is how many bytes of pictures are kept.
const shownMost = 32 << 20

// makingMost bounds making a picture that somebody asked for.
const makingMost = 10 * time.Second

// Shown gives the picture of a post to whoever asks for it by its link.
func (o *Outbox) Shown(ctx context.Context, post *store.Post, p *message.Picture, dark bool) (*connect.Picture, error) {
	body := sha256.Sum256(post.Body)
	key := fmt.Sprintf("%d %t %x", post.ID, dark, body[:8])
	s := &o.shown
	s.mu.Lock()
	pic := s.kept[key]
	s.mu.Unlock()
	if pic != nil {
		return pic, nil
	}
	made := s.once.DoChan(key, func() (any, error) {
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), makingMost)
		defer cancel()
		pic, err := o.Picture(ctx, post, p, dark)
		if err == nil {
			s.keep(key, pic)
		}
		return pic, err
	})
	select {
	case r := <-made:
		pic, _ := r.Val.(*connect.Picture)
		return pic, r.Err
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

func (s *shown) keep(key string, pic *connect.Picture) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.kept == nil {
		s.kept = map[string]*connect.Picture{}
	}
	if s.kept[key] != nil {
		return
	}
	s.kept[key], s.order, s.size = pic, append(s.order, key), s.size+len(pic.Data)
	for s.size > shownMost {
		first := s.order[0]
		s.size -= len(s.kept[first].Data)
		delete(s.kept, first)
		s.order = s.order[1:]
	}
}

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
	return connect.Recoded(ctx, o.Env, raw)
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
