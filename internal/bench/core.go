package bench

import (
	"strings"
	"testing"
	"time"

	"dorfbote/internal/core/decide"
	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
)

// CoreSheet is the sheet that decisions are measured with: five conditions and two routes.
const CoreSheet = `dorfbote: 1
name: Bench
watch: {source: tours/collections, when: {field: status, became: late}}
keep:
  all:
    - {field: litres, above: 500}
    - {field: valley, one_of: [Upper, Mill]}
    - any:
        - {field: temperature, above: 6}
        - {field: driver, is_not: Jonas}
messages:
  alert: {title: "late"}
route:
  rows:
    - {name: Much, when: {field: litres, at_least: 2000}, tell: [{to: "square/#board", message: alert}]}
    - {name: Upper, when: {field: valley, is: Upper}, tell: [{to: "square/#tours", message: alert}]}
`

// CoreScope is an arrival that the sheet's last condition but one drops, so that nearly every one is
// looked at.
func CoreScope(dropped bool) *formula.Scope {
	record := map[string]any{"id": "COL-1", "status": "late", "litres": 2500.0, "valley": "Upper", "temperature": 7.0, "driver": "Petra"}
	if dropped {
		record["temperature"], record["driver"] = 4.0, "Jonas"
	}
	return &formula.Scope{
		Record: record, Before: map[string]any{"id": "COL-1", "status": "on the way", "litres": 2500.0}, Now: time.Unix(1_800_000_000, 0),
		Arrival: formula.Arrival{ID: "1", Source: "tours/collections", Kind: "updated"},
	}
}

// CorePlan compiles the sheet.
func CorePlan() *sheet.Plan {
	plan, _, problems := sheet.Compile([]byte(CoreSheet), sheet.Known{Workspace: value.DefaultWorkspace()})
	if plan == nil {
		panic(problems[0].String())
	}
	return plan
}

// ByHand is what a programmer would write for the same sheet over the same record.
func ByHand(sc *formula.Scope) string {
	if sc.Source != "tours/collections" || sc.Kind != "created" && sc.Kind != "updated" {
		return "ignored"
	}
	same := func(v any, s string) bool {
		t, ok := v.(string)
		return ok && strings.EqualFold(strings.TrimSpace(t), s)
	}
	if !same(sc.Record["status"], "late") || same(sc.Before["status"], "late") {
		return "ignored"
	}
	litres, _ := sc.Record["litres"].(float64)
	if litres <= 500 {
		return "dropped"
	}
	valley := sc.Record["valley"]
	if !same(valley, "upper") && !same(valley, "mill") {
		return "dropped"
	}
	warm, _ := sc.Record["temperature"].(float64)
	if warm <= 6 && same(sc.Record["driver"], "jonas") {
		return "dropped"
	}
	if litres >= 2000 {
		return "Much"
	}
	if same(valley, "upper") {
		return "Upper"
	}
	return "unrouted"
}

func measureCore() []Row {
	plan, sc := CorePlan(), CoreScope(true)
	ours := testing.Benchmark(func(b *testing.B) {
		b.ReportAllocs()
		for b.Loop() {
			decide.Decide(plan, sc)
		}
	})
	hand := testing.Benchmark(func(b *testing.B) {
		for b.Loop() {
			ByHand(sc)
		}
	})
	nsOurs, nsHand := float64(ours.NsPerOp()), float64(max(hand.NsPerOp(), 1))
	return []Row{
		{"core: decisions a second, dropped arrival", num(1e9 / nsOurs), "by hand " + num(1e9/nsHand)},
		{"core: time against the hand-written function", ratio(nsOurs / nsHand), "goal at most 4"},
		{"core: allocations for a dropped arrival", num(float64(ours.AllocsPerOp())), "goal at most 2"},
	}
}
