package rehearse

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
)

func TestGathering(t *testing.T) {
	const src = `dorfbote: 1
name: T
watch: {source: tours/collections}
gather:
  - {name: farm, find: {source: tours/farms, where: {field: number, is: "${record.farm}"}, take: one}}
  - {name: open, find: {source: workshop/jobs, where: {all: [{field: status, is_not: done}, {formula: "it.cost < record.most"}]}, take: all, sort: -cost, limit: 2}}
  - {name: waiting, value: "now - record.due"}
  - {name: twice, value: "waiting * 2"}
messages:
  m:
    title: "${farm.name} ${words(twice)} ${farm.valley}"
    body: "${bullets(open, \"${it.id}: ${it.cost}\")}"
route:
  rows:
    - {name: Known, when: {field: farm.valley, is: upper}, tell: [{to: square/x, message: m}]}
    - {name: Busy, when: {field: open.id, is: J3}, tell: [{to: square/y, message: m}]}
`
	event := func(n int, source, subject, record string) string {
		return fmt.Sprintf(`{"specversion":"1.0","id":"a%d","source":%q,"type":"dorfbote.record.updated","time":"2026-11-20T06:%02d:00Z","subject":%q,"data":{"record":%s}}`, n, source, n, subject, record)
	}
	in := strings.NewReader(strings.Join([]string{
		event(0, "workshop/jobs", "J1", `{"id":"J1","status":"open","cost":5}`),
		event(1, "workshop/jobs", "J2", `{"id":"J2","status":"done","cost":6}`),
		event(2, "workshop/jobs", "J3", `{"id":"J3","status":"open","cost":7}`),
		event(3, "workshop/jobs", "J4", `{"id":"J4","status":"open","cost":90}`),
		event(10, "tours/collections", "C1", `{"id":"C1","farm":17,"due":"2026-11-20T05:30:00Z","most":10}`),
		event(11, "tours/collections", "C2", `{"id":"C2","farm":99,"due":"2026-11-20T05:30:00Z","most":10}`),
		event(12, "workshop/jobs", "J3", `{"id":"J3","status":"done","cost":7}`),
		event(13, "tours/collections", "C3", `{"id":"C3","farm":99,"due":"2026-11-20T05:30:00Z","most":10}`),
		event(14, "tours/collections", "C4", `{"id":"C4","farm":17,"due":"2026-11-20T05:30:00Z","most":"many"}`),
	}, "\n"))
	scout, err := Look(in, nil, func(string) bool { return true })
	require.NoError(t, err)
	known := NewStates([]string{"tours/farms", "workshop/jobs"})
	known.Put("tours/farms", "17", map[string]any{"number": 17.0, "name": "Sonnleiten", "valley": "Upper"})
	known.Put("tours/farms", "18", map[string]any{"number": 18.0, "name": "Egghof", "valley": "Mill"})
	plan, _, problems := sheet.Compile([]byte(src), sheet.Known{Workspace: value.DefaultWorkspace(), Schema: func(source string) *value.Schema {
		if l := scout.Learners[source]; l != nil {
			return l.Schema()
		}
		return nil
	}})
	require.NotNil(t, plan, "%v", problems)
	var got []string
	require.NoError(t, scout.Run(in, plan, time.Time{}, machine(plan, nil, known, func(l Line) error {
		if l.Verdict != "ignored" {
			line := fmt.Sprint(l.Arrival, " ", l.Verdict, " ", l.Row, l.Where)
			if len(l.Posts) > 0 {
				line += " | " + l.Posts[0].Doc.Title + " | " + strings.ReplaceAll(l.Posts[0].Doc.Plain(), "\n", " ")
			}
			got = append(got, line)
		}
		return nil
	})))
	assert.Equal(t, []string{
		"a10 told Known | Sonnleiten 1 h 20 min Upper | • J3: 7 • J1: 5",
		"a11 told Busy | 1 h 22 min | • J3: 7 • J1: 5",
		"a13 unrouted ",
		"a14 failed gather[1]",
	}, got)
}

func TestListsInMessages(t *testing.T) {
	for _, c := range []struct{ list, want string }{
		{`{of: open, each: "${it.id} *${record.x}*", most: 2}`, "told • J1 <b> • J2 <b> and 1 more"},
		{`{of: "filter(open, .cost > 99)", each: "${it.id}"}`, "dropped messages.m.list"},
		{`{of: "filter(open, .cost > 99)", each: "${it.id}", when_empty: say, empty: "Nothing for ${record.id}."}`, "told Nothing for C1."},
		{`{of: record.id, each: "${it}"}`, "failed messages.m.list"},
	} {
		src := "dorfbote: 1\nname: T\nwatch: {source: tours/collections}\ngather:\n  - {name: open, find: {source: workshop/jobs, take: all}}\nmessages:\n  m: {list: " + c.list + "}\nroute: {otherwise: {tell: [{to: square/x, message: m}]}}\n"
		in := strings.NewReader(`{"specversion":"1.0","id":"a","source":"tours/collections","type":"dorfbote.record.created","time":"2026-11-20T06:00:00Z","subject":"C1","data":{"record":{"id":"C1","x":"<b>"}}}`)
		scout, err := Look(in, nil, func(string) bool { return true })
		require.NoError(t, err)
		plan, _, problems := sheet.Compile([]byte(src), sheet.Known{Workspace: value.DefaultWorkspace()})
		require.NotNil(t, plan, "%v", problems)
		known := NewStates([]string{"workshop/jobs"})
		for i := range 3 {
			known.Put("workshop/jobs", fmt.Sprint("J", i+1), map[string]any{"id": fmt.Sprint("J", i+1), "cost": float64(i)})
		}
		require.NoError(t, scout.Run(in, plan, time.Time{}, machine(plan, nil, known, func(l Line) error {
			got := fmt.Sprint(l.Verdict, " ", l.DecidedBy, l.Where)
			for _, p := range l.Posts {
				got += strings.Join(strings.Fields(p.Doc.Plain()), " ")
			}
			assert.Equal(t, c.want, got, c.list)
			return nil
		})))
	}
}
