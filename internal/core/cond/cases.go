package cond

import (
	"fmt"
	"math"
	"slices"
	"sort"
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
	c.t, c.many, c.options, c.whole = first.read.t, first.many, first.options, first.integer
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
			c.add(v, b, false)
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

func (c *caser) add(v, before any, unsure bool) {
	if len(c.cases) >= mostCases {
		return
	}
	c.keep(Case{Now: v, Before: before, Holds: c.judge(v, before), Unsure: unsure})
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
			return nil
		}
		return []any{x + " ", strings.ToUpper(x), "another " + x}
	case []any:
		return []any{append(append([]any{}, x...), x[0])}
	}
	return nil
}

func (c *caser) zone() *time.Location { return c.tests[0].read.ws.Location() }

// steps are the differences between a number and what it was before that tests tell apart. Empty where none do.
func (c *caser) steps() []float64 {
	var out []float64
	for _, t := range c.tests {
		switch {
		case t.looks == looksForChange:
			out = append(out, 0)
		case t.looks == looksForStep && t.lit.hasNum && t.op.Name == "fell_by":
			out = append(out, -t.lit.num.Float)
		case t.looks == looksForStep && t.lit.hasNum:
			out = append(out, t.lit.num.Float)
		}
	}
	return out
}

// moved adds numbers with what they were before. A number is looked at in every gap between those that the tests name
// and those that are a step away from one that was; what was before, in every gap between those and a step back.
func (c *caser) moved(steps []float64) {
	points := c.points()
	far := slices.Clone(points)
	for _, p := range points {
		for _, s := range steps {
			far = append(far, p+s)
		}
	}
	values := between(far, c.whole)
	if most := mostTries / (len(c.tests) * (len(points)*2 + len(steps)*2 + 3)); len(values) > most {
		c.cut, values = true, values[:max(most, 1)]
	}
	for _, v := range values {
		near := slices.Clone(points)
		for _, s := range steps {
			near = append(near, v-s)
		}
		c.add(v, nil, false)
		for _, b := range between(near, c.whole) {
			c.add(v, b, false)
		}
	}
	for _, b := range between(points, c.whole) {
		c.add(nil, b, false)
	}
	c.add(nil, nil, false)
}

