// Package kinds lists every kind of connection there is. Adding one is a line here and a folder of its own.
package kinds

import (
	"dorfbote/internal/connect"
	"dorfbote/internal/connect/calendar"
	"dorfbote/internal/connect/chat"
	"dorfbote/internal/connect/event"
	"dorfbote/internal/connect/feed"
	"dorfbote/internal/connect/form"
	"dorfbote/internal/connect/hook"
	"dorfbote/internal/connect/mail"
	"dorfbote/internal/connect/push"
	"dorfbote/internal/connect/rest"
	"dorfbote/internal/connect/room"
	"dorfbote/internal/connect/sql"
	"dorfbote/internal/connect/table"
	"dorfbote/internal/connect/webhook"
)

// All lists the kinds in the order in which they are offered.
func All() []*connect.Kind {
	return []*connect.Kind{
		hook.Kind(), rest.Kind(), feed.Kind(), table.Kind(), sql.Kind(), calendar.Kind(), mail.Kind(), room.Kind(), form.Kind(), chat.Kind(), webhook.Kind(), webhook.TextKind(), event.Kind(), push.Kind(),
	}
}

// That gives the names of the kinds of which something is so.
func That(so func(*connect.Kind) bool) []string {
	out := []string{}
	for _, k := range All() {
		if so(k) {
			out = append(out, k.Name)
		}
	}
	return out
}

// Named finds a kind.
func Named(name string) *connect.Kind {
	for _, k := range All() {
		if k.Name == name {
			return k
		}
	}
	return nil
}

// Behind gives the names of the kinds whose calls come in at a door.
func Behind(door string) []string {
	return That(func(k *connect.Kind) bool { return k.Door == door })
}
