package route

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/core/cond"
	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
)

var now = time.Date(2026, 11, 25, 8, 30, 0, 0, time.UTC)

func schema(string) *value.Schema {
	return &value.Schema{Fields: []value.Field{
		{Name: "litres", Type: value.Num}, {Name: "wheels", Type: value.Num, Whole: true}, {Name: "valley", Type: value.Choice, Options: []string{"Upper", "Middle", "Mill"}},
		{Name: "driver", Type: value.Text}, {Name: "organic", Type: value.YesNo}, {Name: "due", Type: value.Moment}, {Name: "day", Type: value.Date},
		{Name: "tags", Type: value.List, Of: value.Text}, {Name: "took", Type: value.Span},
		{Name: "lines", Type: value.List, Fields: []value.Field{{Name: "n", Type: value.Num}}},
	}}
}

func plan(t testing.TB, keep, take string, rows []string, otherwise bool) *sheet.Plan {
	return planOf(t, schema, keep, take, rows, otherwise)
}

// learnt is kind as known from records alone, which promises nothing of those to come.
func learnt(source string) *value.Schema {
	k := schema(source)
	k.Learnt = true
	return k
}

func planOf(t testing.TB, schema func(string) *value.Schema, keep, take string, rows []string, otherwise bool) *sheet.Plan {
	var b strings.Builder
	fmt.Fprintf(&b, "dorfbote: 1\nname: T\nwatch: {source: tours/collections}\n")
	if keep != "" {
		fmt.Fprintf(&b, "keep: %s\n", keep)
	}
	fmt.Fprintf(&b, "messages: {m: {title: x}}\nroute:\n  take: %s\n  rows:\n", take)
	for i, r := range rows {
		fmt.Fprintf(&b, "    - {name: R%d, when: %s, tell: [{to: s/c, message: m}]}\n", i, r)
	}
	if otherwise {
		b.WriteString("  otherwise: {tell: [{to: s/c, message: m}]}\n")
	}
	p, _, problems := sheet.Compile([]byte(b.String()), sheet.Known{Workspace: value.Workspace{Zone: time.UTC}, Schema: schema})
	require.NotNil(t, p, "%v\n%s", problems, b.String())
	return p
}

func of(p *sheet.Plan) Table {
	t := Table{Base: []cond.Node{p.Keep}, Every: p.Every, Otherwise: p.Else != nil, Now: now, Created: true, Updated: true}
	for i := range p.Rows {
		t.Rows = append(t.Rows, p.Rows[i].When)
	}
	return t
}

// brief writes findings as words.
func brief(a Analysis) []string {
	out := []string{}
	for _, f := range a.Findings {
		line := f.Kind
		switch f.Kind {
		case Never, Always:
			line += " " + f.Path
		default:
			line += fmt.Sprint(" ", f.Row)
			if len(f.By) > 0 {
				line += fmt.Sprint(" by ", f.By)
			}
		}
		if e := f.Example; e != nil && f.Kind != Never && f.Kind != Unreachable {
			raw, _ := json.Marshal(e.Record)
			line += " " + string(raw)
			if e.Before != nil {
				raw, _ = json.Marshal(e.Before)
				line += " was " + string(raw)
			}
			if !e.Sure {
				line += " unsure"
			}
		}
		out = append(out, line)
	}
	return out
}

