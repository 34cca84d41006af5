package decide

import (
	"errors"
	"fmt"
	"slices"

	"dorfbote/internal/core/cond"
	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/message"
	"dorfbote/internal/core/sheet"
)

// Proof is what every line of a sheet makes of one arrival, whether or not the arrival gets that far.
type Proof struct {
	Outcome  Outcome
	Starts   bool   // Watch starts on this source and kind of change
	Kind     string // the arrival's kind of change
	When     *cond.Line
	That     *cond.Line // of a state that lasts, as the record is now
	Keep     *cond.Line
	Gather   []GatherProof
	Asks     []AskProof
	Rows     []RowProof
	Else     []TellProof // of what goes otherwise
	Messages map[string]MessageProof
	Follow   []StepProof
}

// RowProof is a row's part of the proof.
type RowProof struct {
	Name  string    `json:"name"`
	Line  cond.Line `json:"line"`
	Taken bool      `json:"taken"` // the arrival goes this way
	// Tell is whom the row tells of this arrival, by its tells.
	Tell []TellProof `json:"tell"`
}

// MessageProof is a message as this arrival would fill it.
type MessageProof struct {
	Doc   *message.Document `json:"doc,omitempty"`
	Plain string            `json:"plain,omitempty"`
	Error string            `json:"error,omitempty"`
	// Skipped is true where the message's list is empty and nothing is sent for that.
	Skipped bool `json:"skipped,omitempty"`
	// Dialects is the message as each kind of destination would get it.
	Dialects []message.Rendered `json:"dialects,omitempty"`
}

// AskProof is what a question makes of an arrival, whether or not the arrival gets that far.
type AskProof struct {
	Name string     `json:"name"`
	Path string     `json:"path"`
	Line *cond.Line `json:"line,omitempty"`
	// Put is true where it is put; Of are those who are asked.
	Put bool        `json:"put"`
	Of  []TellProof `json:"of"`
	// Choice is what the lines below take as the answer: what was answered or, where nobody has, what is supposed.
	Choice string `json:"choice"`
	By     string `json:"by,omitempty"`
}

// supposed goes on from questions as if they were answered: by what is known, else by the choice that is supposed, else by the
// first of the choices.
func supposed(p *sheet.Plan, sc *formula.Scope, suppose map[string]Answered, out Outcome) (Outcome, map[string]Answered) {
	known := map[string]Answered{}
	for range p.Questions {
		q := PlanAskNamed(p, out.Ask)
		if out.Verdict != Asked || q == nil {
			break
		}
		a := suppose[q.Name]
		if q.Choice(a.Choice) == nil && a.At.IsZero() {
			a.Choice = q.Choices[0].Name
		}
		if a.By == "" && a.At.IsZero() && len(out.Posts) > 0 {
			a.By = out.Posts[0].To
		}
		if a.At.IsZero() {
			a.At = sc.Now
		}
		known[q.Name] = a
		if sc.Recall == nil {
			sc.Recall = Gathered(p, sc)
		}
		out = Resume(p, sc, known, sc.Now)
	}
	return out, known
}

func explainAsks(p *sheet.Plan, sc *formula.Scope, known map[string]Answered) []AskProof {
	out := []AskProof{}
	for i := range p.Questions {
		q := &p.Questions[i]
		a, put := known[q.Name]
		l := AskProof{Name: q.Name, Path: q.Path, Put: put, Choice: a.Choice, By: a.By, Of: make([]TellProof, len(q.Of))}
		if q.When != nil {
			line := q.When.Explain(sc)
			l.Line = &line
		}
		for j := range q.Of {
			t := &l.Of[j]
			t.Path = q.Of[j].Path
			connection, to, err := reached(p, &q.Of[j], sc)
			if t.To = to; err != nil {
				t.Error = err.Error()
			}
			t.Who = whose(sc.People, resolved{connection: connection, to: to})
		}
		out = append(out, l)
	}
	return out
}

