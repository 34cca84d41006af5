package engine_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/connect/hook"
	"dorfbote/internal/core/arrival"
	"dorfbote/internal/core/decide"
	"dorfbote/internal/core/message"
	"dorfbote/internal/core/rehearse"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
	"dorfbote/internal/engine/alerts"
	"dorfbote/internal/store"
)

// asked are sheets that wait for people and for moments, each in its own way.
var asked = []string{
	`ask: [{name: v, of: ["square/#tours", "square/#board"], message: q, choices: [{name: "yes"}, {name: "no", comment: required}], within: 4h, remind: 1h10m, otherwise: "no"}]
route: {rows: [{name: Yes, when: {field: v.choice, is: "yes"}, tell: [{to: "square/#tours", message: m}]}], otherwise: {tell: [{to: "square/#board", message: m}]}}
`,
	`ask: [{name: v, of: ["square/#tours", "square/#board"], all: true, message: q, choices: [{name: "yes"}, {name: "no"}], within: 5h, remind: [41m, 2h3m]}]
route: {rows: [{name: Yes, when: {field: v.choice, is: "yes"}, tell: [{to: "square/#tours", message: m}]}, {name: Nobody, when: {field: v.choice, empty: true}, tell: [{to: "square/#board", message: e}]}]}
`,
	`ask:
  - {name: v, of: "square/#tours", when: {field: litres, above: 1000}, message: q, choices: [{name: "yes"}, {name: "no"}], within: 2h11m, otherwise: "yes"}
  - {name: u, of: ["square/#board", "square/#tours"], when: {field: v.choice, is: "yes"}, message: q2, choices: [{name: "yes"}, {name: "no", comment: required}], within: 3h, remind: [1h3m]}
route: {rows: [{name: Second, when: {field: u.choice, empty: false}, tell: [{to: "square/#tours", message: m}]}], otherwise: {tell: [{to: "square/#board", message: m}]}}
`,
	`ask: [{name: v, of: "square/#tours", message: q, choices: [{name: "yes"}, {name: "no"}], within: 1h21m, remind: 44m, otherwise: "no"}]
route: {otherwise: {tell: [{to: "square/#board", message: m}]}}
pace: {quiet: {open: [{from: "05:00", to: "20:00"}], urgent: pass}}
`,
	`route: {otherwise: {tell: [{to: "square/#tours", message: m}]}}
follow:
  - unless: {claimed: true, within: 37m}
    tell: [{to: "square/#board", message: e}]
  - unless: {any: [{claimed: true}, {answered: true}, {field: status, is: refused}], within: 2h13m}
    tell: [{to: "square/#board", message: e}, {to: "square/#tours", message: e}]
`,
	`route: {otherwise: {tell: [{to: "square/#tours", message: m, keep_up: {until: {field: status, is: refused}, for: 9h}}]}}
follow:
  - unless: {field: status, is: refused, within: 1h7m}
    tell: [{to: "square/#board", message: e}]
`,
	`tables: {rooms: [{from: late, to: "#tours"}, {from: late, to: "#board"}, {from: planned, to: "#board"}]}
route: {otherwise: {tell: [{to: "square/${it.to}", message: m, reply: w, each: "${rows(rooms, record.status)}", keep_up: {until: {field: litres, below: 400}, for: 9h}}]}}
follow:
  - unless: {claimed: true, within: 1h17m}
    tell: [{to: "square/#board", message: e}]
pace: {quiet: {open: [{from: "05:00", to: "20:00"}], urgent: pass}}
`,
	`ask: [{name: v, of: ["square/#tours"], message: q, choices: [{name: "yes"}, {name: "no"}], within: 1h33m, otherwise: "yes"}]
route: {rows: [{name: Yes, when: {field: v.choice, is: "yes"}, tell: [{to: "square/#tours", message: b}]}], otherwise: {tell: [{to: "square/#board", message: b, keep_up: {until: {field: litres, below: 300}, for: 9h}}]}}
follow:
  - unless: {claimed: true, within: 1h17m}
    tell: [{to: "square/#board", message: b}]
`,
	`watch: {source: tours/collections, lasts: {that: {field: status, is: late}, for: 1h3m}}
messages:
route: {otherwise: {tell: [{to: "square/#board", message: b}]}}
`,
	`watch: {source: tours/collections, on: [created]}
tables: {rooms: [{from: C1, to: "#tours"}, {from: C1, to: "#board"}, {from: C2, to: "#board"}, {from: C3, to: "#tours"}]}
messages:
route: {otherwise: {tell: [{to: "square/${it.to}", message: c, each: "${rows(rooms, record.id)}", keep_up: {until: {field: id, empty: true}, for: 20h}}]}}
`,
	`ask: [{name: v, of: ["square/#tours"], message: q, choices: [{name: "yes"}, {name: "no"}], within: 1h33m, otherwise: "yes"}]
route: {rows: [{name: Yes, when: {field: v.choice, is: "yes"}, tell: [{to: "square/#tours", message: m, keep_up: {until: {field: litres, below: 300}, for: 5h}}]}]}
follow:
  - unless: {claimed: true, within: 37m}
    tell: [{to: "square/#board", message: e}]
`,
	`route: {otherwise: {tell: [{to: "square/#tours", message: m}, {to: "square/#board", message: m}]}}
follow:
  - unless: {claimed: true, within: 2h7m}
    tell: [{to: "square/#board", message: e}]
pace: {quiet: {open: [{from: "05:00", to: "20:00"}], urgent: pass}, repeat: {key: "${record.id}", within: 4h, then: update}}
`,
	`ask: [{name: v, of: ["square/#tours"], message: q, choices: [{name: "yes"}, {name: "no"}], within: 1h33m, otherwise: "yes"}]
route: {otherwise: {tell: [{to: "square/#tours", message: m}]}}
pace: {repeat: {key: "${record.id}", within: 4h, then: reply}, digest: {every: 3h}}
`,
	`ask: [{name: v, of: ["square/#tours"], message: q, choices: [{name: "yes"}, {name: "no"}], within: 5h33m, otherwise: "yes"}]
route: {otherwise: {tell: [{to: "square/#tours", message: m}]}}
follow:
  - unless: {answered: true, within: 31m}
    tell: [{to: "square/#board", message: e}]
pace: {repeat: {key: "${record.id}", within: 4h}, limit: {posts: 2, per: 2h17s}, quiet: {open: [{from: "05:00", to: "20:00"}]}, useful_for: 8h}
`,
	`route: {otherwise: {tell: [{to: "square/#tours", message: m}]}}
follow:
  - unless: {any: [{claimed: true}, {field: status, is: refused}], within: 41m}
    tell: [{to: "square/#board", message: e}]
pace: {digest: {every: 3h}}
`,
	`watch: {source: tours/collections, lasts: {that: {field: status, is: late}, for: 1h19m}}
messages:
ask: [{name: v, of: "square/#tours", message: q, choices: [{name: "yes"}, {name: "no"}], within: 2h3m, remind: 37m, otherwise: "no"}]
route: {otherwise: {tell: [{to: "square/#board", message: m}]}}
`,
	`watch: {source: tours/collections, due: {field: due, offset: -23m}}
messages:
route: {otherwise: {tell: [{to: "square/#board", message: m, keep_up: {until: {field: status, is: refused}, for: 4h}}]}}
follow:
  - unless: {field: status, is: refused, within: 37m}
    tell: [{to: "square/#board", message: e}]
pace: {quiet: {open: [{from: "05:00", to: "20:00"}], urgent: pass}}
`,
	`watch: {schedule: {cron: "17 */4 * * *", zone: UTC}}
gather: [{name: others, find: {source: tours/collections, where: {field: status, is: late}, take: all}}]
messages:
ask: [{name: v, of: "square/#tours", when: {formula: "len(others) > 1"}, message: s0, choices: [{name: "yes"}, {name: "no"}], within: 1h1m, otherwise: "yes"}]
route: {otherwise: {tell: [{to: "square/#board", message: s}]}}
`,
	`gather: [{name: others, find: {source: tours/collections, where: {field: status, is: late}, take: all}}]
ask: [{name: v, of: ["square/#tours", "square/#board"], all: true, message: q, choices: [{name: "yes"}, {name: "no"}], within: 3h33m, otherwise: "no"}]
route: {take: every, rows: [{name: Many, when: {formula: "len(others) > 1"}, tell: [{to: "square/#board", message: n}]}, {name: Any, when: {field: v.choice, is: "yes"}, tell: [{to: "square/#tours", message: m}]}]}
follow:
  - unless: {any: [{claimed: true}, {formula: "len(others) > 2"}], within: 1h17m}
    tell: [{to: "square/#tours", message: o}]
`,
}

