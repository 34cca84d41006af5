package rehearse

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/core/arrival"
	"dorfbote/internal/core/decide"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
)

// printed decides one arrival by a sheet and gives the printed line.
func printed(t *testing.T, text string, a *arrival.Arrival) map[string]any {
	t.Helper()
	plan, _, problems := sheet.Compile([]byte(text), sheet.Known{Workspace: value.DefaultWorkspace()})
	require.NotNil(t, plan, "%v", problems)
	out := decide.Decide(plan, decide.NewScope(a))
	var line map[string]any
	require.NoError(t, json.Unmarshal(Line{Arrival: a.ID, At: a.Time, Outcome: out}.AppendJSON(nil), &line))
	return line
}

func said(text string, more ...string) *arrival.Arrival {
	a := &arrival.Arrival{ID: "m", Source: "talk/tours", Type: arrival.Created, Time: time.Now(), Subject: "1", Record: map[string]any{"id": "1", "author": "Vera", "text": text}}
	for i := 0; i+1 < len(more); i += 2 {
		a.Record[more[i]] = more[i+1]
	}
	return a
}

func TestCommands(t *testing.T) {
	const text = `dorfbote: 1
name: Done
watch: {source: talk/tours, command: done}
messages: {m: {title: "${len(record.words)}: ${join(record.words, '|')} ${record.about.key}"}}
route: {otherwise: {tell: [{to: "square/#tours", message: m}]}}
`
	for said, want := range map[string]string{
		"done COL-12 \"hose mended\"":   "2: COL-12|hose mended",
		"  DONE":                        "0:",
		"@dorfbote done COL-12":         "1: COL-12",
		"Dorfbote: Done  a\nb":          "2: a|b",
		"/done x":                       "1: x",
		`done a "left open  to the end`: "2: a|left open to the end",
		"done „ganz offen“ x":           "2: ganz offen|x",
		`done "" x`:                     "2: |x",
		"done it's":                     "1: it's",
		"undone COL-12":                 "",
		"it is done":                    "",
		"":                              "",
		"@dorfbote":                     "",
		"@jonas done COL-12":            "",
		"Jonas: done COL-12?":           "",
		"Well, done!":                   "",
		"dorfbote done COL-12":          "1: COL-12",
	} {
		line := printed(t, text, saidBy(said))
		if want == "" {
			assert.Equal(t, []any{"ignored", "watch.command"}, []any{line["verdict"], line["decided_by"]}, said)
			continue
		}
		require.Equal(t, "told", line["verdict"], said)
		assert.Equal(t, want, line["posts"].([]any)[0].(map[string]any)["title"], said)
	}
	named := saidBy("@desk: done COL-12")
	assert.Equal(t, "ignored", printed(t, text, named)["verdict"], "somebody else may be called so")
	named.Record["spoken_to"] = true
	assert.Equal(t, "told", printed(t, text, named)["verdict"], "in that room it is the sender's name")
	own := said("done COL-1")
	own.Record["own"] = true
	assert.Equal(t, "watch.own", printed(t, text, own)["decided_by"], "what Dorfbote said itself is no command")
	business := &arrival.Arrival{ID: "m", Source: "talk/tours", Type: arrival.Created, Time: time.Now(), Record: map[string]any{"own": true, "text": "done x"}}
	assert.Equal(t, "told", printed(t, text, business)["verdict"], "a record of something else may have a field own")
}

func saidBy(text string) *arrival.Arrival { return said(text) }

func TestTables(t *testing.T) {
	const text = `dorfbote: 1
name: Copy
watch: {source: talk/tours}
tables:
  rooms:
    - {from: "#tours", to: "club/a@x.example"}
    - {from: "#tours", to: "club/b@x.example", topic: milk}
    - {from: 5, to: "club/five@x.example"}
keep: {formula: 'len(rows(rooms, record.room)) > 0'}
messages: {m: {title: "${it.to} ${it.topic} ${rooms[record.room].to} ${rooms['none'].to}"}}
route: {otherwise: {tell: [{each: "${rows(rooms, record.room)}", to: "${'x'}", message: m}]}}
`
	sheet := strings.Replace(text, `to: "${'x'}"`, `to: "square/${it.to}"`, 1)
	titles := func(room string) (out []string) {
		line := printed(t, sheet, said("hello", "room", room))
		for _, p := range line["posts"].([]any) {
			out = append(out, fmt.Sprint(p.(map[string]any)["title"]))
		}
		return append(out, fmt.Sprint(line["verdict"]))
	}
	assert.Equal(t, []string{"club/a@x.example club/a@x.example", "club/b@x.example milk club/a@x.example", "told"}, titles("#tours"))
	assert.Equal(t, []string{"club/five@x.example club/five@x.example", "told"}, titles("5"))
	assert.Equal(t, []string{"dropped"}, titles("#Tours"), "exactly")
}

