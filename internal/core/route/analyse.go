// Package route looks into the conditions of a sheet without running it: rows that can never be taken, rows that hold
// together, arrivals that no row takes, and conditions that never or always hold. Each finding comes with an example,
// which the sheet's own tests have been run on.
//
// Tests of values are looked into exactly: comparisons, sets, yes and no, moments, lists, and what was before. Each
// field falls into cases, of which no test tells two apart (package cond); a condition is a union of boxes of cases, and
// a question about rows is one about what boxes leave of boxes. Formulas, and values given by formulas, are not looked
// into: they may hold or not, whatever else does. So what is called unreachable is so; an example that rests on them, or
// on text patterns for which no text was found, is said not to be sure.
package route

import (
	"slices"
	"time"

	"dorfbote/internal/core/cond"
)

// Table is what is looked into.
type Table struct {
	Base      []cond.Node // what has to hold before any row is looked at: Watch and Keep
	Rows      []cond.Node // a nil row always holds
	Every     bool        // every row that holds is taken, not the first alone
	Otherwise bool        // there is something for what no row takes
	Answers   bool        // a caller is answered, so that nobody else need be told
	Now       time.Time   // a moment to look at it
	Created   bool        // arrivals of new records start it
	Updated   bool        // arrivals of others start it
}

// The kinds of findings.
const (
	Unreachable = "unreachable" // a row is never taken
	Overlap     = "overlap"     // two rows hold together
	Gap         = "gap"         // no row holds, and there is no otherwise
	Never       = "never"       // a condition can never hold
	Always      = "always"      // a condition always holds
)

// Finding is one thing that was found.
type Finding struct {
	Kind    string   `json:"kind"`
	Path    string   `json:"path,omitempty"` // of the condition that never or always holds
	Row     int      `json:"row" doc:"the row, from 0; -1 is otherwise"`
	By      []int    `json:"by,omitempty" doc:"the rows that take what it would, or that hold with it"`
	Example *Example `json:"example,omitempty"`
	Words   string   `json:"words"`
}

// Example is a record that shows a finding.
type Example struct {
	Record   map[string]any  `json:"record"`
	Before   map[string]any  `json:"before,omitempty"`
	Gathered map[string]any  `json:"gathered,omitempty"`
	New      bool            `json:"new,omitempty" doc:"as a new record"`
	Given    map[string]bool `json:"given,omitempty" doc:"what was not looked into, and would have to hold or not"`
	Sure     bool            `json:"sure"`
}

// Analysis is everything that was found.
type Analysis struct {
	Findings []Finding `json:"findings"`
	Opaque   []string  `json:"opaque" doc:"what was not looked into: formulas, and values given by them"`
	Whole    bool      `json:"whole" doc:"false where it was too intricate to be looked into wholly"`
	More     int       `json:"more" doc:"overlaps found beyond those listed"`
}

// How much is looked into.
const (
	mostSteps    = 20_000 // for one question
	mostOverlaps = 200
)

// Analyse looks into a table. Of fields that are declared it supposes that they hold what they should; only that otherwise is needless is
// not said where a value off its field's type, which can always come in, would go there.
func Analyse(t Table) Analysis {
	out := analyse(t, false)
	needless := func(f Finding) bool { return f.Kind == Unreachable && f.Row < 0 }
	if slices.ContainsFunc(out.Findings, needless) && !slices.ContainsFunc(analyse(t, true).Findings, needless) {
		out.Findings = slices.DeleteFunc(out.Findings, needless)
	}
	return out
}

func analyse(t Table, open bool) Analysis {
	conditions := slices.DeleteFunc(slices.Concat(t.Base, t.Rows), func(n cond.Node) bool { return n == nil })
	a := &analysis{Table: t, space: newSpace(conditions)}
	a.Findings, a.Opaque, a.Whole = []Finding{}, []string{}, true
	for name := range a.space.index {
		if name[0] == 0 {
			a.Opaque = append(a.Opaque, name[1:])
		}
	}
	slices.Sort(a.Opaque)
	a.situations(open)
	a.alone(conditions)
	if !slices.ContainsFunc(a.views, func(v *view) bool { return len(v.base) > 0 }) {
		a.nothing()
		return a.Analysis
	}
	a.rows()
	if !a.Answers || len(a.Rows) > 0 {
		a.gap()
	}
	return a.Analysis
}

