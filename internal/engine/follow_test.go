package engine_test

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"dorfbote/internal/core/sheet"
	"dorfbote/internal/store"
)

// app is a business app that notes what is written to it.
type app struct {
	*httptest.Server
	mu     sync.Mutex
	calls  []string
	keys   map[string]int
	answer func(n int) int
}

func newApp(t *testing.T) *app {
	a := &app{keys: map[string]int{}}
	a.Server = httptest.NewServer(a)
	t.Cleanup(a.Close)
	return a
}

func (a *app) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	a.mu.Lock()
	defer a.mu.Unlock()
	raw, _ := io.ReadAll(r.Body)
	a.calls = append(a.calls, r.Method+" "+r.URL.Path+" "+string(raw))
	a.keys[r.Header.Get("Idempotency-Key")]++
	status := http.StatusOK
	if a.answer != nil {
		status = a.answer(len(a.calls))
	}
	w.WriteHeader(status)
	_, _ = io.WriteString(w, `{"detail":"the app says so"}`)
}

func (a *app) got() []string {
	a.mu.Lock()
	defer a.mu.Unlock()
	return append([]string(nil), a.calls...)
}

// on switches another sheet on.
func (w *world) on(t *testing.T, text string) store.Workflow {
	t.Helper()
	live, _ := w.turnOn(t, text, -1)
	return store.Workflow{ID: live.ID}
}

func (w *world) steps(t *testing.T) (out []store.Step) {
	t.Helper()
	require.NoError(t, w.Store.DB.Order("id").Find(&out).Error)
	return out
}

const head = `dorfbote: 1
name: %s
watch: {source: tours/collections, on: [created]}
messages: {alert: {title: "${record.id}"}, sorry: {title: "could not write ${record.id}"}}
route: {otherwise: {tell: [{to: "square/#tours", message: alert}]}}
`

func created(id string, litres float64) func(*testing.T, *world) {
	return func(t *testing.T, w *world) {
		ev := event("e-"+id, id, "new", litres)
		ev.Type, ev.Compute = "dorfbote.record.created", false
		w.take(t, ev)
	}
}

