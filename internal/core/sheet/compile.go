package sheet

import (
	"fmt"
	"strings"

	"dorfbote/internal/core/cond"
	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/message"
	"dorfbote/internal/core/people"
	"dorfbote/internal/core/place"
	"dorfbote/internal/core/report"
	"dorfbote/internal/core/value"
)

// Known is what the sheet's surroundings are known to hold. Nil functions mean that nothing is
// known, so nothing of that sort is checked.
type Known struct {
	Workspace value.Workspace
	// Kind gives what is known of a source's records, or nil.
	Schema func(source string) *value.Schema
	// Sources and Destinations list what a sheet may name, for suggestions and to refuse the rest.
	Sources      func() []string
	Destinations func() []string
	// Reaches gives what a connection that posts can go over takes for a place; ok is false where there is none. nil where
	// nothing is known of connections: any place is taken then. Connections lists them, for suggestions.
	Reaches     func(connection string) (rule place.Rule, ok bool)
	Connections func() []string
	// People is the people book; nil where it is not known, so that anybody may be named.
	People *people.Book
	// Workflows lists the names of those that another may call.
	Workflows func() []string
	// Shut says why a destination would take no post at the moment, and what to do; "" where it would.
	Shut func(destination string) string
	// Halted says why what is sent to a destination waits at the moment; "" where it goes. That keeps nothing from being switched on.
	Halted func(destination string) string
	// Lenient lets places pass that there are not: of a version that is on, whatever has gone since.
	Lenient bool
	// Unwritable says why a source's records cannot be added to, or changed, and what to do; "" where they can.
	Unwritable func(source string, change bool) string
}

// Plan is a sheet made ready to run. It may be used by many goroutines at once.
type Plan struct {
	Name      string
	Source    string
	On        []string    // created, updated, removed
	Command   string      // the first word of the messages that it starts on; "" for any
	Answer    *PlanAnswer // nil: a caller is not answered
	Trigger   Trigger     // where Watch has another form than a change
	Terms     *formula.Words
	When      cond.Node // nil: every change counts
	Keep      cond.Node // nil: everything is kept
	Gather    []PlanGather
	Questions []PlanAsk
	Every     bool
	Rows      []PlanRow
	Else      *PlanBranch
	Messages  map[string]*message.Message
	Pace      *PlanPace // nil: everything is told at once
	Follow    []PlanFollow
	Buttons   []string // the workflows that buttons call
	// Reaches is what is known of connections, as in [Known], for the addresses that records give.
	Reaches func(connection string) (place.Rule, bool)
	Anybody bool // there was no people book to check against
}

// StartsOn tells whether Watch starts on a kind of arrival.
func (p *Plan) StartsOn(kind string) bool {
	switch {
	case p.Timed():
		return kind == "tick"
	case p.AsksFor():
		return kind == "start"
	}
	return contains(p.On, kind)
}

// Words gives a condition's words by its path, "" where there is none.
func (p *Plan) Words(path string) string {
	found := ""
	look := func(n cond.Node) {
		if n != nil && strings.HasPrefix(path, n.Path()) {
			n.Words(func(at, words string) {
				if at == path {
					found = words
				}
			})
		}
	}
	look(p.When)
	look(p.Trigger.That)
	look(p.Keep)
	for i := range p.Rows {
		look(p.Rows[i].When)
	}
	for i := range p.Questions {
		look(p.Questions[i].When)
	}
	for i := range p.Follow {
		look(p.Follow[i].When)
		look(p.Follow[i].Unless)
	}
	return found
}

// PlanRow is a row made ready to run.
type PlanRow struct {
	Name string
	Path string
	When cond.Node
	PlanBranch
}

// PlanBranch is whom a route tells, made ready to run.
type PlanBranch struct{ Tell []PlanTell }

// Compile reads, checks and makes ready in one step. The plan is nil when any problem is an error.
// Problems are in the order of their places.
func Compile(src []byte, known Known) (*Plan, *Sheet, []report.Problem) {
	s, problems := Read(src)
	if s == nil {
		return nil, nil, problems.Problems
	}
	p := s.compile(known, &problems)
	problems.Sort()
	if problems.Failed() {
		return nil, s, problems.Problems
	}
	return p, s, problems.Problems
}

