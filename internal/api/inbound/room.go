// Package inbound takes what comes from the outside without a session: events of hooks, calls of workflows, reports of
// delivery; and hands out feeds.
package inbound

import (
	"github.com/go-chi/chi/v5"

	"dorfbote/internal/api/kit"
	"dorfbote/internal/api/workflows"
)

// Inbound is where the outside comes in.
type Inbound struct {
	*kit.Kit
	Workflows *workflows.Workflows

	waiting waiting
}

// Doors registers where the outside comes in.
func (in *Inbound) Doors(r chi.Router) {
	in.Hub.Heed(in.waiting.heed)
	r.Post("/in/{connection}", in.takeIn)
	r.Post("/in/{connection}/{kind}", in.takeIn)
	r.Post("/call/{id}", in.takeCall)
	r.Get("/call/{id}/{arrival}", in.showReply)
	r.Post("/reports/{connection}/{key}", in.takeReport)
	r.Get("/feed/{connection}/{key}/{file}", in.showFeed)
}
