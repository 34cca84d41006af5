// Package inbound takes what comes from the outside without a session: events of hooks, calls of workflows, answers to forms.
package inbound

import (
	"net/http"

	"github.com/go-chi/chi/v5"

	"dorfbote/internal/api/kit"
	"dorfbote/internal/api/workflows"
)

// Inbound is where the outside comes in.
type Inbound struct {
	*kit.Kit
	Workflows *workflows.Workflows

	formRate *formLimit
}

// New takes in what comes.
func New(k *kit.Kit, w *workflows.Workflows) *Inbound {
	return &Inbound{Kit: k, Workflows: w, formRate: newFormLimit()}
}

// Doors registers where the outside comes in.
func (in *Inbound) Doors(r chi.Router) {
	r.Post("/in/{connection}", in.takeIn)
	r.Post("/in/{connection}/{kind}", in.takeIn)
	r.Post("/call/{id}", in.takeCall)
	r.Get("/call/{id}/{arrival}", in.showReply)
	r.Post("/reports/{connection}/{key}", in.takeReport)
	r.Get("/feed/{connection}/{key}/{file}", in.showFeed)
	r.Group(func(r chi.Router) {
		r.Use(http.NewCrossOriginProtection().Handler, in.NotesCaller, in.Sessions.LoadAndSave)
		r.Get("/act/{token}", in.showButton)
		r.Head("/act/{token}", in.showButton)
		r.Post("/act/{token}", in.pressButton)
		r.Get("/why/{token}", in.showWhy)
		r.Head("/why/{token}", in.showWhy)
		r.Post("/why/{token}", in.sayWorth)
	})
	r.Get("/picture/{token}", in.showPicture)
	r.Get("/shared/{token}", in.showShared)
	r.Head("/shared/{token}", in.showShared)
	r.Get("/form/{connection}", in.showForm)
	r.Post("/form/{connection}", in.takeForm)
	r.Get("/form/{connection}/mend/{token}", in.showForm)
	r.Post("/form/{connection}/mend/{token}", in.takeForm)
}
