package room

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/fault"
)

// squareRoom reads channels of the square over its HTTP API.
type squareRoom struct{ config connect.Config }

func (s *squareRoom) Close() error { return nil }

func (s *squareRoom) get(ctx context.Context, path string, into any) error {
	h := http.Header{"Authorization": {"Bearer " + s.config.Settings["token"]}}
	res, err := s.config.Env.Get(ctx, strings.TrimSuffix(s.config.Settings["address"], "/")+path, h)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	raw, err := io.ReadAll(res.Body)
	if err != nil {
		return err
	}
	if err := json.Unmarshal(raw, into); err != nil {
		return &fault.Fault{Tried: "reading " + path, Said: "the answer is not what the square says: " + err.Error(), Do: "check the address"}
	}
	return nil
}

type channel struct {
	Name    string `json:"name"`
	Purpose string `json:"purpose"`
	Private bool   `json:"private"`
	LetIn   bool   `json:"let_in"`
}

func (s *squareRoom) channels(ctx context.Context) ([]channel, error) {
	var list []channel
	err := s.get(ctx, "/rooms", &list)
	return list, err
}

// Prove lists the channels, and says which private ones have not let the sender in.
func (s *squareRoom) Prove(ctx context.Context) []connect.ProofStep {
	list, err := s.channels(ctx)
	if err != nil {
		return []connect.ProofStep{connect.Failed("listing the channels", err)}
	}
	steps := []connect.ProofStep{connect.Passed("listing the channels", "%s", connect.Counted(len(list), "channel"))}
	for _, c := range list {
		if c.Private && !c.LetIn {
			steps = append(steps, connect.ProofStep{OK: true, Tried: "reading " + c.Name, Said: "it is private and has not let Dorfbote in", Do: "let Dorfbote in, if it is to read there", Who: "a member of " + c.Name})
		}
	}
	return steps
}

// Browse lists the channels that can be read.
func (s *squareRoom) Browse(ctx context.Context) ([]connect.Choice, error) {
	list, err := s.channels(ctx)
	var out []connect.Choice
	for _, c := range list {
		detail := c.Purpose
		if c.Private && !c.LetIn {
			detail = "private; Dorfbote has not been let in"
		}
		out = append(out, choice(c.Name, c.Name, detail))
	}
	return out, err
}

// Wait asks the square to answer as soon as there is something new in the room, again and again.
func (s *squareRoom) Wait(ctx context.Context, src connect.SourceConfig, changed func()) error {
	name, known := strings.TrimPrefix(src.Settings["room"], "#"), ""
	for {
		var now struct {
			At string `json:"at"`
		}
		if err := s.get(ctx, fmt.Sprintf("/rooms/%s/wait?known=%s", url.PathEscape(name), url.QueryEscape(known)), &now); err != nil {
			return err
		}
		if now.At != known {
			known = now.At
			changed()
		}
	}
}

type cursor struct {
	After    int64 `json:"after"`    // the last message seen
	Reaction int64 `json:"reaction"` // the last reaction seen
	Change   int64 `json:"change"`   // the last change seen to what was said
}

type squareMessage struct {
	ID       int64     `json:"id"`
	Author   string    `json:"author"`
	Text     string    `json:"text"`
	At       time.Time `json:"at"`
	Mentions []string  `json:"mentions"`
	Images   []string  `json:"images"`
	Under    int64     `json:"under"`
	Own      bool      `json:"own"`
	Reaction string    `json:"reaction"`
	Post     int64     `json:"post"`
	Change   int64     `json:"change"`
	Gone     bool      `json:"gone"`
}

// message is what was said, in the terms of all chats.
func (p *squareMessage) message(room string) *message {
	m := &message{ID: strconv.FormatInt(p.ID, 10), Room: room, Author: p.Author, Text: p.Text, At: p.At, Mentions: p.Mentions, Images: p.Images, Reaction: p.Reaction, Changed: p.Change > 0, Gone: p.Gone}
	if p.Reaction != "" {
		m.ID, m.Thread = fmt.Sprintf("r%d", p.ID), strconv.FormatInt(p.Post, 10)
	} else if p.Under > 0 {
		m.Thread = strconv.FormatInt(p.Under, 10)
	}
	return m
}

const pageSize = 200

// Poll reads what was said since the last time. What Dorfbote itself has said is passed over, so that it never
// answers itself.
func (s *squareRoom) Poll(ctx context.Context, src connect.SourceConfig, raw json.RawMessage, emit func(connect.Item) error) (connect.Polled, error) {
	var c cursor
	if len(raw) > 0 {
		_ = json.Unmarshal(raw, &c)
	}
	name := strings.TrimPrefix(src.Settings["room"], "#")
	out := connect.Polled{}
	feeds := []feed{{"messages", &c.After, func(p *squareMessage) int64 { return p.ID }}, {"changes", &c.Change, func(p *squareMessage) int64 { return p.Change }}}
	if src.Settings["which"] == "reactions" {
		feeds = []feed{{"reactions", &c.Reaction, func(p *squareMessage) int64 { return p.ID }}}
	}
	for _, f := range feeds {
		if err := s.follow(ctx, src, name, f, &out, emit); err != nil {
			return out, err
		}
	}
	var err error
	out.Cursor, err = json.Marshal(c)
	return out, err
}

// feed is a list of a room that grows at its end, read from where it was read to.
type feed struct {
	name string
	last *int64
	of   func(*squareMessage) int64
}

// follow hands over what has come in a feed, and moves its end on.
func (s *squareRoom) follow(ctx context.Context, src connect.SourceConfig, room string, f feed, out *connect.Polled, emit func(connect.Item) error) error {
	for {
		var page []squareMessage
		if err := s.get(ctx, fmt.Sprintf("/rooms/%s/%s?after=%d&limit=%d", url.PathEscape(room), f.name, *f.last, pageSize), &page); err != nil {
			return err
		}
		out.Calls++
		for i := range page {
			p := &page[i]
			*f.last = f.of(p)
			if m := p.message("#" + room); !p.Own && (m.Gone || wanted(src, m)) {
				if err := emit(m.item(src)); err != nil {
					return err
				}
			}
		}
		if len(page) < pageSize {
			return nil
		}
	}
}