type analysis struct {
	Table
	Analysis
	space *space
	at    []cond.Situation
	views []*view
}

// view is the space in one situation, with the regions of the base and the rows.
type view struct {
	*space
	at   cond.Situation
	base region
	rows []region
	read []bool // the row was not too intricate
}

func (a *analysis) situations(open bool) {
	tests := a.space.allTests()
	nows, whole := cond.Nows(tests, a.Now)
	a.Whole = a.Whole && whole
	back := cond.LooksBack(tests)
	for _, now := range nows {
		if a.Updated || !back {
			a.at = append(a.at, cond.Situation{Now: now, Open: open})
		}
		if a.Created && back {
			a.at = append(a.at, cond.Situation{Now: now, New: true, Open: open})
		}
	}
	for _, at := range a.at {
		s := *a.space
		s.fill(at)
		a.Whole = a.Whole && s.whole
		v := &view{space: &s, at: at, base: region{make(box, len(s.names))}}
		for _, n := range a.Base {
			r, ok := s.region(n, true)
			if !ok {
				a.Whole, r = false, region{make(box, len(s.names))}
			}
			v.base = s.meetAll(v.base, r)
		}
		for _, n := range a.Rows {
			r, ok := s.region(n, true)
			if !ok {
				a.Whole, r = false, nil
			}
			v.rows, v.read = append(v.rows, r), append(v.read, ok)
		}
		a.views = append(a.views, v)
	}
}

// rest finds something of a region that lies in no other.
func (a *analysis) rest(v *view, of region, others region) (box, bool) {
	s := &search{full: v.full, steps: mostSteps}
	for _, b := range of {
		found := s.rest(b, others)
		if s.steps < 0 {
			a.Whole = false
			return nil, false
		}
		if found != nil {
			return found, true
		}
	}
	return nil, true
}

// nothing notes that nothing ever comes as far as the rows: where no condition is impossible by itself, the last of
// them is, after the others.
func (a *analysis) nothing() {
	base := slices.DeleteFunc(slices.Clone(a.Base), func(n cond.Node) bool { return n == nil })
	if len(base) > 0 && !slices.ContainsFunc(a.Findings, func(f Finding) bool { return f.Kind == Never }) {
		a.Findings = append(a.Findings, Finding{Kind: Never, Path: base[len(base)-1].Path(), Row: -1})
	}
}

// rows looks for rows that are never taken, and for rows that hold together.
func (a *analysis) rows() {
	reach := make([]bool, len(a.Rows))
	for i := range a.Rows {
		known := true
		var alone *Example
		for _, v := range a.views {
			if !v.read[i] {
				known = false
				break
			}
			mine := v.meetAll(v.base, v.rows[i])
			if alone == nil && len(mine) > 0 {
				alone = v.example(mine[0])
			}
			found, ok := a.rest(v, mine, a.earlier(v, i, -1))
			if known = known && ok; found != nil {
				reach[i] = true
				break
			}
		}
		if !reach[i] && known {
			a.Findings = append(a.Findings, Finding{Kind: Unreachable, Row: i, By: a.takers(i), Example: alone})
		}
	}
	for i := range a.Rows {
		for j := range i {
			if reach[i] && reach[j] {
				a.overlap(j, i)
			}
		}
	}
}

// earlier are the regions of the rows that go before one, but for one of them.
func (a *analysis) earlier(v *view, row, but int) region {
	var out region
	if a.Every {
		return out
	}
	for j := range row {
		if j != but {
			out = append(out, v.rows[j]...)
		}
	}
	return out
}

// takers are the fewest earlier rows that together take all of a row.
func (a *analysis) takers(row int) []int {
	if a.Every {
		return nil
	}
	var by []int
	for j := range row {
		if slices.ContainsFunc(a.views, func(v *view) bool {
			return len(v.meetAll(v.meetAll(v.base, v.rows[row]), v.rows[j])) > 0
		}) {
			by = append(by, j)
		}
	}
	for k := len(by) - 1; k >= 0 && len(by) > 1; k-- {
		fewer := slices.Delete(slices.Clone(by), k, k+1)
		if !slices.ContainsFunc(a.views, func(v *view) bool {
			var others region
			for _, j := range fewer {
				others = append(others, v.rows[j]...)
			}
			found, ok := a.rest(v, v.meetAll(v.base, v.rows[row]), others)
			return found != nil || !ok
		}) {
			by = fewer
		}
	}
	return by
}

