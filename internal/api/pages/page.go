package pages

import (
	"crypto/rand"
	"encoding/base64"
	"errors"
	"net/http"

	"dorfbote/internal/engine/links"
)

// pageStyle is how pages look that people see without an account: forms, buttons, questions.
const pageStyle = `body{margin:0;background:#f4efe4;color:#26231d;font:17px/1.5 "Source Sans 3 Variable","Source Sans 3",system-ui,sans-serif}
main{max-width:38rem;margin:2rem auto;padding:1.5rem 2rem 2rem;background:#fdfaf3;border-top:3px solid #26231d;border-bottom:1px solid #c9bfa8}
h1{font-size:1.6rem;margin:0 0 .3rem} .intro{white-space:pre-line;color:#5a5445;margin:0 0 1.2rem}
.q{padding:.9rem 0;border-top:1px solid #ddd3bd} label,legend{font-weight:600;display:block;padding:0} fieldset{border:0;margin:0;padding:0}
.help{color:#5a5445;font-size:.95rem;margin:.1rem 0 .3rem} .wrong{color:#9c2b1b;font-weight:600;margin:.3rem 0 0}
input[type=text],input[type=email],input[type=url],input[type=date],input[type=datetime-local],textarea,select{width:100%;box-sizing:border-box;font:inherit;padding:.45rem .6rem;border:1px solid #8a8069;background:#fff;border-radius:2px;margin-top:.3rem}
:focus-visible{outline:3px solid #2f6b3c;outline-offset:1px} .opt{font-weight:400;margin-top:.3rem} .opt input{margin-right:.5rem}
button{font:inherit;font-weight:600;background:#2f6b3c;color:#fff;border:0;padding:.6rem 1.4rem;margin-top:1rem;border-radius:2px;cursor:pointer}
.req{color:#5a5445;font-weight:400} .trap{position:absolute;left:-9999px} .note{border-left:3px solid #2f6b3c;padding-left:.8rem} .bad{border-left-color:#9c2b1b}`

// pageHead begins the answer with a page that works without script, is kept nowhere and tells nobody where it was left from. It
// gives the nonce of the page's style.
func pageHead(w http.ResponseWriter, status int) (nonce string) {
	raw := make([]byte, 16)
	_, _ = rand.Read(raw)
	nonce = base64.StdEncoding.EncodeToString(raw)
	h := w.Header()
	h.Set("Content-Type", "text/html; charset=utf-8")
	h.Set("Content-Security-Policy", "default-src 'none'; style-src 'nonce-"+nonce+"'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'")
	h.Set("Cache-Control", "no-store")
	h.Set("Referrer-Policy", "no-referrer")
	h.Set("X-Content-Type-Options", "nosniff")
	h.Set("X-Robots-Tag", "noindex, nofollow, noarchive")
	w.WriteHeader(status)
	return nonce
}

// notNow is said where the database does not answer.
const notNow = "This cannot be shown at the moment. Please try again."

// badLink is what is said of a link that is not taken, with its status; ended is said of one whose time is over.
func (pg *Pages) badLink(err error, ended string) (status int, words string) {
	switch {
	case errors.Is(err, links.ErrExpired):
		return http.StatusGone, ended
	case errors.Is(err, links.ErrForged):
		return http.StatusNotFound, "This link is not one of ours, or has been altered."
	}
	pg.Log.Warn("reading a link failed", "error", err)
	return http.StatusServiceUnavailable, notNow
}