func TestAnalysis(t *testing.T) {
	for _, c := range []struct {
		name, keep string
		rows       []string
		every      bool
		otherwise  bool
		want       []string // kinds and rows; overlaps left out unless asked for
		overlaps   bool
		opaque     []string
	}{
		{name: "a threshold and the rest", rows: []string{"{field: litres, at_least: 2000}", "{field: litres, below: 2000}"}, want: []string{`gap -1 {}`}},
		{name: "a higher threshold behind a lower one", rows: []string{"{field: litres, at_least: 500}", "{field: litres, at_least: 2000}"}, otherwise: true, want: []string{`unreachable 1 by [0]`}},
		{name: "two rows take a third together", rows: []string{"{field: litres, above: 5}", "{field: valley, is: Mill}", "{all: [{field: litres, at_most: 9}, {field: valley, is: mill}]}", "{any: [{field: litres, above: 7}, {field: valley, is: Mill}]}"}, otherwise: true,
			want: []string{`unreachable 2 by [1]`, `unreachable 3 by [0 1]`}},
		{name: "keep leaves nothing for a row", keep: "{field: litres, above: 500}", rows: []string{"{field: litres, below: 100}", "{field: litres, above: 100}"}, want: []string{`unreachable 0`}},
		{name: "a gap between whole numbers is none", rows: []string{"{field: wheels, at_most: 10}", "{field: wheels, at_least: 11}", "{field: wheels, empty: true}"}, want: nil},
		{name: "a gap between numbers is one", rows: []string{"{field: litres, at_most: 10}", "{field: litres, at_least: 11}", "{field: litres, empty: true}"}, want: []string{`gap -1 {"litres":10.1}`}},
		{name: "every value of a choice", rows: []string{"{field: valley, one_of: [Upper, Mill]}", "{field: valley, is: Middle}", "{field: valley, empty: true}"}, otherwise: true, want: []string{`unreachable -1`}},
		{name: "one value of a choice left out", rows: []string{"{field: valley, is: Upper}", "{field: valley, is: mill}", "{field: valley, empty: true}"}, want: []string{`gap -1 {"valley":"Middle"}`}},
		{name: "yes, no and empty", rows: []string{"{field: organic, is: true}", "{field: organic, is: false}"}, want: []string{`gap -1 {}`}},
		{name: "contradictions", keep: "{all: [{field: valley, is: Upper}, {field: valley, is: Mill}]}", rows: []string{"{field: litres, above: 1}"}, otherwise: true, want: []string{"never keep"}},
		{name: "always", keep: "{any: [{field: valley, is: Upper}, {field: valley, is_not: Upper}]}", rows: []string{"{field: litres, above: 1}"}, otherwise: true, want: []string{"always keep"}},
		{name: "between the wrong way round", keep: "{field: litres, between: [9, 2]}", rows: []string{"{field: litres, above: 1}"}, otherwise: true, want: []string{"never keep"}},
		{name: "formulas are not looked into", rows: []string{`{formula: "record.litres > 5"}`, `{formula: "record.litres > 5"}`, `{all: [{formula: "record.litres > 6"}, {field: litres, above: 1}]}`}, otherwise: true,
			want: []string{`unreachable 1 by [0]`}, opaque: []string{"record.litres > 5", "record.litres > 6"}},
		{name: "patterns are looked into where a text shows them", rows: []string{"{field: driver, contains: on}", "{field: driver, is: Jonas}", "{field: driver, starts_with: Jo}"}, otherwise: true, want: []string{`unreachable 1 by [0]`}},
		{name: "patterns beyond that are not sure", rows: []string{`{field: driver, matches: "^J.*s$"}`}, want: []string{`gap -1 {}`}},
		{name: "nor are patterns that exclude one another", rows: []string{`{field: driver, starts_with: J}`, `{all: [{field: driver, matches: "^[jJ]"}, {field: driver, lacks: j}]}`}, otherwise: true, want: nil},
		{name: "moments move together", rows: []string{"{field: due, within_next: 2h}", "{field: due, within_next: 1h}", `{field: due, before: now}`, "{field: due, after: now+2h}"}, want: []string{`unreachable 1 by [0]`, `gap -1 {}`}},
		{name: "days of the week", rows: []string{"{field: due, weekday: [sat, sun]}", "{field: due, weekday: [mon, tue, wed, thu, fri]}", "{field: due, weekday: [sun]}"}, want: []string{"unreachable 2 by [0]", "gap -1 {}"}},
		{name: "a day of the week within a span", rows: []string{"{all: [{field: due, weekday: [sun]}, {field: due, within_next: 2h}]}", "{field: due, empty: true}", "{field: due, empty: false}"}, want: nil},
		{name: "days against fixed days", rows: []string{"{all: [{field: day, after: 2026-11-20}, {field: day, before: 2026-11-22}, {field: day, weekday: [sat]}]}", "{all: [{field: day, after: 2026-11-20}, {field: day, before: 2026-11-22}]}"}, otherwise: true, want: []string{"unreachable 1 by [0]"}},
		{name: "what became", rows: []string{"{field: valley, became: Upper}", "{all: [{field: valley, is: Upper}, {field: valley, changed: true}]}"}, otherwise: true, want: []string{"unreachable 1 by [0]"}},
		{name: "what was", rows: []string{"{field: litres, rose_by: 10}", "{all: [{field: litres, above: 100}, {field: litres, was: 50}]}", "{all: [{field: litres, above: 55}, {field: litres, was: 50}]}"}, otherwise: true, want: []string{"unreachable 1 by [0]"}},
		{name: "spans", rows: []string{"{field: took, above: 1h}", "{field: took, above: 90m}"}, otherwise: true, want: []string{"unreachable 1 by [0]"}},
		{name: "lists", rows: []string{"{field: tags, has_any: [a, b]}", "{field: tags, has_all: [b, c]}", "{field: tags, contains: c}", "{field: tags, lacks: c}"}, otherwise: true, want: []string{"unreachable 1 by [0]", "unreachable -1"}},
		{name: "any element", rows: []string{"{field: lines.n, above: 5}", "{field: lines.n, at_most: 5}", "{all: [{field: lines.n, above: 7}, {field: lines.n, below: 3}]}"}, otherwise: true, want: []string{"unreachable 2 by [0]"}},
		{name: "none of", rows: []string{"{none: [{field: litres, above: 5}, {field: valley, is: Mill}]}", "{any: [{field: litres, above: 5}, {field: valley, is: Mill}]}"}, otherwise: true, want: []string{"unreachable -1"}},
		{name: "rows that hold together", rows: []string{"{field: litres, above: 5}", "{field: valley, is: Mill}"}, every: true, otherwise: true, overlaps: true, want: []string{`overlap 1 by [0] {"litres":6,"valley":"Mill"}`}},
	} {
		t.Run(c.name, func(t *testing.T) {
			take := "first"
			if c.every {
				take = "every"
			}
			a := Analyse(of(plan(t, c.keep, take, c.rows, c.otherwise)))
			got := slices.DeleteFunc(brief(a), func(s string) bool { return !c.overlaps && strings.HasPrefix(s, Overlap) })
			assert.Equal(t, append([]string{}, c.want...), got)
			assert.Equal(t, append([]string{}, c.opaque...), a.Opaque)
			assert.True(t, a.Whole)
		})
	}
}

