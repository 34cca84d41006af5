package decide

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
)

// An error in a formula fails the arrival only where it decides; it is never taken for no.
func TestWhereAnErrorDecides(t *testing.T) {
	const head = "dorfbote: 1\nname: S\nwatch: {source: a/b%s}\n%smessages: {m: {title: x}}\nroute:\n  take: %s\n  rows:\n"
	breaks, holds, not := `{formula: "int(record.word) > 3"}`, `{field: n, above: 1}`, `{field: n, above: 100}`
	row := func(name, when string) string {
		return "    - {name: " + name + ", when: " + when + ", tell: [{to: c/d, message: m}]}\n"
	}
	other := "  otherwise: {tell: [{to: c/o, message: m}]}\n"
	for name, c := range map[string]struct {
		when, keep, take, rows string
		verdict                Verdict
		where, row             string
	}{
		"a broken row before one that holds":         {"", "", "first", row("A", breaks) + row("B", holds), Failed, "route.rows[0].when", ""},
		"a broken row behind one that holds":         {"", "", "first", row("A", holds) + row("B", breaks), Told, "", "A"},
		"a broken row, and nothing else holds":       {"", "", "first", row("A", not) + row("B", breaks) + other, Failed, "route.rows[1].when", ""},
		"a broken row where every match counts":      {"", "", "every", row("A", holds) + row("B", breaks), Failed, "route.rows[1].when", ""},
		"a broken part that does not decide a row":   {"", "", "first", row("A", "{any: ["+breaks+", "+holds+"]}") + other, Told, "", "A"},
		"a broken part that decides a row":           {"", "", "first", row("A", "{all: ["+breaks+", "+holds+"]}") + other, Failed, "route.rows[0].when.all[0]", ""},
		"a broken Keep":                              {"", "keep: " + breaks + "\n", "first", row("A", holds), Failed, "keep", ""},
		"a broken part of Keep beside one that says": {"", "keep: {all: [" + breaks + ", " + not + "]}\n", "first", row("A", holds), Dropped, "", ""},
		"a broken Watch":                             {", when: " + breaks, "", "first", row("A", holds), Failed, "watch.when", ""},
	} {
		src := fmt.Sprintf(head, c.when, c.keep, c.take) + c.rows
		p, _, problems := sheet.Compile([]byte(src), sheet.Known{Workspace: value.DefaultWorkspace()})
		require.NotNil(t, p, "%s: %v", name, problems)
		out := Decide(p, &formula.Scope{Record: map[string]any{"word": "many", "n": 7.0}, Now: time.Unix(1_800_000_000, 0), Arrival: formula.Arrival{Source: "a/b", Kind: "created"}})
		assert.Equal(t, c.verdict, out.Verdict, name)
		assert.Equal(t, c.where, out.Where, name)
		assert.Equal(t, c.row, out.Row, name)
	}
}
