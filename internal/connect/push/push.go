// Package push tells whoever reads a feed: what is told is there to be read as Atom and as iCalendar, by a secret address.
package push

import (
	"context"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/message"
)

// Kind describes feeds of what was told.
func Kind() *connect.Kind {
	return &connect.Kind{
		Name: "push", Title: "Push feed", Does: "Has what is told read as an Atom feed and an iCalendar, by a secret address: nothing is installed on the other side",
		Door: connect.DoorFeed, Keyed: true,
		Sends: &connect.Sends{Can: []connect.Ability{connect.CanEdit, connect.CanSender, connect.CanMention}, Dialect: message.Mail},
		Open:  func(c connect.Config) (connect.Conn, error) { return &feed{c}, nil },
	}
}

type feed struct{ config connect.Config }

// Close ends nothing.
func (f *feed) Close() error { return nil }

// Browse lists nothing.
func (f *feed) Browse(context.Context) ([]connect.Choice, error) { return nil, nil }

// Prove says that there is nothing to call.
func (f *feed) Prove(context.Context) []connect.ProofStep {
	return []connect.ProofStep{connect.Passed("making the address", "what is told can be read there at once")}
}

// Send has a post be read in the feed of its place: the outbox keeps it, and the feed is made of what is sent there.
func (f *feed) Send(_ context.Context, p connect.Post) connect.Delivery {
	return connect.Delivery{Taken: true, ID: p.Key, Address: "the feed " + p.Place, Sent: message.Render(p.Doc, message.Mail).Text, Answer: "it can be read in the feed"}
}

// Edit has the feed show the newer post in the place of the earlier one.
func (f *feed) Edit(ctx context.Context, _ string, p connect.Post) connect.Delivery {
	return f.Send(ctx, p)
}

// Draft gives what the feed would show.
func (f *feed) Draft(_ context.Context, p connect.Post) (call, sent string, err error) {
	return "an entry of the feed " + p.Place, message.Render(p.Doc, message.Mail).Text, nil
}
