package sheet

import (
	"bytes"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/core/cond"
	"dorfbote/internal/core/value"
)

var known = Known{
	Workspace: value.Workspace{Zone: time.UTC},
	Schema: func(string) *value.Schema {
		return &value.Schema{Fields: []value.Field{
			{Name: "id", Type: value.Text}, {Name: "litres", Type: value.Num}, {Name: "status", Type: value.Choice, Options: []string{"late", "planned"}},
		}}
	},
	Sources:      func() []string { return []string{"tours/collections", "workshop/jobs"} },
	Destinations: func() []string { return []string{"square/#tours", "square/#board"} },
}

const good = `dorfbote: 1
name: Late
watch:
  source: tours/collections
  when: {field: status, became: late}
keep:
  all:
    - {field: litres, above: 500}
messages:
  alert:
    title: "${record.id}"
    body: |
      It has ${record.litres} litres
      and more.
    tone: warning
route:
  rows:
    - name: Much
      when: {field: litres, at_least: 2000}
      tell:
        - {to: "square/#board", message: alert}
  otherwise:
    tell:
      - {to: "square/#tours", message: alert}
`

func TestProblemsHaveTheirPlaceAndASuggestion(t *testing.T) {
	for _, c := range []struct{ old, new, at, want string }{
		{"", "", "", ""},
		{"watch:", "wach:", "3:1", `a sheet has no part "wach"; did you mean watch?`},
		{"source: tours/collections", "source: tours/colections", "4:11", "there is no source tours/colections; did you mean tours/collections?"},
		{"became:", "becam:", "5:25", "there is no operator becam; did you mean became?"},
		{"late}", "lat}", "5:33", `warning: status is never "lat"; it is one of late, planned; did you mean late?`},
		{"litres, above", "litrs, above", "8:15", "the records have no field litrs; did you mean litres?"},
		{"above: 500", `above: "many"`, "8:30", "litres is a number field"},
		{"above: 500", "above: 500, below: 5", "8:35", "a test has exactly one operator"},
		{"{record.litres}", "{record.litrs}", "13:23", "there is no field litrs; did you mean litres?"},
		{"and more.", "and ${wrods(1)}.", "14:13", "there is no name wrods here; did you mean words?"},
		{`title: "${record.id}"`, `title: "é \" ${record.idd}"`, "11:27", "there is no field idd; did you mean id?"},
		{"tone: warning", "tone: waring", "15:11", "there is no tone waring; it is one of plain, good, warning, urgent; did you mean warning?"},
		{"#board\", message: alert", "#board\", message: alrt", "21:42", "there is no message alrt; did you mean alert?"},
		{"square/#board", "square/#bord", "21:16", "there is no destination square/#bord; did you mean square/#board?"},
		{"name: Late", "name: Late\nname: Again", "3:1", "name stands twice"},
		{"dorfbote: 1", "dorfbote: 2", "1:11", "this reads version 1"},
		{"  otherwise:", "  otherwis:", "22:3", `route has no part "otherwis"; did you mean otherwise?`},
		{"when: {field: litres, at_least: 2000}", "", "18:7", "the row has no condition"},
		{"watch:", "watch:\n  due: {field: dur}", "", "due stands in place of on and when"},
		{"watch:", "watch:\n  due: {field: litrs}", "", "the records have no field litrs; did you mean litres?"},
		{"watch:", "watch:\n  due: {field: litres}", "", "litres is a number field; due needs a date or a moment"},
		{"watch:", "watch:\n  lasts: {that: {field: status, is: late}, for: 0m}", "", "a span longer than nothing"},
		{"watch:", "watch:\n  schedule: {cron: \"0 7 * *\"}", "", "cron has five fields"},
		{"watch:", "watch:\n  schedule: {start: \"2026-11-03T07:00\", zone: Europe/Zurick, rule: FREQ=DAILY}", "", "is not a time zone"},
		{"watch:", "watch:\n  schedule: {start: \"2026-11-03T07:00\", rule: FREQ=DAILY;BYDYA=MO}", "", "a recurrence rule has no part BYDYA; did you mean BYDAY?"},
		{"watch:", "watch:\n  start: {ask: [{name: a, type: texd}]}", "", "there is no type texd; did you mean text?"},
		{"watch:", "watch:\n  called: {}", "", "called has no source of its own; take it out"},
		{"keep:", "gather: [{name: record, value: now}]\nkeep:", "", "record has a meaning of its own in formulas"},
		{"keep:", "gather: [{name: f, value: recrd.id}]\nkeep:", "6:27", "there is no name recrd here; did you mean record?"},
		{"keep:", "gather: [{name: f, find: {source: tours/farms, take: al}}]\nkeep:", "", "take is one or all, not \"al\"; did you mean all?"},
		{"keep:", "gather: [{name: f}]\nkeep:", "", "f gathers nothing"},
		{"keep:", "gather: [{name: f, script: 'x = 1'}]\nkeep:", "6:28", "the script gives nothing: have it set result"},
		{"keep:", "gather:\n  - name: f\n    script: |\n      a = 1\n      result = a +* 2\nkeep:", "10:19", "the script cannot be read"},
		{"keep:", "gather: [{name: f, http: {url: \"ftp://x/${record.id}\"}}]\nkeep:", "6:32", "the address starts with https:// or http://"},
		{"keep:", "gather: [{name: f, http: {url: \"http://x/${record.idd}\"}}]\nkeep:", "6:51", "there is no field idd; did you mean id?"},
		{"keep:", "gather: [{name: f, http: {url: \"http://x/\", body: {a: 1}}}]\nkeep:", "", "a GET carries no body"},
		{"keep:", "gather: [{name: f, http: {url: \"http://x/\", method: POST, body: {a: [\"${record.idd}\"]}}}]\nkeep:", "", "there is no field idd"},
		{"keep:", "gather: [{name: f, http: {url: \"http://x/\", pick: \"$[\"}}]\nkeep:", "6:51", `"$[" is not a JSONPath`},
		{"keep:", "gather: [{name: f, summary: {of: idd}}]\nkeep:", "6:34", "there is no field idd; did you mean id?"},
		{"keep:", "gather: [{name: f, value: now, if_fails: emty}]\nkeep:", "6:42", "if_fails is stop, empty, or tell with destinations, not \"emty\"; did you mean empty?"},
		{"keep:", "gather: [{name: f, value: now, if_fails: {tell: [{to: \"square/#tour\", message: alert}]}}]\nkeep:", "", "there is no destination square/#tour; did you mean square/#tours?"},
		{"keep:", "pace: {repeat: {key: record.id, within: 2h}}\nkeep:", "6:22", `warning: the key "record.id" is the same for every arrival, so each would repeat the one before; did you mean ${record.id}?`},
		{"keep:", "pace: {repeat: {key: \"${record.idd}\", within: 2h}}\nkeep:", "6:32", "there is no field idd"},
		{"keep:", "pace: {repeat: {key: \"${record.id}\", within: 2x}}\nkeep:", "6:46", `"2x" is not a span of time`},
		{"keep:", "pace: {repeat: {key: \"${record.id}\", within: 2h, then: dropp}}\nkeep:", "6:56", "then is drop, update or reply, not \"dropp\"; did you mean drop?"},
		{"keep:", "pace: {limit: {posts: 0, per: 1h}}\nkeep:", "6:23", "posts is a whole number of at least 1"},
		{"keep:", "pace: {limit: {posts: 2, per: 1h}, digest: {every: 2h}}\nkeep:", "", "keep one of the two"},
		{"keep:", "pace: {quiet: {open: [{days: [mno], from: \"05:00\", to: \"20:00\"}]}}\nkeep:", "", "did you mean mon?"},
		{"  all:", "  al:", "7:3", `a condition has no part "al"; did you mean all?`},
		{"tell:\n        -", "tell:\n       - ]", "", "this is not YAML"},
	} {
		t.Run(c.new, func(t *testing.T) {
			src := strings.Replace(good, c.old, c.new, 1)
			_, _, problems := Compile([]byte(src), known)
			if c.want == "" {
				assert.Empty(t, problems)
				return
			}
			var lines []string
			found := false
			for _, p := range problems {
				at := strings.TrimSpace(strings.Join([]string{itoa(p.At.Line), itoa(p.At.Column)}, ":"))
				lines = append(lines, at+" "+p.String())
				found = found || strings.HasPrefix(at+" "+p.String(), strings.TrimSpace(c.at+" "+c.want)) || c.at == "" && strings.Contains(p.String(), c.want)
			}
			assert.True(t, found, "wanted %s %s, got\n%s", c.at, c.want, strings.Join(lines, "\n"))
		})
	}
}

