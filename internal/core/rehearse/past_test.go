package rehearse

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/core/arrival"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
)

// When a field last took a value is known from what came in of its record, also of what came in before the clock began.
func TestWhenBecame(t *testing.T) {
	const rest = `
messages: {m: {title: "${record.id}: ${date(when_became('status', 'new'), 'HH:mm')} ${date(when_became('status', 'Done'), 'HH:mm')} ${words(now - when_became('status', 'new'))}"}}
route: {rows: [{when: {field: status, is: done}, tell: [{to: "square/#a", message: m}]}]}
`
	for _, c := range []struct {
		name     string
		arrivals []string
		want     []string
	}{
		{"from new to done", []string{"a1 20T06:00 S-1 created status=new", "a2 20T06:10 S-1 status=new n=2", "a3 20T06:40 S-1 status=done", "a4 20T06:50 S-1 status=done n=3"}, []string{
			"20T06:00 a1 unrouted", "20T06:10 a2 unrouted", "20T06:40 a3 told | square/#a: S-1: 06:00 06:40 40 min", "20T06:50 a4 told | square/#a: S-1: 06:00 06:40 50 min"}},
		{"the last time", []string{"a1 20T06:00 S-1 status=new", "a2 20T06:10 S-1 status=on", "a3 20T06:40 S-1 status=New", "a4 20T07:00 S-1 status=done", "a5 20T08:00 S-1 status=x", "a6 20T08:10 S-1 status=done"}, []string{
			"20T06:00 a1 unrouted", "20T06:10 a2 unrouted", "20T06:40 a3 unrouted", "20T07:00 a4 told | square/#a: S-1: 06:40 07:00 20 min", "20T08:00 a5 unrouted", "20T08:10 a6 told | square/#a: S-1: 06:40 08:10 1 h 30 min"}},
		{"another record's does not count", []string{"a1 20T06:00 S-1 status=new", "a2 20T06:10 S-2 status=done"}, []string{"20T06:00 a1 unrouted", "20T06:10 a2 told | square/#a: S-2: 06:10"}},
		{"what comes again begins again", []string{"a1 20T06:00 S-1 status=new", "a2 20T06:05 S-1 status=new removed", "a3 20T06:10 S-1 created status=new", "a4 20T06:20 S-1 status=done"}, []string{
			"20T06:00 a1 unrouted", "20T06:05 a2 ignored watch.on", "20T06:10 a3 unrouted", "20T06:20 a4 told | square/#a: S-1: 06:10 06:20 10 min"}},
	} {
		t.Run(c.name, func(t *testing.T) { assert.Equal(t, c.want, lived(t, rest, c.arrivals, nil, "")) })
	}
	plan, _, problems := sheet.Compile([]byte("dorfbote: 1\nname: T\nwatch: {source: lab/samples}\n"+rest), sheet.Known{Workspace: value.DefaultWorkspace()})
	require.NotNil(t, plan, "%v", problems)
	at := time.Date(2026, 11, 20, 6, 0, 0, 0, time.UTC)
	one := func(id string, minute int, status, before string) *arrival.Arrival {
		a := &arrival.Arrival{ID: id, Source: "lab/samples", Type: arrival.Updated, Subject: "S-1", Time: at.Add(time.Duration(minute) * time.Minute), Record: map[string]any{"id": "S-1", "status": status}}
		if before != "" {
			a.Before = map[string]any{"status": before}
		}
		return a
	}
	titled := func(earlier Earlier, a *arrival.Arrival) (title string) {
		m := NewMachine(plan, nil, func(l Line) error {
			title = l.Posts[0].Doc.Title
			return nil
		})
		m.Before(earlier)
		require.NoError(t, m.Take(a))
		return title
	}
	assert.Equal(t, "S-1: 06:05 06:30 25 min", titled(func(key string) ([]*arrival.Arrival, error) {
		assert.Equal(t, "S-1", key)
		return []*arrival.Arrival{one("e1", 0, "x", ""), one("e2", 5, "new", "x")}, nil
	}, one("a", 30, "done", "")))
	assert.Equal(t, "S-1: 06:30", titled(nil, one("a", 30, "done", "new")), "nobody knows since when")
	assert.Equal(t, "S-1:", titled(nil, one("a", 30, "done", "done")))
}
