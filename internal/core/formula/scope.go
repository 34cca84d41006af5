package formula

import (
	"maps"
	"time"

	"github.com/expr-lang/expr/types"

	"dorfbote/internal/core/people"
	"dorfbote/internal/core/value"
)

// Scope is what one arrival gives formulas and conditions to look at. It is filled by the caller and
// used by one goroutine at a time.
type Scope struct {
	Record map[string]any
	Before map[string]any // nil for a created record
	Arrival
	Answers map[string]any
	Now     time.Time // one moment for the whole arrival
	// Claimed and Replied are whether somebody took the alert that is followed up, and whether somebody answered it.
	Claimed, Replied bool
	Gathered         map[string]any // raw, as conditions read it
	Typed            map[string]any // the same, read by its types, as formulas see it
	Reach
	// Outer is what formulas look at while a look-up judges the records of another source: the arrival itself. "it" is
	// the record that is judged.
	Outer *Scope

	env      map[string]any // made when the first formula asks
	operands map[any]any    // of a look-up: values that are the same for every record judged
}

// Reach is what a sheet may get at beyond the arrival.
type Reach struct {
	// Find gives the records of a source as they are at the moment that is decided for, in the order of their keys. They
	// are not to be changed. nil finds nothing.
	Find func(source string) []map[string]any
	// People is the people book; nil has nobody in it.
	People *people.Book
	// Outside runs scripts and asks services; nil where neither can be done, which is a failure of what is gathered so.
	Outside Outside
	// Took gives when a field of an arrival's record last took each of its values, as far as that is known at a moment; nil knows of nothing.
	Took func(a Arrival, now time.Time, field string, t value.Type, ws value.Workspace) ([]Took, error)
	// Recall holds what was gathered when an arrival was decided, by name; what stands there is not gathered anew.
	Recall map[string]any
}

// Outside does what the core does not: it runs a script, in a process of its own, and asks a service.
type Outside interface {
	Script(src string, names map[string]any) (any, error)
	Fetch(r Request) (Answer, error)
	// Elapsed is a clock that only ever goes on, to tell how long something took.
	Elapsed() time.Duration
}

// Withheld is the error of an [Outside] that does not do what it is asked for, since whoever looks may not have it done. What is
// gathered so counts as empty; Would says what would be done.
type Withheld struct{ Would string }

func (w *Withheld) Error() string { return "this was not done while looking: it would " + w.Would }

// Request is a call of a service.
type Request struct {
	Method, URL string
	Headers     [][2]string
	Body        []byte // JSON; nil for none
}

// Answer is what a service answered.
type Answer struct {
	Status int
	Media  string
	Body   []byte
}

// Seen gives what a formula would see under each name, by its plain values.
func (sc *Scope) Seen() map[string]any {
	out := map[string]any{"record": sc.Record, "before": sc.Before, "answers": sc.Answers, "changed": changedNames(sc, nil),
		"now":     sc.Now.UTC().Format(time.RFC3339Nano),
		"arrival": map[string]any{"id": sc.ID, "at": sc.At.UTC().Format(time.RFC3339Nano), "kind": sc.Kind, "source": sc.Source, "by": sc.By}}
	for name, v := range sc.Gathered {
		out[name] = Plain(v)
	}
	return out
}

// SetNow moves "now" to another moment.
func (sc *Scope) SetNow(now time.Time) { sc.Now, sc.env = now, nil }

// SetRecord has formulas and conditions see another record.
func (sc *Scope) SetRecord(record map[string]any) { sc.Record, sc.env = record, nil }

// Judging makes the scope of a look-up within this one; Next gives it each record.
func (sc *Scope) Judging() *Scope {
	return &Scope{Now: sc.Now, Arrival: sc.Arrival, Outer: sc, operands: map[any]any{}}
}

// Next turns a look-up's scope to another record.
func (sc *Scope) Next(record map[string]any) { sc.Record, sc.env = record, nil }

// Operand gives what has been kept for a look-up under a name, and Keep keeps it.
func (sc *Scope) Operand(name any) (any, bool) {
	v, ok := sc.operands[name]
	return v, ok
}

// Keep keeps a value that is the same for every record judged.
func (sc *Scope) Keep(name, v any) { sc.operands[name] = v }

// Arrival is what a formula sees as "arrival".
type Arrival struct {
	ID     string
	At     time.Time
	Kind   string // created, updated, removed, start, tick
	Source string
	By     string
	// Subject is the key of the record, which formulas do not see under this name.
	Subject string
}

