package cond

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/report"
	"dorfbote/internal/core/value"
)

var zurich = func() *time.Location {
	loc, err := time.LoadLocation("Europe/Zurich")
	if err != nil {
		panic(err)
	}
	return loc
}()

// now is a Friday.
var now = time.Date(2026, 11, 20, 6, 41, 7, 0, time.UTC)

var schema = &value.Schema{Fields: []value.Field{
	{Name: "status", Type: value.Choice, Options: []string{"planned", "on the way", "late", "collected"}},
	{Name: "name", Type: value.Text}, {Name: "litres", Type: value.Num}, {Name: "price", Type: value.Money, Currency: "CHF"},
	{Name: "due", Type: value.Moment}, {Name: "day", Type: value.Date}, {Name: "took", Type: value.Span}, {Name: "cooled", Type: value.YesNo},
	{Name: "tags", Type: value.List, Of: value.Text},
	{Name: "lines", Type: value.List, Fields: []value.Field{{Name: "cheese", Type: value.Text}, {Name: "kilos", Type: value.Num}}},
	{Name: "farm", Type: value.Object, Fields: []value.Field{{Name: "name", Type: value.Text}}},
	{Name: "empty", Type: value.Text}, {Name: "big", Type: value.Num},
}}

var record = map[string]any{
	"status": "Late ", "name": "Äussere MATT", "litres": "1,240.5", "price": map[string]any{"amount": 12.5, "currency": "CHF"},
	"due": "2026-11-20T05:20:00Z", "day": "2026-11-20", "took": "PT90M", "cooled": true, "tags": []any{"Bio", "rush"},
	"lines": []any{map[string]any{"cheese": "Mutschli", "kilos": 4.0}, map[string]any{"cheese": "Senn", "kilos": 20.0}},
	"farm":  map[string]any{"name": "Sonnleiten"}, "empty": "", "big": "9007199254740993",
}

var before = map[string]any{"status": "on the way", "litres": 1000.0, "name": "Äussere Matt", "tags": []any{"Bio"}}

func words() *formula.Words {
	return &formula.Words{Workspace: value.Workspace{Zone: zurich, Locale: "en"}, Schema: schema}
}

func scope(created bool) *formula.Scope {
	sc := &formula.Scope{Record: record, Before: before, Now: now}
	if created {
		sc.Before = nil
	}
	return sc
}

func testOf(field, op string, v any) *Spec {
	return &Spec{Field: report.Text{S: field}, Op: report.Text{S: op}, Value: v, ValueAt: report.Text{S: fmt.Sprint(v)}}
}

func form(s string) *Spec { return &Spec{Formula: &report.Text{S: s}} }

func groupOf(kind string, subs ...*Spec) *Spec { return &Spec{Group: kind, Subs: subs} }

func compile(t *testing.T, s *Spec) Node {
	t.Helper()
	var problems report.List
	n := Compile(s, words(), "keep", &problems)
	require.False(t, problems.Failed(), "%v", problems.Problems)
	return n
}

