package decide

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"dorfbote/internal/core/cond"
	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/message"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
)

// Asked is the verdict of an arrival that waits for people's answers.
const Asked Verdict = "asked"

// Answered is what people answered to a question. Choice is "" where nobody did and the sheet has nothing for that.
type Answered struct {
	Choice  string    `json:"choice"`
	By      string    `json:"by"`
	Comment string    `json:"comment"`
	At      time.Time `json:"at"`
}

// JSON is the answer as outcomes show it.
func (a Answered) JSON() map[string]any {
	return map[string]any{"choice": a.Choice, "by": a.By, "comment": a.Comment, "at": a.At.UTC().Format(time.RFC3339Nano)}
}

// know makes answers known under the names of their questions; of those that were not put, nothing is known.
func know(p *sheet.Plan, sc *formula.Scope, answers map[string]Answered) {
	for i := range p.Questions {
		name := p.Questions[i].Name
		a, ok := answers[name]
		if !ok {
			sc.Gather(name, nil, nil)
			continue
		}
		raw := a.JSON()
		typed := map[string]any{"choice": a.Choice, "by": a.By, "comment": a.Comment, "at": a.At.In(p.Terms.Workspace.Location())}
		sc.Gather(name, raw, typed)
	}
}

// ask puts the next question that there is to be asked; where there is none, the arrival is routed. known are the answers to
// the questions before.
func askOrRoute(p *sheet.Plan, sc *formula.Scope, known map[string]Answered) Outcome {
	if len(p.Questions) == 0 {
		return route(p, sc)
	}
	know(p, sc, known)
	for i := range p.Questions {
		q := &p.Questions[i]
		if _, answered := known[q.Name]; answered {
			continue
		}
		if q.When != nil {
			switch q.When.Eval(sc) {
			case cond.Broken:
				return failure(q.When.Decider(sc))
			case cond.False:
				continue
			}
		}
		if passed(p, i, known) { // a later one has been answered: this one was not put in its turn
			continue
		}
		return question(p, q, sc, known)
	}
	return route(p, sc)
}

// passed tells whether a question behind number i has been answered.
func passed(p *sheet.Plan, i int, known map[string]Answered) bool {
	return slices.ContainsFunc(p.Questions[i+1:], func(q sheet.PlanAsk) bool { _, ok := known[q.Name]; return ok })
}

// question puts one question: a post for each of those who are asked.
func question(p *sheet.Plan, q *sheet.PlanAsk, sc *formula.Scope, known map[string]Answered) Outcome {
	out := Outcome{Verdict: Asked, Ask: q.Name, Answers: known}
	doc, err := q.Message.Fill(sc)
	if err != nil {
		return failure("messages."+q.Message.Name, err)
	}
	for i := range q.Of {
		connection, to, err := reached(p, &q.Of[i], sc)
		if err != nil {
			if q.All {
				return failure(q.Of[i].Path, err)
			}
			out.Failures = append(out.Failures, Failure{q.Of[i].Path, err.Error()})
			continue
		}
		if slices.ContainsFunc(out.Posts, func(post Post) bool { return post.To == to }) {
			continue
		}
		out.Posts = append(out.Posts, questionTo(q, doc, connection, to))
	}
	if len(out.Posts) == 0 {
		return Outcome{Verdict: Failed, Where: out.Failures[0].Where, Error: out.Failures[0].Error}
	}
	return out
}

func questionTo(q *sheet.PlanAsk, doc *message.Document, connection, to string) Post {
	return Post{To: to, Message: q.Message.Name, Doc: doc.For(connection), Under: -1, Ask: q.Name}
}

// Resume goes on with an arrival whose question has been decided: the next question is put, or it is routed. The scope is the
// one of the arrival, with what was gathered for it in Recall; from here on, "now" is the moment of the decision. Watch and Keep
// are not asked again.
func Resume(p *sheet.Plan, sc *formula.Scope, known map[string]Answered, now time.Time) Outcome {
	var out Outcome
	if g, err := gather(p, sc); err != nil {
		out = gatherFailed(p, g, sc, err)
	} else {
		sc.SetNow(now)
		out = askOrRoute(p, sc, known)
	}
	out.Answers = known
	return reply(p, sc, out)
}

// Asking is a question that has been put.
type Asking struct {
	Name  string   `json:"name"`  // of the question
	Asked []string `json:"asked"` // the places
	// Went is when it went; zero while it waits for opening hours.
	Went time.Time `json:"went"`
	// Given are the answers so far, of a question that everybody is asked, in their order.
	Given []Given `json:"given,omitempty"`
	// Replaced are places in whose stead others are asked.
	Replaced []string `json:"replaced,omitempty"`
	// Known are the answers to the questions before.
	Known map[string]Answered `json:"known,omitempty"`
}

// Given is one person's answer.
type Given struct {
	Place   string    `json:"place"` // that was asked
	By      string    `json:"by"`    // who answered
	Choice  string    `json:"choice"`
	Comment string    `json:"comment,omitempty"`
	At      time.Time `json:"at"`
}

// PlanAskNamed finds a question of a plan, nil for none.
func PlanAskNamed(p *sheet.Plan, name string) *sheet.PlanAsk {
	for i := range p.Questions {
		if p.Questions[i].Name == name {
			return &p.Questions[i]
		}
	}
	return nil
}

