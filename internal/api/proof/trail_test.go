package proof

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/core/arrival"
	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
	"dorfbote/internal/store"
)

// The trail of a timed sheet goes on to the moment it is drawn for, and not to that of this machine.
func TestATrailGoesOnUntilNow(t *testing.T) {
	plan, _, problems := sheet.Compile([]byte(`dorfbote: 1
name: Dry
watch: {source: cellar/batches, lasts: {that: {field: humidity, below: 80}, for: 45m}}
messages: {m: {title: "${record.id}"}}
route: {otherwise: {tell: [{to: s/c, message: m}]}}
`), sheet.Known{Workspace: value.DefaultWorkspace()})
	require.NotNil(t, plan, "%v", problems)
	at := time.Date(2026, 11, 20, 7, 0, 0, 0, time.UTC)
	a := &arrival.Arrival{ID: "1", Source: "cellar/batches", Type: arrival.Updated, Subject: "B", Time: at, Record: map[string]any{"id": "B", "humidity": 70.0}}
	recent := []PastArrival{{Row: store.Arrival{Seq: 7, ID: "1", Subject: "B", Time: at}, Arrival: a}}
	ticks := func(now time.Time) (ticks []time.Time) {
		for _, m := range trail(plan, now, recent, formula.Reach{}, nil) {
			if m.Tick != "" {
				assert.EqualValues(t, 7, m.Seq)
				ticks = append(ticks, m.At)
			}
		}
		return ticks
	}
	assert.Empty(t, ticks(at.Add(44*time.Minute)))
	assert.Equal(t, []time.Time{at.Add(45 * time.Minute)}, ticks(at.Add(45*time.Minute)))
}
