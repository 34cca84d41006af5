package rehearse

import (
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

// rehearsed runs a sheet, given as its watch and keep, over arrivals written as "time key=value …", and gives each
// line as "time cause verdict".
func rehearsed(t *testing.T, watch, until string, skip decide.Skip, arrivals ...string) []string {
	zurich, err := time.LoadLocation("Europe/Zurich")
	require.NoError(t, err)
	src := "dorfbote: 1\nname: T\n" + watch + "\nmessages:\n  m: {title: \"${record.id} ${arrival.kind}\"}\nroute:\n  otherwise: {tell: [{to: square/x, message: m}]}\n"
	if strings.Contains(watch, "schedule") || strings.Contains(watch, "silent") || strings.Contains(watch, "called") {
		src = strings.Replace(src, "${record.id} ", "", 1)
	}
	var file strings.Builder
	for i, line := range arrivals {
		f := strings.Fields(line)
		typ, data := "updated", map[string]any{"id": f[1]}
		for _, kv := range f[2:] {
			k, v, _ := strings.Cut(kv, "=")
			if k == "type" {
				typ = v
				continue
			}
			data[k] = v
			if k == "humidity" {
				data[k] = value.NumberLiteral(v)
			}
		}
		prefix, part := "dorfbote.record.", "record"
		if typ == "start" {
			prefix, part = "dorfbote.", "answers"
		}
		fmt.Fprintf(&file, `{"specversion":"1.0","id":"a%d","source":"cellar/batches","type":"%s%s","time":"2026-%s:00Z","subject":%q,"data":{%q:%s}}`+"\n",
			i, prefix, typ, f[0], f[1], part, value.AppendJSON(nil, data))
	}
	in := strings.NewReader(file.String())
	scout, err := Look(in, nil, func(string) bool { return true })
	require.NoError(t, err)
	plan, _, problems := sheet.Compile([]byte(src), sheet.Known{
		Workspace: value.Workspace{Zone: zurich, Locale: "en"},
		Schema: func(source string) *value.Schema {
			if l := scout.Learners[source]; l != nil {
				return l.Schema()
			}
			return nil
		},
	})
	require.NotNil(t, plan, "%v", problems)
	var end time.Time
	if until != "" {
		end, err = time.Parse("2006-01-02T15:04Z", "2026-"+until+"Z")
		require.NoError(t, err)
	}
	var got []string
	require.NoError(t, scout.Run(in, plan, end, machine(plan, skip, nil, func(l Line) error {
		cause := l.Arrival
		if l.Tick != "" {
			cause = l.Tick + ":" + l.Arrival
		}
		if l.Verdict != decide.Ignored {
			got = append(got, strings.TrimSpace(l.At.UTC().Format("01-02T15:04")+" "+cause+" "+string(l.Verdict)+" "+l.DecidedBy+l.Where))
		}
		return nil
	})))
	return got
}

func TestTimers(t *testing.T) {
	const (
		due    = "watch: {source: cellar/batches, due: {field: due, offset: -2h}}\nkeep: {field: status, is_not: done}"
		lasts  = "watch: {source: cellar/batches, lasts: {that: {field: humidity, below: 80}, for: 45m}}"
		silent = `watch: {source: cellar/batches, silent: {for: 6h, open: [{days: [mon, tue, wed, thu, fri], from: "06:00", to: "18:00"}]}}`
		tue    = `watch: {schedule: {start: "2026-11-03T07:00", zone: Europe/Zurich, rule: "FREQ=WEEKLY;INTERVAL=2;BYDAY=TU"}}`
	)
	for _, c := range []struct {
		name, watch, until string
		arrivals, want     []string
	}{
		{"a due moment, with its offset", due, "", []string{"11-20T05:00 B1 due=2026-11-20T09:00:00Z status=open"}, []string{"11-20T07:00 due:B1 told"}},
		{"moves when the field does", due, "", []string{"11-20T05:00 B1 due=2026-11-20T09:00:00Z status=open", "11-20T06:00 B1 due=2026-11-20T12:00:00Z status=open"}, []string{"11-20T10:00 due:B1 told"}},
		{"can be due again when it moves on", due, "", []string{"11-20T05:00 B1 due=2026-11-20T09:00:00Z status=open", "11-20T08:00 B1 due=2026-11-21T09:00:00Z status=open"}, []string{"11-20T07:00 due:B1 told", "11-21T07:00 due:B1 told"}},
		{"keep sees the record as it is then", due, "", []string{"11-20T05:00 B1 due=2026-11-20T09:00:00Z status=open", "11-20T06:59 B1 due=2026-11-20T09:00:00Z status=done"}, []string{"11-20T07:00 due:B1 dropped keep"}},
		{"a change at the very moment counts", due, "", []string{"11-20T05:00 B1 due=2026-11-20T09:00:00Z status=open", "11-20T07:00 B1 due=2026-11-20T09:00:00Z status=done"}, []string{"11-20T07:00 due:B1 dropped keep"}},
		{"a removed record starts nothing", due, "", []string{"11-20T05:00 B1 due=2026-11-20T09:00:00Z status=open", "11-20T06:00 B1 type=removed"}, nil},
		{"an emptied field starts nothing", due, "", []string{"11-20T05:00 B1 due=2026-11-20T09:00:00Z status=open", "11-20T06:00 B1 due= status=open"}, nil},
		{"a moment that has just passed starts at once, and once", due, "", []string{"11-20T08:00 B1 due=2026-11-20T09:00:00Z status=open", "11-20T08:30 B1 due=2026-11-20T09:00:00Z status=open x=1"}, []string{"11-20T08:00 due:B1 told"}},
		{"moved to what has passed", due, "", []string{"11-20T05:00 B1 due=2026-11-20T12:00:00Z status=open", "11-20T08:30 B1 due=2026-11-20T09:00:00Z status=open", "11-20T08:40 B1 due=2026-11-20T09:10:00Z status=open"}, []string{"11-20T08:30 due:B1 told", "11-20T08:40 due:B1 told"}},
		{"a day has passed by no more than a day", due, "", []string{"11-21T07:00 B1 due=2026-11-20T09:00:00Z status=open", "11-21T07:01 B2 due=2026-11-20T09:00:00Z status=open"}, []string{"11-21T07:00 due:B1 told"}},
		{"late as the sheet says", "watch: {source: cellar/batches, due: {field: due, late: 30m}}", "", []string{"11-20T09:30 B1 due=2026-11-20T09:00:00Z", "11-20T09:31 B2 due=2026-11-20T09:00:00Z"}, []string{"11-20T09:30 due:B1 told"}},
		{"a day without a time is its whole day", "watch: {source: cellar/batches, due: {field: due, late: 1h}}", "", []string{"11-20T15:00 B1 due=2026-11-20", "11-20T23:59 B2 due=2026-11-20", "11-21T00:01 B3 due=2026-11-20"}, []string{"11-20T15:00 due:B1 told", "11-20T23:59 due:B2 told"}},
		{"what was passed and known stays so", due, "", []string{"11-25T08:00 B1 due=2026-11-20T09:00:00Z status=open", "11-25T08:30 B1 due=2026-11-20T09:00:00Z status=open x=1"}, nil},
		{"the clock stops", due, "11-20T06:59", []string{"11-20T05:00 B1 due=2026-11-20T09:00:00Z status=open"}, nil},
		{"days before a day are days of the calendar", "watch: {source: cellar/batches, due: {field: due, offset: -1d}}", "", []string{"10-20T05:00 B1 due=2026-10-26"}, []string{"10-24T22:00 due:B1 told"}},
		{"a state that lasts", lasts, "", []string{"11-20T05:00 B1 humidity=75", "11-20T05:30 B1 humidity=78"}, []string{"11-20T05:45 lasts:B1 told"}},
		{"a broken stretch begins anew", lasts, "", []string{"11-20T05:00 B1 humidity=75", "11-20T05:30 B1 humidity=85", "11-20T05:40 B1 humidity=75"}, []string{"11-20T06:25 lasts:B1 told"}},
		{"once for each stretch", lasts, "", []string{"11-20T05:00 B1 humidity=75", "11-20T07:00 B1 humidity=74", "11-20T09:00 B1 humidity=90", "11-20T10:00 B1 humidity=70"}, []string{"11-20T05:45 lasts:B1 told", "11-20T10:45 lasts:B1 told"}},
		{"each record has its own", lasts, "", []string{"11-20T05:00 B2 humidity=75", "11-20T05:00 B1 humidity=75"}, []string{"11-20T05:45 lasts:B1 told", "11-20T05:45 lasts:B2 told"}},
		{"silence counts opening hours", silent, "11-23T12:00", []string{"11-20T15:00 B1 humidity=75"}, []string{"11-23T09:00 silent: told"}}, // Friday 16:00 in Zurich: two hours are left
		{"once for each silence", silent, "11-25T20:00", []string{"11-24T06:00 B1 humidity=75", "11-25T06:00 B1 humidity=75"}, []string{"11-24T12:00 silent: told", "11-25T12:00 silent: told"}},
		{"every second Tuesday, over the change of clocks", strings.Replace(tue, "2026-11-03", "2026-10-20", 1), "11-18T00:00", []string{"10-19T00:00 B1 humidity=1"}, []string{"10-20T05:00 schedule: told", "11-03T06:00 schedule: told", "11-17T06:00 schedule: told"}},
		{"a calendar needs no arrivals", tue, "11-04T00:00", nil, []string{"11-03T06:00 schedule: told"}},
		{"cron", `watch: {schedule: {cron: "0 7 * * 1-5", zone: Europe/Zurich}}`, "11-23T12:00", []string{"11-20T05:00 B1 humidity=1"}, []string{"11-20T06:00 schedule: told", "11-23T06:00 schedule: told"}},
		{"started by hand", "watch: {start: {source: cellar/batches, ask: [{name: why, required: true}]}}", "", []string{"11-20T05:00 B1 type=start why=x", "11-20T05:01 B2 type=start", "11-20T05:02 B3 humidity=1"}, []string{"11-20T05:00 a0 told", "11-20T05:01 a1 failed watch.start.ask[0]"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			assert.Equal(t, c.want, rehearsed(t, c.watch, c.until, nil, c.arrivals...))
		})
	}
	off := decide.DaysOff([]map[string]any{{"start": "2026-11-23", "end": "2026-11-25"}}, time.UTC)
	assert.Equal(t, []string{"11-20T06:00 schedule: told", "11-25T06:00 schedule: told"},
		rehearsed(t, `watch: {schedule: {cron: "0 7 * * 1-5", zone: Europe/Zurich}}`, "11-25T12:00", off, "11-20T05:00 B1 humidity=1"))
}

// Days that are left out by a calendar's events are so from the moment on at which an event came, in whichever way it changes.
func TestDaysOffComeInTheStream(t *testing.T) {
	src := "dorfbote: 1\nname: T\nwatch: {schedule: {cron: \"0 7 * * *\", except: house/holidays}}\nmessages: {m: {title: x}}\nroute: {otherwise: {tell: [{to: square/x, message: m}]}}\n"
	plan, _, problems := sheet.Compile([]byte(src), sheet.Known{Workspace: value.DefaultWorkspace()})
	require.NotNil(t, plan, "%v", problems)
	var told []string
	m := machine(plan, decide.DaysOff([]map[string]any{{"start": "2026-12-02"}}, time.UTC), nil, func(l Line) error {
		if l.Verdict == decide.Told {
			told = append(told, l.At.Format("01-02"))
		}
		return nil
	})
	m.Leave(map[string]map[string]any{"h1": {"start": "2026-12-03"}})
	at := func(day int) time.Time { return time.Date(2026, 12, day, 12, 0, 0, 0, time.UTC) }
	come := func(day int, kind, key, start string) {
		require.NoError(t, m.Advance(at(day)))
		a := &arrival.Arrival{ID: fmt.Sprint(kind, day, key), Source: "house/holidays", Type: "dorfbote.record." + kind, Time: at(day), Subject: key}
		if start != "" {
			a.Record = map[string]any{"id": key, "start": start}
		}
		require.NoError(t, m.Take(a))
	}
	come(1, "created", "h2", "2026-12-05")
	come(4, "updated", "h2", "2026-12-06") // it was to be the 5th
	come(4, "created", "h3", "2026-12-07")
	come(6, "removed", "h3", "")
	require.NoError(t, m.Advance(at(8)))
	assert.Equal(t, []string{"12-04", "12-05", "12-07", "12-08"}, told)
}
