// Package decide is the decision machine: what a workflow makes of one arrival. Live runs, the proof,
// the trail and rehearsals all call it.
package decide

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"dorfbote/internal/core/arrival"
	"dorfbote/internal/core/cond"
	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/message"
	"dorfbote/internal/core/sheet"
)

// Verdict is what became of an arrival, see formats.md.
type Verdict string

// The verdicts.
const (
	Ignored  Verdict = "ignored"
	Dropped  Verdict = "dropped"
	Unrouted Verdict = "unrouted"
	Told     Verdict = "told"
	Failed   Verdict = "failed"
)

// Outcome is what a workflow made of one arrival.
type Outcome struct {
	Verdict   Verdict
	Row       string // the names of the routes taken; "otherwise" for the rest
	DecidedBy string // the path of the condition that decided, where one kept the arrival out
	Where     string // of a failure
	Error     string
	Posts     []Post
	// Failures is what could not be told where the rest was; More is how many of a list were not, being more than the most.
	Failures []Failure
	More     int
	Steps    []Step // what follows once the posts are delivered
	// Step is the entry of Follow that this comes of, Ask the question that is put, and Answers what was answered, by the names of
	// the questions.
	Step, Ask string
	Answers   map[string]Answered
	// Reply is what the caller is answered; nil where nobody waits, or where it is not known yet.
	Reply *Reply

	// Releases is what the pace tells because of this one: what had waited, and goes with it.
	Releases  []Later `json:"-"`
	unreached bool    // it failed since nobody could be reached
	skipped   string  // the place of what was left out first: a list that was empty, an address that was
}

// Post is one composed message for one destination.
type Post struct {
	To      string // connection/place; several addresses are joined by ", "
	Cc, Bcc string // of a mail, written like To; "" for none
	Message string // its name on the sheet
	Doc     *message.Document
	Under   int // the index of the post whose thread this belongs in; -1 for none

	// What follows is the pace's. Ref names the post among all of the workflow's; Updates is the ref of an earlier post
	// that this one is put in the place of, and UnderRef that of one in whose thread it belongs, which is called
	// UnderMessage.
	Ref, Updates, UnderRef, UnderMessage string
	// Expires is when the post is no longer worth sending; zero is never.
	Expires time.Time

	// Edits is when the post was made that this one is an edit of, by which it follows its record; Done is true of the last.
	Edits time.Time
	Done  bool
	// Ask is the question that it puts, or reminds of.
	Ask string

	item bool            // one of a list, which makes a post of its own
	tell *sheet.PlanTell // that it was made for, until it is held
}

// Otherwise is the name of the route for what no row takes.
const Otherwise = "otherwise"

// NewScope makes what formulas and conditions look at. One moment, the arrival's own, is "now" for
// all of it, so that the same arrival gives the same outcome whenever it is decided.
func NewScope(a *arrival.Arrival) *formula.Scope {
	return &formula.Scope{
		Record: a.Record, Before: a.Before, Answers: a.Answers, Now: a.Time,
		Arrival: formula.Arrival{ID: a.ID, At: a.Time, Kind: a.Kind(), Source: a.Source, By: a.By, Subject: a.Subject},
	}
}

// Unreached tells whether nobody could be told, since no address was one: what follows on an alert that is not taken care of
// follows on that, too.
func (o *Outcome) Unreached() bool { return o.unreached }

// Decide runs the plan on an arrival. It reads nothing but its arguments and changes nothing but the
// scope's own cache, and the record that a command brings its words to.
func Decide(p *sheet.Plan, sc *formula.Scope) Outcome { return reply(p, sc, decide(p, sc)) }

// Reply is what a caller is answered who waits.
type Reply struct {
	Status int
	Body   any
}

// reply answers the caller, whatever the verdict; of a question that waits, and of what is not started, nothing is known yet.
func reply(p *sheet.Plan, sc *formula.Scope, out Outcome) Outcome {
	if p.Answer == nil || out.Verdict == Ignored || out.Verdict == Asked {
		return out
	}
	if out.Verdict == Failed {
		out.Reply = &Reply{500, map[string]any{"title": "The workflow failed", "status": 500.0, "detail": out.Error, "where": out.Where}}
		return out
	}
	out.Reply = &Reply{Status: p.Answer.Status}
	if p.Answer.Body == nil {
		return out
	}
	sc.Gather(sheet.OutcomeName, string(out.Verdict), string(out.Verdict))
	body, err := fillBody(p.Answer.Body, p.Terms, sc)
	if err != nil {
		return reply(p, sc, failure("answer.body", err))
	}
	out.Reply.Body = body
	return out
}