// What follows is done once the post is there, in order, under a key of its own; it is tried again while that may help,
// and each way out of a failure is the one that the sheet names.
func TestFollowUp(t *testing.T) {
	w := start(t, true)
	a := newApp(t)
	require.NoError(t, w.Store.DB.Exec("UPDATE connections SET settings = jsonb_build_object('records_address', ?::text) WHERE id = 'tours'", a.URL+"/api").Error)
	require.NoError(t, w.Store.DB.Create(&store.Source{Name: "tours/collections", Connection: "tours", KeyField: "id"}).Error)
	w.on(t, fmt.Sprintf(head, "Follows")+`follow:
  - {name: mark, change: {source: tours/collections, key: "${record.id}", set: {told: true, litres: "${record.litres}"}}}
  - {name: note, add: {source: tours/collections, set: {id: "N-${record.id}"}}, if_fails: {tell: [{to: "square/#tours", message: sorry}]}}
  - {name: last, add: {source: tours/collections, set: {id: "L-${record.id}"}}}
`)
	a.answer = func(n int) int {
		switch n {
		case 1:
			return 503 // heals
		case 3:
			return 422 // does not
		}
		return 200
	}
	created("C-1", 700)(t, w)
	eventually(t, "the failure is told", func() bool { return len(w.chat.titles()) == 2 })
	assert.Equal(t, []string{"C-1", "could not write C-1"}, w.chat.titles())
	assert.Equal(t, []string{
		`PATCH /api/collections/C-1 {"litres":700,"told":true}`, `PATCH /api/collections/C-1 {"litres":700,"told":true}`, `POST /api/collections {"id":"N-C-1"}`,
	}, a.got())
	eventually(t, "the rest is left out", func() bool { return w.steps(t)[2].State == store.Skipped })
	steps := w.steps(t)
	assert.Equal(t, []string{"done", "failed", "skipped"}, []string{steps[0].State, steps[1].State, steps[2].State})
	assert.Equal(t, 2, steps[0].Attempts)
	assert.Contains(t, steps[1].Answer, "the app says so")
	a.mu.Lock()
	assert.Len(t, a.keys, 2, "the same step has the same key")
	a.mu.Unlock()

	// Tried again by somebody, it fails again, which is told again; the rest is left out as before.
	a.mu.Lock()
	a.answer = func(int) int { return 422 }
	a.mu.Unlock()
	there, err := w.Store.TryStepsAgain(t.Context(), steps[1].Arrival, steps[1].Workflow)
	require.NoError(t, err)
	require.True(t, there)
	require.NoError(t, w.Follow.Follow(t.Context(), steps[1].Arrival, steps[1].Workflow))
	eventually(t, "it is told again", func() bool { return len(w.chat.titles()) == 3 })
	eventually(t, "the rest is left out again", func() bool { return w.steps(t)[2].State == store.Skipped })
	assert.Len(t, a.got(), 4)

	// A post that is refused holds back what follows, until it is there.
	a.mu.Lock()
	a.answer = nil
	a.mu.Unlock()
	w.chat.mu.Lock()
	w.chat.answer = func(int, string) (int, string) { return 403, "" }
	w.chat.mu.Unlock()
	created("C-2", 700)(t, w)
	eventually(t, "the post is refused", func() bool {
		var n int64
		w.Store.DB.Raw("SELECT count(*) FROM posts WHERE state = 'refused'").Scan(&n)
		return n == 1
	})
	assert.Len(t, a.got(), 4, "nobody was told of C-2, so it is not marked as told")
	w.chat.mu.Lock()
	w.chat.answer = nil
	w.chat.mu.Unlock()
	require.NoError(t, w.Store.DB.Exec("UPDATE destinations SET paused = false; UPDATE posts SET state = 'waiting' WHERE state = 'refused'").Error)
	require.NoError(t, w.Outbox.Wake(context.Background(), "square/#tours"))
	eventually(t, "it follows", func() bool { return len(a.got()) == 7 })
}

// Workflows that call one another are followed to where they would begin anew, and stopped there.
func TestCallsAndCircles(t *testing.T) {
	w := start(t, true)
	called := func(name, text string) string {
		return "dorfbote: 1\nname: " + name + "\nwatch: {called: {takes: [{name: text, type: text}]}}\nmessages: {m: {title: \"" + name + " hears ${answers.text}\"}}\nroute: {otherwise: {tell: [{to: \"square/#tours\", message: m}]}}\n" + text
	}
	b := w.on(t, called("B", ""))
	w.on(t, fmt.Sprintf(head, "A")+`follow: [{call: {workflow: B, with: {text: "${record.id}"}}}]`+"\n")
	created("C-1", 1)(t, w)
	eventually(t, "B is called", func() bool { return len(w.chat.titles()) == 2 })
	assert.Equal(t, []string{"C-1", "B hears C-1"}, w.chat.titles())

	// C calls B, and B would call C: found before B is switched on; made all the same, it is stopped at run time.
	c := w.on(t, called("C", "follow: [{call: {workflow: B, with: {text: again}}}]\n"))
	circle := called("B", "follow: [{call: {workflow: C, with: {text: more}}}]\n")
	plan, _, problems := sheet.Compile([]byte(circle), sheet.Known{Workspace: w.Workspace})
	require.NotNil(t, plan, "%v", problems)
	found, err := w.Workflows.Circle(context.Background(), "B", plan)
	require.NoError(t, err)
	assert.Equal(t, "B → C → B", found)
	_, err = w.Store.SwitchOn(context.Background(), b.ID, store.SwitchedOn{Sheet: circle, Form: "called", Since: -1}, func(*gorm.DB, *store.Workflow) error { return nil })
	require.NoError(t, err)
	created("C-2", 1)(t, w)
	eventually(t, "it is stopped", func() bool {
		for _, s := range w.steps(t) {
			if s.State == store.Failed {
				return true
			}
		}
		return false
	})
	last := w.steps(t)[len(w.steps(t))-1]
	assert.Equal(t, c.ID, last.Workflow)
	assert.Contains(t, last.Answer, "A → B → C → B")
	assert.Equal(t, []string{"C-1", "B hears C-1", "C-2", "B hears C-2", "C hears more"}, w.chat.titles())
}

