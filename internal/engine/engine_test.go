package engine_test

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"dorfbote/internal/connect/hook"
	"dorfbote/internal/core/arrival"
	"dorfbote/internal/core/value"
	"dorfbote/internal/engine"
	"dorfbote/internal/engine/intake"
	"dorfbote/internal/store"
	"dorfbote/internal/testdb"
)

// fakeChat is a chat that answers as it is told and remembers what it took.
type fakeChat struct {
	mu     sync.Mutex
	answer func(n int, title string) (status int, retryAfter string)
	calls  int
	taken  []string
	keys   map[string]int
	under  []string
	edited []string
	body   string // of an answer that takes a post; "" gives an id
}

func (f *fakeChat) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if r.Method == http.MethodGet { // it does not say which channels it has
		http.NotFound(w, r)
		return
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	var p struct{ Title, Under string }
	_ = json.NewDecoder(r.Body).Decode(&p)
	f.calls++
	status, retry := http.StatusCreated, ""
	if f.answer != nil {
		status, retry = f.answer(f.calls, p.Title)
	}
	if retry != "" {
		w.Header().Set("Retry-After", retry)
	}
	if id, ok := strings.CutPrefix(r.URL.Path, "/posts/"); ok && r.Method == http.MethodPut {
		f.edited = append(f.edited, id+": "+p.Title)
		_, _ = fmt.Fprintf(w, `{"id":%q}`, id)
		return
	}
	w.WriteHeader(status)
	if status == http.StatusCreated {
		f.taken = append(f.taken, p.Title)
		f.under = append(f.under, p.Under)
		f.keys[r.Header.Get("Idempotency-Key")]++
		if f.body != "" {
			_, _ = io.WriteString(w, f.body)
		} else {
			_, _ = fmt.Fprintf(w, `{"id":"%d"}`, 1000+len(f.taken))
		}
		return
	}
	_, _ = io.WriteString(w, `{"title":"No","detail":"the sender was never let in"}`)
}

func (f *fakeChat) titles() []string {
	f.mu.Lock()
	defer f.mu.Unlock()
	return append([]string(nil), f.taken...)
}

func (f *fakeChat) edits() []string {
	f.mu.Lock()
	defer f.mu.Unlock()
	return append([]string(nil), f.edited...)
}

const sheetText = `dorfbote: 1
name: Late
watch: {source: tours/collections, when: {field: status, became: late}}
keep: {field: litres, above: 500}
messages:
  alert: {title: "${record.id} ${before.status}"}
  detail: {title: "detail of ${record.id}"}
route: {otherwise: {tell: [{to: "square/#tours", message: alert, reply: detail}]}}
`

type world struct {
	*engine.Engine
	intake *intake.Intake
	chat   *fakeChat
}

func start(t *testing.T, work bool) *world {
	t.Helper()
	return startOn(t, testdb.New(t), work)
}

