package decide

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
)

func setPlans(t testing.TB, whens []string) []*sheet.Plan {
	var plans []*sheet.Plan
	for i, when := range whens {
		src := fmt.Sprintf("dorfbote: 1\nname: S%d\nwatch: {source: a/b, when: %s}\nkeep: {field: litres, above: 2}\nmessages: {m: {title: x}}\nroute: {otherwise: {tell: [{to: c/d, message: m}]}}\n", i, when)
		p, _, problems := sheet.Compile([]byte(src), sheet.Known{Workspace: value.DefaultWorkspace(), Schema: func(string) *value.Schema {
			return &value.Schema{Fields: []value.Field{{Name: "valley", Type: value.Choice}, {Name: "driver", Type: value.Text}, {Name: "litres", Type: value.Num}}}
		}})
		require.NotNil(t, p, "%v", problems)
		plans = append(plans, p)
	}
	return plans
}

func scopeOf(record map[string]any) *formula.Scope {
	return &formula.Scope{Record: record, Now: time.Unix(1_800_000_000, 0), Arrival: formula.Arrival{Source: "a/b", Kind: "created"}}
}

// Whatever the sheets watch for, those that are passed over ignore the record, and the others are in their order.
func TestASetPassesOverOnlyWhatIgnores(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	texts := []string{"Upper", "upper ", "Mill", "Äu", "ÄU"}
	var keep func(depth int) string
	keep = func(depth int) string {
		if depth > 0 && r.IntN(2) == 0 {
			return fmt.Sprintf("{%s: [%s, %s]}", pick("all", "any", "none"), keep(depth-1), keep(depth-1))
		}
		switch r.IntN(6) {
		case 5:
			return `{formula: "int(record.driver) > 3"}`
		case 0:
			return fmt.Sprintf("{field: litres, above: %d}", r.IntN(5))
		case 1:
			return fmt.Sprintf("{field: %s, is_not: %q}", pick("valley", "driver"), pick(texts...))
		case 2:
			return fmt.Sprintf("{field: %s, one_of: [%q, %q]}", pick("valley", "driver"), pick(texts...), pick(texts...))
		case 3:
			return fmt.Sprintf("{field: %s, is: \"\"}", pick("valley", "driver"))
		}
		return fmt.Sprintf("{field: %s, is: %q}", pick("valley", "driver"), pick(texts...))
	}
	keeps := make([]string, 200)
	for i := range keeps {
		keeps[i] = keep(2)
	}
	plans := setPlans(t, keeps)
	set := NewSet(plans)
	require.Less(t, len(set.always), len(plans))
	var at []int
	for range 300 {
		record := map[string]any{"litres": float64(r.IntN(6))}
		for _, f := range []string{"valley", "driver"} {
			if r.IntN(4) > 0 {
				record[f] = pick(texts...)
			}
		}
		at = set.Concerned(record, at)
		require.True(t, slices.IsSorted(at))
		for i, p := range plans {
			if out := Decide(p, scopeOf(record)); out.Verdict != Ignored {
				require.Contains(t, at, i, "%s\n%v", keeps[i], record)
			}
		}
	}
}

// SetOf decides one arrival over so many sheets, each of which keeps one value of a common field.
func benchmarkSet(b *testing.B, sheets int) {
	keeps := make([]string, sheets)
	for i := range keeps {
		keeps[i] = fmt.Sprintf("{all: [{field: driver, is: D%d}, {field: litres, above: 5}]}", i)
	}
	plans := setPlans(b, keeps)
	set := NewSet(plans)
	sc := scopeOf(map[string]any{"driver": "D7", "litres": 9.0})
	var at []int
	for b.Loop() {
		at = set.Concerned(sc.Record, at)
		for _, i := range at {
			own := *sc
			Decide(plans[i], &own)
		}
	}
}

func BenchmarkOneArrivalOver20Sheets(b *testing.B)   { benchmarkSet(b, 20) }
func BenchmarkOneArrivalOver2000Sheets(b *testing.B) { benchmarkSet(b, 2000) }