// A row is added at the end of a table, whole, once, and never as a formula of whoever opens it.
func TestARowIsAdded(t *testing.T) {
	w := start(t, true)
	file := filepath.Join(w.Env.Folder, "log.csv")
	require.NoError(t, os.WriteFile(file, []byte("id;said\n1;\"a;b\""), 0o644))
	db := w.Store.DB
	require.NoError(t, db.Create(&store.Connection{ID: "lists", Kind: "table", Title: "Lists", Settings: store.Texts{"where": "in a folder"}, CreatedAt: time.Now()}).Error)
	require.NoError(t, db.Create(&store.Source{Name: "lists/log", Connection: "lists", KeyField: "id", Settings: store.Texts{"file": "log.csv"}}).Error)
	w.on(t, fmt.Sprintf(head, "Log")+"follow:\n  - {add: {source: lists/log, set: {said: \"=${record.status};\", id: \"${record.id}\"}}}\n  - {add: {source: lists/log, set: {sad: x}}}\n")
	created("C-1", 1)(t, w)
	eventually(t, "it is added", func() bool { s := w.steps(t); return len(s) == 2 && s[1].State == store.Failed })
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, "id;said\n1;\"a;b\"\nC-1;\"'=new;\"\n", string(raw))
	assert.Contains(t, w.steps(t)[1].Answer, "did you mean said?")
	left, _ := filepath.Glob(filepath.Join(w.Env.Folder, ".log.csv.new"))
	assert.Empty(t, left)
}

// Posts keep to the rate that a person has set; a destination that asks to wait is not called before its time, and what
// it bears is learnt.
func TestRates(t *testing.T) {
	w := start(t, true)
	require.NoError(t, w.Store.DB.Exec("UPDATE destinations SET per_minute = 600").Error) // one in 100 ms
	began := time.Now()
	for i := range 3 {
		w.take(t, event(fmt.Sprintf("s%d", i), fmt.Sprintf("S-%d", i), "on the way", 900), event(fmt.Sprintf("l%d", i), fmt.Sprintf("S-%d", i), "late", 900))
	}
	eventually(t, "all are sent", func() bool { return len(w.chat.titles()) == 6 }) // each with its reply
	assert.GreaterOrEqual(t, time.Since(began), 500*time.Millisecond)

	require.NoError(t, w.Store.DB.Exec("UPDATE destinations SET per_minute = 0, not_before = NULL").Error)
	var asked time.Time
	early := 0
	w.chat.mu.Lock()
	w.chat.answer = func(n int, _ string) (int, string) {
		if time.Now().Before(asked) {
			early++
		}
		if n%4 == 0 {
			asked = time.Now().Add(200 * time.Millisecond)
			return 429, "0.2"
		}
		return 201, ""
	}
	w.chat.mu.Unlock()
	for i := range 4 {
		w.take(t, event(fmt.Sprintf("t%d", i), fmt.Sprintf("T-%d", i), "on the way", 900), event(fmt.Sprintf("u%d", i), fmt.Sprintf("T-%d", i), "late", 900))
	}
	var order []string
	eventually(t, "all are sent, and written down to be", func() bool {
		err := w.Store.DB.Raw("SELECT title FROM posts WHERE state = 'sent' ORDER BY id").Scan(&order).Error
		return err == nil && len(order) == 14
	})
	w.chat.mu.Lock()
	assert.Zero(t, early, "no call before the time that was asked for")
	w.chat.mu.Unlock()
	d, err := w.Store.Destination(context.Background(), "square/#tours")
	require.NoError(t, err)
	assert.Positive(t, d.SpacingMs, "what it bears is learnt")
	assert.Equal(t, order, w.chat.titles(), "in order all the same")
}