// Take takes an answer. decided is what the question comes to with it, nil while others have yet to answer. The error says, in
// words, why the answer cannot count; nothing is changed then.
func (a *Asking) Take(q *sheet.PlanAsk, g Given) (decided *Answered, err error) {
	c := q.Choice(g.Choice)
	switch {
	case !slices.Contains(a.Asked, g.Place):
		if slices.Contains(a.Replaced, g.Place) {
			return nil, fmt.Errorf("somebody else is asked in the place of %s now", g.Place)
		}
		return nil, fmt.Errorf("%s was not asked; it was put to %s", g.Place, strings.Join(a.Asked, ", "))
	case c == nil:
		names := make([]string, len(q.Choices))
		for i, c := range q.Choices {
			names[i] = c.Name
		}
		hint := ""
		if near := value.Nearest(g.Choice, names); near != "" {
			hint = "; did you mean " + near + "?"
		}
		return nil, fmt.Errorf("there is no choice %q%s", g.Choice, hint)
	case c.Comment == sheet.CommentRequired && strings.TrimSpace(g.Comment) == "":
		return nil, fmt.Errorf("%q needs a comment", c.Text)
	case a.Went.IsZero() || g.At.Before(a.Went):
		return nil, errors.New("it was not asked yet")
	case g.At.After(a.Went.Add(q.Within)):
		return nil, fmt.Errorf("it is too late: an answer was waited for until %s", a.Went.Add(q.Within).UTC().Format(time.RFC3339))
	}
	if c.Comment == sheet.CommentNone {
		g.Comment = ""
	}
	if !q.All {
		return &Answered{g.Choice, g.By, strings.TrimSpace(g.Comment), g.At}, nil
	}
	for _, have := range a.Given {
		if have.Place == g.Place {
			return nil, fmt.Errorf("%s has answered already: %s", have.By, have.Choice)
		}
	}
	a.Given = append(a.Given, g)
	if g.Choice != q.Choices[0].Name || len(a.Given) == len(a.Asked) {
		return &Answered{g.Choice, a.everybody(), strings.TrimSpace(g.Comment), g.At}, nil
	}
	return nil, nil
}

func (a *Asking) everybody() string {
	names := make([]string, len(a.Given))
	for i, g := range a.Given {
		names[i] = g.By
	}
	return strings.Join(names, ", ")
}

// Over is what the question comes to where it is not decided in time.
func (a *Asking) Over(q *sheet.PlanAsk) Answered {
	return Answered{Choice: q.Otherwise, By: a.everybody(), At: a.Went.Add(q.Within)}
}

// Open lists the places that have not answered.
func (a *Asking) Open() []string {
	var out []string
	for _, place := range a.Asked {
		if !slices.ContainsFunc(a.Given, func(g Given) bool { return g.Place == place }) {
			out = append(out, place)
		}
	}
	return out
}

// Exchange has another place asked in the stead of one that has not answered.
func (a *Asking) Exchange(from, to string) error {
	switch i := slices.Index(a.Asked, from); {
	case i < 0:
		return fmt.Errorf("%s was not asked", from)
	case !slices.Contains(a.Open(), from):
		return fmt.Errorf("%s has answered already", from)
	case slices.Contains(a.Asked, to):
		return fmt.Errorf("%s is asked already", to)
	default:
		a.Asked = slices.Clone(a.Asked)
		a.Asked[i] = to
		a.Replaced = append(slices.DeleteFunc(slices.Clone(a.Replaced), func(p string) bool { return p == to }), from)
	}
	return nil
}

// With is what is known once the question has come to an answer.
func (a *Asking) With(answer Answered) map[string]Answered {
	out := make(map[string]Answered, len(a.Known)+1)
	maps.Copy(out, a.Known)
	out[a.Name] = answer
	return out
}

// Waits is until when a question, or a reminder of it, has to wait for opening hours; ok is false where it may go at once.
func Waits(p *sheet.Plan, posts []Post, now time.Time) (until time.Time, ok bool) {
	if p.Pace == nil || len(posts) == 0 || !late(p.Pace, posts[0], now) {
		return now, false
	}
	until, _ = p.Pace.Open.NextOpen(now)
	return until, true
}

// Questions makes the posts of a question anew, for those who have not answered: a reminder, or a question that waited for
// opening hours. The scope is that of the arrival, with what was gathered for it in Recall.
func Questions(p *sheet.Plan, a *Asking, sc *formula.Scope) Outcome {
	q := PlanAskNamed(p, a.Name)
	if q == nil {
		return Outcome{Verdict: Failed, Where: "ask", Error: "the sheet has no question " + a.Name + " any more"}
	}
	if g, err := gather(p, sc); err != nil {
		return failure(g.Path, err)
	}
	know(p, sc, a.Known)
	doc, err := q.Message.Fill(sc)
	if err != nil {
		return failure("messages."+q.Message.Name, err)
	}
	out := Outcome{Verdict: Asked, Ask: a.Name}
	for _, to := range a.Open() {
		connection, _, _ := strings.Cut(to, "/")
		out.Posts = append(out.Posts, questionTo(q, doc, connection, to))
	}
	return out
}