func TestEveryOperator(t *testing.T) {
	list := func(v ...any) []any { return v }
	for _, c := range []struct {
		field, op string
		value     any
		want      Tri
	}{
		{"status", "is", "LATE", True}, // trimmed and folded
		{"status", "is_not", "late", False},
		{"name", "is", "a\u0308ussere matt", True}, // NFC
		{"litres", "is", 1240.5, True},             // a number sent as text
		{"litres", "is", "1240.5", True},
		{"cooled", "is", true, True},
		{"cooled", "is", "no", False},
		{"big", "is", "9007199254740993", True}, // digits a double cannot hold
		{"big", "is", 9007199254740992.0, False},
		{"big", "above", 9007199254740992.0, True},
		{"tags", "is", list("bio", "rush"), True},
		{"took", "is", "1h30m", True},
		{"day", "is", "today", True},
		{"status", "one_of", list("late", "refused"), True},
		{"status", "none_of", list("late", "refused"), False},
		{"name", "contains", "MATT", True},
		{"tags", "contains", "RUSH", True},
		{"tags", "lacks", "cold", True},
		{"name", "starts_with", "äuss", True},
		{"name", "ends_with", "att", True},
		{"name", "matches", "MATT$", True},
		{"name", "matches", "matt$", False}, // patterns compare exactly
		{"litres", "above", 1240.0, True},
		{"litres", "above", 1240.5, False},
		{"litres", "at_least", 1240.5, True},
		{"litres", "below", 2000.0, True},
		{"litres", "at_most", 1240.0, False},
		{"litres", "between", list(1000.0, 1240.5), True},
		{"price", "above", 12.0, True},
		{"took", "above", "1h", True},
		{"took", "at_most", "PT1H30M", True},
		{"due", "before", "now", True},
		{"due", "after", "now-2h", True},
		{"due", "after", "today", True}, // midnight in Zurich is 23:00 UTC of the day before
		{"day", "after", "today-1d", True},
		{"day", "before", "today", False},
		{"due", "within_last", "2h", True},
		{"due", "within_last", "81m7s", True}, // ends included
		{"due", "within_last", "81m6s", False},
		{"due", "within_next", "2h", False},
		{"due", "weekday", list("fri"), True},
		{"due", "weekday", list("mon", "tue"), False},
		{"empty", "empty", true, True},
		{"name", "empty", true, False},
		{"name", "empty", false, True},
		{"tags", "has_any", list("cold", "bio"), True},
		{"tags", "has_all", list("cold", "bio"), False},
		{"tags", "has_all", list("rush", "bio"), True},
		{"status", "changed", true, True},
		{"empty", "changed", true, False},
		{"empty", "changed", false, True},
		{"status", "became", "late", True},
		{"status", "became", "on the way", False},
		{"status", "was", "On The Way", True},
		{"litres", "rose_by", 240.5, True},
		{"litres", "rose_by", 241.0, False},
		{"litres", "fell_by", 1.0, False},
		// any element of a list
		{"lines.cheese", "is", "senn", True},
		{"lines.kilos", "above", 10.0, True},
		{"lines.kilos", "above", 30.0, False},
		{"farm.name", "is", "sonnleiten", True},
		// on an empty value
		{"empty", "is_not", "x", True},
		{"empty", "none_of", list("x"), True},
		{"empty", "lacks", "x", True},
		{"empty", "is", "x", False},
		{"empty", "is", "", True},
		{"empty", "one_of", list("x"), False},
		{"empty", "contains", "x", False},
		{"empty", "matches", ".*", False},
		{"empty", "is_not", "", False},
		// a formula's value
		{"litres", "above", "${record.litres - 1}", True},
		{"status", "is", `${"la" + "te"}`, True},
	} {
		t.Run(fmt.Sprintf("%s %s %v", c.field, c.op, c.value), func(t *testing.T) {
			n := compile(t, testOf(c.field, c.op, c.value))
			assert.Equal(t, c.want, n.Eval(scope(false)))
			assert.Equal(t, c.want.String(), n.Explain(scope(false)).Result)
		})
	}
}

func TestCreatedRecordChangedInEveryFilledField(t *testing.T) {
	assert.Equal(t, True, compile(t, testOf("status", "became", "late")).Eval(scope(true)))
	assert.Equal(t, True, compile(t, testOf("name", "changed", true)).Eval(scope(true)))
	assert.Equal(t, False, compile(t, testOf("empty", "changed", true)).Eval(scope(true)))
	assert.Equal(t, False, compile(t, testOf("status", "was", "late")).Eval(scope(true)))
}

