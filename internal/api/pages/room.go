// Package pages has the pages that people see without an account: hosted forms, the buttons of a message, why one was told, what
// a message shares. They work without script, and to look at one changes nothing.
package pages

import (
	"crypto/subtle"
	"mime"
	"net/http"

	"github.com/go-chi/chi/v5"

	"dorfbote/internal/api/kit"
)

// Pages shows them.
type Pages struct {
	*kit.Kit

	formRate *formLimit
}

// fromItself refuses a press that another site has a browser make. A page that was opened by its link says so in its form, by a token that
// holds for whoever is signed in there and for this link alone; browsers that tell where a form was filled in are believed as well, and
// programs, which tell nothing, are no browsers.
func (pg *Pages) fromItself(next http.HandlerFunc) http.HandlerFunc {
	guard := http.NewCrossOriginProtection()
	return func(w http.ResponseWriter, r *http.Request) {
		if guard.Check(r) == nil {
			next(w, r)
			return
		}
		r.Body = http.MaxBytesReader(w, r.Body, 64<<10)
		if media, _, _ := mime.ParseMediaType(r.Header.Get("Content-Type")); media == "application/x-www-form-urlencoded" && r.ParseForm() == nil {
			want, err := pg.proofOf(r)
			if err == nil && subtle.ConstantTimeCompare([]byte(want), []byte(r.PostForm.Get(proofField))) == 1 {
				next(w, r)
				return
			}
		}
		http.Error(w, "This was not sent from the page that the link leads to. Open the link, and press there.", http.StatusForbidden)
	}
}

// proofField is the field of a page's form that says that it was opened by its link.
const proofField = "proof"

// proofOf is what it says for whoever asks.
func (pg *Pages) proofOf(r *http.Request) (string, error) {
	account := int64(0)
	if p := pg.Person(r.Context()); p != nil {
		account = p.ID
	}
	return pg.Engine.Links.Proof(r.Context(), chi.URLParam(r, "token"), account)
}

// New makes the room.
func New(k *kit.Kit) *Pages { return &Pages{Kit: k, formRate: newFormLimit()} }

// Doors registers where they are.
func (pg *Pages) Doors(r chi.Router) {
	r.Group(func(r chi.Router) { // those who are signed in are known here
		r.Use(pg.NotesCaller, pg.Sessions.LoadAndSave)
		looks(r, "/act/{token}", pg.showButton)
		r.Post("/act/{token}", pg.fromItself(pg.pressButton))
		looks(r, "/why/{token}", pg.showWhy)
		r.Post("/why/{token}", pg.fromItself(pg.sayWorth))
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
