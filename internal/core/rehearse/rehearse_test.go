package rehearse

import (
	"bytes"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/core/decide"
	"dorfbote/internal/core/message"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
)

const late = `dorfbote: 1
name: Late
watch: {source: tours/collections, on: [created, updated], when: {field: status, became: late}}
keep:
  all:
    - {field: litres, above: 500}
    - any:
        - {field: valley, one_of: [Upper, Mill]}
        - {formula: "record.litres * record.price > 900"}
messages:
  alert:
    title: "${record.id} waits"
    body: "**${record.litres} litres**, ${words(now - record.due)} late."
    facts:
      - {label: Driver, value: "${record.driver}"}
      - {label: Tour, value: "${record.tour}"}
    tone: warning
    link: {text: Open, to: "${record.link}"}
  detail: {body: "Call."}
route:
  take: TAKE
  rows:
    - {name: Much milk, when: {field: litres, at_least: 2000}, tell: [{to: "square/#board", message: alert}]}
    - {name: Upper valley, when: {field: valley, is: Upper}, tell: [{to: "square/#tours", message: alert, reply: detail}, {to: "square/#board", message: alert}]}
OTHERWISE`

func event(id, at, status, before, rest string) string {
	b := ""
	if before != "" {
		b = fmt.Sprintf(`,"before":{"id":"C","status":%q}`, before)
	}
	return fmt.Sprintf(`{"specversion":"1.0","id":%q,"source":"tours/collections","type":"dorfbote.record.updated","time":%q,"subject":"C","data":{"record":{"id":"C","status":%q%s}%s,"by":"Jonas"}}`, id, at, status, rest, b)
}

func run(t *testing.T, text string, lines ...string) []string {
	t.Helper()
	file := bytes.NewReader([]byte(strings.Join(lines, "\n")))
	scout, err := Look(file, nil, func(string) bool { return true })
	require.NoError(t, err)
	plan, _, problems := sheet.Compile([]byte(text), sheet.Known{Workspace: value.DefaultWorkspace(), Schema: func(source string) *value.Schema {
		if l := scout.Learners[source]; l != nil {
			return l.Schema()
		}
		return nil
	}})
	require.NotNil(t, plan, "%v", problems)
	var out []string
	require.NoError(t, scout.Run(file, plan, time.Time{}, machine(plan, nil, nil, func(l Line) error {
		out = append(out, string(l.AppendJSON(nil)))
		return nil
	})))
	return out
}

func text(take, otherwise string) string {
	return strings.NewReplacer("TAKE", take, "OTHERWISE", otherwise).Replace(late)
}

const at = "2026-11-20T06:41:07Z"

func TestOutcomes(t *testing.T) {
	milk := `,"litres":2400,"valley":"Upper","driver":"Jonas","due":"2026-11-20T05:21:07Z","link":"https://t.example/C"`
	post := func(to, under string) string {
		return `{"to":"` + to + `","at":"` + at + `","message":"alert","tone":"warning","title":"C waits","plain":"2400 litres, 1 h 20 min late.","facts":[["Driver","Jonas"]],"link":"https://t.example/C","under":` + under + `}`
	}
	detail := `{"to":"square/#tours","at":"` + at + `","message":"detail","tone":"plain","title":"","plain":"Call.","facts":[],"link":null,"under":"alert"}`
	otherwise := "  otherwise: {tell: [{to: \"square/#tours\", message: alert}]}\n"
	for _, c := range []struct{ name, take, otherwise, event, want string }{
		{"first", "first", "", event("a", at, "late", "planned", milk), `"verdict":"told","row":"Much milk","posts":[` + post("square/#board", "null") + `]`},
		{"every, and the same place once", "every", "", event("a", at, "late", "planned", milk),
			`"verdict":"told","row":"Much milk, Upper valley","posts":[` + post("square/#board", "null") + "," + post("square/#tours", "null") + "," + detail + `]`},
		{"not the change", "first", "", event("a", at, "late", "late", milk), `"verdict":"ignored","decided_by":"watch.when","posts":[]`},
		{"kept out", "first", "", event("a", at, "late", "planned", `,"litres":400,"valley":"Upper"`), `"verdict":"dropped","decided_by":"keep.all[0]","posts":[]`},
		{"kept out by a group", "first", "", event("a", at, "late", "planned", `,"litres":600,"valley":"Middle","price":1`), `"verdict":"dropped","decided_by":"keep.all[1]","posts":[]`},
		{"an error that does not decide", "first", "", event("a", at, "late", "planned", `,"litres":400,"valley":"Middle"`), `"verdict":"dropped","decided_by":"keep.all[0]","posts":[]`},
		{"an error that decides", "first", "", event("a", at, "late", "planned", `,"litres":600,"valley":"Middle"`), `"verdict":"failed","where":"keep.all[1].any[1]"`},
		{"no route", "first", "", event("a", at, "late", "planned", `,"litres":600,"valley":"Mill"`), `"verdict":"unrouted","posts":[]`},
		{"otherwise fails in its message", "first", otherwise, event("a", at, "late", "planned", `,"litres":600,"valley":"Mill"`), `"verdict":"failed","where":"messages.alert.body"`},
	} {
		t.Run(c.name, func(t *testing.T) {
			out := run(t, text(c.take, c.otherwise), c.event)
			require.Len(t, out, 1)
			assert.Contains(t, out[0], `{"arrival":"a","at":"`+at+`",`+c.want)
		})
	}
}

