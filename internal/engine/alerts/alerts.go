// Package alerts is what people do with what they were told: they take it, press its buttons, answer its questions, reply to it.
// Each is done once, whoever comes second is told who was faster; and each is written down beside the run, and in the audit log.
package alerts

import (
	"context"
	"errors"
	"strconv"
	"time"

	"gorm.io/gorm"

	"dorfbote/internal/core/message"
	"dorfbote/internal/core/value"
	"dorfbote/internal/engine/decider"
	"dorfbote/internal/engine/follow"
	"dorfbote/internal/engine/host"
	"dorfbote/internal/engine/links"
	"dorfbote/internal/engine/outbox"
	"dorfbote/internal/engine/sources"
	"dorfbote/internal/store"
)

// ClaimedMessage is the name of the message that tells a thread who took an alert, which no sheet writes.
const ClaimedMessage = "claimed"

// Alerts takes what people do. It is safe for use by many goroutines.
type Alerts struct {
	*host.Host
	Sources *sources.Sources
	Decider *decider.Decider
	Outbox  *outbox.Outbox
	Follow  *follow.Follow
	Links   *links.Links
}

// Who does something: somebody who is signed in, somebody whom another side's program names, or whoever has a link.
type Who struct {
	Account *store.Person // who is signed in; nil for nobody
	Native  string        // as the other side calls them
}

// Refused is why something was not done, in words for who tried.
type Refused struct {
	Words string
	// SignIn is true where signing in could help: the link leads to a room, and the button is for some people only.
	SignIn bool
	// Of is what is wrong with the link, [links.ErrForged] or [links.ErrExpired]; nil where it is in order.
	Of error
}

func (r *Refused) Error() string { return r.Words }

// Done says what came of a button.
type Done struct {
	Words string // who did it, and what came of it
	Again bool   // it had been done before, and nothing has changed
	All   bool   // no other button of the post can be pressed any more
}

// Pressable is a post with its buttons, as a page shows them.
type Pressable struct {
	Post *store.Post
	Doc  *message.Document
	// N is which of the buttons is meant; [links.AllButtons] is any.
	N    int
	Link links.Link
	// Pressed is who pressed the button before, by its number.
	Pressed map[int]*store.Deed
	// Over says why none can be pressed any more, "" where they can.
	Over string
}

// Open reads the post that a link leads to.
func (al *Alerts) Open(ctx context.Context, token string) (*Pressable, error) {
	link, err := al.Links.Read(ctx, links.Button, token)
	if errors.Is(err, links.ErrForged) || errors.Is(err, links.ErrExpired) {
		return nil, &Refused{Words: err.Error(), Of: err}
	}
	if err != nil {
		return nil, err
	}
	p, err := al.Store.Post(ctx, link.ID)
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return nil, &Refused{Words: "what this link belongs to is not kept any more"}
	}
	if err != nil {
		return nil, err
	}
	doc, err := message.Stored(p.Body)
	if err != nil {
		return nil, err
	}
	if link.N < links.AllButtons || link.N >= len(doc.Buttons) {
		return nil, &Refused{Words: links.ErrForged.Error(), Of: links.ErrForged}
	}
	if p.LinksEnded != nil {
		return nil, &Refused{Words: "the links of this message have been ended", Of: links.ErrExpired}
	}
	out := &Pressable{Post: p, Doc: doc, N: link.N, Link: link, Pressed: map[int]*store.Deed{}}
	for i, b := range doc.Buttons {
		if link.N != links.AllButtons && link.N != i {
			continue
		}
		if out.Pressed[i], err = al.Store.PressedOn(ctx, p.ID, pressName(i, b)); err != nil {
			return nil, err
		}
		if out.Over != "" {
			continue
		}
		switch b.Does {
		case message.DoesClaim:
			a, err := al.Store.AlertOf(ctx, p.Arrival, p.Workflow)
			if err != nil {
				return nil, err
			}
			if a.ClaimedBy != "" && link.N == i {
				out.Over = a.ClaimedBy + " looks after it" + since(a.ClaimedAt, al.Workspace)
			}
		case decider.DoesAnswer:
			asks, err := al.Store.Asks(ctx, store.AskFilter{Arrival: p.Arrival, Workflow: p.Workflow, Limit: 20})
			if err != nil {
				return nil, err
			}
			for i := range asks {
				if asks[i].Name == b.Ask && asks[i].State != store.AskOpen {
					out.Over = asks[i].Ended()
				}
			}
		}
	}
	return out, nil
}

func since(at *time.Time, ws value.Workspace) string {
	if at == nil {
		return ""
	}
	return ", since " + at.In(ws.Location()).Format("2 Jan 15:04")
}

func pressName(n int, b message.Button) string { return strconv.Itoa(n) + " " + b.Text }
