package decide

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/core/arrival"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
)

// A person who asks why nothing started is told what became of the record's moment.
func TestWhyATimerDoesNotStart(t *testing.T) {
	zurich, err := time.LoadLocation("Europe/Zurich")
	require.NoError(t, err)
	const src = `{"dorfbote":1,"name":"T","watch":{"source":"a/b","due":{"field":"due","late":"2h"}},"messages":{"m":{"title":"x"}},"route":{"otherwise":{"tell":[{"to":"a/b","message":"m"}]}}}`
	plan, _, problems := sheet.Compile([]byte(src), sheet.Known{Workspace: value.Workspace{Zone: zurich, Locale: "en"}})
	require.NotNil(t, plan, "%v", problems)
	now := time.Date(2026, 11, 26, 10, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		due, before any
		kind        string
		want        string
	}{
		{"2026-11-26T12:00:00Z", nil, arrival.Created, "it starts when its moment comes, 26 Nov 2026 13:00 CET"},
		{"2026-11-26T09:00:00Z", nil, arrival.Created, "its moment, 26 Nov 2026 10:00 CET, had just passed, so it starts at once"},
		{"2026-11-26T09:00:00Z", "2026-11-26T09:00:00Z", arrival.Updated, "its moment, 26 Nov 2026 10:00 CET, had passed and was known before"},
		{"2026-11-26T07:59:00Z", "2026-11-26T11:00:00Z", arrival.Updated, "its moment, 26 Nov 2026 08:59 CET, had passed by more than 2 h when it became known"},
		{"2026-11-26T06:00:00Z", nil, arrival.Created, "its moment, 26 Nov 2026 07:00 CET, had passed before the workflow was switched on"},
		{"2026-11-26", nil, arrival.Created, "its moment, 26 Nov 2026 00:00 CET, had just passed, so it starts at once"},
		{"soon", nil, arrival.Created, "the record has no moment in due, so there is nothing to wait for"},
		{"2026-11-26T12:00:00Z", nil, arrival.Removed, "it is started by a timer, which arrivals only set"},
	} {
		a := &arrival.Arrival{Source: "a/b", Type: c.kind, Subject: "K", Time: now, Record: map[string]any{"due": c.due}}
		if c.before != nil {
			a.Before = map[string]any{"due": c.before}
		}
		assert.Equal(t, c.want, WaitsFor(plan, a, now.Add(-3*time.Hour)), "%v %v", c.due, c.before)
	}
}
