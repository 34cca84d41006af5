package pages

import (
	"errors"
	"html/template"
	"net/http"

	"github.com/go-chi/chi/v5"
	"gorm.io/gorm"

	"dorfbote/internal/core/message"
	"dorfbote/internal/engine/links"
)

// sharedPage shows some fields of a record to people without an account.
type sharedPage struct {
	Title, Said, Nonce string
	Fields             []message.SharedField
}

var sharedTemplate = template.Must(template.New("shared").Parse(`<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width,initial-scale=1"><meta name="robots" content="noindex"><title>{{.Title}}</title>
<style nonce="{{.Nonce}}">
` + pageStyle + `
dl{display:grid;grid-template-columns:minmax(8rem,max-content) 1fr;gap:0;margin:1rem 0} dt,dd{padding:.45rem 0;border-top:1px solid #ddd3bd;margin:0} dt{color:#5a5445;padding-right:1.2rem} dd{white-space:pre-line;overflow-wrap:anywhere}
</style></head><body><main>
<h1>{{.Title}}</h1>
{{if .Said}}<p class="note bad" role="status">{{.Said}}</p>{{end}}
{{if .Fields}}<dl>{{range .Fields}}<dt>{{.Label}}</dt><dd>{{if .Value}}{{.Value}}{{else}}–{{end}}</dd>{{end}}</dl>{{end}}
</main></body></html>
`))

// showShared shows a shared page. Who has the link sees the chosen fields, and nothing else.
func (pg *Pages) showShared(w http.ResponseWriter, r *http.Request) {
	status, page := pg.sharedOf(r)
	page.Nonce = pageHead(w, status)
	if err := sharedTemplate.Execute(w, page); err != nil {
		pg.Log.Warn("writing a shared page failed", "error", err)
	}
}

func (pg *Pages) sharedOf(r *http.Request) (int, sharedPage) {
	nothing := sharedPage{Title: "Nothing is shown here"}
	link, err := pg.Engine.Links.Read(r.Context(), links.Shared, chi.URLParam(r, "token"))
	if err != nil {
		status, words := pg.badLink(err, "This page has ended.")
		nothing.Said = words
		return status, nothing
	}
	sh, fields, gone, err := pg.Store.ShareOf(r.Context(), link.ID, link.N)
	switch {
	case errors.Is(err, gorm.ErrRecordNotFound), err == nil && gone:
		nothing.Said = "This page has ended."
		return http.StatusGone, nothing
	case err != nil:
		nothing.Said = notNow
		return http.StatusServiceUnavailable, nothing
	}
	if r.Method == http.MethodGet {
		if err := pg.Store.Opened(r.Context(), link.ID, link.N); err != nil {
			pg.Log.Warn("counting who opens a page failed", "error", err)
		}
	}
	page := sharedPage{Title: sh.Text, Fields: fields} // no title of the message, which may say more than was chosen to be shown
	if page.Title == "" {
		page.Title = "Shared with you"
	}
	return http.StatusOK, page
}
