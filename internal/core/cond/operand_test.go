package cond

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/report"
	"dorfbote/internal/core/value"
)

// What formulas give is a value of its own kind, whatever the field is.
func TestValuesThatFormulasGive(t *testing.T) {
	for _, c := range []struct {
		field, op string
		value     any
		want      Tri
	}{
		{"due", "is", "${record.due}", True},
		{"due", "before", `${record.due + duration("1m")}`, True},
		{"due", "after", `${record.due + duration("1m")}`, False},
		{"due", "after", `${record.due - duration("1m")}`, True},
		{"day", "is", "${record.day}", True},
		{"took", "is", `${duration("90m")}`, True},
		{"took", "above", `${duration("91m")}`, False},
		{"took", "below", `${duration("91m")}`, True},
		{"cooled", "is", "${1 < 2}", True},
		{"cooled", "is", "${1 > 2}", False},
		{"cooled", "is_not", "${1 > 2}", True},
		{"litres", "is", "${record.litres}", True},
		{"litres", "between", []any{"${record.litres - 1}", "${record.litres + 1}"}, True},
		{"litres", "is", `${"1240.5"}`, True},
		{"name", "is", "${record.name}", True},
		{"name", "contains", "${record.name}", True},
		{"tags", "is", `${["bio", "rush"]}`, True},
		{"tags", "is", `${["bio"]}`, False},
		{"tags", "is", `${["rush", "bio"]}`, False},
		{"status", "one_of", `${["late", "refused"]}`, True},
		{"status", "none_of", `${["late", "refused"]}`, False},
		{"empty", "is", "${record.empty}", True},
		{"name", "is", "${record.empty}", False},
		{"litres", "above", "${record.empty}", False},
	} {
		n := compile(t, testOf(c.field, c.op, c.value))
		assert.Equal(t, c.want, n.Eval(scope(false)), "%s %s %v", c.field, c.op, c.value)
	}
}

// Of a field whose type nobody knows, each value says itself what it is.
func TestFieldsOfNoKnownType(t *testing.T) {
	at := time.Date(2026, 11, 20, 6, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		held  any
		op    string
		value any
		want  Tri
	}{
		{7.0, "above", 6.0, True},
		{7.0, "above", "6", True},
		{7.0, "is", "7", True},
		{"7", "is", 7.0, True},
		{"7", "above", 6.0, True},
		{"seven", "above", 6.0, False},
		{"2026-11-20T06:00:00Z", "before", "2026-11-21", True},
		{"2026-11-20T06:00:00Z", "after", "2026-11-21", False},
		{at, "before", "2026-11-21", True},
		{at, "is", "2026-11-20T06:00:00Z", True},
		{"90m", "above", "1h", True},
		{"30m", "above", "1h", False},
		{90 * time.Minute, "above", "1h", True},
		{true, "is", true, True},
		{true, "is", false, False},
		{true, "is", "yes", True},
		{"Late", "is", "late", True},
		{"late", "one_of", []any{"LATE", 7.0}, True},
		{7.0, "one_of", []any{"late", 7.0}, True},
		{map[string]any{"a": 1.0}, "is", "x", False},
		{"late", "between", []any{1.0, 2.0}, False},
		{1.5, "between", []any{1.0, 2.0}, True},
		{"", "empty", true, True},
		{nil, "empty", true, True},
		{0.0, "empty", true, False},
		{false, "empty", true, False},
	} {
		n := compileFor(t, &value.Schema{Fields: []value.Field{{Name: "it", Type: value.Any}}}, testOf("it", c.op, c.value))
		sc := &formula.Scope{Record: map[string]any{"it": c.held}, Now: now}
		assert.Equal(t, c.want, n.Eval(sc), "%#v %s %#v", c.held, c.op, c.value)
	}
}