func decide(p *sheet.Plan, sc *formula.Scope) Outcome {
	if at := ignoredAt(p, sc); at != "" {
		return Outcome{Verdict: Ignored, DecidedBy: at}
	}
	if where, err := misanswered(p, sc); err != nil {
		return failure(where, err)
	}
	if p.When != nil {
		if r, at := p.When.Judge(sc); r != cond.True {
			return refused(p.When, sc, r, at, Ignored)
		}
	}
	if p.Keep != nil {
		if r, at := p.Keep.Judge(sc); r != cond.True {
			return refused(p.Keep, sc, r, at, Dropped)
		}
	}
	if g, err := gather(p, sc); err != nil {
		return gatherFailed(p, g, sc, err)
	}
	return askOrRoute(p, sc, nil)
}

// ignoredAt gives the place in Watch that keeps the workflow from starting, "" where it starts. A tick is
// made for one workflow, whatever its source is called.
func ignoredAt(p *sheet.Plan, sc *formula.Scope) string {
	form := p.Trigger.Form
	switch {
	case form == "" && sc.Source != p.Source, form == sheet.Start && p.Source != "" && sc.Source != p.Source:
		return "watch.source"
	case form == "" && !p.StartsOn(sc.Kind):
		return "watch.on"
	case form == "" && own(sc.Record):
		return "watch.own"
	case p.Command != "" && !commanded(p, sc):
		return "watch.command"
	case form != "" && !p.StartsOn(sc.Kind):
		return "watch." + form
	case form == sheet.Lasts:
		if r, at := p.Trigger.That.Judge(sc); r != cond.True {
			return at
		}
	}
	return ""
}

// misanswered finds a required question that has no answer, or one whose answer is not of its type.
func misanswered(p *sheet.Plan, sc *formula.Scope) (where string, err error) {
	for i, q := range p.Trigger.Ask {
		if _, problem := q.Read(sc.Answers[q.Name], p.Terms.Workspace); problem != "" {
			part := "ask"
			if p.Trigger.Form == sheet.Called {
				part = "takes"
			}
			return fmt.Sprintf("watch.%s.%s[%d]", p.Trigger.Form, part, i), errors.New("the question " + problem)
		}
	}
	return "", nil
}

func refused(n cond.Node, sc *formula.Scope, r cond.Tri, at string, v Verdict) Outcome {
	if r == cond.Broken {
		return failure(n.Decider(sc))
	}
	return Outcome{Verdict: v, DecidedBy: at}
}

func failure(where string, err error) Outcome {
	o := Outcome{Verdict: Failed, Where: where, Error: "it failed"}
	if err != nil {
		o.Error = err.Error()
	}
	return o
}

// route chooses the rows and composes their posts. Either all posts are made or none: half an alert
// would be a wrong one.
func route(p *sheet.Plan, sc *formula.Scope) Outcome {
	out := Outcome{Verdict: Told}
	var names []string
	for i := range p.Rows {
		row := &p.Rows[i]
		switch row.When.Eval(sc) {
		case cond.Broken:
			path, err := row.When.Decider(sc)
			return failure(path, err)
		case cond.False:
			continue
		}
		names = append(names, row.Name)
		if !compose(p, &out, row.Tell, sc) {
			return out
		}
		if !p.Every {
			break
		}
	}
	if len(names) == 0 {
		if p.Else == nil {
			return Outcome{Verdict: Unrouted}
		}
		names = append(names, Otherwise)
		if !compose(p, &out, p.Else.Tell, sc) {
			return out
		}
	}
	out.Row = strings.Join(names, ", ")
	if len(out.Posts) == 0 && len(out.Failures) > 0 { // nothing is left of what was to be told
		return Outcome{Verdict: Failed, Row: out.Row, Where: out.Failures[0].Where, Error: out.Failures[0].Error, More: out.More, unreached: true}
	}
	if len(out.Posts) == 0 && out.skipped != "" { // there is nothing to tell, or nobody
		return Outcome{Verdict: Dropped, Row: out.Row, DecidedBy: out.skipped}
	}
	if len(p.Follow) > 0 {
		out.Steps = steps(p, sc)
	}
	return out
}
