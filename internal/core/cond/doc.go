// Package cond compiles condition trees (tests, all/any/none groups and formulas) and evaluates them.
//
// Evaluation is in Kleene's three-valued logic: a formula that fails is [Broken], and a group is broken
// only where the broken part decides. So the order in which parts are looked at cannot be observed.
package cond

import (
	"strings"

	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/report"
)

// Tri is the outcome of a condition.
type Tri int8

// The three outcomes.
const (
	False Tri = iota
	True
	Broken // an error, see Explain
)

func (t Tri) String() string { return [...]string{"false", "true", "broken"}[t] }

func tri(b bool) Tri {
	if b {
		return True
	}
	return False
}

// Not turns yes and no around; broken stays broken.
func (t Tri) Not() Tri { return [...]Tri{True, False, Broken}[t] }

// Spec is a condition as written on a sheet: a group, a formula or a test.
type Spec struct {
	At    report.Pos
	Group string // all, any, none
	Subs  []*Spec

	Formula *report.Text

	// Happened is what people may have done with an alert, Claimed or Answered; Value is whether they did. It stands only where
	// what follows on an alert asks.
	Happened string

	Field   report.Text
	Op      report.Text
	Value   any
	ValueAt report.Text // the value's place; S holds its text where it is text
}

// JSON is the condition as a sheet has it.
func (s *Spec) JSON() map[string]any {
	switch {
	case s.Group != "":
		subs := make([]any, len(s.Subs))
		for i, sub := range s.Subs {
			subs[i] = sub.JSON()
		}
		return map[string]any{s.Group: subs}
	case s.Formula != nil:
		return map[string]any{"formula": s.Formula.S}
	case s.Happened != "":
		return map[string]any{s.Happened: s.Value}
	}
	return testJSON(s.Field.S, s.Op.S, s.Value)
}

func testJSON(field, op string, v any) map[string]any {
	return map[string]any{"field": field, op: v}
}

// With is the test with one value in the place of another.
func (s *Spec) With(old, v string) map[string]any {
	list, ok := s.Value.([]any)
	if !ok {
		return testJSON(s.Field.S, s.Op.S, v)
	}
	out := make([]any, len(list))
	for i, e := range list {
		if out[i] = e; e == old {
			out[i] = v
		}
	}
	return testJSON(s.Field.S, s.Op.S, out)
}

// Node is a compiled condition. It may be evaluated by many goroutines at once, each with a scope of
// its own.
type Node interface {
	// Eval gives the outcome. It does not allocate for tests of literal values.
	Eval(sc *formula.Scope) Tri
	// Judge gives the outcome with the path of the first condition that made it so, in one pass.
	Judge(sc *formula.Scope) (Tri, string)
	// Explain evaluates every part and says what each saw.
	Explain(sc *formula.Scope) Line
	// Decider gives the same path, and the error if that condition is broken.
	Decider(sc *formula.Scope) (path string, err error)
	// Path is the condition's place on the sheet, such as keep.all[0].
	Path() string
	// Words hands on the path and the words of this condition and of every one inside it.
	Words(each func(path, words string))
}

// Line is what the proof shows beside one condition.
type Line struct {
	Path   string `json:"path"`
	Result string `json:"result"` // true, false, broken
	Text   string `json:"text"`   // the condition in words
	Seen   string `json:"seen,omitempty"`
	Was    string `json:"was,omitempty"` // what was seen before, for tests of change
	Error  string `json:"error,omitempty"`
	Parts  []Line `json:"parts,omitempty"`
}

type group struct {
	path, kind string
	subs       []Node
}

func (g *group) Path() string { return g.path }

func (g *group) Words(each func(path, words string)) {
	parts := make([]string, 0, len(g.subs))
	for _, s := range g.subs {
		s.Words(func(path, words string) {
			if path == s.Path() {
				parts = append(parts, words)
			}
			each(path, words)
		})
	}
	each(g.path, groupWords[g.kind]+" ("+strings.Join(parts, "; ")+")")
}

func (g *group) Eval(sc *formula.Scope) Tri {
	r, _ := g.Judge(sc)
	return r
}

// Judge: a part decides if it alone settles the group, or if it is broken and nothing settles it; else
// every part shares in the outcome, and the group itself is what decided.
func (g *group) Judge(sc *formula.Scope) (Tri, string) {
	// stop is the outcome of a part that settles the group, whatever the others are.
	stop := True
	if g.kind == "all" {
		stop = False
	}
	out, at := stop.Not(), g.path
	for _, s := range g.subs {
		switch r, path := s.Judge(sc); {
		case r == stop:
			return g.turn(stop), path
		case r == Broken && out != Broken:
			out, at = Broken, path
		}
	}
	return g.turn(out), at
}

func (g *group) turn(t Tri) Tri {
	if g.kind == "none" {
		return t.Not()
	}
	return t
}

func (g *group) Explain(sc *formula.Scope) Line {
	l := Line{Path: g.path, Result: g.Eval(sc).String(), Text: groupWords[g.kind]}
	for _, s := range g.subs {
		l.Parts = append(l.Parts, s.Explain(sc))
	}
	return l
}

var groupWords = map[string]string{"all": "all of", "any": "at least one of", "none": "none of"}

func (g *group) Decider(sc *formula.Scope) (string, error) {
	_, at := g.Judge(sc)
	if at == g.path {
		return at, nil
	}
	for _, s := range g.subs {
		if _, path := s.Judge(sc); path == at {
			return s.Decider(sc)
		}
	}
	return at, nil
}

type formulaNode struct {
	path    string
	formula *formula.Formula
	words   *formula.Words
}

func (f *formulaNode) Path() string { return f.path }

func (f *formulaNode) Words(each func(path, words string)) { each(f.path, f.formula.String()) }

func (f *formulaNode) Eval(sc *formula.Scope) Tri {
	b, err := f.formula.Bool(sc)
	if err != nil {
		return Broken
	}
	return tri(b)
}

// Judge gives the outcome and its own path.
func (f *formulaNode) Judge(sc *formula.Scope) (Tri, string) { return f.Eval(sc), f.path }

func (f *formulaNode) Explain(sc *formula.Scope) Line {
	b, err := f.formula.Bool(sc)
	l := Line{Path: f.path, Result: tri(b).String(), Text: f.formula.String()}
	if err != nil {
		l.Result, l.Error = Broken.String(), err.Error()
	}
	return l
}

func (f *formulaNode) Decider(sc *formula.Scope) (string, error) {
	_, err := f.formula.Bool(sc)
	return f.path, err
}
