package cond

import (
	"strings"
	"time"

	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/value"
)

// Parts is how a condition is built, for those who look into it without running it.
type Parts struct {
	Group string // all, any or none; "" for what is not a group
	Subs  []Node
	// Field is what a test looks at, with the gathered name that it belongs to. It is "" for what cannot be looked into: a
	// formula, or a test whose value a formula gives.
	Field string
	// Opaque names what cannot be looked into, so that the same text is the same thing wherever it stands.
	Opaque string
}

// Walk hands on a condition and every one inside it.
func Walk(n Node, each func(Node)) {
	if n == nil {
		return
	}
	each(n)
	if g, ok := n.(*group); ok {
		for _, sub := range g.subs {
			Walk(sub, each)
		}
	}
}

// PartsOf takes a condition apart.
func PartsOf(n Node) Parts {
	switch x := n.(type) {
	case *group:
		return Parts{Group: x.kind, Subs: x.subs}
	case *formulaNode:
		return Parts{Opaque: x.formula.String()}
	case *happened:
		return Parts{Opaque: x.text()}
	case *test:
		if x.whole != nil || x.items != nil {
			return Parts{Opaque: x.text}
		}
		return Parts{Field: x.fieldName()}
	}
	return Parts{}
}

func (t *test) fieldName() string {
	if t.root == "" {
		return t.field.String()
	}
	return strings.TrimSuffix(t.root+"."+t.field.String(), ".")
}

// Gathered tells whether a test looks at something gathered.
func Gathered(n Node) bool {
	t, ok := n.(*test)
	return ok && t.root != ""
}

// LooksBack tells whether any of some tests looks at what was before.
func LooksBack(tests []Node) bool {
	for _, n := range tests {
		if t, ok := n.(*test); ok && t.back() {
			return true
		}
	}
	return false
}

func (t *test) back() bool { return t.looks > looksForEmpty }

// MostNows is how many moments Nows gives at most.
const MostNows = 48

// Nows gives moments to look at tests of time at: one is enough where what they compare with moves alike, and as many
// as are told apart where it does not. whole is false where there would be too many.
func Nows(tests []Node, from time.Time) (nows []time.Time, whole bool) {
	var fixed []time.Time
	var shifts []time.Duration // from now
	today, week := false, false
	zone := time.UTC
	for _, n := range tests {
		t, ok := n.(*test)
		if !ok || !t.read.t.IsTime() && t.op.Fits != "time" {
			continue
		}
		zone = t.read.ws.Location()
		week = week || t.op.Takes == "days"
		if t.op.Takes == "span" {
			shifts = append(shifts, 0, t.lit.dur, -t.lit.dur)
			continue
		}
		for _, o := range t.operands() {
			switch now := from.Add(1234567 * time.Second); {
			case !o.hasAt:
			case !o.at.Moves():
				fixed = append(fixed, o.at.At(from, zone))
			case o.at.At(now, zone).Sub(now) == o.at.At(from, zone).Sub(from):
				shifts = append(shifts, o.at.At(from, zone).Sub(from))
			default:
				today = true
			}
		}
	}
	if len(shifts) == 0 && !today || len(fixed) == 0 && (!today || len(shifts) == 0) && !week {
		return []time.Time{from}, true
	}
	seen := map[int64]bool{}
	add := func(t time.Time) {
		for _, d := range []time.Duration{0, -time.Second, time.Second} {
			if at := t.Add(d); !seen[at.Unix()] {
				seen[at.Unix()] = true
				nows = append(nows, at)
			}
		}
	}
	add(from)
	for _, f := range fixed {
		if today {
			add(f)
		}
		for _, s := range shifts {
			add(f.Add(-s))
		}
	}
	if today {
		y, m, d := from.In(zone).Date()
		midnight := time.Date(y, m, d, 0, 0, 0, 0, zone)
		add(midnight)
		for _, s := range shifts {
			add(midnight.Add(-s % (24 * time.Hour)))
		}
	}
	if week {
		for _, at := range append([]time.Time(nil), nows...) {
			for d := 1; d < 7 && len(nows) <= MostNows; d++ {
				nows = append(nows, at.AddDate(0, 0, d))
			}
		}
	}
	if len(nows) > MostNows {
		return nows[:MostNows], false
	}
	return nows, true
}

// operands are a test's values, one by one.
func (t *test) operands() []*operand {
	if !t.lit.isList {
		return []*operand{&t.lit}
	}
	out := make([]*operand, len(t.lit.list))
	for i := range t.lit.list {
		out[i] = &t.lit.list[i]
	}
	return out
}

// Situation is the moment and the sort of arrival for which tests are looked at.
type Situation struct {
	Now time.Time
	// New is an arrival without anything before it.
	New bool
	// Open is where fields may hold what their schema does not have them hold: nothing that comes in is kept from that.
	Open bool
}

// put makes the scope in which a field has a value.
func (t *test) put(sc *formula.Scope, now, before any) {
	if t.root != "" {
		v := now
		if t.field.String() != "" {
			v = nest(t.field.Steps(), now, t.many)
		}
		sc.Gathered = map[string]any{t.root: v}
		return
	}
	sc.Record, _ = nest(t.field.Steps(), now, t.many).(map[string]any)
	if sc.Before != nil {
		sc.Before, _ = nest(t.field.Steps(), before, t.many).(map[string]any)
	}
}

// Place puts a value where a test looks for it: into a record, or among what is gathered.
func Place(n Node, into map[string]any, v any) {
	t, ok := n.(*test)
	if !ok || value.Empty(v) {
		return
	}
	steps := t.field.Steps()
	if t.root != "" {
		if steps = append([]string{t.root}, steps...); t.field.String() == "" {
			steps = steps[:1]
		}
	}
	merge(into, nest(steps, v, t.many).(map[string]any))
}

func merge(into, from map[string]any) {
	for k, v := range from {
		have, ok := into[k].(map[string]any)
		more, also := v.(map[string]any)
		if ok && also {
			merge(have, more)
			continue
		}
		into[k] = v
	}
}

// nest builds the record in which a value stands at a path. Where the path goes through a list, the value's elements
// each stand in an element of it.
func nest(steps []string, v any, many bool) any {
	if len(steps) == 0 {
		return v
	}
	list, ok := v.([]any)
	if !many || !ok {
		return map[string]any{steps[0]: nest(steps[1:], v, false)}
	}
	if len(steps) == 1 {
		return map[string]any{steps[0]: v}
	}
	out := make([]any, len(list))
	for i, e := range list {
		out[i] = nest(steps[1:], e, false)
	}
	return map[string]any{steps[0]: out}
}
