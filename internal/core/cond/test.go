package cond

import (
	"fmt"
	"strings"
	"time"

	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/value"
)

// test is one compiled test of one field.
type test struct {
	path  string
	op    Op
	field value.Path
	root  string // the gathered name the field belongs to; "" for the record itself
	text  string // in words
	many  bool   // the path goes through a list
	// What is known of the field's values: all there can be, and that numbers are never fractions.
	options []string
	integer bool
	closed  bool // the fields are declared, so every value is of the field's type

	read  reader
	judge predicate
	lit   operand // the value, where it is no formula
	items []*formula.Formula
	whole *formula.Formula // the value, where it is a formula
	whenE bool             // empty: true
	looks look
}

// look is which states of the record an operator looks at.
type look uint8

const (
	looksAtNow look = iota
	looksForEmpty
	looksForChange
	looksForBecoming
	looksAtBefore
	looksForStep
)

var looks = map[string]look{
	"empty": looksForEmpty, "changed": looksForChange, "became": looksForBecoming, "was": looksAtBefore,
	"rose_by": looksForStep, "fell_by": looksForStep,
}

func (t *test) Path() string { return t.path }

func (t *test) Words(each func(path, words string)) { each(t.path, t.text) }

func (t *test) value(sc *formula.Scope, record map[string]any) (any, bool) {
	if t.root != "" {
		switch root := sc.Gathered[t.root].(type) {
		case map[string]any:
			if len(t.field.Steps()) == 0 || t.field.String() == "" {
				return root, false
			}
			return t.field.Get(root)
		case []any:
			if t.field.String() == "" {
				return root, false
			}
			var found []any
			for _, e := range root {
				if m, ok := e.(map[string]any); ok {
					if v, _ := t.field.Get(m); !value.Empty(v) {
						found = append(found, v)
					}
				}
			}
			return found, true
		default:
			if t.field.String() == "" {
				return root, false
			}
			return nil, false
		}
	}
	return t.field.Get(record)
}

func (t *test) Eval(sc *formula.Scope) Tri {
	r, err := t.eval(sc)
	if err != nil {
		return Broken
	}
	return tri(r)
}

func (t *test) eval(sc *formula.Scope) (bool, error) {
	v, many := t.value(sc, sc.Record)
	switch t.looks {
	case looksForEmpty:
		return value.Empty(v) == t.whenE, nil
	case looksForChange:
		was, _ := t.before(sc)
		return value.SameMeaning(was, v, t.read.t, t.read.ws) != t.whenE, nil
	}
	o, err := t.operand(sc)
	if err != nil {
		return false, err
	}
	switch t.looks {
	case looksForBecoming:
		if !t.holds(v, many, o, sc.Now) {
			return false, nil
		}
		was, manyWas := t.before(sc)
		return !t.holds(was, manyWas, o, sc.Now), nil
	case looksAtBefore:
		was, manyWas := t.before(sc)
		return t.holds(was, manyWas, o, sc.Now), nil
	case looksForStep:
		was, _ := t.before(sc)
		a, okA := value.ReadNumber(was, t.read.ws)
		b, okB := value.ReadNumber(v, t.read.ws)
		if !okA || !okB || !o.hasNum {
			return false, nil
		}
		step := b.Sub(a)
		if t.op.Name == "fell_by" {
			step = a.Sub(b)
		}
		return step.Cmp(o.num) >= 0, nil
	}
	return t.holds(v, many, o, sc.Now), nil
}

func (t *test) before(sc *formula.Scope) (any, bool) {
	if t.root != "" { // what was gathered has no earlier state
		return t.value(sc, nil)
	}
	if sc.Before == nil {
		return nil, false
	}
	return t.field.Get(sc.Before)
}

// holds judges a value, or any of several where the path went through a list.
func (t *test) holds(v any, many bool, o *operand, now time.Time) bool {
	if value.Empty(v) {
		switch t.op.Name {
		case "is_not":
			return !o.empty
		case "none_of":
			return !listsEmpty(o)
		case "lacks":
			return true
		case "is", "became", "was":
			return o.empty
		case "one_of":
			return listsEmpty(o)
		}
		return false
	}
	if o.empty && !o.isList { // is: "" and is_not: "" ask for emptiness
		switch t.op.Name {
		case "is", "became", "was":
			return false
		case "is_not", "lacks":
			return t.op.Name == "is_not"
		}
		return false // nothing has been filled in to compare with
	}
	if list, ok := v.([]any); ok && many {
		for _, e := range list {
			if t.judge(e, o, now) {
				return true
			}
		}
		return false
	}
	return t.judge(v, o, now)
}