// A problem in a formula says where in it, so that it can be underlined there.
func TestProblemsSayWhereInTheirFormula(t *testing.T) {
	for formula, at := range map[string]int{"recrd.id": 0, "record.id + nme": 12, "len(record.id) + wrods(1)": 17} {
		src := strings.Replace(good, "keep:", "gather: [{name: f, value: '"+formula+"'}]\nkeep:", 1)
		_, _, problems := Compile([]byte(src), known)
		require.NotEmpty(t, problems, formula)
		require.NotNil(t, problems[0].Offset, formula)
		assert.Equal(t, at, *problems[0].Offset, formula)
		src = strings.Replace(good, "{field: litres, above: 500}", "{formula: '"+formula+"'}", 1)
		_, _, problems = Compile([]byte(src), known)
		require.NotNil(t, problems[0].Offset, formula)
		assert.Equal(t, at, *problems[0].Offset, formula)
	}
}

func itoa(n int) string { return value.NumberText(float64(n)) }

func examples(t *testing.T) map[string][]byte {
	files, err := filepath.Glob("../../../examples/*.yaml")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	out := map[string][]byte{}
	for _, f := range files {
		src, err := os.ReadFile(f)
		require.NoError(t, err)
		out[filepath.Base(f)] = src
	}
	return out
}

