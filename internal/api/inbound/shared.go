package inbound

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
func (in *Inbound) showShared(w http.ResponseWriter, r *http.Request) {
	status, page := in.sharedOf(r)
	page.Nonce = pageHead(w, status)
	if err := sharedTemplate.Execute(w, page); err != nil {
		in.Log.Warn("writing a shared page failed", "error", err)
	}
}

func (in *Inbound) sharedOf(r *http.Request) (int, sharedPage) {
	nothing := sharedPage{Title: "Nothing is shown here"}
	link, err := in.Engine.Links.Read(r.Context(), chi.URLParam(r, "token"))
	switch {
	case errors.Is(err, links.ErrExpired):
		nothing.Said = "This page has ended."
		return http.StatusGone, nothing
	case err != nil && !errors.Is(err, links.ErrForged):
		nothing.Said = "This page cannot be shown at the moment. Please try again."
		return http.StatusServiceUnavailable, nothing
	case err != nil || link.For != links.Shared:
		nothing.Said = "This link is not one of ours, or has been altered."
		return http.StatusNotFound, nothing
	}
	sh, fields, gone, err := in.Store.ShareOf(r.Context(), link.ID, link.N)
	switch {
	case errors.Is(err, gorm.ErrRecordNotFound), err == nil && gone:
		nothing.Said = "This page has ended."
		return http.StatusGone, nothing
	case err != nil:
		nothing.Said = "This page cannot be shown at the moment. Please try again."
		return http.StatusServiceUnavailable, nothing
	}
	if r.Method == http.MethodGet {
		if err := in.Store.Opened(r.Context(), link.ID, link.N); err != nil {
			in.Log.Warn("counting who opens a page failed", "error", err)
		}
	}
	page := sharedPage{Title: sh.Title, Fields: fields}
	if page.Title == "" {
		page.Title = sh.Text
	}
	return http.StatusOK, page
}
