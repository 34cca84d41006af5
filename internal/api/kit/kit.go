// Package kit is what all rooms of the API have in common: how an operation is registered with who may call it and what it
// changes, problems (RFC 9457), lists, who is signed in, where a request comes from, and the audit log.
package kit

import (
	"context"
	"log/slog"

	"github.com/alexedwards/scs/v2"
	"github.com/danielgtaylor/huma/v2"

	"dorfbote/internal/api/hooks"
	"dorfbote/internal/connect/hook"
	"dorfbote/internal/engine"
	"dorfbote/internal/engine/intake"
	"dorfbote/internal/notify"
	"dorfbote/internal/observe"
	"dorfbote/internal/store"
)

// Kit is shared by all rooms of one server.
type Kit struct {
	Engine   *engine.Engine
	Store    *store.Store
	Intake   *intake.Intake
	Hub      *notify.Hub
	Log      *slog.Logger
	Meters   *observe.Meters
	API      huma.API
	Sessions *scs.SessionManager
	Requests *hooks.Log
	Hooks    *hooks.Known
	// PublicURL is how the outside reaches this server; "" takes it from each request.
	PublicURL string
	// Practice is true where the practice apps are there.
	Practice bool
	// Proxies are the reverse proxies whose word is taken for where a request comes from; nil takes nobody's.
	Proxies *Proxies

	Summaries map[string]string          // of operations that change something, for the audit log
	Changing  map[string]store.Auditable // what each of them changes
	Needs     map[string]Need            // who may call each operation
	Making    map[string]bool            // those that make something new, which is nobody's yet
}

// TakeRefused takes in what a hook could not read, after its reading has been changed; of any other connection there is nothing. What
// goes wrong leaves it refused, and does not undo the change.
func (k *Kit) TakeRefused(ctx context.Context, connection string) {
	k.Requests.WaitWritten()
	n, err := k.Hooks.Mended(ctx, connection, func(ctx context.Context, events []hook.Event) error {
		receipts, err := k.Intake.Take(ctx, events)
		if err == nil {
			k.Meters.Arrived(len(receipts), 0)
		}
		return err
	})
	if err != nil {
		k.Log.Warn("taking in what was refused failed", "connection", connection, "error", err)
	} else if n > 0 {
		k.Log.Info("what was refused is taken in, now that it can be read", "connection", connection, "events", n)
	}
}