// A value that is not what its field promises is compared where it can be, and fails no condition.
func TestValuesThatAreNotWhatTheyShouldBe(t *testing.T) {
	fields := &value.Schema{Fields: []value.Field{
		{Name: "n", Type: value.Num}, {Name: "at", Type: value.Moment}, {Name: "took", Type: value.Span}, {Name: "yes", Type: value.YesNo}, {Name: "text", Type: value.Text},
		{Name: "list", Type: value.List, Of: value.Text},
	}}
	for _, c := range []struct {
		field string
		held  any
		op    string
		value any
		want  Tri
	}{
		{"n", "unknown", "above", 1.0, False},
		{"n", "unknown", "at_most", 1.0, False},
		{"n", true, "is", 1.0, False},
		{"at", "soon", "before", "now", False},
		{"at", 7.0, "before", "now", False},
		{"at", "soon", "within_last", "1h", False},
		{"at", "soon", "weekday", []any{"fri"}, False},
		{"took", "long", "above", "1h", False},
		{"took", 7.0, "above", "1h", False},
		{"yes", "perhaps", "is", true, False},
		{"yes", "YES", "is", true, True},
		{"yes", 1.0, "is", true, False},
		{"text", 12.0, "is", "12", True},
		{"list", "one", "contains", "one", True},
		{"list", []any{}, "contains", "one", False},
		{"list", []any{nil, "one"}, "contains", "ONE", True},
	} {
		n := compileFor(t, fields, testOf(c.field, c.op, c.value))
		assert.Equal(t, c.want, n.Eval(&formula.Scope{Record: map[string]any{c.field: c.held}, Now: now}), "%#v %s %#v", c.held, c.op, c.value)
	}
}

func compileFor(t *testing.T, fields *value.Schema, s *Spec) Node {
	t.Helper()
	var problems report.List
	n := Compile(s, &formula.Words{Workspace: value.Workspace{Zone: zurich, Locale: "en"}, Schema: fields}, "keep", &problems)
	if problems.Failed() {
		t.Fatalf("%v", problems.Problems)
	}
	return n
}

// Whatever a record holds, one of an operator and its opposite holds, and an order that is known is one way round.
func TestOppositesOnAnyRecord(t *testing.T) {
	opposites := []struct {
		a, b string
		of   func(v any) any
	}{
		{"is", "is_not", func(v any) any { return v }},
		{"one_of", "none_of", func(v any) any { return []any{v} }},
		{"contains", "lacks", func(v any) any { return fmt.Sprint(v) }},
	}
	values := []any{"", "late", "Late ", "7", "7.0", "2026-11-20", "1h", "yes", 7.0, -1.0, true, false, nil, []any{}, []any{"late", "7"}, "Ä", "a\u0308"}
	r := rand.New(rand.NewPCG(1, 2))
	pick := func() any { return values[r.IntN(len(values))] }
	for range 4000 {
		held, was := pick(), pick()
		for _, o := range opposites {
			v := pick()
			if _, list := v.([]any); list || value.Empty(v) {
				continue
			}
			sc := &formula.Scope{Record: map[string]any{"it": held}, Before: map[string]any{"it": was}, Now: now}
			untyped := &value.Schema{Fields: []value.Field{{Name: "it", Type: value.Any}}}
			a, b := compileFor(t, untyped, testOf("it", o.a, o.of(v))).Eval(sc), compileFor(t, untyped, testOf("it", o.b, o.of(v))).Eval(sc)
			assert.NotEqual(t, a, b, "%#v %s and %s %#v", held, o.a, o.b, v)
		}
		for _, typ := range []value.Type{value.Num, value.Moment, value.Span, value.Any} {
			fields := &value.Schema{Fields: []value.Field{{Name: "it", Type: typ}}}
			lit := map[value.Type]any{value.Num: 7.0, value.Moment: "2026-11-20", value.Span: "1h", value.Any: 7.0}[typ]
			sc := &formula.Scope{Record: map[string]any{"it": held}, Now: now}
			over, under := "above", "at_most"
			if typ == value.Moment {
				over, under = "after", "before"
			}
			more, less := compileFor(t, fields, testOf("it", over, lit)).Eval(sc), compileFor(t, fields, testOf("it", under, lit)).Eval(sc)
			assert.False(t, more == True && less == True, "%#v is both %s and %s %v", held, over, under, lit)
		}
	}
}
