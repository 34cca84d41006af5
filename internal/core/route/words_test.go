package route

import (
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/core/report"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
)

// What is found is told in words that name the rows, with a record that shows it.
func TestWordsOfFindings(t *testing.T) {
	for name, c := range map[string]struct {
		keep, take string
		rows       []string
		otherwise  bool
		want       string
	}{
		"a row that nothing reaches":   {"", "first", []string{"{field: litres, at_least: 5}", "{field: litres, at_least: 9}"}, true, `Row 2 (R1) is never taken: row 1 (R0) takes everything it would.`},
		"a row that two rows take":     {"", "first", []string{"{field: litres, above: 5}", "{field: valley, is: Mill}", "{any: [{field: litres, above: 7}, {field: valley, is: Mill}]}"}, true, `Row 3 (R2) is never taken: row 1 (R0) and row 2 (R1) together take everything it would.`},
		"a row against Keep":           {"{field: litres, above: 500}", "first", []string{"{field: litres, below: 100}", "{field: litres, above: 100}"}, true, `Row 1 (R0) is never taken: nothing that comes this far can hold there.`},
		"an otherwise that is not met": {"", "first", []string{"{field: valley, one_of: [Upper, Mill]}", "{field: valley, is: Middle}", "{field: valley, empty: true}"}, true, `Otherwise is never needed: the rows take everything.`},
		"a gap":                        {"", "first", []string{"{field: litres, at_most: 10}", "{field: litres, empty: true}"}, false, `Something can come in that no row takes, and nobody is told: there is no otherwise. For example: litres is 11.`},
		"a gap at nothing":             {"", "first", []string{"{field: litres, at_most: 10}", "{field: litres, above: 10}"}, false, `For example: a record whose fields named here are all empty.`},
		"a gap of a text":              {"", "first", []string{`{field: driver, matches: "^J.*s$"}`}, false, `For example: `},
		"an overlap":                   {"", "every", []string{"{field: litres, above: 5}", "{field: valley, is: Mill}"}, true, `Row 1 (R0) and row 2 (R1) can both hold, and then both tell. For example: litres is 6, valley is "Mill".`},
		"an overlap, first":            {"", "first", []string{"{field: litres, above: 5}", "{field: valley, is: Mill}"}, true, `Row 2 (R1) also holds for some of what row 1 (R0) takes, which goes first. For example: litres is 6, valley is "Mill".`},
		"what was before":              {"{field: valley, is: Upper}", "first", []string{"{field: valley, became: Upper}"}, false, `was`},
		"never":                        {"{all: [{field: valley, is: Upper}, {field: valley, is: Mill}]}", "first", []string{"{field: litres, above: 5}"}, true, `This can never hold.`},
		"always":                       {"{any: [{field: valley, is: Upper}, {field: valley, is_not: Upper}]}", "first", []string{"{field: litres, above: 5}"}, true, `This always holds, so it keeps nothing back.`},
		"a formula that is not read":   {"", "first", []string{`{all: [{formula: "record.litres > 6"}, {field: litres, above: 1}]}`}, false, `if `},
	} {
		a := Look(plan(t, c.keep, c.take, c.rows, c.otherwise), now)
		var words []string
		for _, f := range a.Findings {
			words = append(words, f.Words)
			assert.NotContains(t, f.Words, "%!", name)
		}
		assert.Contains(t, strings.Join(words, "\n"), c.want, name)
	}
}

func TestWordsOfExamples(t *testing.T) {
	ws := value.Workspace{Zone: zurichOf(t), Locale: "en"}
	for name, c := range map[string]struct {
		e    Example
		want string
	}{
		"nothing":             {Example{Sure: true}, "a record whose fields named here are all empty"},
		"a new record":        {Example{New: true, Sure: true, Record: map[string]any{"litres": 6.5}}, "a new record, litres is 6.5"},
		"fields within":       {Example{Sure: true, Record: map[string]any{"farm": map[string]any{"name": "Matt"}}}, `farm.name is "Matt"`},
		"moments":             {Example{Sure: true, Record: map[string]any{"due": "2026-11-25T08:30:00Z"}}, "due is 2026-11-25 09:30:00"},
		"a day":               {Example{Sure: true, Record: map[string]any{"day": "2026-11-25"}}, `day is "2026-11-25"`},
		"before":              {Example{Sure: true, Record: map[string]any{"litres": 6.0}, Before: map[string]any{"litres": 5.0}}, "litres is 6 and was 5"},
		"before, now empty":   {Example{Sure: true, Record: map[string]any{}, Before: map[string]any{"litres": 5.0}}, "litres is empty and was 5"},
		"gathered":            {Example{Sure: true, Gathered: map[string]any{"owner": map[string]any{"team": "A"}}}, `owner.team is "A"`},
		"what is taken as so": {Example{Given: map[string]bool{"b": false, "a": true}, Record: map[string]any{"x": true}}, "x is yes, if a holds and b does not hold"},
		"unsure":              {Example{Record: map[string]any{"driver": "Jans"}}, `driver is "Jans", if there is such a text`},
	} {
		assert.Equal(t, c.want, c.e.Words(ws), name)
	}
}

// What stands in the way is warned of where it stands; what can be mended is offered.
func TestProblemsOfFindings(t *testing.T) {
	text := "dorfbote: 1\nname: T\nwatch: {source: tours/collections}\nkeep: {all: [{field: valley, is: Upper}, {field: valley, is: Mill}]}\nmessages: {m: {title: x}}\nroute:\n  rows:\n    - {name: A, when: {field: litres, above: 1}, tell: [{to: s/c, message: m}]}\n    - {name: B, when: {field: litres, above: 2}, tell: [{to: s/c, message: m}]}\n  otherwise: {tell: [{to: s/c, message: m}]}\n"
	problems := func(text string, all bool) []report.Problem {
		p, sh, found := sheet.Compile([]byte(text), sheet.Known{Workspace: value.DefaultWorkspace(), Schema: schema})
		require.NotNil(t, p, "%v", found)
		a := Look(p, now)
		return a.Problems(sh, all)
	}
	got := problems(text, false)
	require.NotEmpty(t, got)
	assert.Equal(t, "keep", got[0].Path)
	assert.Equal(t, 4, got[0].At.Line)
	assert.True(t, got[0].Warning)
	require.NotNil(t, got[0].Mend)
	raw, err := json.Marshal(got[0].Mend.Put)
	require.NoError(t, err)
	assert.JSONEq(t, `{"any":[{"field":"valley","is":"Upper"},{"field":"valley","is":"Mill"}]}`, string(raw))

	open := strings.Replace(text, "keep: {all: [{field: valley, is: Upper}, {field: valley, is: Mill}]}\n", "", 1)
	got = problems(open, false)
	require.Len(t, got, 1)
	assert.Equal(t, "route.rows[1]", got[0].Path)
	assert.Equal(t, 8, got[0].At.Line)

	gap := open[:strings.Index(open, "  otherwise")]
	assert.Len(t, problems(gap, false), 1, "a gap may well be meant")
	got = problems(gap, true)
	require.Len(t, got, 2)
	assert.Equal(t, "route", got[1].Path)
	assert.Empty(t, problems("dorfbote: 1\nname: T\nwatch: {called: {takes: [{name: n, type: number}]}}\nanswer: {body: {}}\n", true), "whoever is answered need not be told")
}

func zurichOf(t *testing.T) *time.Location {
	zone, err := time.LoadLocation("Europe/Zurich")
	require.NoError(t, err)
	return zone
}