// asksNobody tells whether people do nothing with what a sheet tells here, since it is started by the clock.
func asksNobody(n int) bool { return strings.Contains(asked[n], "watch:") }

func askedSheet(n int) string {
	text := fmt.Sprintf("dorfbote: 1\nname: Asked %d\nwatch: {source: tours/collections}\nkeep: {field: litres, above: 200}\nmessages:\n%s", n, asked[n])
	if asksNobody(n) {
		text = fmt.Sprintf("dorfbote: 1\nname: Asked %d\n%s", n, asked[n])
	}
	answer := " ${v.choice} ${v.by} ${v.comment}"
	if !strings.Contains(text, "name: v,") {
		answer = ""
	}
	for name, written := range map[string]string{
		"m":  `{title: "${record.id} ${record.status}", body: "${record.litres}` + answer + `", tone: "${record.litres > 1500 ? 'urgent' : 'plain'}", buttons: [{text: Mine, claim: true}, {text: Later, later: 53m}]}`,
		"q":  `{title: "may ${record.id}?"}`,
		"q2": `{title: "and ${record.id}?", body: "${v.choice} ${v.comment}"}`,
		"e":  `{title: "nobody: ${record.id} ${record.status}", body: "${record.litres}"}`,
		"b":  `{title: "${record.id} ${record.status}", body: "${date(when_became('status', 'late'), 'd. HH:mm')} ${words(now - when_became('status', 'planned'))}", buttons: [{text: Later, later: 53m}]}`,
		"w":  `{body: "for ${it.to}"}`,
		"c":  `{like: {of: "{'text': record.id + ' ' + record.status}"}}`,
		"n":  `{title: "${record.id}: ${len(others)} late", body: "${join(map(others, #.id), ' ')}", buttons: [{text: Later, later: 1h9m}]}`,
		"o":  `{title: "still ${len(others)} late"}`,
		"s0": `{title: "tell of ${len(others)}?"}`,
		"s":  `{title: "${len(others)} late", body: "${join(map(others, #.id), ' ')}` + answer + `"}`,
	} {
		if strings.Contains(asked[n], "message: "+name+",") || strings.Contains(asked[n], "message: "+name+"}") || strings.Contains(asked[n], "reply: "+name+",") {
			text = strings.Replace(text, "messages:\n", "messages:\n  "+name+": "+written+"\n", 1)
		}
	}
	return text
}