// A sheet written, read and written again is the same sheet, as YAML and by way of JSON.
func TestFormatIsStable(t *testing.T) {
	sheets := examples(t)
	sheets["every way"] = []byte(strings.Replace(good, "keep:", everyWay+"keep:", 1))
	for name, src := range sheets {
		t.Run(name, func(t *testing.T) {
			once, err := Format(src)
			require.NoError(t, err)
			twice, err := Format(once)
			require.NoError(t, err)
			assert.Equal(t, string(once), string(twice))
			asJSON, err := JSON(src)
			require.NoError(t, err)
			back, err := Format(asJSON)
			require.NoError(t, err)
			assert.Equal(t, string(once), string(back))
		})
	}
}

func FuzzRead(f *testing.F) {
	f.Add([]byte(good))
	f.Add([]byte("a: &a [*a, *a]"))
	f.Add([]byte(`{"dorfbote":1,"watch":{"source":"a/b"},"route":{"otherwise":{"tell":[{"to":"a/b","message":"m"}]}}}`))
	f.Fuzz(func(_ *testing.T, src []byte) {
		if plan, _, problems := Compile(src, known); plan == nil && len(problems) == 0 {
			panic("refused without a reason")
		}
		_, _ = JSON(src)
		_, _ = Format(src)
	})
}

// everyWay has every way to gather, and a whole pace.
const everyWay = `gather:
  - {name: other, find: {source: tours/collections, where: {field: id, is: "${record.id}"}, take: all, sort: -litres, limit: 3}}
  - name: half
    script: |
      result = record["litres"] / 2
    if_fails: empty
  - name: answer
    http:
      url: "https://prices.example/${record.id}"
      method: POST
      headers: {X-Why: "${record.status}"}
      body: {id: "${record.id}", parts: [1, true, null, "a ${half}"]}
      pick: $.price
    if_fails: {tell: [{to: "square/#tours", message: alert}]}
  - {name: short, summary: {of: [status, "${record.id} and more"], words: 20}, if_fails: stop}
pace:
  repeat: {key: "${record.id}", within: 2h, then: reply}
  quiet: {open: [{days: [mon, tue], from: "05:00", to: "20:00"}], urgent: pass}
  limit: {posts: 20, per: 1h}
  useful_for: 1d
follow:
  - change: {source: workshop/jobs, key: "${record.id}", set: {litres: "${record.litres}"}}
    when: {field: litres, above: 5}
  - {name: more, add: {source: workshop/jobs, set: {id: "x", litres: 5}}, if_fails: go_on}
  - {call: {workflow: Other, with: {text: "${record.id}", n: 5}}, if_fails: {tell: [{to: "square/#tours", message: alert}]}}
  - {add: {each: "${[1, 2]}", source: workshop/jobs, set: {id: "${it}"}}}
  - unless: {any: [{claimed: true}, {field: litres, above: 5}], within: 15m}
    tell: [{to: "square/#tours", message: alert}]
  - {unless: {answered: true, within: 1h}, tell: [{to: "square/#tours", message: alert}]}
tables: {rooms: [{from: a, to: b}]}
ask:
  - {name: verdict, of: "square/#tours", message: alert, choices: [{name: go, text: Go on, comment: required}, stop], within: 2d, remind: [1h, 1d], otherwise: stop}
  - {name: second, when: {field: verdict.choice, is: go}, of: ["square/#tours"], all: true, message: alert, choices: [up, down], remind: 1d}
`