func TestOrderDuplicatesAndWhatWasBefore(t *testing.T) {
	rest := `,"litres":2400`
	first := event("1", "2026-11-20T06:00:00Z", "planned", "", rest)
	second := event("2", "2026-11-20T06:10:00Z", "late", "", rest)
	third := event("3", "2026-11-20T06:20:00Z", "late", "", rest)
	simple := "dorfbote: 1\nname: x\nwatch: {source: tours/collections, when: {field: status, became: late}}\nmessages: {m: {title: t}}\nroute: {otherwise: {tell: [{to: a/b, message: m}]}}\n"
	want := []string{"1 ignored", "2 told", "3 ignored"}
	for name, lines := range map[string][]string{"in order": {first, second, third}, "out of order": {third, "", first, second}, "twice": {first, second, first, third, second}} {
		t.Run(name, func(t *testing.T) {
			var got []string
			for _, l := range run(t, simple, lines...) {
				v, err := value.ReadJSON([]byte(l))
				require.NoError(t, err)
				m := v.(map[string]any)
				got = append(got, fmt.Sprint(m["arrival"], " ", m["verdict"]))
			}
			assert.Equal(t, want, got)
		})
	}
}

func TestWrongLineIsNamed(t *testing.T) {
	good := event("1", at, "late", "", "")
	for bad, want := range map[string]string{
		"{": "line 2: line 1, column 2", `{"specversion":"1.0"}`: "line 2: id: is missing", strings.Replace(good, `"time":"`+at+`",`, "", 1): "line 2: time: is missing",
	} {
		_, err := Look(strings.NewReader(good+"\n"+bad), nil, func(string) bool { return true })
		require.Error(t, err)
		assert.Contains(t, err.Error(), want)
	}
}

// machine makes a machine that knows of some records, and runs scripts.
func machine(p *sheet.Plan, skip decide.Skip, known *States, emit func(Line) error) *Machine {
	m := NewMachine(p, skip, emit)
	if known != nil {
		m.Know(known)
	}
	return m
}

func TestALineIsJSON(t *testing.T) {
	at := time.Date(2026, 11, 20, 6, 0, 0, 0, time.UTC)
	line := Line{Arrival: "a1", Arrivals: []string{"a1", "a\"2"}, At: at, Later: true, Outcome: decide.Outcome{Verdict: decide.Digested, Row: "R", Posts: []decide.Post{
		{To: "square/#x", Message: "digest", Under: -1, Doc: &message.Document{Title: "T", Facts: []message.Fact{{Label: "L", Value: "V"}}}},
		{To: "square/#x", Message: "m", Under: 0, Updates: "r", Doc: &message.Document{Link: &message.Link{To: "http://x/"}}},
	}}}
	assert.JSONEq(t, `{"arrival":"a1","arrivals":["a1","a\"2"],"at":"2026-11-20T06:00:00Z","verdict":"digest","row":"R","posts":[
		{"to":"square/#x","at":"2026-11-20T06:00:00Z","message":"digest","tone":"","title":"T","plain":"","facts":[["L","V"]],"link":null,"under":null},
		{"to":"square/#x","at":"2026-11-20T06:00:00Z","message":"m","tone":"","title":"","plain":"","facts":[],"link":"http://x/","under":"digest","updates":true}]}`, string(line.AppendJSON(nil)))
}