// One who does something with an alert or a question, as a rehearsal takes it.
type deed struct {
	Arrival string    `json:"arrival"`
	Ask     string    `json:"ask,omitempty"`
	Choice  string    `json:"choice,omitempty"`
	Comment string    `json:"comment,omitempty"`
	By      string    `json:"by"`
	At      time.Time `json:"at"`
	Claim   bool      `json:"claim,omitempty"`
	Reply   string    `json:"reply,omitempty"`
	Button  string    `json:"button,omitempty"`
}

// What people do, and what nobody does for too long, comes to the same live and rehearsed: the same verdicts, and the same posts at the
// same moments.
func TestAnswersAreTheSameLiveAndRehearsed(t *testing.T) {
	w := startInTime(t)
	ctx := context.Background()
	require.NoError(t, w.Store.DB.Create(&store.Destination{Name: "square/#board", Connection: "square", Title: "#board"}).Error)
	require.NoError(t, w.Store.DB.Create(&store.Connection{ID: "talk", Kind: "hook", Title: "Talk", KeyField: "id", CreatedAt: time.Now()}).Error)
	require.NoError(t, w.Store.DB.Exec("UPDATE workflows SET is_on = false").Error)
	seed := uint64(1)
	if s := os.Getenv("DORFBOTE_SEED"); s != "" { // any other number is another life
		seed, _ = strconv.ParseUint(s, 10, 64)
	}
	t.Log("DORFBOTE_SEED", seed)
	steps := 40
	if s := os.Getenv("DORFBOTE_STEPS"); s != "" {
		steps, _ = strconv.Atoi(s)
	}
	r := rand.New(rand.NewPCG(4, seed))
	now := time.Date(2041, 3, 4, 9, 0, 30, 0, time.UTC)
	w.be(t, now)
	flows := make([]int64, len(asked))
	for i := range asked {
		flows[i] = w.turnedOn(t, askedSheet(i))
	}
	require.NoError(t, w.Start(ctx))

	states := map[string]map[string]any{}
	var file bytes.Buffer
	deeds := make([][]deed, len(asked))
	for n := range steps {
		now = now.Add(time.Duration(1+r.IntN(30)) * time.Minute)
		w.until(t, &now)
		if r.IntN(2) == 0 {
			key := fmt.Sprint("C", r.IntN(5))
			a := &arrival.Arrival{ID: fmt.Sprint("e", n), Source: "tours/collections", Type: arrival.Updated, Subject: key, Time: now,
				Record: map[string]any{"id": key, "status": []string{"planned", "late", "refused"}[r.IntN(3)], "litres": float64(r.IntN(2000)), "due": now.Add(time.Duration(60+r.IntN(300)) * time.Minute).Format(time.RFC3339)}, Before: states[key]}
			switch {
			case states[key] == nil:
				a.Type, a.Before = arrival.Created, nil
				states[key] = a.Record
			case r.IntN(7) == 0:
				a.Type, a.Record = arrival.Removed, nil
				delete(states, key)
			default:
				states[key] = a.Record
			}
			file.Write(append(a.AppendJSON(nil), '\n'))
			w.take(t, hook.Event{Arrival: a})
		} else {
			i := r.IntN(len(asked))
			if asksNobody(i) {
				continue
			}
			if d := w.act(t, r, flows[i]); d != nil {
				d.At = now
				deeds[i] = append(deeds[i], *d)
			}
		}
		w.settle(t)
	}
	end := now.Add(48 * time.Hour)
	w.until(t, &end)
	for i := range asked {
		verdicts, posts := rehearsed(t, askedSheet(i), file.Bytes(), deeds[i], end)
		liveVerdicts, livePosts := w.lived(t, flows[i])
		odd := append(differing(verdicts, liveVerdicts), differing(posts, livePosts)...)
		t.Logf("sheet %d: %d verdicts, %d posts, %d deeds", i, len(verdicts), len(posts), len(deeds[i]))
		if !assert.Empty(t, odd, asked[i]) {
			raw, _ := json.Marshal(deeds[i])
			t.Logf("%s\n%s\n%s%s", strings.Join(odd, "\n"), askedSheet(i), file.String(), raw)
			t.Logf("ALLR%d %s\nALLL%d %s", i, strings.Join(posts, "\n"), i, strings.Join(livePosts, "\n"))
		}
	}
}