func (a *analysis) overlap(j, i int) {
	for _, v := range a.views {
		for _, x := range v.rows[i] {
			for _, y := range v.rows[j] {
				both, ok := meet(x, y)
				if !ok {
					continue
				}
				for _, b := range v.base {
					if all, ok := meet(both, b); ok {
						if len(a.Findings) >= mostOverlaps {
							a.More++
							return
						}
						a.Findings = append(a.Findings, Finding{Kind: Overlap, Row: i, By: []int{j}, Example: v.example(all)})
						return
					}
				}
			}
		}
	}
}

// gap looks for what no row takes.
func (a *analysis) gap() {
	known := true
	for _, v := range a.views {
		known = known && !slices.Contains(v.read, false) // what is too intricate might take it
		found, ok := a.rest(v, v.base, slices.Concat(v.rows...))
		known = known && ok
		if found == nil || !known {
			continue
		}
		if !a.Otherwise {
			a.Findings = append(a.Findings, Finding{Kind: Gap, Row: -1, Example: v.example(found)})
		}
		return
	}
	if known && a.Otherwise && len(a.Rows) > 0 && slices.ContainsFunc(a.views, func(v *view) bool { return len(v.base) > 0 }) {
		a.Findings = append(a.Findings, Finding{Kind: Unreachable, Row: -1})
	}
}

// alone looks for conditions that never or always hold, the innermost of them.
func (a *analysis) alone(conditions []cond.Node) {
	for _, n := range conditions {
		a.constant(n)
	}
}

// constant notes a condition that never or always holds, and tells whether it, or one inside it, does.
func (a *analysis) constant(n cond.Node) bool {
	p := cond.PartsOf(n)
	if p.Opaque != "" {
		return false
	}
	noted := false
	for _, sub := range p.Subs {
		noted = a.constant(sub) || noted
	}
	if noted || p.Group != "" && len(p.Subs) < 2 {
		return noted
	}
	never, always := true, true
	var example *Example
	for _, v := range a.views {
		yes, ok := v.region(n, true)
		no, alsoOK := v.region(n, false)
		if !ok || !alsoOK {
			return false
		}
		never, always = never && len(yes) == 0, always && len(no) == 0
		if example == nil && len(no) > 0 {
			example = v.example(no[0])
		}
	}
	switch {
	case never:
		a.Findings = append(a.Findings, Finding{Kind: Never, Path: n.Path(), Row: -1, Example: example})
	case always:
		a.Findings = append(a.Findings, Finding{Kind: Always, Path: n.Path(), Row: -1})
	}
	return never || always
}

// example makes a record that lies in a box.
func (v *view) example(b box) *Example {
	e := &Example{Record: map[string]any{}, New: v.at.New, Sure: true}
	for f := range v.names {
		s := v.full[f]
		if b[f] != nil {
			s = b[f]
		}
		if v.tests[f] == nil {
			if b[f] != nil {
				if e.Given == nil {
					e.Given = map[string]bool{}
				}
				e.Given[v.opaque(f)], e.Sure = s.has(1), false
			}
			continue
		}
		k := v.cases[f][v.pick(f, s)]
		e.Sure = e.Sure && !k.Unsure
		at := v.tests[f][0]
		into := e.Record
		if cond.Gathered(at) {
			if e.Gathered == nil {
				e.Gathered = map[string]any{}
			}
			into = e.Gathered
		}
		cond.Place(at, into, k.Now)
		if k.Before != nil {
			if e.Before == nil {
				e.Before = map[string]any{}
			}
			cond.Place(at, e.Before, k.Before)
		}
	}
	return e
}

// pick chooses a case to show: one that is sure where there is one, with a value, or else empty, or else with a value
// that does not read as the field's type.
func (v *view) pick(f int, s set) int {
	best, grade := s.first(), -1
	for i, k := range v.cases[f] {
		if !s.has(i) {
			continue
		}
		g := 0
		if !k.Unsure {
			g += 3
		}
		if !k.Foreign {
			if g++; k.Now != nil {
				g++
			}
		}
		if g > grade {
			best, grade = i, g
		}
	}
	return best
}

func (v *view) opaque(f int) string {
	for name, at := range v.index {
		if at == f {
			return name[1:]
		}
	}
	return ""
}
