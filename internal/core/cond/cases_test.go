package cond

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/report"
	"dorfbote/internal/core/value"
)

func testsOf(t *testing.T, fieldType value.Field, learnt bool, zone *time.Location, specs ...Spec) []Node {
	t.Helper()
	words := &formula.Words{Workspace: value.Workspace{Zone: zone}, Schema: &value.Schema{Learnt: learnt, Fields: []value.Field{fieldType}}}
	var out []Node
	for i := range specs {
		var problems report.List
		specs[i].Field = report.Text{S: fieldType.Name}
		n := Compile(&specs[i], words, fmt.Sprint("t", i), &problems)
		require.False(t, problems.Failed(), "%v", problems.Problems)
		out = append(out, n)
	}
	return out
}

func spec(op string, v any) Spec { return Spec{Op: report.Text{S: op}, Value: v} }

// Whatever a field holds, one of its cases is like it to every test.
func TestEveryValueIsInACase(t *testing.T) {
	zurich, err := time.LoadLocation("Europe/Zurich")
	require.NoError(t, err)
	now := time.Date(2026, 10, 25, 1, 30, 0, 0, time.UTC) // the clock is set back on this day
	r := rand.New(rand.NewPCG(9, 9))
	moment := func(time.Duration) func() any {
		return func() any {
			return now.Add(time.Duration(r.Int64N(int64(30*24*time.Hour))) - 15*24*time.Hour).Format(time.RFC3339)
		}
	}
	for _, c := range []struct {
		name   string
		field  value.Field
		specs  []Spec
		values func() any
	}{
		{"numbers", value.Field{Name: "n", Type: value.Num}, []Spec{spec("above", 1.0), spec("at_most", 2.5), spec("between", []any{-3.0, 7.0}), spec("is", 4.0), spec("none_of", []any{5.0, 6.0}), spec("empty", true)},
			func() any { return []any{nil, float64(r.IntN(24)-8) / 2, "2.5", 4.0}[r.IntN(4)] }},
		{"moments", value.Field{Name: "n", Type: value.Moment}, []Spec{spec("within_next", "2h"), spec("within_last", "3d"), spec("before", "2026-10-20"), spec("after", "now+1d"), spec("weekday", []any{"sat", "sun"}), spec("at_least", "today")}, moment(0)},
		{"dates", value.Field{Name: "n", Type: value.Date}, []Spec{spec("before", "today"), spec("after", "2026-10-28"), spec("weekday", []any{"mon"}), spec("is", "2026-10-25")},
			func() any { return now.AddDate(0, 0, r.IntN(30)-15).Format(time.DateOnly) }},
		{"texts", value.Field{Name: "n", Type: value.Text}, []Spec{spec("is", "late"), spec("starts_with", "la"), spec("contains", "at"), spec("lacks", "x"), spec("matches", "^[lL]"), spec("one_of", []any{"A", "b"})},
			func() any { return []any{nil, "Late", "lax", "xat", "b", "other", " LATE "}[r.IntN(7)] }},
		{"lists", value.Field{Name: "n", Type: value.List, Of: value.Text}, []Spec{spec("contains", "a"), spec("has_all", []any{"a", "b"}), spec("has_any", []any{"b", "c"}), spec("lacks", "d")},
			func() any {
				out := []any{}
				for _, s := range []string{"a", "b", "c", "d", "e"} {
					if r.IntN(2) == 0 {
						out = append(out, s)
					}
				}
				return out
			}},
		{"spans", value.Field{Name: "n", Type: value.Span}, []Spec{spec("above", "45m"), spec("at_most", "2h"), spec("is", "1h")}, func() any { return fmt.Sprintf("%dm", r.IntN(200)) }},
		{"yes and no", value.Field{Name: "n", Type: value.YesNo}, []Spec{spec("is", true), spec("is_not", true)}, func() any { return []any{nil, true, false, "yes", "no"}[r.IntN(5)] }},
	} {
		check := func(t *testing.T, learnt bool) {
			tests := testsOf(t, c.field, learnt, zurich, c.specs...)
			cases, ok := Cases(tests, Situation{Now: now})
			assert.True(t, ok)
			known := map[string]bool{}
			for _, k := range cases {
				known[signature(k.Holds)] = true
			}
			for range 500 {
				v := c.values()
				if learnt && r.IntN(4) == 0 { // what a source has sent so far promises nothing
					v = []any{"n/a", "soon", "-", "late"}[r.IntN(4)]
				}
				sc := &formula.Scope{Record: map[string]any{"n": v}, Before: map[string]any{}, Now: now}
				holds := make([]bool, len(tests))
				for i, n := range tests {
					holds[i] = n.Eval(sc) == True
				}
				require.True(t, known[signature(holds)], "%v is in no case: %v", v, holds)
			}
			for _, k := range cases {
				if k.Unsure {
					continue
				}
				sc := &formula.Scope{Record: map[string]any{"n": k.Now}, Before: map[string]any{"n": k.Before}, Now: now}
				for i, n := range tests {
					require.Equal(t, k.Holds[i], n.Eval(sc) == True, "%v", k)
				}
			}
		}
		t.Run(c.name, func(t *testing.T) { check(t, false) })
		t.Run(c.name+", learnt", func(t *testing.T) { check(t, true) })
	}
}

// A sample of a pattern is one that the pattern finds.
func TestSamples(t *testing.T) {
	for pattern, want := range map[string]bool{"^J.*s$": true, `^\d{3}-[A-Z]+$`: true, "(late|refused)": true, "": false, "x*": false, "a+b?": true, "(?i)ok": true, "[^a-z]": true} {
		_, ok := sample(pattern)
		assert.Equal(t, want, ok, pattern)
	}
}
