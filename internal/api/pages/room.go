// Package pages has the pages that people see without an account: hosted forms, the buttons of a message, why one was told, what
// a message shares. They work without script, and to look at one changes nothing.
package pages

import (
	"net/http"

	"github.com/go-chi/chi/v5"

	"dorfbote/internal/api/kit"
)

// Pages shows them.
type Pages struct {
	*kit.Kit

	formRate *formLimit
}

// New makes the room.
func New(k *kit.Kit) *Pages { return &Pages{Kit: k, formRate: newFormLimit()} }

// Doors registers where they are.
func (pg *Pages) Doors(r chi.Router) {
	r.Group(func(r chi.Router) { // those who are signed in are known here
		r.Use(http.NewCrossOriginProtection().Handler, pg.NotesCaller, pg.Sessions.LoadAndSave)
		looks(r, "/act/{token}", pg.showButton)
		r.Post("/act/{token}", pg.pressButton)
		looks(r, "/why/{token}", pg.showWhy)
		r.Post("/why/{token}", pg.sayWorth)
	})
	looks(r, "/picture/{token}", pg.showPicture)
	looks(r, "/file/{token}", pg.showFile)
	looks(r, "/shared/{token}", pg.showShared)
	r.Get("/form/{connection}", pg.showForm)
	r.Post("/form/{connection}", pg.takeForm)
	r.Get("/form/{connection}/mend/{token}", pg.showForm)
	r.Post("/form/{connection}/mend/{token}", pg.takeForm)
}

// looks registers what looking at a page shows, with its head alone or whole.
func looks(r chi.Router, path string, show http.HandlerFunc) {
	r.Get(path, show)
	r.Head(path, show)
}
