package pages

import (
	"encoding/json"
	"errors"
	"html/template"
	"io"
	"mime"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"github.com/go-chi/chi/v5"

	"dorfbote/internal/core/message"
	"dorfbote/internal/core/value"
	"dorfbote/internal/engine/alerts"
	"dorfbote/internal/engine/decider"
	"dorfbote/internal/engine/links"
	"dorfbote/internal/store"
)

// actPage is the page of a message's buttons. To look at it changes nothing, so that programs which follow links answer nothing.
type actPage struct {
	Title, Text, Said string
	Bad               bool
	Facts             []message.Fact
	Buttons           []actButton
	Comment           string // none, optional or required: of the question's choices
	Typed             string
	SignIn            string
	Action, Nonce     string
	Proof             string // that the page was opened by its link
}

type actButton struct {
	N       int
	Text    string
	Pressed string // who did, and when
}

var actTemplate = template.Must(template.New("act").Parse(`<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width,initial-scale=1"><meta name="robots" content="noindex"><title>{{.Title}}</title>
<style nonce="{{.Nonce}}">
` + pageStyle + `
.text{white-space:pre-line} dl{display:grid;grid-template-columns:max-content 1fr;gap:.2rem 1.2rem;margin:1rem 0} dt{color:#5a5445} dd{margin:0;font-variant-numeric:tabular-nums}
.choices{display:flex;flex-wrap:wrap;gap:.8rem}
</style></head><body><main>
<h1>{{.Title}}</h1>
{{if .Text}}<p class="text">{{.Text}}</p>{{end}}
{{if .Facts}}<dl>{{range .Facts}}<dt>{{.Label}}</dt><dd>{{.Value}}</dd>{{end}}</dl>{{end}}
{{if .Said}}<p class="note{{if .Bad}} bad{{end}}" role="status">{{.Said}}</p>{{end}}
{{if .SignIn}}<p><a href="{{.SignIn}}">Sign in</a></p>{{end}}
{{if .Buttons}}<form method="post" action="{{.Action}}"><input type="hidden" name="proof" value="{{.Proof}}">
{{if and .Comment (ne .Comment "none")}}<label for="comment">Comment{{if eq .Comment "required"}} <span class="req">(required)</span>{{end}}</label>
<textarea id="comment" name="comment" rows="3" maxlength="2000">{{.Typed}}</textarea>{{end}}
<div class="choices">{{range .Buttons}}{{if .Pressed}}<p>{{.Text}}: {{.Pressed}}</p>{{else}}<button type="submit" name="button" value="{{.N}}">{{.Text}}</button>{{end}}{{end}}</div>
</form>{{end}}
</main></body></html>
`))

// maxComment is how long a comment may be, in characters.
const maxComment = 2000

func (pg *Pages) actPage(w http.ResponseWriter, status int, p actPage) {
	p.Nonce = pageHead(w, status)
	if err := actTemplate.Execute(w, p); err != nil {
		pg.Log.Warn("writing a page of buttons failed", "error", err)
	}
}

// showButton shows what a button does. It changes nothing.
func (pg *Pages) showButton(w http.ResponseWriter, r *http.Request) {
	p, err := pg.Engine.Alerts.Open(r.Context(), chi.URLParam(r, "token"))
	if err != nil {
		pg.notPressed(w, r, actPage{Title: "This cannot be pressed"}, err)
		return
	}
	pg.actPage(w, http.StatusOK, pg.pageOfButtons(r, p, true))
}

// pageOfButtons makes the page of a post's buttons.
func (pg *Pages) pageOfButtons(r *http.Request, p *alerts.Pressable, open bool) actPage {
	out := actPage{Title: p.Doc.Title, Text: p.Doc.Plain(), Facts: p.Doc.Facts, Action: r.URL.Path}
	var err error
	if out.Proof, err = pg.proofOf(r); err != nil {
		pg.Log.Warn("a page of buttons cannot say that it was opened", "error", err)
	}
	if out.Title == "" {
		out.Title = "A message for you"
	}
	if !open {
		return out
	}
	if p.Over != "" {
		out.Said = value.Capital(p.Over) + ". Nothing more can be done here."
		return out
	}
	for i, b := range p.Doc.Buttons {
		if p.N != links.AllButtons && p.N != i {
			continue
		}
		one := actButton{N: i, Text: b.Text}
		if by := p.Pressed[i]; by != nil {
			one.Pressed = by.By + ", " + by.At.In(pg.Engine.Workspace.Location()).Format("2 Jan 15:04")
		}
		out.Buttons = append(out.Buttons, one)
		if b.Does == decider.DoesAnswer && (out.Comment == "" || b.Comment == "required") {
			out.Comment = b.Comment
		}
	}
	return out
}

