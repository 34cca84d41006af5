package sheet

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/core/value"
)

const followed = `dorfbote: 1
name: Late
watch: {source: tours/collections, on: [created, updated], when: {field: status, became: late}}
messages: {alert: {title: "${record.id}"}}
route: {otherwise: {tell: [{to: "square/#tours", message: alert}]}}
follow:
  - change: {source: tours/collections, key: "${record.id}", set: {note: "told at ${date(now, \"HH:mm\")}"}}
  - {name: job, when: {field: litres, above: 5}, add: {source: workshop/jobs, set: {id: "J-${record.id}", litres: "${record.litres}"}}, if_fails: go_on}
  - {call: {workflow: Ask the board, with: {text: "${record.id}"}}, if_fails: {tell: [{to: "square/#board", message: alert}]}}
`

func TestWhatFollowsIsChecked(t *testing.T) {
	known := Known{
		Workspace:    value.DefaultWorkspace(),
		Sources:      func() []string { return []string{"tours/collections", "workshop/jobs"} },
		Destinations: func() []string { return []string{"square/#tours", "square/#board"} },
		Workflows:    func() []string { return []string{"Ask the board"} },
	}
	plan, _, problems := Compile([]byte(followed), known)
	require.Empty(t, problems)
	require.Len(t, plan.Follow, 3)
	assert.Equal(t, []string{"Ask the board"}, plan.Calls())
	text, err := Format([]byte(followed))
	require.NoError(t, err)
	again, err := Format(text)
	require.NoError(t, err)
	assert.Equal(t, string(text), string(again))
	for _, c := range []struct{ was, now, says string }{
		{"set: {note:", "sett: {note:", `change has no part "sett"`},
		{"source: workshop/jobs", "source: workshop/job", "there is no source workshop/job"},
		{"workflow: Ask the board", "workflow: Ask the bord", "there is no workflow"},
		{"workflow: Ask the board", "workflow: Late", "would call itself"},
		{"if_fails: go_on", "if_fails: empty", "if_fails is stop, go_on"},
		{"add: {source: workshop/jobs", "call: {workflow: Ask the board}, add: {source: workshop/jobs", "an entry does one thing"},
		{`set: {note: "told at ${date(now, \"HH:mm\")}"}`, "set: {}", "set names no field"},
		{`key: "${record.id}"`, `key: "${record.id"`, "}"},
		{"set: {note:", "set: {status:", "may start this workflow again"},
		{`"${record.litres}"`, `"${recrd.litres}"`, "recrd"},
	} {
		src := strings.Replace(followed, c.was, c.now, 1)
		require.NotEqual(t, followed, src, c.was)
		_, _, problems := Compile([]byte(src), known)
		require.NotEmpty(t, problems, c.now)
		said := ""
		for _, p := range problems {
			said += p.Message + "; "
			assert.Positive(t, p.At.Line, c.now)
		}
		assert.Contains(t, said, c.says)
	}
}