func (s *Sheet) compile(known Known, problems *report.List) *Plan {
	p := &Plan{Name: s.Name, Source: s.Watch.Source.S, On: s.Watch.On, Command: s.Watch.Command, Every: s.Route.Every, Messages: map[string]*message.Message{}}
	p.Terms = &formula.Words{Workspace: known.Workspace, Sources: &formula.Sources{}}
	p.Reaches, p.Anybody = known.Reaches, known.People == nil
	if known.Schema != nil {
		p.Terms.Schema = known.Schema(p.Source)
	}
	if known.Sources != nil {
		mustKnow(problems, s.Watch.Source, "watch.source", known.Sources(), "there is no source %s")
	}
	if k := p.Terms.Schema; k != nil && k.Learnt && len(k.Fields) == 0 {
		problems.Unfinished(s.Watch.Source.At, "watch.source", "%s has no record yet, so its fields are not known; have it send one, or enter one, first", p.Source)
	}
	s.trigger(p, known, problems)
	s.tabled(p, problems)
	if s.Watch.When != nil {
		p.When = cond.Compile(s.Watch.When, p.Terms, "watch.when", problems)
	}
	if s.Keep != nil {
		p.Keep = cond.Compile(s.Keep, p.Terms, "keep", problems)
	}
	s.gatherAll(p, known, problems)
	s.askAll(p, problems)
	s.grouped()
	for _, m := range s.Messages {
		p.Messages[m.Name] = message.Compile(m, p.Terms, "messages."+m.Name, problems)
	}
	s.buttons(p, known, problems)
	used := map[string]bool{}
	s.gatherFails(p, known, used, problems)
	s.askWhom(p, known, used, problems)
	for i, row := range s.Route.Rows {
		path := fmt.Sprintf("route.rows[%d]", i)
		pr := PlanRow{Name: row.Name, Path: path, PlanBranch: p.branch(row.Branch, path, known, used, problems)}
		if pr.Name == "" {
			pr.Name = fmt.Sprintf("Row %d", i+1)
		}
		if row.When != nil {
			pr.When = cond.Compile(row.When, p.Terms, path+".when", problems)
		}
		p.Rows = append(p.Rows, pr)
	}
	if s.Route.Otherwise != nil {
		b := p.branch(*s.Route.Otherwise, "route.otherwise", known, used, problems)
		p.Else = &b
	}
	s.answered(p, problems)
	s.paced(p, known, problems)
	s.pacedEach(p, problems)
	s.doubtPlaces(p, known, problems)
	s.followAll(p, known, used, problems)
	for _, m := range s.Messages {
		if !used[m.Name] {
			problems.Warn(m.At, "messages."+m.Name, "", "no route sends the message %s", m.Name)
		}
	}
	return p
}

func (p *Plan) branch(b Branch, path string, known Known, used map[string]bool, problems *report.List) PlanBranch {
	var out PlanBranch
	for i, t := range b.Tell {
		at := fmt.Sprintf("%s.tell[%d]", path, i)
		pt := p.tell(t, at, known, used, problems)
		p.lost(t, pt, at, problems)
		if known.Destinations != nil && known.Reaches == nil && pt.To.Fixed != "" && pt.To.Connection != Person && pt.To.Rule.Any {
			mustKnow(problems, t.To, at, known.Destinations(), "there is no destination %s")
		}
		if known.Shut != nil && pt.To.Fixed != "" {
			if why := known.Shut(pt.To.Fixed); why != "" {
				problems.Unfinished(t.To.At, at, "%s", why)
			}
		}
		known.warnHalted(t.To, at, pt.To.Fixed, problems)
		out.Tell = append(out.Tell, pt)
	}
	return out
}

// warnHalted says where what is told would wait.
func (k *Known) warnHalted(t report.Text, path, to string, problems *report.List) {
	if k.Halted == nil || to == "" {
		return
	}
	if why := k.Halted(to); why != "" {
		problems.Warn(t.At, path, "", "%s", why)
	}
}

func (p *Plan) message(t report.Text, path string, used map[string]bool, problems *report.List) *message.Message {
	m, ok := p.Messages[t.S]
	if !ok && t.At.Line > 0 {
		problems.Add(t.At, path, value.Nearest(t.S, value.SortedKeys(p.Messages)), "there is no message %s", t.S)
	}
	used[t.S] = true
	return m
}

// knows notes where a field is none of a source's: an error where its fields are declared, a warning where they are only
// known from the records seen so far. source is "" for the one that is watched.
func knows(problems *report.List, k *value.Schema, t report.Text, field, source, path string) {
	if k == nil {
		return
	}
	if _, _, ok := k.Find(value.ParsePath(field)); ok {
		return
	}
	near := k.Near(field)
	switch {
	case !k.Learnt && (!k.Open || near != ""):
		if source != "" {
			source = " of " + source
		}
		problems.Add(t.At, path, near, "the records%s have no field %s", source, field)
	case k.Learnt && len(k.Fields) > 0:
		problems.Warn(t.At, path, near, "%s", formula.NeverSeen(field))
	}
}

func mustKnow(problems *report.List, t report.Text, path string, names []string, format string) {
	if t.S == "" || contains(names, t.S) {
		return
	}
	problems.Add(t.At, path, value.Nearest(t.S, names), format, t.S)
}
