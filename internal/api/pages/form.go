package pages

import (
	"crypto/rand"
	"encoding/base64"
	"encoding/hex"
	"html/template"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"github.com/go-chi/chi/v5"

	"dorfbote/internal/api/workflows"
	"dorfbote/internal/connect"
	"dorfbote/internal/connect/form"
	"dorfbote/internal/connect/hook"
	"dorfbote/internal/connect/kinds"
	"dorfbote/internal/core/arrival"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
	"dorfbote/internal/store"
)

// formPage is what a hosted form's page shows. It works without script.
type formPage struct {
	Title, Intro, Thanks string
	Questions            []formQuestion
	Closed, Done, Mends  bool
	Problem              string
	Link                 string // where the answers can be mended
	Action               string
	Nonce                string
}

type formQuestion struct {
	sheet.Question
	Value  string
	Values map[string]bool
	Wrong  string
}

// Input is the kind of an input field.
func (q formQuestion) Input() string {
	switch q.Type {
	case value.Num:
		return "text"
	case value.Date:
		return "date"
	case value.Moment:
		return "datetime-local"
	case value.Link:
		return "url"
	case "email":
		return "email"
	}
	return "text"
}

var formTemplate = template.Must(template.New("form").Parse(`<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width,initial-scale=1"><title>{{.Title}}</title>
<style nonce="{{.Nonce}}">
` + pageStyle + `
</style></head><body><main>
<h1>{{.Title}}</h1>
{{if .Done}}<p class="note">{{if .Thanks}}{{.Thanks}}{{else if .Mends}}Your answers have been changed.{{else}}Thank you. Your answers have been taken pg.{{end}}</p>
{{if .Link}}<p>You can change your answers later on <a href="{{.Link}}">this page</a>. Keep its address; whoever has it can change them.</p>{{end}}
{{else if .Closed}}<p class="note">This form is closed.</p>
{{else}}
{{if .Intro}}<p class="intro">{{.Intro}}</p>{{end}}
{{if .Problem}}<p class="note bad" role="alert">{{.Problem}}</p>{{end}}
<form method="post" action="{{.Action}}" novalidate>
<p class="trap" aria-hidden="true"><label>Leave this empty <input type="text" name="web_site" tabindex="-1" autocomplete="off"></label></p>
{{range .Questions}}{{$q := .}}<div class="q">
{{if or (eq .Type "choices") (eq .Type "choice")}}<fieldset{{if .Wrong}} aria-describedby="w-{{.Name}}"{{end}}><legend>{{.Label}}{{if .Required}} <span class="req">(required)</span>{{end}}</legend>
{{if .Help}}<p class="help">{{.Help}}</p>{{end}}
{{range .Options}}<label class="opt"><input type="{{if eq $q.Type "choices"}}checkbox{{else}}radio{{end}}" name="{{$q.Name}}" value="{{.}}"{{if index $q.Values .}} checked{{end}}>{{.}}</label>{{end}}</fieldset>
{{else if eq .Type "yes/no"}}<label class="opt"><input type="checkbox" name="{{.Name}}" value="yes"{{if .Value}} checked{{end}}>{{.Label}}{{if .Required}} <span class="req">(required)</span>{{end}}</label>{{if .Help}}<p class="help">{{.Help}}</p>{{end}}
{{else}}<label for="q-{{.Name}}">{{.Label}}{{if .Required}} <span class="req">(required)</span>{{end}}</label>{{if .Help}}<p class="help" id="h-{{.Name}}">{{.Help}}</p>{{end}}
{{if eq .Type "long text"}}<textarea id="q-{{.Name}}" name="{{.Name}}" rows="5"{{if .Wrong}} aria-invalid="true" aria-describedby="w-{{.Name}}"{{end}}>{{.Value}}</textarea>
{{else}}<input id="q-{{.Name}}" type="{{.Input}}" name="{{.Name}}" value="{{.Value}}"{{if eq .Type "number"}} inputmode="decimal"{{else if eq .Type "whole number"}} inputmode="numeric"{{end}}{{if .Wrong}} aria-invalid="true" aria-describedby="w-{{.Name}}"{{end}}>{{end}}{{end}}
{{if .Wrong}}<p class="wrong" id="w-{{.Name}}">{{.Wrong}}</p>{{end}}
</div>{{end}}
<button type="submit">{{if .Mends}}Change the answers{{else}}Send{{end}}</button>
</form>{{end}}
</main></body></html>
`))