// Every try is kept as it went out and came back, without the secret that it carried.
func TestAttemptsAreKept(t *testing.T) {
	w := start(t, true)
	sealed, err := w.Box.Seal(map[string]string{"token": "very-secret"}, "square")
	require.NoError(t, err)
	require.NoError(t, w.Store.DB.Model(&store.Connection{}).Where("id = 'square'").Update("sealed", sealed).Error)
	w.chat.mu.Lock()
	w.chat.answer = func(n int, _ string) (int, string) {
		if n == 1 {
			return 500, ""
		}
		return 201, ""
	}
	w.chat.mu.Unlock()
	w.take(t, event("a", "C-1", "on the way", 900), event("b", "C-1", "late", 900))
	eventually(t, "it is sent", func() bool { return len(w.chat.titles()) == 2 })
	var tried []store.Attempt
	eventually(t, "the tries are there", func() bool {
		tried = nil
		return w.Store.DB.Order("id").Find(&tried).Error == nil && len(tried) == 3 && !tried[2].Open
	})
	assert.Equal(t, []int{500, 201, 201}, []int{tried[0].Status, tried[1].Status, tried[2].Status})
	raw, _ := json.Marshal(tried)
	assert.Contains(t, tried[0].Sent, "C-1 on the way")
	assert.Contains(t, tried[0].Answer, "never let in")
	assert.NotContains(t, string(raw), "very-secret")
	assert.True(t, strings.HasPrefix(tried[0].Address, "POST http"))
}

// Old arrivals go by dropping their partition, with their verdicts and posts; what is not decided or not sent stays.
func TestRetention(t *testing.T) {
	w := start(t, false)
	ctx := context.Background()
	db := w.Store.DB
	now := time.Now() // one moment: the first arrival that is kept is a second younger than it must be
	require.NoError(t, db.Exec(`INSERT INTO arrivals (seq, source, id, type, time, subject, data, received_at)
		SELECT n, 'tours/collections', 'o' || n, 'dorfbote.record.updated', now(), 'C', '{"record":{}}', ?::timestamptz - interval '1 day' * ((2500000 - n) / 100000.0)
		FROM generate_series(1, 2500000, 500) n`, now).Error)
	require.NoError(t, db.Exec("SELECT setval('arrivals_numbers', 2500000)").Error)
	require.NoError(t, db.Exec("INSERT INTO verdicts (arrival, workflow, version, verdict, at) SELECT seq, 1, 1, 'told', now() FROM arrivals").Error)
	require.NoError(t, db.Exec(`INSERT INTO posts (workflow, arrival, destination, message, body, key, state) SELECT 1, seq, 'square/#tours', 'm', '{}', 'k' || seq, CASE WHEN seq = 501 THEN 'waiting' ELSE 'sent' END FROM arrivals`).Error)
	at, err := w.Store.SeqAt(ctx, now.AddDate(0, 0, -10))
	require.NoError(t, err)
	assert.InDelta(t, 1_500_001, at, 1000)
	parts := func() []int64 {
		list, err := w.Store.Parts(ctx)
		require.NoError(t, err)
		return list
	}
	require.NoError(t, w.Store.Room(ctx))
	assert.Equal(t, []int64{0, 1, 2, 3, 4, 5}, parts())

	// What is still to be decided keeps its partition.
	require.NoError(t, db.Exec("UPDATE marks SET seq = 500").Error)
	gone, err := w.Store.Retain(ctx, store.Keep{Days: 10}, now)
	require.NoError(t, err)
	assert.Zero(t, gone.Partitions)
	require.NoError(t, db.Exec("UPDATE marks SET seq = 2500000").Error)
	gone, err = w.Store.Retain(ctx, store.Keep{Days: 10}, now)
	require.NoError(t, err)
	assert.Equal(t, 1, gone.Partitions)
	assert.Equal(t, []int64{1, 2, 3, 4, 5}, parts())
	var left, posts, waiting int64
	require.NoError(t, db.Raw("SELECT count(*), (SELECT count(*) FROM posts WHERE arrival < 1500000), (SELECT count(*) FROM posts WHERE state = 'waiting') FROM arrivals").Row().Scan(&left, &posts, &waiting))
	assert.EqualValues(t, 2000, left, "the partition that is cut has outlived them by more than a quarter")
	assert.EqualValues(t, 1, posts)
	assert.EqualValues(t, 1, waiting, "a post that waits stays")
	gone, err = w.Store.Retain(ctx, store.Keep{Arrivals: 400_000}, now)
	require.NoError(t, err)
	assert.Equal(t, 1, gone.Partitions)

	// What comes now is taken in as ever, and known again.
	require.NoError(t, db.Exec("SELECT setval('arrivals_numbers', 2999999)").Error)
	r := w.take(t, event("x", "C-9", "late", 1), event("y", "C-9", "late", 1))
	assert.EqualValues(t, 3_000_000, r[0].Seq, "over the edge of a partition")
	assert.True(t, w.take(t, event("x", "C-9", "late", 1))[0].Known)

	// Where arrivals are so few that a partition outlives them, old ones are deleted.
	gone, err = w.Store.Retain(ctx, store.Keep{Days: 2}, now)
	require.NoError(t, err)
	assert.Positive(t, gone.Arrivals)
	require.NoError(t, db.Raw("SELECT count(*) FROM arrivals WHERE received_at < now() - interval '2 days 1 hour'").Scan(&left).Error)
	assert.Zero(t, left)
}