func TestACallerIsAnswered(t *testing.T) {
	const text = `dorfbote: 1
name: Limit
watch: {called: {takes: [{name: amount, label: Amount, type: number, required: true}]}}
keep: {formula: "answers.amount != 7"}
messages: {m: {title: "${answers.amount / 0 > 1 ? answers.nothing.at(3) : answers.amount}"}}
route: {rows: [{name: Much, when: {formula: "answers.amount >= 500"}, tell: [{to: "square/#board", message: m}]}]}
answer: {status: 201, body: {allowed: "${answers.amount < 500}", why: "it is ${outcome}", list: ["${answers.amount}", 5, null]}}
`
	call := func(text string, amount any) map[string]any {
		return printed(t, text, &arrival.Arrival{ID: "c", Source: "dorfbote/called", Type: arrival.Start, Time: time.Now(), Answers: map[string]any{"amount": amount}})
	}
	sheet := strings.Replace(text, "answers.amount / 0 > 1 ? answers.nothing.at(3) : answers.amount", "answers.amount", 1)
	assert.Equal(t, map[string]any{"status": 201.0, "body": map[string]any{"allowed": true, "why": "it is unrouted", "list": []any{30.0, 5.0, nil}}}, call(sheet, 30.0)["answer"])
	assert.Equal(t, map[string]any{"status": 201.0, "body": map[string]any{"allowed": false, "why": "it is told", "list": []any{900.0, 5.0, nil}}}, call(sheet, 900.0)["answer"])
	assert.Equal(t, "it is dropped", call(sheet, 7.0)["answer"].(map[string]any)["body"].(map[string]any)["why"])
	failed := call(sheet, "many")
	assert.Equal(t, []any{"failed", 500.0}, []any{failed["verdict"], failed["answer"].(map[string]any)["status"]})
	none := strings.Replace(sheet, "route: {rows: [{name: Much, when: {formula: \"answers.amount >= 500\"}, tell: [{to: \"square/#board\", message: m}]}]}\n", "", 1)
	assert.Equal(t, 201.0, call(none, 900.0)["answer"].(map[string]any)["status"], "a route may be left out")
	_, _, problems := sheetOf(strings.Replace(sheet, "called: {takes: [{name: amount, label: Amount, type: number, required: true}]}", "source: a/b", 1))
	assert.Contains(t, fmt.Sprint(problems), "only a workflow that is started by a call answers one")
}

func sheetOf(text string) (any, any, any) {
	p, s, problems := sheet.Compile([]byte(text), sheet.Known{Workspace: value.DefaultWorkspace()})
	return p, s, problems
}

func TestManyRecordsAreAdded(t *testing.T) {
	const text = `dorfbote: 1
name: Samples
watch: {source: cellar/batches}
gather: [{name: made, value: "record.n == 0 ? [] : map(1..record.n, {{no: #, batch: record.id}})"}]
messages: {m: {title: x}}
route: {otherwise: {tell: [{to: "square/#tours", message: m}]}}
follow:
  - {name: samples, add: {each: "${made}", source: lab/samples, set: {no: "${it.no}", note: "of ${it.batch}"}}}
`
	run := func(n any) map[string]any {
		return printed(t, text, &arrival.Arrival{ID: "b", Source: "cellar/batches", Type: arrival.Created, Time: time.Now(), Record: map[string]any{"id": "B-1", "n": n}})
	}
	assert.Equal(t, []any{
		map[string]any{"name": "samples", "does": "add", "target": "lab/samples", "set": map[string]any{"no": 1.0, "note": "of B-1"}},
		map[string]any{"name": "samples", "does": "add", "target": "lab/samples", "set": map[string]any{"no": 2.0, "note": "of B-1"}},
	}, run(2.0)["follow"])
	assert.Nil(t, run(0.0)["follow"], "none: no step")
	assert.Len(t, run(1000.0)["follow"], 1000)
	over := run(1001.0)["follow"].([]any)
	require.Len(t, over, 1)
	assert.Contains(t, over[0].(map[string]any)["error"], "1,001"[:1])
	assert.Contains(t, over[0].(map[string]any)["error"], "1000 at most")
}