// The published schema and the reader agree on what a sheet is.
func TestPublishedSchema(t *testing.T) {
	schema, err := jsonschema.NewCompiler().Compile("../../../docs/schema/sheet.schema.json")
	require.NoError(t, err)
	validate := func(src []byte) error {
		raw, err := JSON(src)
		require.NoError(t, err)
		v, err := jsonschema.UnmarshalJSON(bytes.NewReader(raw))
		require.NoError(t, err)
		return schema.Validate(v)
	}
	for name, src := range examples(t) {
		require.NoError(t, validate(src), name)
	}
	full := strings.Replace(good, "keep:", everyWay+"keep:", 1)
	_, _, problems := Compile([]byte(full), known)
	assert.Empty(t, problems)
	require.NoError(t, validate([]byte(full)))
	due := strings.Replace(good, "  when: {field: status, became: late}", "  due: {field: due, offset: -2h, late: 3d}", 1)
	require.NotEqual(t, good, due)
	require.NoError(t, validate([]byte(due)))
	for _, bad := range [][2]string{{"open: [{days: [mon, tue], from: \"05:00\", to: \"20:00\"}]", "open: []"}, {"pick:", "pik:"}, {"words: 20", "words: 0"}, {"then: reply", "then: answer"}, {"posts: 20", "posts: many"}, {"urgent: pass", "urgent: yes"}, {"script: |", "summary: {of: id}\n    script: |"}} {
		require.Error(t, validate([]byte(strings.Replace(full, bad[0], bad[1], 1))), bad[1])
	}
	for _, op := range cond.OpNames() { // every operator is in the schema
		values := map[string]string{"list": "[a]", "pair": "[1, 2]", "bool": "true", "days": "[mon]", "span": "2h"}
		o, _ := cond.OpNamed(op)
		v, ok := values[o.Takes]
		if !ok {
			v = "a"
		}
		require.NoError(t, validate([]byte(strings.Replace(good, "above: 500", op+": "+v, 1))), op)
	}
	for _, bad := range [][2]string{{"watch:", "wach:"}, {"above: 500", "abov: 500"}, {"above: 500", "above: 5, below: 3"}, {"tone:", "tune:"}, {"dorfbote: 1", "dorfbote: 2"}, {"dorfbote: 1", "dorfbote: \"1\""}, {"  otherwise:", "  otherwise: {tell: []}\n  unused:"}, {"      when: {field: litres, at_least: 2000}", "      when: {field: litres, at_least: 2000}\n    - {name: A, when: {field: litres, above: 1}}\n    - when: {field: litres, above: 2}"}} {
		assert.Error(t, validate([]byte(strings.Replace(good, bad[0], bad[1], 1))), bad[1])
	}
}

// What waits for now is warned of with its place, and keeps nothing from being switched on; what would be refused does.
func TestWhereWhatIsToldWaits(t *testing.T) {
	with := known
	with.Halted = func(to string) string { return map[string]string{"square/#board": "#board is paused by Ada"}[to] }
	plan, warnings, problems := Compile([]byte(good), with)
	require.NotNil(t, plan, "%v", problems)
	assert.Contains(t, fmt.Sprint(warnings, problems), "#board is paused by Ada")
	with.Shut = func(to string) string { return map[string]string{"square/#tours": "it is private"}[to] }
	_, _, problems = Compile([]byte(good), with)
	assert.Contains(t, fmt.Sprint(problems), "it is private")
}