// differing lists what is only rehearsed, and what is only live.
func differing(rehearsed, live []string) (out []string) {
	for _, l := range rehearsed {
		if n := slices.Index(live, l); n >= 0 {
			live = slices.Delete(slices.Clone(live), n, n+1)
		} else {
			out = append(out, "only rehearsed: "+l)
		}
	}
	for _, l := range live {
		out = append(out, "only live: "+l)
	}
	return out
}

// act does what a person may do with one of a workflow's questions or alerts; nil where there is none.
func (w *world) act(t *testing.T, r *rand.Rand, flow int64) *deed {
	t.Helper()
	ctx := context.Background()
	id := func(seq int64) (name string) {
		require.NoError(t, w.Store.DB.Raw("SELECT id FROM arrivals WHERE seq = ?", seq).Scan(&name).Error)
		return name
	}
	if asks, err := w.Store.Asks(ctx, store.AskFilter{Workflow: flow, Limit: 6}); len(asks) > 0 && r.IntN(3) > 0 {
		require.NoError(t, err)
		a := asks[r.IntN(len(asks))]
		d := &deed{Arrival: id(a.Arrival), Ask: a.Name, By: a.Asking.Asked[r.IntN(len(a.Asking.Asked))], Choice: []string{"yes", "no"}[r.IntN(2)], Comment: []string{"", "so it is"}[r.IntN(2)]}
		_, _ = w.Alerts.AnswerAsk(ctx, a.ID, d.By, d.By, d.Choice, d.Comment) // refused, too
		return d
	}
	var posts []store.Post
	require.NoError(t, w.Store.DB.Where("workflow = ? AND state = 'sent' AND message IN ('m', 'n') AND NOT edits AND updates IS NULL", flow).Order("id DESC").Limit(6).Find(&posts).Error)
	if len(posts) == 0 {
		return nil
	}
	p := posts[r.IntN(len(posts))]
	for _, q := range posts { // what was told again is pressed on, rather than what was told first
		if q.Arrival == p.Arrival && q.Destination == p.Destination && q.ID > p.ID {
			p = q
		}
	}
	var doc message.Document
	require.NoError(t, json.Unmarshal(p.Body, &doc))
	d := &deed{Arrival: id(p.Arrival), By: "Vera"}
	n := r.IntN(len(doc.Buttons) + 1)
	if n == len(doc.Buttons) {
		d.Reply = "on my way"
		ev := event(fmt.Sprint("said", p.ID, "-", r.Uint32()), fmt.Sprint(r.Uint32()), "", 0)
		ev.Source, ev.Type, ev.Time = "talk/tours", arrival.Created, w.Now()
		ev.Record = map[string]any{"id": ev.Subject, "author": "Vera", "text": d.Reply, "room": "#tours", "about": map[string]any{"workflow": "x", "key": "x", "arrival": float64(p.Arrival), "workflow_id": float64(flow)}}
		w.take(t, ev)
		return d
	}
	if doc.Buttons[n].Text == "Mine" {
		d.Claim = true
	} else {
		d.Button, d.By = doc.Buttons[n].Text, p.Destination // what is told again is what was pressed on
	}
	_, _ = w.Alerts.Press(ctx, w.link(t, p.ID, n, true), n, alerts.Who{Native: "Vera"}, "")
	return d
}