// Gather adds a gathered value under its name, for everything below it on the sheet: as it is kept, and as formulas
// see it.
func (sc *Scope) Gather(name string, raw, typed any) {
	if sc.Gathered == nil {
		sc.Gathered, sc.Typed = map[string]any{}, map[string]any{}
	}
	sc.Gathered[name], sc.Typed[name] = raw, typed
	if sc.env != nil {
		sc.env[name] = typed
	}
}

// Words is what formulas of one sheet may speak of, and how its values are read.
type Words struct {
	Workspace value.Workspace
	// Kind is what is known of the watched records; nil or learnt kinds allow unknown fields.
	Schema *value.Schema
	// Gathered are the names gathered so far, with what is known of each; a nil kind is unknown.
	Gathered []Name
	// Answers are the names of the questions asked at a start by hand or by call.
	Answers []value.Field
	// AnswersKnown is true where there are no answers but those.
	AnswersKnown bool
	// Tables are the sheet's own, by their names; see [NewTable].
	Tables map[string]any
	// Group is what is known of the records of a group, of a message that is told for each group of a list.
	Group *value.Schema
	// Sources collects what formulas look into by themselves; nil collects nothing.
	Sources *Sources
}

// Name is a gathered name. Kind is nil for anything but a record; Many is true for a list of them.
type Name struct {
	Name   string
	Schema *value.Schema
	Many   bool
}

func (w *Words) env(sc *Scope) map[string]any {
	if sc.env != nil {
		return sc.env
	}
	if sc.Outer != nil { // a look-up: formulas see the arrival, and the record that is judged as "it"
		outer := w.env(sc.Outer)
		env := make(map[string]any, len(outer)+1)
		maps.Copy(env, outer)
		env["it"] = sc.Record
		sc.env = env
		return env
	}
	var fields []value.Field
	if w.Schema != nil {
		fields = w.Schema.Fields
	}
	env := map[string]any{
		"record":  w.object(sc.Record, fields),
		"before":  w.object(sc.Before, fields),
		"changed": changedNames(sc, w),
		"arrival": map[string]any{
			"id": sc.ID, "at": sc.At.In(w.Workspace.Location()), "kind": sc.Kind, "source": sc.Source, "by": sc.By,
		},
		"answers": w.object(sc.Answers, w.Answers),
		"now":     sc.Now.In(w.Workspace.Location()),
	}
	maps.Copy(env, w.Tables)
	maps.Copy(env, sc.Typed)
	if sc.People != nil {
		env[bookName] = sc.People
	}
	if sc.Find != nil {
		env[findName] = sc.Find
	}
	if sc.Took != nil {
		took, arrival, now := sc.Took, sc.Arrival, sc.Now
		env[tookName] = func(field string) ([]Took, error) { return took(arrival, now, field, w.typeOf(field), w.Workspace) }
	}
	if sc.Outside != nil {
		env[clockName] = sc.Outside.Elapsed
	}
	sc.env = env
	return env
}

// clockName is what formulas have their clock under, where there is one.
const clockName = "·clock"

// changedNames lists the fields that changed, compared by their types where words are given that know them.
func changedNames(sc *Scope, w *Words) []any {
	names := value.Changed(sc.Before, sc.Record)
	list := make([]any, 0, len(names))
	for _, n := range names {
		if w != nil && w.Schema != nil {
			if f, _, ok := w.Schema.Find(value.ParsePath(n)); ok && value.SameMeaning(sc.Before[n], sc.Record[n], f.Type, w.Workspace) {
				continue
			}
		}
		list = append(list, n)
	}
	return list
}

// currencyMark stands before the name under which a typed record keeps the currency that stood with an amount, which as a number has none.
// No field that can be written in a formula is called so.
const currencyMark = value.Unseen

// CurrencyIn gives the currency that stood with an amount of a typed record, "" where none did.
func CurrencyIn(record map[string]any, p value.Path) string {
	names := p.Steps()
	if len(names) == 0 {
		return ""
	}
	var at any = record
	for _, n := range names[:len(names)-1] {
		m, _ := at.(map[string]any)
		at = m[n]
	}
	m, _ := at.(map[string]any)
	c, _ := m[currencyMark+names[len(names)-1]].(string)
	return c
}

// Record reads a record's raw values by their types, as formulas see them: moments as time.Time,
// spans as time.Duration, numbers in text as float64.
func (w *Words) Record(raw map[string]any, schema *value.Schema) map[string]any {
	if schema == nil {
		return raw
	}
	return w.object(raw, schema.Fields)
}

