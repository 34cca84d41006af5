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

func watching(t *testing.T, watch string) *sheet.Plan {
	t.Helper()
	text := "dorfbote: 1\nname: T\nwatch: " + watch + "\nmessages: {m: {title: x}}\nroute: {otherwise: {tell: [{to: a/b, message: m}]}}\n"
	p, _, problems := sheet.Compile([]byte(text), sheet.Known{Workspace: value.DefaultWorkspace()})
	require.NotNil(t, p, "%s: %v", watch, problems)
	return p
}

func at(text string) time.Time {
	out, err := time.Parse(time.RFC3339, text)
	if err != nil {
		panic(err)
	}
	return out
}

// When a timer's moment comes, the record as it is now says whether anything starts, and the timer is spent or gone.
func TestFiring(t *testing.T) {
	const moment = "2026-11-26T10:00:00Z"
	due, lasts := `{source: a/b, due: {field: due, late: 2h}}`, `{source: a/b, lasts: {that: {field: n, below: 80}, for: 45m}}`
	for name, c := range map[string]struct {
		watch       string
		record      map[string]any
		starts      bool
		spent, gone bool
	}{
		"due":                            {due, map[string]any{"due": moment}, true, true, false},
		"due, moved on":                  {due, map[string]any{"due": "2026-11-26T11:00:00Z"}, false, false, true},
		"due, moved back a little":       {due, map[string]any{"due": "2026-11-26T08:30:00Z"}, true, true, false},
		"due, moved back by much":        {due, map[string]any{"due": "2026-11-26T07:00:00Z"}, false, false, true},
		"due, no moment":                 {due, map[string]any{"due": "soon"}, false, false, true},
		"due, removed":                   {due, nil, false, false, true},
		"lasts":                          {lasts, map[string]any{"n": 70.0}, true, true, false},
		"lasts, no longer":               {lasts, map[string]any{"n": 90.0}, false, false, true},
		"lasts, removed":                 {lasts, nil, false, false, true},
		"silent":                         {`{source: a/b, silent: {for: 6h}}`, nil, true, true, false},
		"schedule goes on to its next":   {`{schedule: {cron: "0 7 * * *", zone: UTC}}`, nil, true, false, false},
		"a schedule whose moments ended": {`{schedule: {start: "2026-11-01T10:00", zone: UTC, rule: "FREQ=DAILY;UNTIL=20261126T100000Z"}}`, nil, true, false, true},
	} {
		p := watching(t, c.watch)
		tick, change := Fire(p, Timer{Key: "K", At: at(moment)}, c.record, nil)
		assert.Equal(t, c.starts, tick != nil, name)
		require.NotNil(t, change, name)
		assert.Equal(t, c.spent, change.Spent, name)
		assert.Equal(t, c.gone, change.Gone, name)
		if tick != nil {
			assert.Equal(t, "tick", tick.Kind(), name)
			assert.True(t, at(moment).Equal(tick.Time), name)
			assert.Equal(t, p.TickSource(), tick.Source, name)
			again, _ := Fire(p, Timer{Key: "K", At: at(moment)}, c.record, nil)
			assert.Equal(t, tick.ID, again.ID, "%s: the same timer is the same tick", name)
		}
	}
}

// What an arrival of the source does to its record's timer.
func TestWhatAnArrivalDoesToATimer(t *testing.T) {
	now := at("2026-11-26T10:00:00Z")
	p := watching(t, `{source: a/b, due: {field: due, late: 2h}}`)
	held := &Timer{Key: "K", At: at("2026-11-26T12:00:00Z")}
	for name, c := range map[string]struct {
		kind, source string
		due          any
		held         *Timer
		at           string // of the timer that is set; "gone", or "" for nothing
	}{
		"a moment to come":           {arrival.Created, "a/b", "2026-11-26T12:00:00Z", nil, "2026-11-26T12:00:00Z"},
		"the same moment again":      {arrival.Updated, "a/b", "2026-11-26T12:00:00Z", held, ""},
		"another moment":             {arrival.Updated, "a/b", "2026-11-26T13:00:00Z", held, "2026-11-26T13:00:00Z"},
		"no moment any more":         {arrival.Updated, "a/b", "", held, "gone"},
		"no moment, and none held":   {arrival.Updated, "a/b", "", nil, ""},
		"removed":                    {arrival.Removed, "a/b", "2026-11-26T12:00:00Z", held, "gone"},
		"removed, and none held":     {arrival.Removed, "a/b", "2026-11-26T12:00:00Z", nil, ""},
		"just passed":                {arrival.Created, "a/b", "2026-11-26T09:00:00Z", nil, "2026-11-26T10:00:00Z"},
		"passed by too much":         {arrival.Created, "a/b", "2026-11-26T07:00:00Z", held, "gone"},
		"of another source":          {arrival.Created, "a/c", "2026-11-26T12:00:00Z", nil, ""},
		"a tick is no news":          {arrival.Tick, "a/b", "2026-11-26T12:00:00Z", nil, ""},
		"a start by hand is no news": {arrival.Start, "a/b", "2026-11-26T12:00:00Z", nil, ""},
	} {
		a := &arrival.Arrival{Source: c.source, Type: c.kind, Subject: "K", Time: now, Record: map[string]any{"due": c.due}}
		change := Seen(p, a, c.held, at("2026-11-01T00:00:00Z"))
		switch c.at {
		case "":
			assert.Nil(t, change, name)
		case "gone":
			if assert.NotNil(t, change, name) {
				assert.True(t, change.Gone, name)
			}
		default:
			if assert.NotNil(t, change, name) {
				assert.True(t, at(c.at).Equal(change.At), "%s: %v", name, change.At)
			}
		}
	}
	assert.Nil(t, Seen(watching(t, "{source: a/b}"), &arrival.Arrival{Source: "a/b", Type: arrival.Created, Time: now}, nil, now), "what no timer starts has none")
}