// rehearsed is what a rehearsal makes of arrivals and of what people did.
func rehearsed(t *testing.T, text string, arrivals []byte, deeds []deed, until time.Time) (came, posts []string) {
	t.Helper()
	plan, _, problems := sheet.Compile([]byte(text), sheet.Known{Workspace: value.DefaultWorkspace()})
	require.NotNil(t, plan, "%v", problems)
	var lines bytes.Buffer
	for _, d := range deeds {
		raw, err := json.Marshal(d)
		require.NoError(t, err)
		lines.Write(append(raw, '\n'))
	}
	answers, err := rehearse.ReadAnswers(&lines)
	require.NoError(t, err)
	verdicts := map[string]string{}
	m := rehearse.NewMachine(plan, nil, func(l rehearse.Line) error {
		switch {
		case l.Tick != "" || l.Step != "" || !l.Later && (verdicts[l.Arrival] == string(decide.Told) || verdicts[l.Arrival] == string(decide.Repeated) || strings.Contains(verdicts[l.Arrival], "then")): // it says nothing of what became of the arrival itself
		case l.Later:
			for _, a := range l.Arrivals {
				first, _, _ := strings.Cut(verdicts[a], " then ")
				verdicts[a] = first + " then " + string(l.Verdict)
			}
		case l.Verdict != decide.Ignored && l.Verdict != decide.Claimed:
			verdicts[l.Arrival] = string(l.Verdict)
		}
		for _, p := range l.Posts {
			posts = append(posts, lineOf(l.At, p.To, p.Message, p.Doc.Title, p.Doc.Plain(), p.Doc.Tone, p.Done, !p.Edits.IsZero()))
		}
		return nil
	})
	m.Answers(answers, nil)
	in := bytes.NewReader(arrivals)
	scout, err := rehearse.Look(in, nil, func(string) bool { return false })
	require.NoError(t, err)
	require.NoError(t, scout.Run(in, plan, until, m))
	for id, v := range verdicts {
		came = append(came, id+" "+v)
	}
	slices.Sort(came)
	slices.Sort(posts)
	return came, posts
}

// lived is what came of the same live.
func (w *world) lived(t *testing.T, flow int64) (came, posts []string) {
	t.Helper()
	var rows []struct{ ID, Verdict, Later string }
	require.NoError(t, w.Store.DB.Raw("SELECT a.id, v.verdict, v.later FROM verdicts v JOIN arrivals a ON a.seq = v.arrival WHERE v.workflow = ? AND a.type <> 'dorfbote.tick'", flow).Scan(&rows).Error)
	for _, row := range rows {
		if row.Later != "" {
			row.Verdict += " then " + row.Later
		}
		came = append(came, row.ID+" "+row.Verdict)
	}
	slices.Sort(came)
	var sent []store.Post
	require.NoError(t, w.Store.DB.Where("workflow = ? AND message NOT IN ('', 'answer', 'claimed')", flow).Find(&sent).Error)
	for _, p := range sent {
		var doc message.Document
		require.NoError(t, json.Unmarshal(p.Body, &doc))
		posts = append(posts, lineOf(p.CreatedAt, p.Destination, p.Message, doc.Title, doc.Plain(), doc.Tone, p.Done, p.Edits))
	}
	slices.Sort(posts)
	return came, posts
}

// lineOf is a post in short. Live, a moment is a little later than rehearsed.
func lineOf(at time.Time, to, message, title, text, tone string, done, edits bool) string {
	how := ""
	if edits {
		how = " edits"
	}
	if done {
		how += " done"
	}
	return fmt.Sprintf("%s %s %s: %s | %s (%s)%s", at.UTC().Format("02 15:04"), to, message, title, text, tone, how)
}
