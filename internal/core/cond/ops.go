package cond

import (
	"regexp"
	"strings"
	"time"

	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/value"
)

// Op describes an operator: which fields it fits and what value it takes.
type Op struct {
	Name  string `json:"name"`
	Words string `json:"words"` // as read in a sentence
	Fits  string `json:"fits"`  // any, text, text-list, order, time, list, number
	Takes string `json:"takes"` // value, list, pair, span, bool, days, pattern
}

// Ops are all operators, in the order in which they are offered.
var Ops = []Op{
	{"is", "is", "any", "value"},
	{"is_not", "is not", "any", "value"},
	{"one_of", "is one of", "any", "list"},
	{"none_of", "is none of", "any", "list"},
	{"contains", "contains", "text-list", "value"},
	{"lacks", "lacks", "text-list", "value"},
	{"starts_with", "starts with", "text", "value"},
	{"ends_with", "ends with", "text", "value"},
	{"matches", "matches", "text", "pattern"},
	{"above", "is above", "order", "value"},
	{"at_least", "is at least", "order", "value"},
	{"below", "is below", "order", "value"},
	{"at_most", "is at most", "order", "value"},
	{"between", "is between", "order", "pair"},
	{"before", "is before", "time", "value"},
	{"after", "is after", "time", "value"},
	{"within_last", "is within the last", "time", "span"},
	{"within_next", "is within the next", "time", "span"},
	{"weekday", "falls on", "time", "days"},
	{"empty", "is empty", "any", "bool"},
	{"has_any", "has any of", "list", "list"},
	{"has_all", "has all of", "list", "list"},
	{"changed", "changed", "any", "bool"},
	{"became", "became", "any", "value"},
	{"was", "was", "any", "value"},
	{"rose_by", "rose by at least", "number", "value"},
	{"fell_by", "fell by at least", "number", "value"},
}

// OpNamed finds an operator.
func OpNamed(name string) (Op, bool) {
	for _, op := range Ops {
		if op.Name == name {
			return op, true
		}
	}
	return Op{}, false
}

// OpNames lists the operators' names.
func OpNames() []string {
	names := make([]string, len(Ops))
	for i, op := range Ops {
		names[i] = op.Name
	}
	return names
}

// FitsType tells whether the operator can be used on a field of the type.
func (op Op) FitsType(t value.Type) bool {
	if t == value.Any {
		return true
	}
	switch op.Fits {
	case "text":
		return t.IsText()
	case "text-list":
		return t.IsText() || t.IsList()
	case "order":
		return t.IsNumber() || t.IsTime() || t == value.Span
	case "time":
		return t.IsTime()
	case "list":
		return t.IsList()
	case "number":
		return t.IsNumber()
	}
	return true
}

// predicate judges one non-empty value.
type predicate func(v any, o *operand, now time.Time) bool

func orderPredicate(name string, r reader) predicate {
	within := func(low, high int) predicate {
		return func(v any, o *operand, now time.Time) bool {
			c, ok := r.compare(v, o, now)
			return ok && c >= low && c <= high
		}
	}
	switch name {
	case "above", "after":
		return within(1, 1)
	case "at_least":
		return within(0, 1)
	case "below", "before":
		return within(-1, -1)
	}
	return within(-1, 0)
}

func (r reader) predicate(op Op, days map[time.Weekday]bool, pattern *regexp.Regexp) predicate {
	switch op.Name {
	case "is", "became", "was":
		return r.equal
	case "is_not":
		return func(v any, o *operand, now time.Time) bool { return !r.equal(v, o, now) }
	case "one_of":
		return r.equalAny
	case "none_of":
		return func(v any, o *operand, now time.Time) bool { return !r.equalAny(v, o, now) }
	case "contains":
		return r.contains
	case "lacks":
		return func(v any, o *operand, now time.Time) bool { return !r.contains(v, o, now) }
	case "starts_with", "ends_with":
		has := strings.HasPrefix
		if op.Name == "ends_with" {
			has = strings.HasSuffix
		}
		return func(v any, o *operand, _ time.Time) bool { return has(r.folded(v), o.folded) }
	case "matches":
		return func(v any, o *operand, _ time.Time) bool {
			re := pattern
			if re == nil { // the pattern comes from a formula
				var err error
				if re, err = regexp.Compile(formula.Show(o.raw, r.ws)); err != nil {
					return false
				}
			}
			return re.MatchString(formula.Show(v, r.ws))
		}
	case "above", "at_least", "below", "at_most", "before", "after":
		return orderPredicate(op.Name, r)
	case "between":
		return func(v any, o *operand, now time.Time) bool {
			if len(o.list) != 2 {
				return false
			}
			low, okLow := r.compare(v, &o.list[0], now)
			high, okHigh := r.compare(v, &o.list[1], now)
			return okLow && okHigh && low >= 0 && high <= 0
		}
	case "within_last", "within_next":
		ahead := op.Name == "within_next"
		return func(v any, o *operand, now time.Time) bool {
			at, ok := r.moment(v)
			if !ok || !o.hasDur {
				return false
			}
			if ahead {
				return !at.Before(now) && !at.After(now.Add(o.dur))
			}
			return !at.After(now) && !at.Before(now.Add(-o.dur))
		}
	case "weekday":
		return func(v any, _ *operand, _ time.Time) bool {
			at, ok := r.moment(v)
			return ok && days[at.In(r.ws.Location()).Weekday()]
		}
	case "has_any":
		return func(v any, o *operand, now time.Time) bool { return r.has(v, o, now, false) }
	case "has_all":
		return func(v any, o *operand, now time.Time) bool { return r.has(v, o, now, true) }
	}
	return nil
}

func (r reader) equalAny(v any, o *operand, now time.Time) bool {
	for i := range o.list {
		if r.equal(v, &o.list[i], now) {
			return true
		}
	}
	return false
}

func (r reader) folded(v any) string {
	if s, ok := v.(string); ok {
		return value.Fold(s)
	}
	return value.Fold(formula.Show(v, r.ws))
}

func (r reader) contains(v any, o *operand, now time.Time) bool {
	if list, ok := v.([]any); ok {
		for _, e := range list {
			if r.equal(e, o, now) {
				return true
			}
		}
		return false
	}
	return strings.Contains(r.folded(v), o.folded)
}

func (r reader) has(v any, o *operand, now time.Time, all bool) bool {
	list, ok := v.([]any)
	if !ok {
		list = []any{v}
	}
	for i := range o.list {
		found := false
		for _, e := range list {
			if r.equal(e, &o.list[i], now) {
				found = true
				break
			}
		}
		if found != all {
			return found
		}
	}
	return all
}
