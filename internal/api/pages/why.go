package pages

import (
	"context"
	"errors"
	"html/template"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/go-chi/chi/v5"
	"gorm.io/gorm"

	"dorfbote/internal/core/cond"
	"dorfbote/internal/core/decide"
	"dorfbote/internal/core/message"
	"dorfbote/internal/engine/links"
	"dorfbote/internal/engine/sources"
	"dorfbote/internal/store"
)

// whyPage says why a post was told, to whoever has its link.
type whyPage struct {
	Title, Said, Nonce, Action string
	Bad                        bool
	Workflow, Told, Where      string
	About, Source              string // the record
	Row                        string
	Keep, Routed               []whyLine
	Owner, Team                string
	Sheet                      string // the way to the workflow, for those who are signed in
	MayVote                    bool
	Proof                      string
}

// whyLine is a condition: what it says, what was seen, and whether it held.
type whyLine struct {
	Text, Seen string
	Held       bool
}

var whyTemplate = template.Must(template.New("why").Parse(`<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width,initial-scale=1"><meta name="robots" content="noindex"><title>{{.Title}}</title>
<style nonce="{{.Nonce}}">
` + pageStyle + `
h2{font-size:1.05rem;margin:1.4rem 0 .2rem} ul{list-style:none;margin:.2rem 0;padding:0} li{padding:.4rem 0;border-top:1px solid #ddd3bd;overflow-wrap:anywhere} li .seen{color:#5a5445;display:block}
.choices{display:flex;flex-wrap:wrap;gap:.8rem} .quiet{background:none;color:#26231d;border:1px solid #26231d}
</style></head><body><main>
<h1>{{.Title}}</h1>
{{if .Said}}<p class="note{{if .Bad}} bad{{end}}" role="status">{{.Said}}</p>{{end}}
{{if .Workflow}}<p>The workflow <b>{{.Workflow}}</b> told <b>{{.Where}}</b>{{if .Told}}, on {{.Told}}{{end}}.</p>
{{if .About}}<p>It was about <b>{{.About}}</b> of {{.Source}}.</p>{{end}}
{{if .Keep}}<h2>It looked at these conditions</h2><ul>{{range .Keep}}<li>{{.Text}}: {{if .Held}}yes{{else}}no{{end}}{{if .Seen}}<span class="seen">It was {{.Seen}}.</span>{{end}}</li>{{end}}</ul>{{end}}
{{if .Row}}<h2>It came here by the row “{{.Row}}”</h2>{{if .Routed}}<ul>{{range .Routed}}<li>{{.Text}}: {{if .Held}}yes{{else}}no{{end}}{{if .Seen}}<span class="seen">It was {{.Seen}}.</span>{{end}}</li>{{end}}</ul>{{end}}{{end}}
<h2>To be told less</h2>
<p>{{if .Owner}}{{.Owner}} looks after this workflow{{if .Team}}, with the team {{.Team}}{{end}}.{{else if .Team}}The team {{.Team}} looks after this workflow.{{else}}Whoever administers Dorfbote looks after this workflow.{{end}} Say here whether the message was useful; it is counted where the workflow is kept, so that what nobody needs is told less.{{if .Sheet}} <a href="{{.Sheet}}">Open the workflow</a>.{{end}}</p>
{{if .MayVote}}<form method="post" action="{{.Action}}"><input type="hidden" name="proof" value="{{.Proof}}"><div class="choices"><button type="submit" name="worth" value="useful">Useful</button><button class="quiet" type="submit" name="worth" value="not for me">Not for me</button></div></form>{{end}}{{end}}
</main></body></html>
`))

func (pg *Pages) whyPage(w http.ResponseWriter, status int, p whyPage) {
	p.Nonce = pageHead(w, status)
	if err := whyTemplate.Execute(w, p); err != nil {
		pg.Log.Warn("writing a page that says why failed", "error", err)
	}
}

// showWhy says why a post was told. To look at it changes nothing.
func (pg *Pages) showWhy(w http.ResponseWriter, r *http.Request) {
	status, page, _ := pg.whyOf(r)
	pg.whyPage(w, status, page)
}

// sayWorth takes whether a post was useful.
func (pg *Pages) sayWorth(w http.ResponseWriter, r *http.Request) {
	r.Body = http.MaxBytesReader(w, r.Body, 4<<10)
	if err := r.ParseForm(); err != nil {
		http.Error(w, "What was sent could not be read.", http.StatusBadRequest)
		return
	}
	status, page, post := pg.whyOf(r)
	if post == nil {
		pg.whyPage(w, status, page)
		return
	}
	what := r.PostForm.Get("worth")
	if what != store.ActUseful && what != store.ActNotForMe {
		page.Said, page.Bad = "Say whether it was useful or not for you.", true
		pg.whyPage(w, http.StatusUnprocessableEntity, page)
		return
	}
	by := ""
	if p := pg.Person(r.Context()); p != nil {
		by = p.Name
	}
	if err := pg.Store.SayWorth(r.Context(), post, by, what); err != nil {
		pg.Log.Warn("noting what somebody says of a message failed", "post", post.ID, "error", err)
		page.Said, page.Bad = "This could not be noted at the moment. Please try again.", true
		pg.whyPage(w, http.StatusServiceUnavailable, page)
		return
	}
	page.Said, page.MayVote = "Noted: it was useful. Thank you.", false
	if what == store.ActNotForMe {
		page.Said = "Noted: it was not for you. Thank you; it is seen where the workflow is kept."
	}
	pg.whyPage(w, http.StatusOK, page)
}