// singles are single values that stand for all that the tests tell apart.
func (c *caser) singles() []any {
	switch {
	case c.t == value.YesNo:
		return []any{true, false}
	case c.t.IsNumber():
		return c.numbers()
	case c.t.IsTime():
		return c.moments()
	case c.t == value.Span:
		return c.spans()
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

func (c *caser) numbers() []any {
	var out []any
	for _, f := range between(c.points(), c.whole) {
		out = append(out, f)
	}
	return out
}

// points are the numbers that the tests name.
func (c *caser) points() []float64 {
	var points []float64
	for _, t := range c.tests {
		if t.looks == looksForStep {
			continue
		}
		for _, o := range t.operands() {
			if o.hasNum {
				points = append(points, o.num.Float)
			}
		}
	}
	return points
}

// between gives the points, and one number in every gap between and beyond them.
func between(points []float64, whole bool) []float64 {
	if len(points) == 0 {
		return []float64{1}
	}
	sort.Float64s(points)
	step := 1.0
	out := []float64{math.Floor(points[0]) - step}
	for i, p := range points {
		switch {
		case !whole:
			out = append(out, p)
		case p == math.Trunc(p):
			out = append(out, p)
		}
		next := p + 2
		if i+1 < len(points) {
			next = points[i+1]
		}
		if whole {
			if mid := math.Floor(p) + 1; mid < next {
				out = append(out, mid)
			}
			continue
		}
		if mid := roundBetween(p, next); mid > p && mid < next {
			out = append(out, mid)
		}
	}
	return out
}

// roundBetween is a number between two that reads well.
func roundBetween(a, b float64) float64 {
	for _, digits := range []float64{1, 10, 100, 1000, 1e4, 1e6} {
		if r := math.Floor(a*digits+1) / digits; r > a && r < b {
			return r
		}
	}
	return a + (b-a)/2
}

func (c *caser) moments() []any {
	var points []time.Time
	week := false
	for _, t := range c.tests {
		if t.op.Takes == "days" {
			week = true
			continue
		}
		if t.op.Takes == "span" {
			points = append(points, c.Now, c.Now.Add(t.lit.dur), c.Now.Add(-t.lit.dur))
			continue
		}
		for _, o := range t.operands() {
			if o.hasAt {
				points = append(points, o.at.At(c.Now, c.zone()))
			}
		}
	}
	if len(points) == 0 {
		points = []time.Time{c.Now}
	}
	sort.Slice(points, func(i, j int) bool { return points[i].Before(points[j]) })
	var at []time.Time
	for i, p := range points {
		at = append(at, p.Add(-time.Second), p, p.Add(time.Second), p.AddDate(0, 0, -1), p.AddDate(0, 0, 1))
		if i+1 < len(points) {
			at = append(at, p.Add(points[i+1].Sub(p)/2))
		}
	}
	if week {
		for _, p := range append([]time.Time(nil), at...) {
			for d := 1; d < 7; d++ {
				at = append(at, p.AddDate(0, 0, d), p.AddDate(0, 0, -d))
			}
		}
	}
	out := make([]any, len(at))
	for i, p := range at {
		out[i] = c.moment(p)
	}
	return out
}

func (c *caser) moment(at time.Time) string {
	if c.t == value.Date {
		return at.In(c.zone()).Format(time.DateOnly)
	}
	return at.UTC().Format(time.RFC3339Nano)
}

func (c *caser) spans() []any {
	var points []float64
	for _, t := range c.tests {
		for _, o := range t.operands() {
			if o.hasDur {
				points = append(points, o.dur.Seconds())
			}
		}
	}
	var out []any
	for _, s := range between(points, true) {
		out = append(out, fmt.Sprintf("%ds", int64(s)))
	}
	return out
}

func (c *caser) texts() []any {
	var out []any
	closed := len(c.options) > 0
	for _, o := range c.options {
		out = append(out, o)
	}
	for _, t := range c.tests {
		for _, o := range t.operands() {
			if !closed && o.isText && !o.empty && t.op.Takes != "pattern" {
				out = append(out, o.raw)
			}
		}
	}
	if closed {
		return out
	}
	return append(append(out, c.unknown()), c.mixtures()...)
}

// unknown is a text that no test names.
func (c *caser) unknown() string {
	known := map[string]bool{}
	for _, t := range c.tests {
		for _, o := range t.operands() {
			known[o.folded] = true
		}
	}
	other := "something else"
	for known[other] {
		other += " again"
	}
	return other
}

// mixtures are texts in which several of the patterns are found.
func (c *caser) mixtures() []any {
	var start, end string
	var inside, out []any
	for _, t := range c.tests {
		text, _ := t.lit.raw.(string)
		switch t.op.Name {
		case "matches":
			if s, ok := sample(text); ok {
				out = append(out, s)
			}
		case "starts_with":
			start = text
		case "ends_with":
			end = text
		case "contains", "lacks":
			inside = append(inside, text)
		}
	}
	if len(inside) > mostPatterns {
		inside = inside[:mostPatterns]
	}
	for mask := range 1 << len(inside) {
		text := ""
		for i, s := range inside {
			if mask&(1<<i) != 0 {
				text += fmt.Sprint(s, " ")
			}
		}
		for _, s := range []string{text, start + " " + text, text + " " + end, start + " " + text + end} {
			if strings.TrimSpace(s) != "" {
				out = append(out, strings.TrimSpace(s))
			}
		}
	}
	return out
}

// patterns adds the ways in which tests of text patterns might come out for which no text was found. Tests of the same
// pattern come out alike.
func (c *caser) patterns(before []any) {
	if len(c.options) > 0 || !c.t.IsText() && c.t != value.Any {
		return // every text there can be has been tried
	}
	groups := map[string][]int{}
	for i, t := range c.tests {
		switch {
		case t.op.Name == "contains" || t.op.Name == "lacks":
			if !t.read.t.IsList() {
				groups["contains "+t.lit.folded] = append(groups["contains "+t.lit.folded], i)
			}
		case t.op.Fits == "text":
			key := fmt.Sprint(t.op.Name, " ", t.lit.raw)
			groups[key] = append(groups[key], i)
		}
	}
	if len(groups) == 0 {
		return
	}
	keys := value.SortedKeys(groups)
	if len(keys) > mostPatterns {
		c.cut = true
		keys = keys[:mostPatterns]
	}
	// On a text that no other test knows, whatever was before.
	var v any = c.unknown()
	if c.many {
		v = []any{v}
	}
	for _, b := range before {
		base := c.judge(v, b)
		for mask := range 1 << len(keys) {
			holds := append([]bool(nil), base...)
			for g, key := range keys {
				for _, i := range groups[key] {
					holds[i] = (mask&(1<<g) != 0) != (c.tests[i].op.Name == "lacks")
				}
			}
			c.keep(Case{Now: v, Before: b, Holds: holds, Unsure: true})
		}
	}
}