// formOf finds a form and its questions.
func (pg *Pages) formOf(w http.ResponseWriter, r *http.Request) (*store.Connection, *store.Source, []sheet.Question, bool) {
	id := chi.URLParam(r, "connection")
	c, err := pg.Store.ConnectionOf(r.Context(), id, kinds.Behind(connect.DoorForm)...)
	if err != nil {
		http.Error(w, "This form cannot be shown at the moment.", http.StatusServiceUnavailable)
		return nil, nil, nil, false
	}
	k, err := pg.Store.SourceNamed(r.Context(), id+"/answers")
	if err != nil {
		http.Error(w, "This form cannot be shown at the moment.", http.StatusServiceUnavailable)
		return nil, nil, nil, false
	}
	if c == nil || k == nil {
		http.Error(w, "There is no form here.", http.StatusNotFound)
		return nil, nil, nil, false
	}
	questions, err := form.Read(k.Settings["fields"])
	if err != nil {
		http.Error(w, "This form cannot be shown.", http.StatusInternalServerError)
		return nil, nil, nil, false
	}
	return c, k, questions, true
}

func (pg *Pages) page(w http.ResponseWriter, status int, p formPage) {
	p.Nonce = pageHead(w, status)
	if err := formTemplate.Execute(w, p); err != nil {
		pg.Log.Warn("writing a form's page failed", "error", err)
	}
}

func pageOf(k *store.Source, c *store.Connection, r *http.Request) formPage {
	p := formPage{Title: k.Settings["title"], Intro: k.Settings["intro"], Thanks: k.Settings["thanks"], Closed: k.Settings["closed"] == "yes" || c.Paused, Action: r.URL.Path}
	p.Mends = chi.URLParam(r, "token") != ""
	return p
}

// answered finds the answers that a link is for.
func (pg *Pages) answered(r *http.Request, source string) (key string, record map[string]any) {
	token := chi.URLParam(r, "token")
	if token == "" {
		return "", nil
	}
	key, err := pg.Store.FormLink(r.Context(), workflows.TokenHash(token), source)
	if err != nil || key == "" {
		return "", nil
	}
	rows, err := pg.Store.RecordsOf(r.Context(), source, []string{key})
	if err != nil {
		return "", nil
	}
	return key, rows[key]
}

func (pg *Pages) showForm(w http.ResponseWriter, r *http.Request) {
	c, k, questions, ok := pg.formOf(w, r)
	if !ok {
		return
	}
	p := pageOf(k, c, r)
	var record map[string]any
	if p.Mends {
		if _, record = pg.answered(r, k.Name); record == nil {
			http.Error(w, "There are no answers here.", http.StatusNotFound)
			return
		}
	}
	for _, q := range questions {
		p.Questions = append(p.Questions, pg.asked(q, record[q.Name]))
	}
	pg.page(w, http.StatusOK, p)
}

func (pg *Pages) asked(q sheet.Question, v any) formQuestion {
	out := formQuestion{Question: q, Values: map[string]bool{}}
	switch x := v.(type) {
	case string:
		out.Value, out.Values[x] = x, true
		if at, _, ok := value.ReadMoment(x, pg.Engine.Workspace.Location()); ok && q.Type == value.Moment {
			out.Value = at.In(pg.Engine.Workspace.Location()).Format("2006-01-02T15:04")
		}
	case float64:
		out.Value = value.NumberText(x)
	case bool:
		if x {
			out.Value = "yes"
		}
	case []any:
		for _, e := range x {
			if t, ok := e.(string); ok {
				out.Values[t] = true
			}
		}
	}
	return out
}

