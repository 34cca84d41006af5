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

	"github.com/jackc/pgx/v5"
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
	"dorfbote/internal/jobs"
	"dorfbote/internal/store"
	"dorfbote/internal/testdb"
)

// A virtual clock for the database, and for all processes, which go by it: now() and clock_timestamp() are found in a schema of their
// own, before those of PostgreSQL, and are as far ahead as a table says.
const virtualClock = `CREATE SCHEMA moment;
CREATE TABLE moment.clock (ahead interval NOT NULL);
INSERT INTO moment.clock VALUES ('0');
CREATE FUNCTION moment.now() RETURNS timestamptz STABLE LANGUAGE sql AS 'SELECT pg_catalog.now() + ahead FROM moment.clock';
CREATE FUNCTION moment.clock_timestamp() RETURNS timestamptz VOLATILE LANGUAGE sql AS 'SELECT pg_catalog.clock_timestamp() + ahead FROM moment.clock';
DO $do$ DECLARE c record; BEGIN
	FOR c IN SELECT table_name, column_name FROM information_schema.columns WHERE table_schema = 'public' AND column_default ~ '^(now|CURRENT_TIMESTAMP)' LOOP
		EXECUTE format('ALTER TABLE public.%I ALTER COLUMN %I SET DEFAULT moment.now()', c.table_name, c.column_name);
	END LOOP;
END $do$;`

// startInTime starts an engine whose time stands wherever a test puts it.
func startInTime(t *testing.T) *world {
	t.Helper()
	address := testdb.URL(t)
	conn, err := pgx.Connect(t.Context(), address)
	require.NoError(t, err)
	_, err = conn.Exec(t.Context(), virtualClock)
	require.NoError(t, err)
	require.NoError(t, conn.Close(t.Context()))
	sep := "?"
	if strings.Contains(address, "?") {
		sep = "&"
	}
	st, err := store.Open(t.Context(), address+sep+"search_path=moment,pg_catalog,public", 20)
	require.NoError(t, err)
	t.Cleanup(st.Close)
	return startOn(t, st, false)
}

// be puts the clock to a moment, and waits until all is done that comes of it.
func (w *world) be(t *testing.T, at time.Time) {
	t.Helper()
	ctx := context.Background()
	require.NoError(t, w.Store.DB.Exec("UPDATE moment.clock SET ahead = ?::timestamptz - pg_catalog.clock_timestamp()", at).Error)
	require.NoError(t, w.MeasureClock(ctx))
	w.settle(t)
}