// A value that does not read as its field's type is a case of its own, where nothing says that there is none.
func TestForeignValuesAreACase(t *testing.T) {
	for _, c := range []struct {
		rows           []string
		declared, open []string
		otherwise      bool
	}{
		{rows: []string{"{field: litres, at_least: 4}", "{field: litres, below: 4}", "{field: litres, empty: true}"}, otherwise: true}, // where "n/a" goes, whatever is declared
		{rows: []string{"{field: litres, at_least: 4}", "{none: [{field: litres, at_least: 4}]}"}, otherwise: true, declared: []string{"unreachable -1"}, open: []string{"unreachable -1"}},
		{rows: []string{"{field: litres, at_least: 4}", "{field: litres, below: 4}", "{field: litres, empty: true}"}, open: []string{`gap -1 {"litres":"n/a"}`}},
		{rows: []string{"{field: organic, is: true}", "{field: organic, is: false}", "{field: organic, empty: true}"}, open: []string{`gap -1 {"organic":"n/a"}`}},
		{rows: []string{"{field: due, before: now}", "{field: due, at_least: now}", "{field: due, empty: true}"}, open: []string{`gap -1 {"due":"n/a"}`}},
		{rows: []string{"{field: took, above: 1h}", "{field: took, at_most: 1h}", "{field: took, empty: true}"}, open: []string{`gap -1 {"took":"n/a"}`}},
		{rows: []string{"{field: lines.n, above: 5}", "{field: lines.n, at_most: 5}", "{field: lines.n, empty: true}"}, open: []string{`gap -1 {"lines":[{"n":"n/a"}]}`}},
		{rows: []string{"{field: litres, rose_by: 0}", "{field: litres, fell_by: 0}", "{field: litres, empty: true}", "{field: litres, was: 3}"}, open: []string{`gap -1 {"litres":2}`}, declared: []string{"unreachable 3 by [0 1 2]", `gap -1 {"litres":2}`}},
	} {
		rest := func(p *sheet.Plan) []string {
			return slices.DeleteFunc(brief(Analyse(of(p))), func(s string) bool { return strings.HasPrefix(s, Overlap) })
		}
		assert.Equal(t, append([]string{}, c.declared...), rest(plan(t, "", "first", c.rows, c.otherwise)), "%v", c.rows)
		assert.Equal(t, append([]string{}, c.open...), rest(planOf(t, learnt, "", "first", c.rows, c.otherwise)), "%v", c.rows)
	}
}