// Explain runs the same plan over the same scope as Decide and keeps what every line saw. Where people are asked, it goes on with
// what is supposed that they answer, by the names of the questions.
func Explain(p *sheet.Plan, sc *formula.Scope, suppose map[string]Answered) Proof {
	decided, known := supposed(p, sc, suppose, Decide(p, sc))
	out := Proof{
		Outcome:  decided,
		Starts:   ignoredAt(p, sc) == "",
		Kind:     sc.Kind,
		Messages: map[string]MessageProof{},
	}
	line := func(n cond.Node) *cond.Line {
		if n == nil {
			return nil
		}
		l := n.Explain(sc)
		return &l
	}
	out.Gather = explainGather(p, sc)
	know(p, sc, known)
	out.Asks = explainAsks(p, sc, known)
	out.When, out.That, out.Keep = line(p.When), line(p.Trigger.That), line(p.Keep)
	reached := out.Starts && holds(out.When) && holds(out.Keep)
	taken := false
	for i := range p.Rows {
		r := RowProof{Name: p.Rows[i].Name, Line: p.Rows[i].When.Explain(sc), Tell: explainTells(p, p.Rows[i].Tell, sc)}
		if r.Line.Result == cond.True.String() && reached && (p.Every || !taken) {
			r.Taken, taken = true, true
		}
		out.Rows = append(out.Rows, r)
	}
	if p.Else != nil {
		out.Else = explainTells(p, p.Else.Tell, sc)
	}
	for i := range p.Follow {
		out.Follow = append(out.Follow, followProof(p, &p.Follow[i], p.Terms, sc, holds, out.Outcome))
	}
	for name, m := range p.Messages {
		doc, err := asTold(p, m, sc)
		mp := MessageProof{Doc: doc}
		switch {
		case errors.Is(err, message.ErrSkip):
			mp.Skipped = true
		case err != nil:
			mp.Error = err.Error()
		default:
			mp.Plain = doc.Plain()
			for _, d := range message.Dialects {
				mp.Dialects = append(mp.Dialects, message.Render(doc, d))
			}
		}
		out.Messages[name] = mp
	}
	return out
}

// asTold fills a message in as it would be told: one that is told for each of a list, for the first of it.
func asTold(p *sheet.Plan, m *message.Message, sc *formula.Scope) (*message.Document, error) {
	var each *formula.Formula
	p.EachTell(func(t *sheet.PlanTell) {
		if t.Each != nil && each == nil && (t.Message == m || t.Reply == m) {
			each = t.Each
		}
	})
	if each == nil || !m.UsesIt() {
		return m.Fill(sc)
	}
	list, err := each.List(sc)
	if err != nil {
		return nil, err
	}
	if len(list) == 0 {
		return nil, message.ErrSkip
	}
	return m.Fill(p.Terms.With(sc, list[0]))
}

func holds(l *cond.Line) bool { return l == nil || l.Result == cond.True.String() }

// Trial gives what an arrival would tell, each message once, wherever it would go; where it would tell nothing, the one
// message asked for.
func Trial(p *sheet.Plan, sc *formula.Scope, name string) ([]Post, error) {
	out := Decide(p, sc)
	var posts []Post
	place := map[int]int{} // of a post among those that are sent
	for i, post := range out.Posts {
		under := -1
		if post.Under >= 0 {
			under = place[post.Under]
		}
		at := slices.IndexFunc(posts, func(o Post) bool { return o.Message == post.Message && o.Under == under })
		if at < 0 {
			at = len(posts)
			post.Under = under
			posts = append(posts, post)
		}
		place[i] = at
	}
	if len(posts) > 0 {
		return posts, nil
	}
	m := p.Messages[name]
	if m == nil {
		return nil, fmt.Errorf("there is no message %q", name)
	}
	if len(sc.Gathered) < len(p.Gather) {
		_, _ = gather(p, sc) // what it lacks is empty in the message
	}
	doc, err := asTold(p, m, sc)
	if errors.Is(err, message.ErrSkip) {
		return nil, errors.New("its list is empty, so there is nothing to send")
	}
	if err != nil {
		return nil, err
	}
	return []Post{{Message: name, Doc: doc, Under: -1}}, nil
}