// settle waits until nothing is left to be done at this moment.
func (w *world) settle(t *testing.T) {
	t.Helper()
	ctx := context.Background()
	calm, still := 0, ""
	defer func() {
		if calm < 2 {
			t.Log("still to be done:", still)
		}
	}()
	require.Eventually(t, func() bool {
		for _, do := range w.Timing.Due {
			if _, err := do(ctx); err != nil {
				still = err.Error()
				return false
			}
		}
		for _, place := range []string{"square/#tours", "square/#board"} { // as the jobs would, a little later
			if err := w.Outbox.Drain(ctx, jobs.Drain{Destination: place}); err != nil {
				still = err.Error()
				return false
			}
		}
		var left struct{ Posts, Jobs, Asks, Escalations, Held, Timers int64 }
		err := w.Store.DB.Raw(`SELECT (SELECT count(*) FROM posts WHERE state = 'waiting') AS posts,
			(SELECT count(*) FROM river_job WHERE state IN ('available', 'running', 'retryable', 'pending') AND kind NOT IN ('sweep', 'drain')) AS jobs,
			(SELECT count(*) FROM asks WHERE state = 'open' AND due_at <= now()) AS asks, (SELECT count(*) FROM escalations WHERE due_at <= now()) AS escalations,
			(SELECT count(*) FROM pace_held WHERE due_at <= now()) AS held, (SELECT count(*) FROM timers WHERE NOT spent AND due_at <= now()) AS timers`).Scan(&left).Error
		behind, late := w.Store.Behind(ctx, 0)
		if calm++; err != nil || late != nil || left != (struct{ Posts, Jobs, Asks, Escalations, Held, Timers int64 }{}) || len(behind) > 0 {
			calm, still = 0, fmt.Sprintf("%+v %v %v %v", left, behind, err, late)
		}
		return calm >= 2
	}, time.Minute, 5*time.Millisecond, "all is done at this moment")
}

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
pace: {repeat: {key: "${record.id}", within: 4h}, limit: {posts: 2, per: 2h}, quiet: {open: [{from: "05:00", to: "20:00"}]}, useful_for: 8h}
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
		"n":  `{title: "${record.id}: ${len(others)} late", body: "${join(map(others, #.id), ' ')}", buttons: [{text: Later, later: 1h9m}]}`,
		"o":  `{title: "still ${len(others)} late"}`,
		"s0": `{title: "tell of ${len(others)}?"}`,
		"s":  `{title: "${len(others)} late", body: "${join(map(others, #.id), ' ')}` + answer + `"}`,
	} {
		if strings.Contains(asked[n], "message: "+name+",") || strings.Contains(asked[n], "message: "+name+"}") {
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

// until lets all come due, one moment after the other, until the given one; which is put off where something comes due close to it.
func (w *world) until(t *testing.T, to *time.Time) {
	t.Helper()
	for {
		next, err := w.Store.NextMoment(context.Background())
		require.NoError(t, err)
		if !next.Valid || next.Time.After(to.Add(50*time.Second)) {
			break
		}
		if next.Time.After(to.Add(-50 * time.Second)) {
			*to = to.Add(time.Minute)
			continue
		}
		w.be(t, next.Time.Add(5*time.Millisecond))
	}
	w.be(t, *to)
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
		case l.Tick != "" || l.Step != "" || !l.Later && (verdicts[l.Arrival] == string(decide.Told) || strings.Contains(verdicts[l.Arrival], "then")): // it says nothing of what became of the arrival itself
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

// in gives a world whose one workflow is a sheet, at a time of a day, and a way to put the clock on.
func in(t *testing.T, at, rest string) (w *world, to func(at string)) {
	t.Helper()
	w = startInTime(t)
	require.NoError(t, w.Store.DB.Create(&store.Destination{Name: "square/#board", Connection: "square", Title: "#board"}).Error)
	to = func(at string) {
		t.Helper()
		moment, err := time.Parse("2006-01-02 15:04:05", "2041-03-"+at+":30")
		require.NoError(t, err)
		w.until(t, &moment)
	}
	to(at)
	w.only(t, rest)
	require.NoError(t, w.Start(context.Background()))
	return w, to
}

// toldNow is what was told of the only workflow, and when, in short.
func (w *world) toldNow(t *testing.T) (out []string) {
	t.Helper()
	_, posts := w.lived(t, 1)
	for _, p := range posts {
		out = append(out, p[:8]+strings.TrimSuffix(p[8:], " |  (plain)"))
	}
	return out
}

// Where a reminder waits for the opening hours, the question ends in its time all the same.
func TestAQuestionEndsOutsideTheHours(t *testing.T) {
	w, to := in(t, "04 19:00", `messages: {q: {title: "may ${record.id}?"}, m: {title: "${record.id} ${v.choice}", tone: urgent}}
ask: [{name: v, of: "square/#tours", message: q, choices: [{name: "yes"}, {name: "no"}], within: 3h, remind: [2h, 2h30m], otherwise: "no"}]
route: {otherwise: {tell: [{to: "square/#board", message: m}]}}
pace: {quiet: {open: [{from: "05:00", to: "20:00"}], urgent: pass}}
`)
	w.take(t, w.eventNow("1", "A", "late"))
	w.settle(t)
	to("04 22:10")
	assert.Equal(t, []string{"04 19:00 square/#tours q: may A?", "04 22:00 square/#board m: A no |  (urgent)"}, w.toldNow(t))
	to("05 09:00")
	assert.Len(t, w.toldNow(t), 2, "and nobody is reminded of it any more")
}

// Each of the alerts that went in a digest is told to others where nobody takes it.
func TestWhatWentInADigestIsEscalated(t *testing.T) {
	w, to := in(t, "04 09:00", `messages: {m: {title: "${record.id}"}, e: {title: "nobody: ${record.id}"}}
route: {otherwise: {tell: [{to: "square/#tours", message: m}]}}
follow: [{unless: {any: [{claimed: true}, {field: status, is: done}], within: 1h}, tell: [{to: "square/#board", message: e}]}]
pace: {digest: {every: 2h}}
`)
	for _, key := range []string{"A", "B", "C"} {
		w.take(t, w.eventNow("1"+key, key, "late"))
		w.settle(t)
	}
	to("04 11:10")
	require.Len(t, w.toldNow(t), 1, "the digest")
	w.take(t, w.eventNow("2B", "B", "done"))
	w.settle(t)
	to("04 12:10")
	assert.Equal(t, []string{"04 12:00 square/#board e: nobody: A", "04 12:00 square/#board e: nobody: C"}, w.toldNow(t)[1:])
}

// An alert that is told again later has with it what stood in its thread, and at the other place it is not told again.
func TestLaterTellsTheThreadAgain(t *testing.T) {
	w, to := in(t, "04 09:00", `messages: {m: {title: "${record.id}", buttons: [{text: Later, later: 1h}]}, d: {title: "detail of ${record.id}"}}
route: {otherwise: {tell: [{to: "square/#tours", message: m, reply: d}, {to: "square/#board", message: m}]}}
`)
	w.take(t, w.eventNow("1", "A", "late"))
	w.settle(t)
	post := w.postOf(t, "message = 'm' AND destination = 'square/#tours'")
	_, err := w.Alerts.Press(t.Context(), w.link(t, post.ID, 0, true), 0, alerts.Who{Native: "Vera"}, "")
	require.NoError(t, err)
	to("04 10:10")
	assert.Equal(t, []string{"04 09:00 square/#board m: A", "04 09:00 square/#tours d: detail of A", "04 09:00 square/#tours m: A",
		"04 10:00 square/#tours d: detail of A", "04 10:00 square/#tours m: A"}, w.toldNow(t))
	again := w.postOf(t, "message = 'm'")
	assert.Equal(t, &again.ID, w.postOf(t, "message = 'd'").Under, "in the thread of what was told again")
}

// Of a record that is gone when nobody took care of its alert is told as it last was.
func TestARecordThatIsGoneIsToldOfAsItLastWas(t *testing.T) {
	w, to := in(t, "04 09:00", `messages: {m: {title: "${record.id}"}, e: {title: "nobody: ${record.id} ${record.status}"}}
route: {otherwise: {tell: [{to: "square/#tours", message: m}]}}
follow: [{unless: {claimed: true, within: 1h}, tell: [{to: "square/#board", message: e}]}]
`)
	w.take(t, w.eventNow("1", "A", "late"))
	w.settle(t)
	w.take(t, w.eventNow("2", "A", "worse"))
	gone := w.eventNow("3", "A", "")
	gone.Type, gone.Record = arrival.Removed, nil
	w.take(t, gone)
	w.settle(t)
	to("04 10:10")
	assert.Equal(t, []string{"04 10:00 square/#board e: nobody: A worse", "04 10:00 square/#board e: nobody: A worse"}, w.toldNow(t)[2:])
}

// Later can be pressed again on what was told again.
func TestLaterAndLaterAgain(t *testing.T) {
	w, to := in(t, "04 09:00", `messages: {m: {title: "${record.id}", buttons: [{text: Later, later: 1h}]}}
route: {otherwise: {tell: [{to: "square/#tours", message: m}]}}
`)
	w.take(t, w.eventNow("1", "A", "late"))
	w.settle(t)
	for n := range 3 {
		_, err := w.Alerts.Press(t.Context(), w.link(t, w.postOf(t, "message = 'm'").ID, 0, true), 0, alerts.Who{Native: "Vera"}, "")
		require.NoError(t, err)
		to(fmt.Sprintf("04 %d:%d", 10+n, 10+10*n))
	}
	assert.Equal(t, []string{"04 09:00 square/#tours m: A", "04 10:00 square/#tours m: A", "04 11:10 square/#tours m: A", "04 12:20 square/#tours m: A"}, w.toldNow(t))
}

// What cannot be told at its moment holds up nothing else, neither of the same workflow nor of another, and is tried again later.
func TestWhatCannotBeDoneAtItsMomentHoldsUpNothing(t *testing.T) {
	w, to := in(t, "04 09:00", `messages: {m: {title: "${record.id}"}, e: {title: "nobody: ${record.id}"}, q: {title: "may ${record.id}?"}}
ask: [{name: v, of: "square/#board", when: {field: status, is: asked}, message: q, choices: [{name: "yes"}, {name: "no"}], within: 1h, otherwise: "yes"}]
route: {otherwise: {tell: [{to: "square/#tours", message: m}]}}
follow: [{unless: {claimed: true, within: 1h}, tell: [{to: "square/#board", message: e}]}]
`)
	for _, key := range []string{"A", "B", "C"} {
		w.take(t, w.eventNow("1"+key, key, "late"), w.eventNow("2"+key, "Q"+key, "asked"))
	}
	w.settle(t)
	do := func(sql string) { require.NoError(t, w.Store.DB.Exec(sql).Error) }
	do(`UPDATE escalations SET posts = '"no list"' WHERE arrival = (SELECT min(arrival) FROM escalations)`)
	do(`UPDATE asks SET body = '5' WHERE id = (SELECT min(id) FROM asks)`)
	require.NoError(t, w.Store.DB.Exec("UPDATE moment.clock SET ahead = ahead + interval '61 minutes'").Error)
	require.NoError(t, w.MeasureClock(t.Context()))
	eventually(t, "the others are told", func() bool {
		told := strings.Join(w.toldNow(t), "|")
		return strings.Contains(told, "nobody: B") && strings.Contains(told, "nobody: C") && strings.Contains(told, "m: QB") && strings.Contains(told, "m: QC")
	})
	assert.NotContains(t, strings.Join(w.toldNow(t), "|"), "nobody: A")
	do("UPDATE escalations SET posts = NULL WHERE posts = '\"no list\"'")
	do("UPDATE asks SET state = 'withdrawn', due_at = NULL WHERE state = 'open'")
	to("04 10:30")
	assert.Contains(t, strings.Join(w.toldNow(t), "|"), "nobody: A")
}

// eventNow is an event of this moment by the database's clock.
func (w *world) eventNow(id, key, status string) hook.Event {
	ev := event(id, key, status, 900)
	ev.Time = w.Now().UTC()
	return ev
}