func (pg *Pages) takeForm(w http.ResponseWriter, r *http.Request) {
	c, k, questions, ok := pg.formOf(w, r)
	if !ok {
		return
	}
	p := pageOf(k, c, r)
	r.Body = http.MaxBytesReader(w, r.Body, 1<<20)
	if err := r.ParseForm(); err != nil {
		http.Error(w, "The answers could not be read.", http.StatusBadRequest)
		return
	}
	if p.Closed {
		pg.page(w, http.StatusForbidden, p)
		return
	}
	key, before := pg.answered(r, k.Name)
	if p.Mends && before == nil {
		http.Error(w, "There are no answers here.", http.StatusNotFound)
		return
	}
	record, wrong := form.Answers(questions, r.PostForm, pg.Engine.Workspace.Location())
	switch limit, _ := strconv.Atoi(k.Settings["limit"]); {
	case r.PostForm.Get("web_site") != "": // filled in by a machine, which is told that all is well
		p.Done = true
		pg.page(w, http.StatusOK, p)
		return
	case len(wrong) > 0:
		p.Problem = "Some answers are missing or cannot be read."
		pg.again(w, http.StatusUnprocessableEntity, p, questions, r.PostForm, wrong)
		return
	case !pg.formRate.allow(c.ID, pg.Proxies.From(r), limit):
		w.Header().Set("Retry-After", "600")
		p.Problem = "Too many answers have come from here within an hour. Please try again later."
		pg.again(w, http.StatusTooManyRequests, p, questions, r.PostForm, nil)
		return
	}
	token, err := pg.keepAnswers(r, k, key, before, record)
	if err != nil {
		w.Header().Set("Retry-After", "2")
		p.Problem = "The answers could not be stored at the moment. Please send them again."
		pg.again(w, http.StatusServiceUnavailable, p, questions, r.PostForm, nil)
		return
	}
	if p.Done = true; token != "" {
		p.Link = "/form/" + c.ID + "/mend/" + token
	}
	pg.page(w, http.StatusOK, p)
}

// again shows the page with what was sent, and what is wrong with it.
func (pg *Pages) again(w http.ResponseWriter, status int, p formPage, questions []sheet.Question, sent url.Values, wrong map[string]string) {
	for _, q := range questions {
		f := formQuestion{Question: q, Value: sent.Get(q.Name), Wrong: wrong[q.Name], Values: map[string]bool{}}
		for _, v := range sent[q.Name] {
			f.Values[v] = true
		}
		p.Questions = append(p.Questions, f)
	}
	pg.page(w, status, p)
}

// keepAnswers takes answers in as a record, and gives new ones a link of their own.
func (pg *Pages) keepAnswers(r *http.Request, k *store.Source, key string, before, record map[string]any) (token string, err error) {
	now := pg.Engine.Now().UTC()
	a := &arrival.Arrival{Source: k.Name, Type: arrival.Updated, Time: now, Subject: key, Record: record, Before: before}
	if key == "" {
		raw := make([]byte, 6)
		_, _ = rand.Read(raw)
		a.Type, a.Subject = arrival.Created, hex.EncodeToString(raw)
		link := make([]byte, 18)
		_, _ = rand.Read(link)
		token = base64.RawURLEncoding.EncodeToString(link)
	}
	record["id"], record["answered"] = a.Subject, now.Format(time.RFC3339)
	if before != nil {
		record["answered"], record["changed"] = before["answered"], now.Format(time.RFC3339)
	}
	if token != "" {
		if err := pg.Store.AddFormLink(r.Context(), workflows.TokenHash(token), k.Name, a.Subject); err != nil {
			return "", err
		}
	}
	_, err = pg.Intake.Take(r.Context(), []hook.Event{{Arrival: a}})
	return token, err
}
