package calendar

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/value"
	"dorfbote/internal/memory"
	"dorfbote/internal/peers"
	"dorfbote/internal/testdb"
)

func zurich(t testing.TB) *time.Location {
	z, err := time.LoadLocation("Europe/Zurich")
	require.NoError(t, err)
	return z
}

func ics(parts ...string) string {
	return "BEGIN:VCALENDAR\r\nVERSION:2.0\r\nPRODID:-//x//EN\r\n" + strings.Join(parts, "") + "END:VCALENDAR\r\n"
}

func event(lines ...string) string {
	return "BEGIN:VEVENT\r\nDTSTAMP:20261101T000000Z\r\n" + strings.Join(lines, "\r\n") + "\r\nEND:VEVENT\r\n"
}

// told reads a calendar within the window of November 2026, as "key start end".
func told(t *testing.T, text string) []string {
	cals, err := Decode(strings.NewReader(text))
	require.NoError(t, err)
	w := &window{from: time.Date(2026, 10, 20, 0, 0, 0, 0, time.UTC), to: time.Date(2026, 11, 12, 0, 0, 0, 0, time.UTC), zone: zurich(t)}
	var out []string
	for _, c := range cals {
		items, err := w.items(c)
		require.NoError(t, err)
		for _, it := range items {
			out = append(out, fmt.Sprint(it.Record["start"], " ", it.Record["end"], " ", it.Record["title"]))
		}
	}
	return out
}

func TestEvents(t *testing.T) {
	for _, c := range []struct {
		name, text string
		want       []string
	}{
		{"one", event("UID:a", "SUMMARY:A\\, b", "DTSTART;TZID=Europe/Zurich:20261103T070000", "DTEND;TZID=Europe/Zurich:20261103T080000"), []string{"2026-11-03T07:00:00+01:00 2026-11-03T08:00:00+01:00 A, b"}},
		{"a day", event("UID:a", "SUMMARY:A", "DTSTART;VALUE=DATE:20261103"), []string{"2026-11-03 2026-11-04 A"}},
		{"over the change of clocks, with one left out and one moved",
			event("UID:a", "SUMMARY:A", "DTSTART;TZID=Europe/Zurich:20261020T070000", "DURATION:PT1H", "RRULE:FREQ=WEEKLY", "EXDATE;TZID=Europe/Zurich:20261110T070000") +
				event("UID:a", "SUMMARY:Moved", "RECURRENCE-ID;TZID=Europe/Zurich:20261103T070000", "DTSTART;TZID=Europe/Zurich:20261104T090000"),
			[]string{"2026-10-20T07:00:00+02:00 2026-10-20T08:00:00+02:00 A", "2026-10-27T07:00:00+01:00 2026-10-27T08:00:00+01:00 A", "2026-11-04T09:00:00+01:00 2026-11-04T09:00:00+01:00 Moved"}},
		{"another system's zone", event("UID:a", "SUMMARY:A", "DTSTART;TZID=\"W. Europe Standard Time\":20261103T070000"), []string{"2026-11-03T07:00:00+01:00 2026-11-03T07:00:00+01:00 A"}},
		{"a prefixed zone", event("UID:a", "SUMMARY:A", "DTSTART;TZID=/x.example/2026/America/New_York:20261103T070000"), []string{"2026-11-03T07:00:00-05:00 2026-11-03T07:00:00-05:00 A"}},
		{"further dates", event("UID:a", "SUMMARY:A", "DTSTART:20261103T060000Z", "RDATE:20261105T060000Z,20261106T060000Z"), []string{"2026-11-03T07:00:00+01:00 2026-11-03T07:00:00+01:00 A", "2026-11-05T07:00:00+01:00 2026-11-05T07:00:00+01:00 A", "2026-11-06T07:00:00+01:00 2026-11-06T07:00:00+01:00 A"}},
		{"days that recur", event("UID:a", "SUMMARY:A", "DTSTART;VALUE=DATE:20261023", "DTEND;VALUE=DATE:20261025", "RRULE:FREQ=WEEKLY;COUNT=2"), []string{"2026-10-23 2026-10-25 A", "2026-10-30 2026-11-01 A"}},
		{"a rule that cannot be read", event("UID:a", "SUMMARY:A", "DTSTART:20261103T060000Z", "RRULE:FREQ=SOMETIMES"), []string{"2026-11-03T07:00:00+01:00 2026-11-03T07:00:00+01:00 A"}},
		{"long past", event("UID:a", "SUMMARY:A", "DTSTART:20200103T060000Z"), nil},
	} {
		t.Run(c.name, func(t *testing.T) { assert.Equal(t, c.want, told(t, ics(c.text))) })
	}
}