func startOn(t *testing.T, st *store.Store, work bool) *world {
	t.Helper()
	chat := &fakeChat{keys: map[string]int{}}
	server := httptest.NewServer(chat)
	db := st.DB
	require.NoError(t, db.Create(&store.Connection{ID: "tours", Kind: "hook", Title: "Tours", KeyField: "id", CreatedAt: time.Now()}).Error)
	require.NoError(t, db.Create(&store.Connection{ID: "square", Kind: "chat", Title: "Square", Settings: store.Texts{"address": server.URL}, CreatedAt: time.Now()}).Error)
	require.NoError(t, db.Create(&store.Destination{Name: "square/#tours", Connection: "square", Title: "#tours"}).Error)
	w := store.Workflow{Name: "Late", Draft: sheetText, CreatedAt: time.Now(), UpdatedAt: time.Now()}
	require.NoError(t, db.Create(&w).Error)
	_, err := st.SwitchOn(context.Background(), w.ID, store.SwitchedOn{Sheet: sheetText, Source: "tours/collections", Since: -1}, func(*gorm.DB, *store.Workflow) error { return nil })
	require.NoError(t, err)
	e, err := engine.New(st, value.DefaultWorkspace(), slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	e.Env = testdb.Loopback(t, e.Workspace)
	e.Env.Base = "https://dorfbote.example"
	ctx, cancel := context.WithCancel(context.Background())
	out := &world{e, intake.New(ctx, e.Writer), chat}
	if work {
		require.NoError(t, e.Start(ctx))
	}
	t.Cleanup(func() { e.Stop(); cancel(); server.Close() })
	return out
}

func event(id, key, status string, litres float64) hook.Event {
	return hook.Event{Compute: true, Arrival: &arrival.Arrival{
		ID: id, Source: "tours/collections", Type: arrival.Updated, Subject: key, Time: time.Now().UTC(),
		Record: map[string]any{"id": key, "status": status, "litres": litres},
	}}
}

func (w *world) take(t *testing.T, events ...hook.Event) []intake.Receipt {
	t.Helper()
	r, err := w.intake.Take(context.Background(), events)
	require.NoError(t, err)
	return r
}

func eventually(t *testing.T, what string, ok func() bool) {
	t.Helper()
	require.Eventually(t, ok, time.Minute, 10*time.Millisecond, what)
}

func TestWhatWasBeforeComesFromTheRecordsThemselves(t *testing.T) {
	w := start(t, true)
	w.take(t, event("1", "A", "planned", 900))
	w.take(t, event("2", "A", "late", 900), event("3", "A", "late", 901)) // the third did not become late
	w.take(t, event("4", "B", "late", 10))
	eventually(t, "alert and reply", func() bool { return len(w.chat.titles()) == 2 })
	assert.Equal(t, []string{"A planned", "detail of A"}, w.chat.titles())
	assert.Equal(t, []string{"", "1001"}, w.chat.under, "the reply is in the thread of the alert")

	var list []store.Arrival
	require.NoError(t, w.Store.DB.Order("seq").Find(&list).Error)
	require.Len(t, list, 4)
	assert.Equal(t, arrival.Created, list[0].Type)
	assert.Equal(t, arrival.Updated, list[1].Type)
	eventually(t, "verdicts", func() bool {
		var v []store.Verdict
		return w.Store.DB.Order("arrival").Find(&v).Error == nil && len(v) == 2 && v[0].Verdict == "told" && v[1].DecidedBy == "keep"
	})
}

// What is looked up of other records holds what has come in before, however shortly before.
func TestLookUpsHoldWhatHasJustComeIn(t *testing.T) {
	w := start(t, true)
	w.only(t, `gather: [{name: late, find: {source: tours/collections, where: {field: status, is: late}, take: all, sort: id}}]
messages: {m: {title: "${join(map(late, #.id), ' ')}"}}
route: {otherwise: {tell: [{to: "square/#tours", message: m}]}}
`)
	for i, key := range []string{"A", "B", "C"} {
		w.take(t, event(fmt.Sprint("x", i), key, "late", 900))
		eventually(t, "told", func() bool { return len(w.chat.titles()) == i+1 })
	}
	gone := event("x3", "B", "", 0)
	gone.Type, gone.Record = arrival.Removed, nil
	w.take(t, gone)
	w.take(t, event("x4", "C", "collected", 900), event("x5", "AA", "late", 900))
	w.take(t, event("x6", "0", "late", 900))
	eventually(t, "told", func() bool { return len(w.chat.titles()) == 6 })
	all := w.chat.titles()
	assert.Equal(t, []string{"A", "A B", "A B C"}, all[:3])
	assert.Equal(t, "0 A AA", all[5])
}

// Whoever has just come in from the source that is the people book is in it.
func TestThePeopleBookHoldsWhoHasJustComeIn(t *testing.T) {
	w := start(t, true)
	require.NoError(t, w.Store.Choose(t.Context(), store.PeopleBook, store.BookSource{Source: "tours/collections", ID: "id", Name: "status"}))
	w.only(t, "messages: {m: {title: \"${or(person(record.id).name, 'nobody')}\"}}\nroute: {otherwise: {tell: [{to: \"square/#tours\", message: m}]}}\n")
	for i, name := range []string{"Ann", "Bert", "Chris"} {
		w.take(t, event(name, name[:1], name, 900))
		eventually(t, "told", func() bool { return len(w.chat.titles()) == i+1 })
	}
	assert.Equal(t, []string{"Ann", "Bert", "Chris"}, w.chat.titles())
}

func TestTheSameEventAgainChangesNothing(t *testing.T) {
	w := start(t, true)
	w.take(t, event("1", "A", "planned", 900))
	first := w.take(t, event("2", "A", "late", 900))
	again := w.take(t, event("2", "A", "late", 7), event("2", "A", "late", 8))
	assert.Equal(t, first[0].Seq, again[0].Seq)
	assert.True(t, again[0].Known && again[1].Known)
	var n int64
	require.NoError(t, w.Store.DB.Model(&store.Arrival{}).Count(&n).Error)
	assert.EqualValues(t, 2, n)
	var litres float64
	require.NoError(t, w.Store.DB.Raw("SELECT (data->>'litres')::float FROM records WHERE key = 'A'").Scan(&litres).Error)
	assert.InDelta(t, 900, litres, 0)
}

func TestManySendersAtOnceKeepTheirOrderByKey(t *testing.T) {
	w := start(t, true)
	var wg sync.WaitGroup
	const senders, each = 16, 30
	for s := range senders {
		wg.Go(func() {
			for i := range each {
				status := "planned"
				if i%2 == 1 {
					status = "late"
				}
				_, err := w.intake.Take(context.Background(), []hook.Event{event(fmt.Sprintf("%d-%d", s, i), fmt.Sprint("K", s), status, 900)})
				assert.NoError(t, err)
			}
		})
	}
	wg.Wait()
	const told = senders * each / 2
	eventually(t, "all told", func() bool { return len(w.chat.titles()) == 2*told })
	for key, n := range w.chat.keys {
		assert.Equal(t, 1, n, key)
	}
	for _, title := range w.chat.titles() {
		assert.True(t, strings.HasPrefix(title, "detail") || strings.HasSuffix(title, " planned"), title)
	}
}

func TestRefusalThatCannotHealStopsAfterOneTry(t *testing.T) {
	w := start(t, true)
	var open bool
	w.chat.answer = func(int, string) (int, string) {
		if open {
			return http.StatusCreated, ""
		}
		return http.StatusForbidden, ""
	}
	w.take(t, event("1", "A", "late", 900), event("2", "B", "late", 900))
	eventually(t, "paused", func() bool {
		d, err := w.Store.Destination(context.Background(), "square/#tours")
		return err == nil && d.Paused && strings.Contains(d.Reason, "never let in")
	})
	time.Sleep(300 * time.Millisecond)
	assert.Equal(t, 1, w.chat.calls)

	w.chat.mu.Lock()
	open = true
	w.chat.mu.Unlock()
	require.NoError(t, w.Store.DB.Exec("UPDATE destinations SET paused = false").Error)
	require.NoError(t, w.Store.DB.Exec("UPDATE posts SET state = 'waiting' WHERE state = 'refused'").Error)
	require.NoError(t, w.Outbox.Wake(context.Background(), "square/#tours"))
	eventually(t, "in order", func() bool { return len(w.chat.titles()) == 4 })
	assert.Equal(t, []string{"A", "detail of A", "B", "detail of B"}, w.chat.titles())
}

func TestRetryAfterAndFaultsAreWaitedOutInOrder(t *testing.T) {
	w := start(t, true)
	var early []time.Time
	w.chat.answer = func(n int, _ string) (int, string) {
		early = append(early, time.Now())
		switch n {
		case 1:
			return http.StatusTooManyRequests, "1"
		case 3:
			return http.StatusBadGateway, ""
		}
		return http.StatusCreated, ""
	}
	w.take(t, event("1", "A", "late", 900), event("2", "B", "late", 900))
	eventually(t, "all sent", func() bool { return len(w.chat.titles()) == 4 })
	assert.Equal(t, []string{"A", "detail of A", "B", "detail of B"}, w.chat.titles())
	assert.GreaterOrEqual(t, early[1].Sub(early[0]), time.Second, "Retry-After is obeyed")
}

// Whatever the other side answers can be written down, so that a post that was taken is not sent again and again.
func TestAnAnswerThatIsNoText(t *testing.T) {
	w := start(t, true)
	w.chat.body = "{\"id\":\"7\x00\xff\",\"link\":\"https://chat.example/\x00\"}\x00\xff"
	w.take(t, event("1", "A", "late", 900))
	eventually(t, "sent", func() bool {
		var n int64
		return w.Store.DB.Raw("SELECT count(*) FROM posts WHERE state = 'sent'").Scan(&n).Error == nil && n == 2
	})
	assert.Equal(t, []string{"A", "detail of A"}, w.chat.titles())
	w.chat.mu.Lock()
	defer w.chat.mu.Unlock()
	for key, n := range w.chat.keys {
		assert.Equal(t, 1, n, key)
	}
}

func TestDecidingABatchAgainChangesNothing(t *testing.T) {
	w := start(t, true)
	w.take(t, event("1", "A", "late", 900))
	eventually(t, "told", func() bool { return len(w.chat.titles()) == 2 })
	require.NoError(t, w.Store.DB.Exec("UPDATE marks SET seq = 0").Error)
	eventually(t, "decided again", func() bool {
		n, err := w.Store.Undecided(context.Background(), 0)
		return err == nil && n == 0
	})
	var posts int64
	require.NoError(t, w.Store.DB.Model(&store.Post{}).Count(&posts).Error)
	assert.EqualValues(t, 2, posts)
}

func TestWhatWaitsIsSentByTheNextProcess(t *testing.T) {
	w := start(t, false) // nobody works yet
	w.take(t, event("1", "A", "late", 900))
	time.Sleep(100 * time.Millisecond)
	assert.Empty(t, w.chat.titles())
	second, err := engine.New(w.Store, value.DefaultWorkspace(), slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	second.Env = testdb.Loopback(t, second.Workspace)
	require.NoError(t, second.Start(context.Background()))
	t.Cleanup(second.Stop)
	eventually(t, "sent", func() bool { return len(w.chat.titles()) == 2 })
}

// Among many sheets on one source, those that keep another value are passed over; a new version holds from the next
// arrival on.
func TestManySheetsOnOneSource(t *testing.T) {
	w := start(t, true)
	ctx := context.Background()
	text := func(i int, status string) string {
		return fmt.Sprintf("dorfbote: 1\nname: Many %d\nwatch: {source: tours/collections}\nkeep: {field: status, is: %q}\nmessages: {m: {title: \"%d got ${record.id}\"}}\nroute: {otherwise: {tell: [{to: \"square/#tours\", message: m}]}}\n", i, status, i)
	}
	on := func(id int64, sheet string) {
		_, err := w.Store.SwitchOn(ctx, id, store.SwitchedOn{Sheet: sheet, Source: "tours/collections", Since: -1}, func(*gorm.DB, *store.Workflow) error { return nil })
		require.NoError(t, err)
	}
	ids := make([]int64, 100)
	for i := range ids {
		sheet := text(i, fmt.Sprint("s", i))
		row := store.Workflow{Name: fmt.Sprint("Many ", i), Draft: sheet, CreatedAt: time.Now(), UpdatedAt: time.Now()}
		require.NoError(t, w.Store.DB.Create(&row).Error)
		ids[i] = row.ID
		on(row.ID, sheet)
	}
	titles := func() (out []string) {
		w.Store.DB.Raw("SELECT title FROM posts WHERE workflow >= ? ORDER BY id", ids[0]).Scan(&out)
		return out
	}
	w.take(t, event("m1", "C1", "s7", 1))
	eventually(t, "the one that keeps it tells", func() bool { return len(titles()) == 1 })
	on(ids[7], text(7, "other"))
	on(ids[9], text(9, "S7"))
	w.take(t, event("m2", "C2", "s7", 1), event("m3", "C3", "other", 1), event("m4", "C4", "none", 1))
	eventually(t, "the new versions tell", func() bool { return len(titles()) == 3 })
	assert.Equal(t, []string{"7 got C1", "9 got C2", "7 got C3"}, titles())
}