// whyOf makes the page; the post is nil where there is nothing to say.
func (pg *Pages) whyOf(r *http.Request) (int, whyPage, *store.Post) {
	ctx := r.Context()
	page := whyPage{Title: "Why am I told?", Action: r.URL.Path, Bad: true}
	link, err := pg.Engine.Links.Read(ctx, links.Why, chi.URLParam(r, "token"))
	if err != nil {
		status, words := pg.badLink(err, "This link has expired.")
		page.Said = words
		return status, page, nil
	}
	post, err := pg.Store.Post(ctx, link.ID)
	var flow *store.Workflow
	if err == nil {
		flow, err = pg.Store.Workflow(ctx, post.Workflow)
	}
	var over bool
	if err == nil {
		over, err = pg.Store.LinksEnded(ctx, post)
	}
	if err == nil && over {
		page.Said = "Somebody has ended this link."
		return http.StatusGone, page, nil
	}
	if err == nil {
		err = pg.explain(ctx, &page, post, flow)
	}
	switch {
	case errors.Is(err, gorm.ErrRecordNotFound):
		page.Said = "What this link belongs to is not kept any more."
		return http.StatusGone, page, nil
	case err != nil:
		pg.Log.Warn("saying why failed", "post", link.ID, "error", err)
		page.Said = notNow
		return http.StatusServiceUnavailable, page, nil
	}
	page.Bad, page.MayVote = false, true
	if page.Proof, err = pg.proofOf(r); err != nil {
		pg.Log.Warn("a page cannot say that it was opened", "error", err)
	}
	if pg.Person(ctx) != nil {
		page.Sheet = "/workflows/" + strconv.FormatInt(flow.ID, 10)
	}
	return http.StatusOK, page, post
}

// explain says what the version that told a post saw then. Where that version cannot be read any more, the rest is said.
func (pg *Pages) explain(ctx context.Context, page *whyPage, post *store.Post, flow *store.Workflow) error {
	page.Workflow, page.Where = flow.Name, post.Destination
	doc, err := message.Stored(post.Body)
	// Where a page shows some fields of the record and no others, whoever has no account is shown nothing of the rest here either.
	withheld := pg.Person(ctx) == nil && (err != nil || slices.ContainsFunc(doc.Links, func(l message.Link) bool { return l.Share != nil }))
	if err == nil && doc.Title != "" && !withheld {
		page.Title = "Why am I told: " + doc.Title
	}
	if post.SentAt != nil {
		page.Told = post.SentAt.In(pg.Engine.Workspace.Location()).Format("2 January 2006 at 15:04 MST")
	}
	if err := pg.keepers(ctx, page, flow); err != nil {
		return err
	}
	if withheld {
		return nil
	}
	row, err := pg.Store.Arrival(ctx, post.Arrival)
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return nil // it is kept for a time only
	}
	if err != nil {
		return err
	}
	v, err := pg.Store.Verdict(ctx, post.Arrival, post.Workflow)
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	page.About, page.Source = row.Subject, row.Source
	a, err := row.Core()
	if err != nil {
		return err
	}
	plan, err := pg.Engine.Workflows.Plan(ctx, post.Workflow, v.Version, row.Source)
	if err != nil || plan == nil {
		return nil //nolint:nilerr // the sheet of then names what is not there any more
	}
	sc := decide.NewScope(decide.Occasion(plan, a, a.Time))
	sc.Reach = pg.Engine.Sources.Reach(ctx, sources.AskNothing)
	if sc.Recall, err = v.Recall(); err != nil {
		return err
	}
	answers, err := v.Given()
	if err != nil {
		return err
	}
	p := decide.Explain(plan, sc, answers)
	for _, l := range []*cond.Line{p.When, p.That, p.Keep} {
		if l != nil {
			page.Keep = leaves(page.Keep, *l)
		}
	}
	for i := range p.Rows {
		if p.Rows[i].Name == v.Route {
			page.Row, page.Routed = v.Route, leaves(nil, p.Rows[i].Line)
		}
	}
	return nil
}

// keepers says who looks after a workflow.
func (pg *Pages) keepers(ctx context.Context, page *whyPage, flow *store.Workflow) error {
	if flow.Owner != nil {
		list, err := pg.Store.People(ctx, *flow.Owner)
		if err != nil {
			return err
		}
		if len(list) > 0 && list[0].GoneAt == nil {
			page.Owner = list[0].Name
		}
	}
	if flow.Team != nil {
		list, err := pg.Store.Teams(ctx, *flow.Team)
		if err != nil {
			return err
		}
		if len(list) > 0 {
			page.Team = list[0].Name
		}
	}
	return nil
}

// leaves adds the single conditions of a line.
func leaves(list []whyLine, l cond.Line) []whyLine {
	if len(l.Parts) == 0 {
		if l.Text == "" {
			return list
		}
		seen := strings.TrimSuffix(l.Seen, ".")
		if l.Was != "" && l.Was != l.Seen {
			seen += "; before that, " + l.Was
		}
		return append(list, whyLine{Text: l.Text, Seen: seen, Held: l.Result == "true"})
	}
	for _, part := range l.Parts {
		list = leaves(list, part)
	}
	return list
}
