package pages

import (
	"mime"
	"net/http"
	"strings"

	"github.com/go-chi/chi/v5"

	"dorfbote/internal/core/message"
	"dorfbote/internal/engine/links"
	"dorfbote/internal/engine/outbox"
	"dorfbote/internal/store"
)

// postOf finds the post that a link for what it carries is about. Where there is none it has answered.
func (pg *Pages) postOf(w http.ResponseWriter, r *http.Request, purpose, ended string) (link links.Link, p *store.Post, doc *message.Document) {
	token := strings.TrimSuffix(strings.TrimSuffix(chi.URLParam(r, "token"), ".png"), ".jpg")
	link, err := pg.Engine.Links.Read(r.Context(), purpose, token)
	if err != nil {
		status, words := pg.badLink(err, ended)
		http.Error(w, words, status)
		return link, nil, nil
	}
	if p, err = pg.Store.Post(r.Context(), link.ID); err == nil {
		doc, err = message.Stored(p.Body)
	}
	if err != nil {
		http.NotFound(w, r)
		return link, nil, nil
	}
	if over, err := pg.Store.LinksEnded(r.Context(), p); err != nil || over {
		if err != nil {
			http.Error(w, notNow, http.StatusServiceUnavailable)
		} else {
			http.Error(w, ended, http.StatusGone)
		}
		return link, nil, nil
	}
	h := w.Header()
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("X-Robots-Tag", "noindex, nofollow, noarchive")
	h.Set("Referrer-Policy", "no-referrer")
	h.Set("Cache-Control", "private, max-age=3600")
	return link, p, doc
}

// showPicture shows what was made for a post, to whoever has its link.
func (pg *Pages) showPicture(w http.ResponseWriter, r *http.Request) {
	_, p, doc := pg.postOf(w, r, links.Picture, "This picture is not shown any more.")
	if p == nil {
		return
	}
	if doc.Picture == nil || !outbox.Makes(doc.Picture) {
		http.NotFound(w, r)
		return
	}
	pic, err := pg.Engine.Outbox.Shown(r.Context(), p, doc.Picture, r.URL.Query().Get("on") == "dark")
	if err != nil {
		pg.Log.Warn("making a picture failed", "post", p.ID, "error", err)
		http.Error(w, "This picture cannot be shown at the moment.", http.StatusBadGateway)
		return
	}
	w.Header().Set("Content-Type", pic.Media)
	_, _ = w.Write(pic.Data) //nolint:gosec // a picture that was written anew, with its type and nosniff
}

// showFile hands out a file that goes with a post, to whoever has its link; it is only ever saved, never shown as a page of ours.
func (pg *Pages) showFile(w http.ResponseWriter, r *http.Request) {
	link, p, doc := pg.postOf(w, r, links.File, "This file is not handed out any more.")
	if p == nil {
		return
	}
	if link.N < 0 || link.N >= len(doc.Attach) {
		http.NotFound(w, r)
		return
	}
	f, err := pg.Engine.Outbox.File(r.Context(), p, doc.Attach[link.N])
	if err != nil {
		pg.Log.Warn("fetching a file failed", "post", p.ID, "error", err)
		http.Error(w, "This file cannot be had at the moment: it may be gone from where it came from.", http.StatusBadGateway)
		return
	}
	h := w.Header()
	h.Set("Content-Type", f.Media)
	h.Set("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": f.Name}))
	h.Set("Content-Security-Policy", "sandbox; default-src 'none'")
	_, _ = w.Write(f.Data)
}
