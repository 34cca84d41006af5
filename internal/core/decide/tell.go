package decide

import (
	"errors"
	"fmt"
	"strings"

	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/message"
	"dorfbote/internal/core/people"
	"dorfbote/internal/core/place"
	"dorfbote/internal/core/sheet"
)

// Failure is a part of what was to be told that could not be: the rest was.
type Failure struct {
	Where string `json:"where"` // such as route.rows[0].tell[1].to
	Error string `json:"error"`
}

var errEmptyAddress = errors.New("the address is empty")

// resolved is whom a tell goes to.
type resolved struct {
	connection  string
	to, cc, bcc string
}

// compose adds a branch's posts. What another row has already told the same place is not told twice. An address that cannot be
// fails its tell alone. ok is false where a message cannot be made: the outcome is a failure then, and nothing is told at all.
func compose(p *sheet.Plan, out *Outcome, tells []sheet.PlanTell, sc *formula.Scope) (ok bool) {
	for i := range tells {
		t := &tells[i]
		if t.Each != nil {
			if !composeEach(p, out, t, sc) {
				return false
			}
			continue
		}
		if r, some := whom(p, out, t, sc, ""); some {
			if _, ok := tellOne(out, t, r, sc); !ok {
				return false
			}
		}
	}
	return true
}

// composeEach tells each of a list; ok is as of [compose].
func composeEach(p *sheet.Plan, out *Outcome, t *sheet.PlanTell, sc *formula.Scope) (ok bool) {
	list, err := t.Each.List(sc)
	if err != nil {
		out.Failures = append(out.Failures, Failure{t.Path + ".each", err.Error()})
		return true
	}
	told := 0
	for n, it := range list {
		own := p.Terms.With(sc, it)
		before := len(out.Failures)
		r, some := whom(p, out, t, own, fmt.Sprintf("item %d: ", n+1))
		switch {
		case told >= t.Most && (some || len(out.Failures) > before):
			out.Failures = out.Failures[:before]
			out.More++
			continue
		case len(out.Failures) > before:
			told++
			continue
		case !some:
			continue
		}
		one, ok := tellOne(out, t, r, own)
		if !ok {
			return false
		}
		if one {
			told++
		}
	}
	if told == 0 {
		out.leaveOut(t.Path)
	}
	return true
}

// whom works out the addresses of a tell; ok is false where nobody is told, which is a failure or left out.
func whom(p *sheet.Plan, out *Outcome, t *sheet.PlanTell, sc *formula.Scope, item string) (r resolved, ok bool) {
	fail := func(part string, err error) {
		out.Failures = append(out.Failures, Failure{t.Path + "." + part, item + err.Error()})
	}
	var err error
	if r.connection, r.to, err = addressOf(p, &t.To, sc); err != nil {
		fail("to", err)
		return r, false
	}
	if r.to == "" {
		if t.Skip {
			out.leaveOut(t.Path)
		} else {
			fail("to", errEmptyAddress)
		}
		return r, false
	}
	for _, c := range []struct {
		name string
		a    *sheet.Address
		into *string
	}{{"cc", t.Cc, &r.cc}, {"bcc", t.Bcc, &r.bcc}} {
		if c.a == nil {
			continue
		}
		over, address, err := addressOf(p, c.a, sc)
		if rule, _ := ruleOf(p, over); err == nil && address != "" && (over != r.connection || !rule.Any && rule.Form != place.Mail) {
			err = fmt.Errorf("%s goes over %s, which has no %s for what goes over %s", address, over, c.name, r.connection)
		}
		if err != nil {
			fail(c.name, err)
			return r, false
		}
		*c.into = address
	}
	return r, true
}

// ruleOf is what a connection takes for a place; ok is false where posts cannot go over it.
func ruleOf(p *sheet.Plan, connection string) (rule place.Rule, ok bool) {
	if p.Reaches == nil {
		return place.Rule{Any: true}, true
	}
	return p.Reaches(connection)
}

// addressOf fills an address in: the connection, and the whole destination, "" where the address is empty.
func addressOf(p *sheet.Plan, a *sheet.Address, sc *formula.Scope) (connection, to string, err error) {
	if a.Connection == sheet.Person {
		return personsAddress(p, a, sc)
	}
	if a.Fixed != "" {
		return a.Connection, a.Fixed, nil
	}
	text, err := a.Place.Text(sc, p.Terms)
	if err != nil {
		return "", "", err
	}
	return over(p, a.Connection, text)
}

// reached is [addressOf] where an empty address is an error.
func reached(p *sheet.Plan, a *sheet.Address, sc *formula.Scope) (connection, to string, err error) {
	if connection, to, err = addressOf(p, a, sc); err == nil && to == "" {
		err = errEmptyAddress
	}
	return connection, to, err
}

func over(p *sheet.Plan, connection, text string) (string, string, error) {
	rule, ok := ruleOf(p, connection)
	if !ok {
		return connection, "", fmt.Errorf("there is no connection %s that posts can go over", connection)
	}
	normal, err := rule.Take(text, p.Terms.Workspace)
	if err != nil || normal == "" {
		return connection, "", err
	}
	return connection, connection + "/" + normal, nil
}