func (w *Words) object(raw map[string]any, fields []value.Field) map[string]any {
	if raw == nil {
		return nil
	}
	var out map[string]any
	for i := range fields {
		f := &fields[i]
		v, ok := raw[f.Name]
		if !ok || v == nil {
			continue
		}
		if typed, changed := w.typed(v, f); changed {
			if out == nil {
				out = make(map[string]any, len(raw))
				maps.Copy(out, raw)
			}
			out[f.Name] = typed
			if f.Type == value.Money {
				if c := value.CurrencyOf(v); c != "" {
					out[currencyMark+f.Name] = c
				}
			}
		}
	}
	if out == nil {
		return raw
	}
	return out
}

func (w *Words) typed(v any, f *value.Field) (any, bool) {
	switch x := v.(type) {
	case string:
		switch f.Type {
		case value.Date, value.Moment:
			if t, _, ok := value.ReadMoment(x, w.Workspace.Location()); ok {
				return t.In(w.Workspace.Location()), true
			}
		case value.Span:
			if d, err := value.ParseSpan(x); err == nil {
				return d, true
			}
		case value.Num, value.Money:
			if n, ok := value.ReadNumber(x, w.Workspace); ok && n.Exact == "" {
				return n.Float, true
			}
		}
		if x == "" {
			return nil, true // empty is empty, however the app writes it
		}
	case map[string]any:
		if f.Type == value.Money {
			if n, ok := value.ReadNumber(x, w.Workspace); ok {
				return n.Float, true
			}
		}
		return w.object(x, f.Fields), len(f.Fields) > 0
	case []any:
		if m, ok := value.Pairs(x); ok && f.Type == value.Object {
			return w.object(m, f.Fields), true
		}
		item := value.Field{Type: f.Of, Fields: f.Fields}
		if item.Type == value.Text || item.Type == value.Any && len(item.Fields) == 0 {
			return v, false
		}
		out := make([]any, len(x))
		for i, e := range x {
			out[i], _ = w.typed(e, &item)
		}
		return out, true
	}
	return v, false
}

var timeType, spanType = types.TypeOf(time.Time{}), types.TypeOf(time.Duration(0))

// typing is how much the type checker is told.
type typing int

const (
	running typing = iota // nothing, since any value may be empty: how formulas run
	loosely               // types, but unknown fields of open kinds are let pass
	strict                // types and every name: finds misspelt fields and wrong operands
)

// envTypes describes the environment to the type checker.
func (w *Words) envTypes(how typing) types.Map {
	loose := how == loosely
	if how == running {
		env := types.Map{}
		for _, n := range []string{"record", "before", "arrival", "answers", "changed", "now", "it", meterName} {
			env[n] = types.Any
		}
		for _, g := range w.Gathered {
			env[g.Name] = types.Any
		}
		return env
	}
	record := w.mapType(w.Schema, loose)
	env := types.Map{
		"record": record, "before": record, "changed": types.Array(types.String), "now": timeType,
		"arrival": types.Map{"id": types.String, "at": timeType, "kind": types.String, "source": types.String, "by": types.String},
		"it":      types.Any,
	}
	env["answers"] = types.Any
	if w.AnswersKnown || len(w.Answers) > 0 {
		env["answers"] = w.mapType(&value.Schema{Fields: w.Answers}, loose)
	}
	for _, g := range w.Gathered {
		switch {
		case g.Schema == nil:
			env[g.Name] = types.Any
		case g.Many:
			env[g.Name] = types.Array(w.mapType(g.Schema, loose))
		default:
			env[g.Name] = w.mapType(g.Schema, loose)
		}
	}
	return env
}

func (w *Words) mapType(k *value.Schema, loose bool) types.Type {
	if k == nil {
		return types.Any
	}
	m := fieldTypes(k.Fields, k.Learnt)
	if k.Learnt || k.Open && loose {
		m[types.Extra] = types.Any
	}
	return m
}

// fieldTypes gives the types of an object's fields. more says that it may have others, which is so at every depth where
// the fields have been learnt from records.
func fieldTypes(fields []value.Field, more bool) types.Map {
	m := types.Map{}
	for _, f := range fields {
		m[f.Name] = fieldType(f, more)
	}
	if more {
		m[types.Extra] = types.Any
	}
	return m
}

func fieldType(f value.Field, more bool) types.Type {
	switch f.Type {
	case value.Text, value.Choice, value.Link:
		return types.String
	case value.Num, value.Money:
		return types.Float64
	case value.YesNo:
		return types.Bool
	case value.Date, value.Moment:
		return timeType
	case value.Span:
		return spanType
	case value.List, value.Choices:
		if len(f.Fields) > 0 {
			return types.Array(fieldTypes(f.Fields, more))
		}
		return types.Array(types.Any)
	case value.Object:
		if len(f.Fields) > 0 {
			return fieldTypes(f.Fields, more)
		}
	}
	return types.Any
}