// pressButton presses a button: by the page's form, or, of another side's own buttons, by JSON.
func (pg *Pages) pressButton(w http.ResponseWriter, r *http.Request) {
	r.Body = http.MaxBytesReader(w, r.Body, 64<<10)
	var by, comment string
	n, asJSON := links.AllButtons, false
	if media, _, _ := mime.ParseMediaType(r.Header.Get("Content-Type")); media == "application/json" {
		asJSON = true
		raw, err := io.ReadAll(r.Body)
		var body struct {
			By      string `json:"by"`
			Comment string `json:"comment"`
			Button  *int   `json:"button"`
		}
		if err == nil && len(raw) > 0 {
			err = json.Unmarshal(raw, &body)
		}
		if err != nil {
			http.Error(w, "the body is not JSON that can be read", http.StatusBadRequest)
			return
		}
		if by, comment = body.By, body.Comment; body.Button != nil {
			n = *body.Button
		}
	} else {
		if err := r.ParseForm(); err != nil {
			http.Error(w, "What was sent could not be read.", http.StatusBadRequest)
			return
		}
		comment = r.PostForm.Get("comment")
		if v, err := strconv.Atoi(r.PostForm.Get("button")); err == nil {
			n = v
		}
	}
	if runes := []rune(comment); len(runes) > maxComment {
		comment = string(runes[:maxComment])
	}
	who := alerts.Who{Native: strings.TrimSpace(by)}
	if p := pg.Person(r.Context()); p != nil {
		who.Account = &store.Person{ID: p.ID, Name: p.Name, Email: p.Email}
	}
	token := chi.URLParam(r, "token")
	done, err := pg.Engine.Alerts.Press(r.Context(), token, n, who, comment)
	if asJSON {
		pg.pressedJSON(w, done, err)
		return
	}
	p, openErr := pg.Engine.Alerts.Open(r.Context(), token)
	if openErr != nil {
		pg.notPressed(w, r, actPage{Title: "This cannot be pressed"}, openErr)
		return
	}
	if err != nil {
		page := pg.pageOfButtons(r, p, true)
		page.Typed = comment
		pg.notPressed(w, r, page, err)
		return
	}
	page := pg.pageOfButtons(r, p, false)
	page.Said, page.Bad = done.Words, done.Again
	pg.actPage(w, http.StatusOK, page)
}

func (pg *Pages) pressedJSON(w http.ResponseWriter, done *alerts.Done, err error) {
	out, status := map[string]any{}, http.StatusOK
	why := &alerts.Refused{}
	switch {
	case errors.As(err, &why):
		out["said"], out["done"] = why.Words, false
	case err != nil:
		pg.Log.Warn("pressing a button failed", "error", err)
		out["said"], out["done"], status = "This could not be done at the moment. Please press it again.", false, http.StatusServiceUnavailable
	default:
		out["said"], out["done"], out["all"] = done.Words, true, done.All
	}
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(out)
}

// notPressed says why a button was not pressed.
func (pg *Pages) notPressed(w http.ResponseWriter, r *http.Request, p actPage, err error) {
	why := &alerts.Refused{}
	p.Bad = true
	if !errors.As(err, &why) {
		pg.Log.Warn("pressing a button failed", "error", err)
		w.Header().Set("Retry-After", "2")
		p.Said = "This could not be done at the moment. Please try again."
		pg.actPage(w, http.StatusServiceUnavailable, p)
		return
	}
	p.Said = value.Capital(why.Words)
	if !strings.HasSuffix(p.Said, ".") {
		p.Said += "."
	}
	status := http.StatusForbidden
	if why.Of != nil {
		status, p.Said = pg.badLink(why.Of, "This link has expired.")
	}
	if why.SignIn && pg.Person(r.Context()) == nil {
		p.SignIn = "/press/" + url.PathEscape(chi.URLParam(r, "token"))
	}
	pg.actPage(w, status, p)
}
