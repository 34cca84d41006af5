package cond

import (
	"slices"
	"strings"
	"time"

	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/value"
)

// Case is one way in which a field can be, as far as some tests tell it from others.
type Case struct {
	Now, Before any
	Holds       []bool // by test
	// Unsure is a case that may not exist: no text was found that looks like this to the tests of text patterns.
	Unsure bool
	// Foreign is a case of a value that does not read as the field's type, such as "n/a" where numbers are expected.
	Foreign bool
}

// The most cases of one field, and the most text patterns of one field that are looked into together.
const (
	mostTries    = 300_000 // of running one test on one value
	mostCases    = 4096
	mostPatterns = 6
)

// Cases gives every way in which a field can be that its tests tell apart: one value for each, found by running the
// tests. The tests are all of one field. Every case that exists is among them, save where ok is false.
func Cases(tests []Node, s Situation) (cases []Case, ok bool) {
	c := caser{Situation: s, seen: map[string]bool{}}
	for _, n := range tests {
		t := n.(*test)
		c.tests = append(c.tests, t)
		c.back = c.back || t.back()
	}
	first := c.tests[0]
	c.t, c.many, c.options, c.whole, c.closed = first.read.t, first.many, first.options, first.integer, first.closed
	if steps := c.steps(); len(steps) > 0 && !s.New && first.root == "" && !c.many && (c.t.IsNumber() || c.t == value.Any && slices.ContainsFunc(c.tests, func(t *test) bool { return t.looks == looksForStep })) {
		c.moved(steps)
		if c.t.IsNumber() {
			return c.cases, len(c.cases) < mostCases && !c.cut
		}
	}
	now := c.values()
	before := []any{nil}
	if c.back && !s.New && first.root == "" {
		now = c.distinct(now)
		before = append(c.distinctBefore(now), nil)
	}
	if most := mostTries / (len(c.tests) * len(before)); len(now) > most {
		c.cut, now = true, now[:max(most, 1)]
	}
	for _, v := range now {
		for _, b := range before {
			c.add(v, b)
		}
	}
	c.patterns(before)
	return c.cases, len(c.cases) < mostCases && !c.cut
}

type caser struct {
	Situation
	tests   []*test
	t       value.Type
	many    bool
	whole   bool
	closed  bool
	options []string
	back    bool
	cut     bool
	cases   []Case
	seen    map[string]bool
}

func (c *caser) judge(v, before any) []bool {
	sc := &formula.Scope{Now: c.Now}
	if !c.New {
		sc.Before = map[string]any{}
	}
	c.tests[0].put(sc, v, before)
	holds := make([]bool, len(c.tests))
	for i, t := range c.tests {
		holds[i], _ = t.eval(sc)
	}
	return holds
}

func (c *caser) add(v, before any) {
	if len(c.cases) >= mostCases {
		return
	}
	c.keep(Case{Now: v, Before: before, Holds: c.judge(v, before), Foreign: v == foreign})
}

func (c *caser) keep(k Case) {
	if sig := signature(k.Holds); !c.seen[sig] {
		c.seen[sig] = true
		c.cases = append(c.cases, k)
	}
}

func signature(holds []bool) string {
	var b strings.Builder
	for _, h := range holds {
		if h {
			b.WriteByte('1')
		} else {
			b.WriteByte('0')
		}
	}
	return b.String()
}

// values are raw values that stand for all that the tests tell apart, an empty one among them.
func (c *caser) values() []any {
	single := c.singles()
	if !c.many && !c.t.IsList() {
		return append([]any{nil}, single...)
	}
	return c.sets(single)
}