// Against trying every record there is: what is unreachable is what no record reaches, and examples show what they are
// said to show.
func TestAnalysisAgainstEveryRecord(t *testing.T) {
	t.Run("declared", func(t *testing.T) { againstEveryRecord(t, schema, 80) })
	t.Run("learnt", func(t *testing.T) { againstEveryRecord(t, learnt, 40, "n/a", "late") })
}

func againstEveryRecord(t *testing.T, schema func(string) *value.Schema, rounds int, more ...any) {
	r := rand.New(rand.NewPCG(7, 11))
	numbers := append([]any{nil}, more...)
	for f := -3.0; f <= 6; f += 0.5 {
		numbers = append(numbers, f)
	}
	valleys := []any{nil, "Upper", "Middle", "Mill"}
	if len(more) > 0 {
		valleys = append(valleys, "Alp")
	}
	drivers := []any{nil, "Ana", "Jon", "Ana Jon", "Eva"}
	var atom func(depth int) string
	atom = func(depth int) string {
		pick := func(list ...string) string { return list[r.IntN(len(list))] }
		if depth > 0 && r.IntN(3) == 0 {
			return fmt.Sprintf("{%s: [%s, %s]}", pick("all", "any", "none"), atom(depth-1), atom(depth-1))
		}
		switch r.IntN(6) {
		case 0, 1:
			return fmt.Sprintf("{field: litres, %s: %d}", pick("above", "at_least", "below", "at_most", "is", "is_not", "was"), r.IntN(4))
		case 2:
			return fmt.Sprintf("{field: litres, %s: %d}", pick("rose_by", "fell_by"), 1+r.IntN(2))
		case 3:
			return fmt.Sprintf("{field: valley, %s: [%s, %s]}", pick("one_of", "none_of"), pick("Upper", "Mill"), pick("Middle", "Mill"))
		case 4:
			return fmt.Sprintf("{field: valley, %s}", pick("changed: true", "changed: false", "became: Mill", "was: Upper", "empty: true"))
		}
		return fmt.Sprintf("{field: driver, %s: %s}", pick("is", "is_not", "contains"), pick("Ana", "Jon"))
	}
	type state struct{ now, before map[string]any }
	var all []state
	for _, l := range numbers {
		for _, v := range valleys {
			for _, d := range drivers {
				rec := map[string]any{"litres": l, "valley": v, "driver": d}
				all = append(all, state{rec, nil})
				for _, lb := range numbers {
					for _, vb := range valleys {
						all = append(all, state{rec, map[string]any{"litres": lb, "valley": vb, "driver": d}})
					}
				}
			}
		}
	}
	eval := func(n cond.Node, s state) bool {
		return n == nil || n.Eval(&formula.Scope{Record: s.now, Before: s.before, Now: now}) == cond.True
	}
	for range rounds {
		rows := make([]string, 2+r.IntN(4))
		for i := range rows {
			rows[i] = atom(2)
		}
		keep := ""
		if r.IntN(2) == 0 {
			keep = atom(1)
		}
		p := planOf(t, schema, keep, "first", rows, false)
		table := of(p)
		taken, gap := make([]bool, len(rows)), false
		for _, s := range all {
			if !eval(p.Keep, s) {
				continue
			}
			at := slices.IndexFunc(table.Rows, func(n cond.Node) bool { return eval(n, s) })
			if at < 0 {
				gap = true
			} else {
				taken[at] = true
			}
		}
		a := Analyse(table)
		if !slices.Contains(taken, true) && !gap {
			require.True(t, slices.ContainsFunc(a.Findings, func(f Finding) bool { return f.Kind == Never || f.Kind == Unreachable }))
			continue
		}
		said := fmt.Sprint("keep ", keep, "\n", strings.Join(rows, "\n"), "\n", brief(a))
		for i := range rows {
			unreachable := slices.ContainsFunc(a.Findings, func(f Finding) bool { return f.Kind == Unreachable && f.Row == i })
			require.Equal(t, !taken[i], unreachable, "row %d of\n%s", i, said)
		}
		require.Equal(t, gap, slices.ContainsFunc(a.Findings, func(f Finding) bool { return f.Kind == Gap }), said)
		for _, f := range a.Findings {
			if f.Example == nil || !f.Example.Sure {
				continue
			}
			s := state{f.Example.Record, f.Example.Before}
			if s.before == nil && !f.Example.New {
				s.before = map[string]any{}
			}
			switch f.Kind {
			case Gap:
				require.True(t, eval(p.Keep, s) && !slices.ContainsFunc(table.Rows, func(n cond.Node) bool { return eval(n, s) }), "%s\n%v", said, s)
			case Overlap:
				require.True(t, eval(p.Keep, s) && eval(table.Rows[f.Row], s) && eval(table.Rows[f.By[0]], s), "%s\n%v", said, s)
			case Unreachable:
				require.True(t, eval(p.Keep, s) && eval(table.Rows[f.Row], s), "%s\n%v", said, s)
			}
		}
	}
}