func listsEmpty(o *operand) bool {
	for i := range o.list {
		if o.list[i].empty {
			return true
		}
	}
	return false
}

// operand gives the test's value, running the formulas in it.
func (t *test) operand(sc *formula.Scope) (*operand, error) {
	if t.whole == nil && t.items == nil {
		return &t.lit, nil
	}
	if sc.Outer != nil { // a look-up: the value is the arrival's, whichever record is judged
		if have, ok := sc.Operand(t); ok {
			return have.(*operand), nil
		}
		o, err := t.operand(sc.Outer)
		if err == nil {
			sc.Keep(t, o)
		}
		return o, err
	}
	if t.whole != nil {
		v, err := t.whole.Run(sc)
		if err != nil {
			return nil, err
		}
		return t.dynamic(v)
	}
	list := make([]any, len(t.items))
	for i, f := range t.items {
		if list[i] = t.lit.list[i].raw; f != nil {
			v, err := f.Run(sc)
			if err != nil {
				return nil, err
			}
			list[i] = v
		}
	}
	return t.dynamic(list)
}

func (t *test) dynamic(v any) (*operand, error) {
	o, err := newOperand(v, t.operandType(), t.read.ws)
	if err != nil {
		return nil, fmt.Errorf("the value of %s: %w", t.op.Name, err)
	}
	if t.op.Takes == "list" && !o.isList {
		o = operand{isList: true, list: []operand{o}}
	}
	return &o, nil
}

func (t *test) operandType() value.Type { return operandType(t.op, t.read.t) }

func operandType(op Op, field value.Type) value.Type {
	switch op.Takes {
	case "span":
		return value.Span
	case "pattern":
		return value.Text
	}
	if field.IsList() || field == value.Object {
		return value.Any
	}
	return field
}

// Judge gives the outcome and its own path.
func (t *test) Judge(sc *formula.Scope) (Tri, string) { return t.Eval(sc), t.path }

func (t *test) Explain(sc *formula.Scope) Line {
	v, _ := t.value(sc, sc.Record)
	l := Line{Path: t.path, Text: t.text, Seen: t.show(v)}
	switch t.op.Name {
	case "changed", "became", "was", "rose_by", "fell_by":
		was, _ := t.before(sc)
		l.Was = t.show(was)
	}
	r, err := t.eval(sc)
	l.Result = tri(r).String()
	if err != nil {
		l.Result, l.Error = Broken.String(), err.Error()
	}
	return l
}

func (t *test) show(v any) string {
	if value.Empty(v) {
		return "(empty)"
	}
	return formula.Show(v, t.read.ws)
}

func (t *test) Decider(sc *formula.Scope) (string, error) {
	_, err := t.eval(sc)
	return t.path, err
}

// Words says a test as it stands on a sheet in words.
func Words(field, op string, v any) string {
	o, ok := OpNamed(op)
	if !ok {
		return field + " " + op + " " + plain(v)
	}
	return inWords(field, o, v)
}

// inWords says a test as a sentence for the proof and for change notes.
func inWords(field string, op Op, v any) string {
	switch op.Name {
	case "empty", "changed":
		if v == false {
			return field + map[string]string{"empty": " is not empty", "changed": " did not change"}[op.Name]
		}
		return field + " " + op.Words
	case "between":
		if pair, ok := v.([]any); ok && len(pair) == 2 {
			return fmt.Sprintf("%s is between %s and %s", field, plain(pair[0]), plain(pair[1]))
		}
	}
	return field + " " + op.Words + " " + plain(v)
}

func plain(v any) string {
	if list, ok := v.([]any); ok {
		parts := make([]string, len(list))
		for i, e := range list {
			parts[i] = plain(e)
		}
		return strings.Join(parts, ", ")
	}
	if value.Empty(v) {
		return "(empty)"
	}
	return formula.Show(v, value.DefaultWorkspace())
}