// The proof looks at what would start the sheet, with the record that was chosen.
func TestOccasions(t *testing.T) {
	now := at("2026-11-26T10:00:00Z")
	chosen := &arrival.Arrival{ID: "a1", Source: "a/b", Type: arrival.Updated, Subject: "K", Time: at("2026-11-26T09:00:00Z"), Record: map[string]any{"due": "2026-11-27T08:00:00Z", "n": 70.0}, Before: map[string]any{"n": 90.0}}
	for name, c := range map[string]struct {
		watch, kind, source, at string
		record                  bool
	}{
		"a change is itself":  {"{source: a/b}", "updated", "a/b", "2026-11-26T09:00:00Z", true},
		"due":                 {"{source: a/b, due: {field: due}}", "tick", "a/b", "2026-11-27T08:00:00Z", true},
		"lasts":               {"{source: a/b, lasts: {that: {field: n, below: 80}, for: 45m}}", "tick", "a/b", "2026-11-26T09:45:00Z", true},
		"silent":              {"{source: a/b, silent: {for: 6h}}", "tick", "a/b", "2026-11-26T15:00:00Z", false},
		"schedule":            {`{schedule: {cron: "0 7 * * *", zone: UTC}}`, "tick", "dorfbote/calendar", "2026-11-26T07:00:00Z", false},
		"by hand on a record": {"{start: {source: a/b}}", "start", "a/b", "2026-11-26T09:00:00Z", true},
		"called":              {"{called: {takes: []}}", "start", "dorfbote/called", "2026-11-26T09:00:00Z", true},
	} {
		o := Occasion(watching(t, c.watch), chosen, now)
		assert.Equal(t, c.kind, o.Kind(), name)
		assert.Equal(t, c.source, o.Source, name)
		assert.Equal(t, c.at, o.Time.UTC().Format(time.RFC3339), name)
		assert.Equal(t, c.record, o.Record != nil, name)
	}
	tick := &arrival.Arrival{ID: "t", Source: "a/b", Type: arrival.Tick}
	assert.Same(t, tick, Occasion(watching(t, "{source: a/b, due: {field: due}}"), tick, now), "a tick is an occasion already")
	assert.NotNil(t, Occasion(watching(t, `{schedule: {cron: "0 7 * * *", zone: UTC}}`), nil, now))
}

// Every question is answered by something of its type, so that the proof shows what an answer does.
func TestSampleAnswers(t *testing.T) {
	p := watching(t, `{called: {takes: [{name: a, type: text, label: Why}, {name: b, type: number}, {name: c, type: yes/no}, {name: d, type: date}, {name: e, type: moment}, {name: f, type: span}, {name: g, type: choice, options: [x, y]}, {name: h, type: choices, options: [x, y]}, {name: i, type: whole number}]}}`)
	given := Occasion(p, nil, at("2026-11-26T10:00:00Z")).Answers
	assert.Equal(t, "(Why)", given["a"])
	read, err := sheet.Answers(p.Trigger.Ask, given, value.DefaultWorkspace())
	require.NoError(t, err)
	assert.Len(t, read, 9)
}

func TestWhatTicksAreOf(t *testing.T) {
	for watch, form := range map[string]string{"{source: a/b}": "", "{start: {source: a/b}}": "", "{source: a/b, due: {field: x}}": sheet.Due, `{schedule: {cron: "0 7 * * *"}}`: sheet.Schedule, "{source: a/b, silent: {for: 1h}}": sheet.Silent} {
		assert.Equal(t, form, Tick(watching(t, watch)), watch)
	}
}