// sets are lists that stand for all lists: of elements that the tests tell apart, every set of them.
func (c *caser) sets(single []any) []any {
	const most = 10
	single = once(single)
	if c.many { // one element is enough for a test to hold
		single = c.distinctElements(single)
	}
	var out []any
	if len(single) > most { // one, two or all of them
		c.cut = true
		for i, v := range single {
			out = append(out, []any{v}, append([]any{}, single[:i+1]...))
			for _, o := range single[:i] {
				out = append(out, []any{o, v})
			}
		}
		return append([]any{nil}, out...)
	}
	for mask := 1; mask < 1<<len(single); mask++ {
		var list []any
		for i, v := range single {
			if mask&(1<<i) != 0 {
				list = append(list, v)
			}
		}
		out = append(out, list)
	}
	return append([]any{nil}, out...)
}

// once leaves out what stands twice.
func once(list []any) []any {
	seen := map[any]bool{}
	return slices.DeleteFunc(list, func(v any) bool {
		have := seen[v]
		seen[v] = true
		return have
	})
}

func (c *caser) distinctElements(single []any) []any {
	seen := map[string]bool{}
	var out []any
	for _, v := range single {
		if sig := signature(c.judge([]any{v}, nil)); !seen[sig] {
			seen[sig] = true
			out = append(out, v)
		}
	}
	return out
}

// distinct leaves out values that no test tells apart, now or as what was before.
func (c *caser) distinct(list []any) []any {
	seen := map[string]bool{}
	var out []any
	for _, v := range list {
		if sig := signature(c.judge(v, nil)) + signature(c.judge(nil, v)); !seen[sig] {
			seen[sig] = true
			out = append(out, v)
		}
	}
	return out
}

// distinctBefore are values for what was before. A second value that looks like the first to every test is among them,
// since a change between the two is a change.
func (c *caser) distinctBefore(now []any) []any {
	var out []any
	for _, v := range now {
		if v == nil {
			continue
		}
		out = append(out, v)
		if other := c.twin(v); other != nil {
			out = append(out, other)
		}
	}
	return out
}

func (c *caser) twin(v any) any {
	if len(c.options) > 0 {
		return nil
	}
	want := signature(c.judge(v, nil))
	for _, o := range c.near(v) {
		if signature(c.judge(o, nil)) == want {
			return o
		}
	}
	return nil
}

func (c *caser) near(v any) []any {
	switch x := v.(type) {
	case float64:
		return []any{x + 1, x - 1}
	case string:
		if c.t.IsTime() {
			if at, _, ok := value.ReadMoment(x, c.zone()); ok {
				return []any{c.moment(at.Add(time.Second)), c.moment(at.Add(-time.Second)), c.moment(at.AddDate(0, 0, 1)), c.moment(at.AddDate(0, 0, -1))}
			}
		}
		return []any{x + " ", strings.ToUpper(x), "another " + x}
	case []any:
		return []any{append(append([]any{}, x...), x[0])}
	}
	return nil
}

func (c *caser) zone() *time.Location { return c.tests[0].read.ws.Location() }

// foreign stands for every value that does not read as its field's type.
var foreign any = "n/a"

// orForeign adds the value that does not read as the field's type, unless there can be none.
func (c *caser) orForeign(list []any) []any {
	if c.closed && !c.Open {
		return list
	}
	return append(list, foreign)
}

// singles are single values that stand for all that the tests tell apart.
func (c *caser) singles() []any {
	switch {
	case c.t == value.YesNo:
		return c.orForeign([]any{true, false})
	case c.t.IsNumber():
		return c.orForeign(c.numbers())
	case c.t.IsTime():
		return c.orForeign(c.moments())
	case c.t == value.Span:
		return c.orForeign(c.spans())
	case c.t.IsText():
		return c.texts()
	}
	// Nothing is known of the type: it may be any.
	out := c.texts()
	if len(c.options) > 0 {
		return out
	}
	for _, t := range c.tests {
		for _, o := range t.operands() {
			switch {
			case o.isBool && !o.isText:
				out = append(out, true, false)
			case o.hasAt && o.isText:
				return append(append(out, c.moments()...), c.numbers()...)
			case o.hasDur && o.isText:
				return append(append(out, c.spans()...), c.numbers()...)
			}
		}
	}
	return append(out, c.numbers()...)
}