func TestToDos(t *testing.T) {
	cals, err := Decode(strings.NewReader(ics("BEGIN:VTODO\r\nDTSTAMP:20261101T000000Z\r\nUID:t\r\nSUMMARY:Clean\r\nDUE;TZID=Europe/Zurich:20261103T170000\r\nPRIORITY:1\r\nSTATUS:NEEDS-ACTION\r\nCATEGORIES:cellar,weekly\r\nATTENDEE;CN=Jonas:mailto:jonas@x.example\r\nEND:VTODO\r\n")))
	require.NoError(t, err)
	w := &window{from: time.Now().Add(-time.Hour), to: time.Now().Add(time.Hour), zone: zurich(t)}
	items, err := w.items(cals[0])
	require.NoError(t, err)
	require.Len(t, items, 1)
	assert.Equal(t, map[string]any{"id": "t", "kind": "to-do", "title": "Clean", "due": "2026-11-03T17:00:00+01:00", "priority": 1.0, "status": "needs-action", "categories": []any{"cellar", "weekly"}, "attendees": []any{"Jonas"}}, items[0].Record)
}

func TestATimeThatHasGoneByIsNotCancelled(t *testing.T) {
	w := &window{from: time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC), zone: time.UTC}
	assert.True(t, w.past(map[string]any{"start": "2026-10-20", "end": "2026-10-21"}))
	assert.False(t, w.past(map[string]any{"start": "2026-11-10T06:00:00Z"}))
	assert.False(t, w.past(map[string]any{"due": "2026-10-20"}))
}

func TestAFileOfAServer(t *testing.T) {
	address, www := peers.Nginx(t)
	soon := time.Now().Add(48 * time.Hour).UTC().Format("20060102T150405Z")
	file := filepath.Join(www, "c.ics")
	require.NoError(t, os.WriteFile(file, []byte(ics(event("UID:a", "SUMMARY:A", "DTSTART:"+soon))), 0o644))
	require.NoError(t, os.Chtimes(file, time.Now(), time.Now().Add(-time.Minute)))
	conn, err := Kind().Open(connect.Config{Settings: map[string]string{"address": address + "/c.ics"}, Env: testdb.Loopback(t, value.DefaultWorkspace())})
	require.NoError(t, err)
	assert.True(t, connect.Proved(conn.Prove(context.Background())))
	n := 0
	p, err := conn.(connect.Poller).Poll(context.Background(), connect.SourceConfig{}, nil, func(connect.Item) error { n++; return nil })
	require.NoError(t, err)
	assert.Equal(t, 1, n)
	p, err = conn.(connect.Poller).Poll(context.Background(), connect.SourceConfig{}, p.Cursor, func(connect.Item) error { n++; return nil })
	require.NoError(t, err)
	assert.True(t, p.Same)
}