// personsAddress is the address that a person of the people book prefers.
func personsAddress(p *sheet.Plan, a *sheet.Address, sc *formula.Scope) (connection, to string, err error) {
	who, err := named(p, a, sc)
	if err != nil {
		return "", "", err
	}
	text := strings.TrimSpace(formula.Show(who, p.Terms.Workspace))
	if text == "" {
		return sheet.Person, "", nil
	}
	if p.Anybody && sc.People == nil {
		return sheet.Person, sheet.Person + "/" + text, nil
	}
	m := p.Terms.MentionOf(who, sc.People)
	if m.Person == nil {
		return "", "", errors.New(place.Nobody(text, sc.People))
	}
	prefers, err := m.Person.Preferred()
	if err != nil {
		return "", "", err
	}
	connection, to, err = over(p, prefers.Connection, prefers.Address)
	if err == nil && to == "" {
		err = errEmptyAddress
	}
	if err != nil {
		err = fmt.Errorf("%s of the people book: %w", m.Person.Called(), err)
	}
	return connection, to, err
}

// named is whom an address names: a value where it is one formula, else a text.
func named(p *sheet.Plan, a *sheet.Address, sc *formula.Scope) (any, error) {
	if f := a.Place.Whole(); f != nil {
		return f.Run(sc)
	}
	return a.Place.Text(sc, p.Terms)
}

// tellOne adds a tell's posts. told is false where its list is empty; ok is as of [compose].
func tellOne(out *Outcome, t *sheet.PlanTell, r resolved, sc *formula.Scope) (told, ok bool) {
	parent := add(out, t, r, t.Message, -1, sc)
	if parent == failed {
		return false, false
	}
	if t.Reply != nil && parent != leftOut && add(out, t, r, t.Reply, parent, sc) == failed {
		return false, false
	}
	return parent != leftOut, true
}

// What add gives instead of an index.
const (
	failed  = -1 // the outcome has been turned into a failure
	leftOut = -2 // its list is empty, so there is no message
)

// add composes one post and gives its index.
func add(out *Outcome, t *sheet.PlanTell, r resolved, m *message.Message, under int, sc *formula.Scope) int {
	if t.Each == nil {
		for i := range out.Posts {
			p := &out.Posts[i]
			if p.To == r.to && p.Message == m.Name && p.Under == under && !p.item {
				p.Cc, p.Bcc = both(p.Cc, r.cc), both(p.Bcc, r.bcc)
				return i
			}
		}
	}
	doc, err := m.Fill(sc)
	if errors.Is(err, message.ErrSkip) {
		out.leaveOut("messages." + m.Name + ".list")
		return leftOut
	}
	if err != nil {
		where := "messages." + m.Name
		if fe, ok := errors.AsType[*fault.Fault](err); ok {
			where, err = where+"."+fe.Place, fe.Err
		}
		*out = failure(where, err)
		return failed
	}
	out.Posts = append(out.Posts, Post{To: r.to, Cc: r.cc, Bcc: r.bcc, Message: m.Name, Doc: doc.For(r.connection), Under: under, item: t.Each != nil, tell: t})
	return len(out.Posts) - 1
}

// both joins the addresses of two tells that make one post; both name the same connection.
func both(a, b string) string {
	if a == "" || a == b {
		return a + strings.TrimPrefix(b, a)
	}
	if b == "" {
		return a
	}
	_, more, _ := strings.Cut(b, "/")
	for one := range strings.SplitSeq(more, ", ") {
		_, have, _ := strings.Cut(a, "/")
		if !strings.Contains(", "+have+", ", ", "+one+", ") {
			a += ", " + one
		}
	}
	return a
}

// leaveOut notes what was left out, so that an outcome that tells nothing for that can say so.
func (o *Outcome) leaveOut(path string) {
	if o.skipped == "" {
		o.skipped = path
	}
}

// TellProof is whom one line of a route tells of an arrival, whether or not the arrival goes that way.
type TellProof struct {
	Path string `json:"path"`
	To   string `json:"to,omitempty"`
	Cc   string `json:"cc,omitempty"`
	Bcc  string `json:"bcc,omitempty"`
	Who  string `json:"who,omitempty"` // whose address that is, by the people book
	// LeftOut is true where the address is empty and nothing is told for that, or the list is empty.
	LeftOut bool   `json:"left_out,omitempty"`
	Error   string `json:"error,omitempty"`
	Count   int    `json:"count,omitempty"` // how many of a list are told
	More    int    `json:"more,omitempty"`  // how many of a list are not, being more than the most
}

// explainTells works out whom the tells of a branch would reach.
func explainTells(p *sheet.Plan, tells []sheet.PlanTell, sc *formula.Scope) []TellProof {
	out := make([]TellProof, len(tells))
	for i := range tells {
		t := &tells[i]
		l := TellProof{Path: t.Path}
		var o Outcome
		var r resolved
		if t.Each == nil {
			r, _ = whom(p, &o, t, sc, "")
			l.LeftOut = o.skipped != ""
		} else {
			composeEach(p, &o, t, sc)
			if l.Count, l.More, l.LeftOut = len(o.Posts), o.More, len(o.Posts) == 0 && len(o.Failures) == 0; len(o.Posts) > 0 {
				first := o.Posts[0]
				r = resolved{to: first.To, cc: first.Cc, bcc: first.Bcc}
				r.connection, _, _ = strings.Cut(first.To, "/")
			}
		}
		if len(o.Failures) > 0 {
			l.Error = o.Failures[0].Error
		} else if o.Verdict == Failed {
			l.Error = o.Error
		}
		l.To, l.Cc, l.Bcc = r.to, r.cc, r.bcc
		l.Who = whose(sc.People, r)
		out[i] = l
	}
	return out
}

// whose says whose address a destination is, "" where the people book does not know it.
func whose(book *people.Book, r resolved) string {
	_, address, ok := strings.Cut(r.to, "/")
	if !ok {
		return ""
	}
	if p := book.At(r.connection, address); p != nil {
		return p.Called()
	}
	return ""
}