func TestOperatorMustFitTheField(t *testing.T) {
	for _, c := range []struct {
		spec       *Spec
		message    string
		suggestion string
	}{
		{testOf("status", "above", 4.0), "above does not fit status", ""},
		{testOf("litres", "contains", "1"), "contains does not fit litres", ""},
		{testOf("due", "rose_by", 1.0), "rose_by does not fit due", ""},
		{testOf("name", "within_last", "2h"), "within_last does not fit name", ""},
		{testOf("litres", "has_any", []any{1.0}), "has_any does not fit litres", ""},
		{testOf("litrs", "above", 4.0), "the records have no field litrs", "litres"},
		{testOf("litres", "abov", 4.0), "there is no operator abov", "above"},
		{testOf("litres", "above", "many"), `"many" is not a number`, ""},
		{testOf("due", "before", "soon"), `"soon" is not a point in time`, ""},
		{testOf("due", "within_last", "two days"), "is not a span of time", ""},
		{testOf("due", "weekday", []any{"mnday"}), "is not a day of the week", ""},
		{testOf("name", "matches", "("), "is not a pattern", ""},
		{testOf("litres", "between", []any{1.0}), "between takes the lowest and the highest", ""},
		{testOf("status", "one_of", "late"), "one_of takes a list", ""},
		{testOf("status", "changed", "yes"), "changed takes true or false", ""},
		{form("record.litrs > 4"), "there is no field litrs", "litres"},
		{form("litres > 4"), "there is no name litres", "record.litres"},
		{form(`record.litres > "a"`), "cannot be used between", ""},
		{form("record.litres >"), "unexpected token", ""},
	} {
		t.Run(c.message, func(t *testing.T) {
			var problems report.List
			Compile(c.spec, words(), "keep", &problems)
			require.NotEmpty(t, problems.Problems)
			assert.Contains(t, problems.Problems[0].Message, c.message)
			assert.Equal(t, c.suggestion, problems.Problems[0].Suggestion)
			assert.False(t, problems.Problems[0].Warning)
		})
	}
}

var (
	yes    = testOf("litres", "above", 1.0)
	no     = testOf("litres", "below", 1.0)
	broken = form("int(record.name) > 1")
)

func TestErrorsCountOnlyWhereTheyDecide(t *testing.T) {
	for _, c := range []struct {
		name    string
		spec    *Spec
		want    Tri
		decider string
	}{
		{"all, one false", groupOf("all", yes, no), False, "keep.all[1]"},
		{"all, false beside broken", groupOf("all", broken, no), False, "keep.all[1]"},
		{"all, broken beside true", groupOf("all", yes, broken), Broken, "keep.all[1]"},
		{"any, true beside broken", groupOf("any", broken, yes), True, "keep.any[1]"},
		{"any, broken beside false", groupOf("any", no, broken), Broken, "keep.any[1]"},
		{"any, all false: the group decides", groupOf("any", no, no), False, "keep"},
		{"none, one true", groupOf("none", no, yes), False, "keep.none[1]"},
		{"none, true beside broken", groupOf("none", broken, yes), False, "keep.none[1]"},
		{"none, broken beside false", groupOf("none", no, broken), Broken, "keep.none[1]"},
		{"nested", groupOf("all", yes, groupOf("any", no, groupOf("all", yes, no))), False, "keep.all[1]"},
		{"nested, deeper", groupOf("all", yes, groupOf("all", yes, no)), False, "keep.all[1].all[1]"},
		{"a lone test", no, False, "keep"},
	} {
		t.Run(c.name, func(t *testing.T) {
			n := compile(t, c.spec)
			assert.Equal(t, c.want, n.Eval(scope(false)))
			path, err := n.Decider(scope(false))
			assert.Equal(t, c.decider, path)
			assert.Equal(t, c.want == Broken, err != nil)
		})
	}
}

func TestBigNumberOfLiteralsInAListMayBeFormulas(t *testing.T) {
	n := compile(t, testOf("litres", "between", []any{"${record.litres - 1}", 5000.0}))
	assert.Equal(t, True, n.Eval(scope(false)))
}

func TestDroppingDoesNotAllocate(t *testing.T) {
	n := compile(t, groupOf("all", testOf("status", "is", "late"), testOf("litres", "above", 500.0), testOf("due", "before", "now"), no))
	sc := scope(false)
	sc.Record = map[string]any{"status": "late", "litres": 1240.5, "due": "2026-11-20T05:20:00Z"}
	assert.LessOrEqual(t, testing.AllocsPerRun(100, func() { n.Eval(sc); _, _ = n.Decider(sc) }), 2.0)
}
