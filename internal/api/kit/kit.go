// Package kit is what all rooms of the API have in common: how an operation is registered with who may call it and what it
// changes, problems (RFC 9457), lists, who is signed in, where a request comes from, and the audit log.
package kit

import (
	"log/slog"

	"github.com/alexedwards/scs/v2"
	"github.com/danielgtaylor/huma/v2"

	"dorfbote/internal/api/hooks"
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