// What a person decides of a post while its channel is slow or down holds: it is neither sent nor put back.
func TestAPersonsDecisionHolds(t *testing.T) {
	w := start(t, true)
	drop := func(title string) {
		w.Store.DB.Exec("UPDATE posts SET state = 'dropped' WHERE title = ?", title)
	}
	w.chat.mu.Lock()
	w.chat.answer = func(n int, title string) (int, string) {
		switch n {
		case 1: // fails, and is dropped while it does
			drop("C-1 on the way")
			return 500, ""
		case 2: // slow, and what comes next is dropped meanwhile
			drop("detail of C-2")
			time.Sleep(400 * time.Millisecond)
		}
		return 201, ""
	}
	w.chat.mu.Unlock()
	require.NoError(t, w.Store.DB.Exec("UPDATE destinations SET paused = true").Error)
	for _, key := range []string{"C-1", "C-2"} {
		w.take(t, event("a"+key, key, "on the way", 900), event("b"+key, key, "late", 900))
	}
	eventually(t, "all wait", func() bool {
		var n int64
		w.Store.DB.Raw("SELECT count(*) FROM posts WHERE state = 'waiting'").Scan(&n)
		return n == 4
	})
	drop("detail of C-1")
	require.NoError(t, w.Store.DB.Exec("UPDATE destinations SET paused = false").Error)
	require.NoError(t, w.Outbox.Wake(context.Background(), "square/#tours"))
	settled := []string{"dropped", "dropped", "sent", "dropped"}
	eventually(t, "what is left is sent", func() bool {
		var states []string
		w.Store.DB.Raw("SELECT state FROM posts ORDER BY id").Scan(&states)
		return slices.Equal(states, settled)
	})
	time.Sleep(600 * time.Millisecond) // and nothing comes after it
	assert.Equal(t, []string{"C-2 on the way"}, w.chat.titles())
	var states []string
	require.NoError(t, w.Store.DB.Raw("SELECT state FROM posts ORDER BY id").Scan(&states).Error)
	assert.Equal(t, settled, states)
}