func TestCalDAV(t *testing.T) {
	address := peers.Radicale(t)
	env := testdb.Loopback(t, value.Workspace{Zone: zurich(t), Locale: "en"})
	do := func(method, path, body, media string) {
		req, err := http.NewRequest(method, address+path, strings.NewReader(body))
		require.NoError(t, err)
		req.SetBasicAuth("marit", "marit-1")
		req.Header.Set("Content-Type", media)
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		res.Body.Close()
		require.Less(t, res.StatusCode, 300, method+" "+path)
	}
	do("MKCALENDAR", "marit/tours/", `<?xml version="1.0"?><C:mkcalendar xmlns:D="DAV:" xmlns:C="urn:ietf:params:xml:ns:caldav"><D:set><D:prop><D:displayname>Tours plan</D:displayname></D:prop></D:set></C:mkcalendar>`, "application/xml")
	soon := time.Now().Add(48 * time.Hour).UTC()
	do("PUT", "marit/tours/a.ics", ics(event("UID:a", "SUMMARY:Round", "DTSTART:"+soon.Format("20060102T150405Z"), "RRULE:FREQ=DAILY;COUNT=3")), "text/calendar")
	do("PUT", "marit/tours/t.ics", ics("BEGIN:VTODO\r\nDTSTAMP:20261101T000000Z\r\nUID:t\r\nSUMMARY:Clean\r\nDUE:"+soon.Format("20060102T150405Z")+"\r\nEND:VTODO\r\n"), "text/calendar")
	settings := map[string]string{"how": "on a CalDAV server", "address": address, "auth": "user and password", "user": "marit", "password": "marit-1"}
	conn, err := Kind().Open(connect.Config{Settings: settings, Env: env})
	require.NoError(t, err)
	steps := conn.Prove(context.Background())
	require.True(t, connect.Proved(steps), "%+v", steps)
	choices, err := conn.Browse(context.Background())
	require.NoError(t, err)
	require.Len(t, choices, 1)
	assert.Equal(t, "tours-plan", choices[0].Kind)
	var titles []any
	_, err = conn.(connect.Poller).Poll(context.Background(), connect.SourceConfig{Settings: choices[0].Settings}, nil, func(it connect.Item) error {
		titles = append(titles, it.Record["title"])
		return nil
	})
	require.NoError(t, err)
	assert.ElementsMatch(t, []any{"Round", "Round", "Round", "Clean"}, titles)
	settings["password"] = "wrong"
	conn, err = Kind().Open(connect.Config{Settings: settings, Env: env})
	require.NoError(t, err)
	steps = conn.Prove(context.Background())
	assert.False(t, connect.Proved(steps))
	assert.Contains(t, steps[0].Do, "password")
}

func FuzzDecode(f *testing.F) {
	f.Add([]byte(ics(event("UID:a", "DTSTART:20261103T060000Z", "RRULE:FREQ=MINUTELY;BYSECOND=1", "EXDATE:x"))))
	w := &window{from: time.Unix(1790000000, 0), to: time.Unix(1790600000, 0), zone: time.UTC}
	f.Fuzz(func(_ *testing.T, raw []byte) {
		cals, err := Decode(bytes.NewReader(raw))
		if err != nil {
			return
		}
		for _, c := range cals {
			_, _ = w.items(c)
		}
	})
}

// Entries that recur every minute since 1970 are not counted up to the window, and too many of them are refused.
func TestManyEntriesThatRecurEveryMinute(t *testing.T) {
	var b strings.Builder
	for i := range 600 {
		b.WriteString(event(fmt.Sprintf("UID:m%d", i), "SUMMARY:M", "DTSTART:19700101T000000Z", "RRULE:FREQ=MINUTELY"))
	}
	cals, err := Decode(strings.NewReader(ics(b.String())))
	require.NoError(t, err)
	now := time.Now()
	w := &window{from: now.AddDate(0, 0, -30), to: now.AddDate(0, 0, 90), zone: zurich(t)}
	began := time.Now()
	peak := memory.Peak(func() { _, err = w.items(cals[0]) })
	require.Error(t, err)
	assert.Contains(t, err.Error(), "look less far ahead")
	t.Logf("refused after %v, %d MiB in use at most", time.Since(began), peak>>20)
	assert.Less(t, peak, uint64(200<<20))
}

// Rules that count, from long ago, give the same times as walking through them would.
func TestCountedRulesFromLongAgo(t *testing.T) {
	cals, err := Decode(strings.NewReader(ics(event("UID:c", "SUMMARY:C", "DTSTART:20200101T060000Z", "RRULE:FREQ=DAILY;COUNT=2500"))))
	require.NoError(t, err)
	last := time.Date(2020, 1, 1, 6, 0, 0, 0, time.UTC).AddDate(0, 0, 2499)
	w := &window{from: last.AddDate(0, 0, -3), to: last.AddDate(0, 0, 30), zone: time.UTC}
	items, err := w.items(cals[0])
	require.NoError(t, err)
	require.Len(t, items, 3)
	assert.Equal(t, last.Format(time.RFC3339), items[2].Record["start"])
}
