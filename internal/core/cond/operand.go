package cond

import (
	"fmt"
	"time"

	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/value"
)

// operand is a test's value, read in every way its type allows, once.
type operand struct {
	raw    any
	empty  bool
	num    value.Number
	hasNum bool
	folded string
	isText bool
	at     value.Instant
	hasAt  bool
	dur    time.Duration
	hasDur bool
	truth  bool
	isBool bool
	list   []operand
	isList bool
}

// newOperand reads a value for fields of a type. The error says what the value should look like.
func newOperand(v any, t value.Type, ws value.Workspace) (operand, error) {
	o := operand{raw: v, empty: value.Empty(v)}
	if list, ok := v.([]any); ok {
		o.isList = true
		for _, e := range list {
			sub, err := newOperand(e, t, ws)
			if err != nil {
				return o, err
			}
			o.list = append(o.list, sub)
		}
		return o, nil
	}
	if o.empty {
		return o, nil
	}
	switch x := v.(type) {
	case string:
		o.isText, o.folded = true, value.Fold(x)
		o.num, o.hasNum = value.ReadNumber(x, ws)
		if in, err := value.ParseInstant(x, ws.Location()); err == nil {
			o.at, o.hasAt = in, true
		} else if t.IsTime() {
			return o, err
		}
		if d, err := value.ParseSpan(x); err == nil {
			o.dur, o.hasDur = d, true
		} else if t == value.Span {
			return o, err
		}
		o.truth, o.isBool = readTruth(x)
	case bool:
		o.truth, o.isBool = x, true
		o.folded = formula.Show(x, ws)
	case time.Time:
		o.at, o.hasAt = value.Fixed(x), true
	case time.Duration:
		o.dur, o.hasDur = x, true
	default:
		o.num, o.hasNum = value.ReadNumber(x, ws)
		o.folded = value.Fold(formula.Show(x, ws))
	}
	switch {
	case t.IsNumber() && !o.hasNum:
		return o, fmt.Errorf("%s is not a number", quote(v))
	case t.IsTime() && !o.hasAt:
		return o, fmt.Errorf("%s is not a date or moment", quote(v))
	case t == value.Span && !o.hasDur:
		return o, fmt.Errorf("%s is not a span of time such as 45m or 2h", quote(v))
	case t == value.YesNo && !o.isBool:
		return o, fmt.Errorf("%s is neither true nor false", quote(v))
	}
	return o, nil
}

func quote(v any) string {
	if s, ok := v.(string); ok {
		return fmt.Sprintf("%q", s)
	}
	return string(value.AppendJSON(nil, v))
}

func readTruth(s string) (truth, ok bool) {
	switch value.Fold(s) {
	case "true", "yes":
		return true, true
	case "false", "no":
		return false, true
	}
	return false, false
}

// reader reads raw field values by the field's type.
type reader struct {
	t  value.Type
	ws value.Workspace
}

func (r reader) moment(v any) (time.Time, bool) {
	switch x := v.(type) {
	case string:
		t, _, ok := value.ReadMoment(x, r.ws.Location())
		return t, ok
	case time.Time:
		return x, true
	}
	return time.Time{}, false
}

func (r reader) span(v any) (time.Duration, bool) {
	switch x := v.(type) {
	case string:
		d, err := value.ParseSpan(x)
		return d, err == nil
	case time.Duration:
		return x, true
	}
	return 0, false
}

// equal compares a single non-empty value.
func (r reader) equal(v any, o *operand, now time.Time) bool {
	if o.isList {
		list, ok := v.([]any)
		if !ok || len(list) != len(o.list) {
			return false
		}
		for i := range list {
			if !r.equal(list[i], &o.list[i], now) {
				return false
			}
		}
		return true
	}
	switch {
	case r.t.IsText():
		return r.equalText(v, o)
	case r.t.IsNumber() || r.t == value.Span || r.t.IsTime():
		c, ok := r.compare(v, o, now)
		if !ok && o.isText && !o.hasNum && !o.hasAt && !o.hasDur { // what does not read as the type equals the same text
			s, text := v.(string)
			return text && value.EqualFolded(s, o.folded)
		}
		return ok && c == 0
	case r.t == value.YesNo:
		b, ok := v.(bool)
		if s, isText := v.(string); isText {
			b, ok = readTruth(s)
		}
		return ok && o.isBool && b == o.truth
	}
	switch x := v.(type) {
	case bool:
		return o.isBool && x == o.truth
	case float64, int, time.Time, time.Duration:
		c, ok := r.compare(v, o, now)
		return ok && c == 0
	case string:
		if !o.isText && o.hasNum {
			c, ok := r.compare(v, o, now)
			return ok && c == 0
		}
		return r.equalText(v, o)
	}
	return value.Same(v, o.raw)
}

func (r reader) equalText(v any, o *operand) bool {
	if s, ok := v.(string); ok {
		return value.EqualFolded(s, o.folded)
	}
	return value.Fold(formula.Show(v, r.ws)) == o.folded
}

// compare orders a single non-empty value against the operand. ok is false where the two cannot be
// compared, which makes the test false.
func (r reader) compare(v any, o *operand, now time.Time) (c int, ok bool) {
	switch {
	case r.t.IsNumber():
		return r.compareNumber(v, o)
	case r.t.IsTime():
		return r.compareMoment(v, o, now)
	case r.t == value.Span:
		return r.compareSpan(v, o)
	}
	switch v.(type) { // nothing is known of the field: the values themselves say what they are
	case float64, int:
		return r.compareNumber(v, o)
	case time.Time:
		return r.compareMoment(v, o, now)
	case time.Duration:
		return r.compareSpan(v, o)
	}
	if o.hasNum {
		if c, ok := r.compareNumber(v, o); ok {
			return c, true
		}
	}
	if o.hasAt {
		if c, ok := r.compareMoment(v, o, now); ok {
			return c, true
		}
	}
	if o.hasDur {
		return r.compareSpan(v, o)
	}
	return 0, false
}

func (r reader) compareNumber(v any, o *operand) (int, bool) {
	if f, ok := v.(float64); ok && o.hasNum && o.num.Exact == "" { // the usual case
		switch {
		case f < o.num.Float:
			return -1, true
		case f > o.num.Float:
			return 1, true
		}
		return 0, true
	}
	n, ok := value.ReadNumber(v, r.ws)
	return n.Cmp(o.num), ok && o.hasNum
}

func (r reader) compareMoment(v any, o *operand, now time.Time) (int, bool) {
	t, ok := r.moment(v)
	if !ok || !o.hasAt {
		return 0, false
	}
	return t.Compare(o.at.At(now, r.ws.Location())), true
}

func (r reader) compareSpan(v any, o *operand) (int, bool) {
	d, ok := r.span(v)
	if !ok || !o.hasDur {
		return 0, false
	}
	switch {
	case d < o.dur:
		return -1, true
	case d > o.dur:
		return 1, true
	}
	return 0, true
}
