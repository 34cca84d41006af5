package route

import (
	"slices"

	"dorfbote/internal/core/cond"
)

// mostBoxes is of how many boxes a condition may consist before it is too intricate to be looked into.
const mostBoxes = 512

// space is everything that can come in, as far as some conditions tell it apart: a dimension for each field, and one
// for each thing that cannot be looked into.
type space struct {
	names  []string
	index  map[string]int
	tests  [][]cond.Node // by dimension; nil for what is opaque
	number map[cond.Node]int
	cases  [][]cond.Case
	full   []set
	holds  map[cond.Node]set
	whole  bool // every case there is was found
}

// newSpace lists the dimensions of some conditions.
func newSpace(conditions []cond.Node) *space {
	s := &space{index: map[string]int{}, number: map[cond.Node]int{}}
	for _, n := range conditions {
		s.list(n)
	}
	return s
}

func (s *space) list(n cond.Node) {
	p := cond.PartsOf(n)
	if p.Group != "" {
		for _, sub := range p.Subs {
			s.list(sub)
		}
		return
	}
	name := p.Field
	if name == "" {
		name = "\x00" + p.Opaque
	}
	f, ok := s.index[name]
	if !ok {
		f = len(s.names)
		s.index[name] = f
		s.names, s.tests = append(s.names, p.Field), append(s.tests, nil)
	}
	s.number[n] = f
	if p.Field != "" {
		s.tests[f] = append(s.tests[f], n)
	}
}

// allTests are the tests of every field.
func (s *space) allTests() []cond.Node { return slices.Concat(s.tests...) }

// fill finds the cases of every field in one situation.
func (s *space) fill(at cond.Situation) {
	s.cases, s.full, s.holds, s.whole = make([][]cond.Case, len(s.names)), make([]set, len(s.names)), map[cond.Node]set{}, true
	for f, tests := range s.tests {
		n := 2 // opaque: it holds, or not
		if tests != nil {
			var ok bool
			s.cases[f], ok = cond.Cases(tests, at)
			n, s.whole = len(s.cases[f]), s.whole && ok
		}
		s.full[f] = newSet(n)
		for i := range n {
			s.full[f].add(i)
		}
		for t, node := range tests {
			held := newSet(n)
			for i, k := range s.cases[f] {
				if k.Holds[t] {
					held.add(i)
				}
			}
			s.holds[node] = held
		}
	}
	for n, f := range s.number {
		if s.tests[f] == nil {
			s.holds[n] = newSet(2)
			s.holds[n].add(1)
		}
	}
}

// region is where a condition holds, or does not. ok is false where it is too intricate. A nil condition holds
// everywhere.
func (s *space) region(n cond.Node, yes bool) (region, bool) {
	if n == nil {
		if yes {
			return region{make(box, len(s.names))}, true
		}
		return nil, true
	}
	p := cond.PartsOf(n)
	if p.Group == "" {
		f := s.number[n]
		held := s.holds[n]
		if !yes {
			held = s.full[f].minus(held)
		}
		if held.empty() {
			return nil, true
		}
		b := make(box, len(s.names))
		if !s.full[f].within(held) {
			b[f] = held
		}
		return region{b}, true
	}
	if p.Group == "none" {
		yes = !yes
	}
	if (p.Group == "all") == yes { // every part
		out := region{make(box, len(s.names))}
		for _, sub := range p.Subs {
			r, ok := s.region(sub, yes)
			if !ok {
				return nil, false
			}
			if out = s.meetAll(out, r); len(out) > mostBoxes {
				return nil, false
			}
		}
		return out, true
	}
	var out region
	for _, sub := range p.Subs {
		r, ok := s.region(sub, yes)
		if out = append(out, r...); !ok || len(out) > mostBoxes {
			return nil, false
		}
	}
	return out, true
}

func (s *space) meetAll(a, b region) region {
	var out region
	for _, x := range a {
		for _, y := range b {
			if both, ok := meet(x, y); ok && !slices.ContainsFunc(out, func(o box) bool { return inside(both, o, s.full) }) {
				out = append(out, both)
			}
		}
	}
	return out
}