// 50 rows by 8 columns.
func BenchmarkAnalyse(b *testing.B) {
	r := rand.New(rand.NewPCG(1, 2))
	var rows []string
	for range 50 {
		var cells []string
		for _, cell := range []string{
			fmt.Sprintf("{field: litres, between: [%d, %d]}", r.IntN(500), 500+r.IntN(2000)),
			fmt.Sprintf("{field: wheels, at_least: %d}", r.IntN(50)),
			fmt.Sprintf("{field: valley, is: %s}", []string{"Upper", "Middle", "Mill"}[r.IntN(3)]),
			fmt.Sprintf("{field: driver, one_of: [D%d, D%d]}", r.IntN(30), r.IntN(30)),
			fmt.Sprintf("{field: organic, is: %v}", r.IntN(2) == 0),
			fmt.Sprintf("{field: due, within_next: %dh}", 1+r.IntN(100)),
			fmt.Sprintf("{field: took, above: %dm}", r.IntN(100)),
			fmt.Sprintf("{field: tags, contains: t%d}", r.IntN(5)),
		} {
			if r.IntN(3) > 0 {
				cells = append(cells, cell)
			}
		}
		rows = append(rows, "{all: ["+strings.Join(append(cells, "{field: litres, above: 0}"), ", ")+"]}")
	}
	table := of(plan(b, "", "first", rows, false))
	for b.Loop() {
		Analyse(table)
	}
}
