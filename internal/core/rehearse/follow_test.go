package rehearse

import (
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/core/arrival"
	"dorfbote/internal/core/decide"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
)

// What follows is worked out with the rest, and what cannot be worked out holds up nothing but itself.
func TestWhatFollows(t *testing.T) {
	plan, _, problems := sheet.Compile([]byte(`dorfbote: 1
name: Late
watch: {source: tours/collections}
messages: {alert: {title: "${record.id}"}}
route: {rows: [{when: {field: litres, above: 0}, tell: [{to: "square/#tours", message: alert}]}]}
follow:
  - change: {source: a/b, key: "${record.farm}", set: {note: "told of ${record.id}", litres: "${record.litres}", more: ["${record.id}", 5]}}
  - {name: big, when: {field: litres, above: 1000}, add: {source: a/c, set: {n: "${record.litres / 2}"}}, if_fails: go_on}
  - call: {workflow: Other, with: {text: "${phone(record.phone, \"CH\")}"}}
`), sheet.Known{Workspace: value.DefaultWorkspace()})
	require.NotNil(t, plan, "%v", problems)
	decided := func(record map[string]any) decide.Outcome {
		return decide.Decide(plan, decide.NewScope(&arrival.Arrival{ID: "1", Source: "tours/collections", Type: arrival.Created, Time: time.Now(), Record: record}))
	}
	out := decided(map[string]any{"id": "C-1", "farm": 17.0, "litres": 2000.0, "phone": "no number"})
	require.Equal(t, decide.Told, out.Verdict)
	require.Len(t, out.Steps, 3)
	assert.Equal(t, "17", out.Steps[0].Key)
	assert.Equal(t, map[string]any{"note": "told of C-1", "litres": 2000.0, "more": []any{"C-1", 5.0}}, out.Steps[0].Set)
	assert.Equal(t, map[string]any{"n": 1000.0}, out.Steps[1].Set)
	assert.Contains(t, out.Steps[2].Error, "no number")
	out = decided(map[string]any{"id": "C-2", "litres": 5.0})
	require.Len(t, out.Steps, 2, "the second only follows on much milk")
	assert.Contains(t, out.Steps[0].Error, "key", "a record without a key is not changed at random")
	assert.Empty(t, decided(map[string]any{"id": "C-3", "litres": 0.0}).Steps, "nothing follows where nobody is told")

	var line map[string]any
	out = decided(map[string]any{"id": "C-1", "farm": 17.0, "litres": 2000.0})
	require.NoError(t, json.Unmarshal(Line{Arrival: "1", At: time.Now(), Outcome: out}.AppendJSON(nil), &line))
	steps := line["follow"].([]any)
	assert.Equal(t, "change", steps[0].(map[string]any)["does"])
	assert.Equal(t, "a/b", steps[0].(map[string]any)["target"])
}
