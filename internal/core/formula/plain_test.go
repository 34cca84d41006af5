package formula

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/core/value"
)

// A date that is handed on stays that date, in whatever zone its midnight is; a moment at midnight stays a moment.
func TestADateIsHandedOnAsOne(t *testing.T) {
	zone, err := time.LoadLocation("Europe/Zurich")
	require.NoError(t, err)
	day := value.Field{Name: "day", Type: value.Date}
	w := &Words{
		Workspace: value.Workspace{Zone: zone}, Schema: &value.Schema{Fields: []value.Field{day, {Name: "at", Type: value.Moment}, {Name: "of", Type: value.Object, Fields: []value.Field{day}}}},
		Gathered: []Name{{Name: "job", Schema: &value.Schema{Fields: []value.Field{day}}}}, Answers: []value.Field{day},
	}
	record := map[string]any{"day": "2026-12-01", "at": "2026-12-01T00:00:00+01:00", "of": map[string]any{"day": "2026-07-01"}}
	for text, want := range map[string]any{
		"record.day": "2026-12-01", " record.of.day ": "2026-07-01", "before.day": "2026-11-30", "job.day": "2026-12-01", "answers.day": "2026-12-02",
		"record.at": "2026-11-30T23:00:00Z", `record.day + duration("1h")`: "2026-12-01T00:00:00Z",
	} {
		f, err := Compile(text, w)
		require.NoError(t, err, text)
		sc := &Scope{Record: record, Before: map[string]any{"day": "2026-11-30"}, Answers: map[string]any{"day": "2026-12-02"}}
		sc.Gather("job", map[string]any{"day": "2026-12-01"}, w.Record(map[string]any{"day": "2026-12-01"}, w.Gathered[0].Schema))
		v, err := f.Run(sc)
		require.NoError(t, err, text)
		assert.Equal(t, want, f.Plain(v), text)
	}
}
