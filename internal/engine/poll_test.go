package engine_test

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	_ "github.com/jackc/pgx/v5/stdlib"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/engine/poll"
	"dorfbote/internal/store"
)

// listing is an API whose records can be changed.
type listing struct {
	mu      sync.Mutex
	records []map[string]any
	status  int
}

func (l *listing) set(records ...map[string]any) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.records = records
}

func (l *listing) ServeHTTP(w http.ResponseWriter, _ *http.Request) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.status != 0 {
		w.WriteHeader(l.status)
		return
	}
	if l.records == nil {
		l.records = []map[string]any{}
	}
	_ = json.NewEncoder(w).Encode(l.records)
}

// polled adds a source that is asked, without the engine's own pollers.
func (w *world) polled(t *testing.T, kind, source, key string, settings, of map[string]string, begin poll.Begin) {
	t.Helper()
	id, _, _ := strings.Cut(source, "/")
	db := w.Store.DB
	require.NoError(t, db.Create(&store.Connection{ID: id, Kind: kind, Title: id, KeyField: "id", Settings: settings, CreatedAt: time.Now()}).Error)
	require.NoError(t, db.Create(&store.Source{Name: source, Connection: id, Title: source, KeyField: key, Settings: of}).Error)
	require.NoError(t, db.Create(&store.Poll{Source: source, Connection: id, Start: begin.Text(), Every: 1, Quickest: 1, Slowest: 60, DueAt: time.Now().Add(time.Hour)}).Error)
}

// told lists a source's arrivals as "type key".
func (w *world) told(t *testing.T, source string) []string {
	t.Helper()
	var rows []store.Arrival
	require.NoError(t, w.Store.DB.Order("seq").Find(&rows, "source = ?", source).Error)
	var out []string
	for i := range rows {
		a, err := rows[i].Core()
		require.NoError(t, err)
		was := ""
		if a.Before != nil && a.Kind() == "updated" {
			was = fmt.Sprint(" was ", a.Before["n"])
		}
		out = append(out, a.Kind()+" "+a.Subject+was)
	}
	return out
}

func record(id string, n any) map[string]any { return map[string]any{"id": id, "n": n} }

func TestASnapshotTellsWhatHasChanged(t *testing.T) {
	l := &listing{}
	server := httptest.NewServer(l)
	defer server.Close()
	w := start(t, false)
	ctx := context.Background()
	ask := func() error { _, err := w.Polls.Poll(ctx, "shop/orders"); return err }
	l.set(record("a", 1), record("b", 1), record("c", 1), record("d", 1), record("e", 1))
	w.polled(t, "rest", "shop/orders", "id", map[string]string{"address": server.URL}, nil, poll.Begin{How: "now"})
	require.NoError(t, ask())
	assert.Empty(t, w.told(t, "shop/orders"), "old records make no arrivals")
	require.NoError(t, ask())
	assert.Empty(t, w.told(t, "shop/orders"))

	l.set(record("a", 2), record("b", 1), record("d", 1), record("e", 1), record("f", 1), record("f", 9))
	require.NoError(t, ask())
	want := []string{"updated a was 1", "created f", "removed c"}
	assert.Equal(t, want, w.told(t, "shop/orders"))
	var notices int64
	require.NoError(t, w.Store.DB.Model(&store.Notice{}).Where("what = 'has keys that stand twice' AND done_at IS NULL").Count(&notices).Error)
	assert.EqualValues(t, 1, notices)
	require.NoError(t, ask())
	assert.Equal(t, want, w.told(t, "shop/orders"), "a key that stands twice does not change to and fro")

	l.set()
	require.ErrorContains(t, ask(), "listed nothing at all", "everything gone at once is doubted")
	assert.Equal(t, want, w.told(t, "shop/orders"))
	require.NoError(t, ask())
	assert.Len(t, w.told(t, "shop/orders"), len(want)+5, "and believed the second time")
	l.set(record("a", 3))
	require.NoError(t, ask())
	assert.Equal(t, "created a", w.told(t, "shop/orders")[len(want)+5])
}

// A record that slips between pages while they are read is not told as gone and come back.
func TestWhatSlipsBetweenPagesIsNotGone(t *testing.T) {
	pages := [][]map[string]any{{record("a", 1), record("b", 1)}, {record("c", 1)}}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		n := 0
		if r.URL.Query().Get("page") == "2" {
			n = 1
		} else {
			w.Header().Set("Link", `<?page=2>; rel="next"`)
		}
		_ = json.NewEncoder(w).Encode(pages[n])
	}))
	defer server.Close()
	w := start(t, false)
	w.polled(t, "rest", "shop/orders", "id", map[string]string{"address": server.URL}, nil, poll.Begin{How: "now"})
	ask := func() {
		_, err := w.Polls.Poll(context.Background(), "shop/orders")
		require.NoError(t, err)
	}
	ask()
	pages[1] = []map[string]any{} // c slipped to the first page after that was read
	ask()
	pages[1] = []map[string]any{record("c", 1)}
	ask()
	assert.Empty(t, w.told(t, "shop/orders"))
	pages[1] = []map[string]any{}
	ask()
	ask()
	assert.Equal(t, []string{"removed c"}, w.told(t, "shop/orders"))
}

func TestAFailingSourceIsToldOnceAndSkipsNothing(t *testing.T) {
	l := &listing{}
	server := httptest.NewServer(l)
	defer server.Close()
	w := start(t, false)
	ctx := context.Background()
	l.set(record("a", 1))
	w.polled(t, "rest", "shop/orders", "id", map[string]string{"address": server.URL}, nil, poll.Begin{How: "everything"})
	_, err := w.Polls.Poll(ctx, "shop/orders")
	require.NoError(t, err)
	l.status = 500
	var waits []time.Duration
	for range 4 {
		_, err = w.Polls.Poll(ctx, "shop/orders")
		require.Error(t, err)
		var p store.Poll
		require.NoError(t, w.Store.DB.First(&p, "source = 'shop/orders'").Error)
		waits = append(waits, time.Until(p.DueAt))
	}
	assert.Greater(t, waits[3], 2*waits[1], "it backs off")
	count := func() (open, all int64) {
		require.NoError(t, w.Store.DB.Model(&store.Notice{}).Where("about = 'shop/orders'").Count(&all).Error)
		require.NoError(t, w.Store.DB.Model(&store.Notice{}).Where("about = 'shop/orders' AND done_at IS NULL").Count(&open).Error)
		return
	}
	open, all := count()
	assert.Equal(t, []int64{1, 1}, []int64{open, all})
	l.set(record("a", 1), record("b", 1))
	l.status = 0
	_, err = w.Polls.Poll(ctx, "shop/orders")
	require.NoError(t, err)
	assert.Equal(t, []string{"created a", "created b"}, w.told(t, "shop/orders"))
	open, _ = count()
	assert.Zero(t, open, "what is mended is taken back")
	var c store.Connection
	require.NoError(t, w.Store.DB.First(&c, "id = 'shop'").Error)
	assert.Nil(t, c.FailingSince)
}

func TestWhereToBegin(t *testing.T) {
	l := &listing{}
	server := httptest.NewServer(l)
	defer server.Close()
	w := start(t, false)
	l.set(record("a", 1), record("b", 1), record("c", 1))
	for i, c := range []struct {
		begin poll.Begin
		want  int
	}{{poll.Begin{How: "now"}, 0}, {poll.Begin{How: "everything"}, 3}, {poll.Begin{How: "from", Key: "b"}, 2}, {poll.Begin{}, 0}} {
		source := fmt.Sprintf("shop%d/orders", i)
		w.polled(t, "rest", source, "id", map[string]string{"address": server.URL}, nil, c.begin)
		_, err := w.Polls.Poll(context.Background(), source)
		require.NoError(t, err)
		assert.Len(t, w.told(t, source), c.want, c.begin.How)
	}
}

// The engine's own pollers ask what is due, in any number of processes, and one that dies is made up for.
func TestPollersShareTheWork(t *testing.T) {
	l := &listing{}
	server := httptest.NewServer(l)
	defer server.Close()
	w := start(t, true)
	l.set(record("a", 1))
	w.polled(t, "rest", "shop/orders", "id", map[string]string{"address": server.URL}, nil, poll.Begin{How: "everything"})
	require.NoError(t, w.Store.DB.Exec("UPDATE polls SET lease_until = now() + interval '1 second'").Error) // of a process that died
	require.NoError(t, w.Polls.CheckNow(context.Background(), "shop/orders"))
	eventually(t, "asked", func() bool { return len(w.told(t, "shop/orders")) == 1 })
	l.set(record("a", 1), record("b", 1))
	eventually(t, "asked again by itself", func() bool { return len(w.told(t, "shop/orders")) == 2 })
}

// Sources that hang, of as many connections, hold up no other, and neither do many of one connection.
func TestHungSourcesHoldUpNone(t *testing.T) {
	l := &listing{}
	server := httptest.NewServer(l)
	defer server.Close()
	w := start(t, true)
	address, callers := hung(t)
	const many, share = 60, 4
	for n := range many {
		id := fmt.Sprintf("hung%d", n)
		w.polled(t, "rest", id+"/things", "id", map[string]string{"address": "http://" + address}, nil, poll.Begin{How: "everything"})
	}
	for n := range 40 {
		name := fmt.Sprintf("hung0/more%d", n)
		require.NoError(t, w.Store.DB.Create(&store.Source{Name: name, Connection: "hung0", Title: name, KeyField: "id"}).Error)
		require.NoError(t, w.Store.DB.Create(&store.Poll{Source: name, Connection: "hung0", Start: "everything", Every: 1, Quickest: 1, Slowest: 60, DueAt: time.Now().Add(time.Hour)}).Error)
	}
	require.NoError(t, w.Store.DB.Exec("UPDATE polls SET due_at = now() - interval '1 hour'").Error)
	l.set(record("a", 1))
	w.polled(t, "rest", "shop/orders", "id", map[string]string{"address": server.URL}, nil, poll.Begin{How: "everything"})
	eventually(t, "some hang", func() bool { return callers() >= 6 })
	require.NoError(t, w.Polls.CheckNow(context.Background(), "shop/orders"))
	require.Eventually(t, func() bool { return callers() >= many+share-1 }, 60*time.Second, 20*time.Millisecond, "all of them hang")
	require.NoError(t, w.Polls.CheckNow(context.Background(), "shop/orders"))
	eventually(t, "the healthy one is asked while they do", func() bool { return len(w.told(t, "shop/orders")) == 1 })
	l.set(record("a", 1), record("b", 1))
	eventually(t, "and again", func() bool { return len(w.told(t, "shop/orders")) == 2 })
}

// What appears because more of a source is read, or because its records are called otherwise, is nothing new, and what was called as before is
// not gone; what comes after that is told. Where only a part can be read, Today says so until all is.
func TestWhatIsReadAnew(t *testing.T) {
	w := start(t, false)
	ctx := context.Background()
	asked, status := "", map[string]any{}
	var mu sync.Mutex
	records := []map[string]any{record("a", 1), record("b", 2)}
	server := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		asked = r.URL.Path
		list := records
		if strings.HasSuffix(r.URL.Path, "/few") {
			list = records[:1]
		}
		out := map[string]any{"data": list}
		maps.Copy(out, status)
		_ = json.NewEncoder(rw).Encode(out)
	}))
	defer server.Close()
	w.polled(t, "rest", "shop/rows", "id", map[string]string{"address": server.URL}, map[string]string{"path": "/few"}, poll.Begin{How: "everything"})
	ask := func() {
		t.Helper()
		_, err := w.Polls.Poll(ctx, "shop/rows")
		require.NoError(t, err)
	}
	change := func(begin poll.Begin, edit func(*store.Source)) {
		t.Helper()
		require.NoError(t, w.Store.ChangeSource(ctx, "shop/rows", begin.Text(), func(s *store.Source, _ *store.Poll, _ *store.Connection) (bool, error) {
			edit(s)
			return true, nil
		}))
		ask()
	}
	notices := func() (n int64) {
		require.NoError(t, w.Store.DB.Raw("SELECT count(*) FROM notices WHERE what = 'is read only in part' AND about = 'shop/rows' AND done_at IS NULL").Scan(&n).Error)
		return n
	}
	ask()
	assert.Equal(t, []string{"created a"}, w.told(t, "shop/rows"))
	change(poll.Begin{}, func(s *store.Source) { s.Settings["path"] = "/all" })
	assert.Equal(t, "/all", asked)
	assert.Equal(t, []string{"created a"}, w.told(t, "shop/rows"), "more is read")
	mu.Lock()
	records = append(records, record("c", 3))
	mu.Unlock()
	ask()
	assert.Equal(t, []string{"created a", "created c"}, w.told(t, "shop/rows"))
	change(poll.Begin{}, func(s *store.Source) { s.KeyField = "n" })
	ask()
	ask()
	assert.Equal(t, []string{"created a", "created c"}, w.told(t, "shop/rows"), "they are called otherwise")
	change(poll.Begin{How: "everything"}, func(s *store.Source) { s.KeyField = "id" })
	assert.Equal(t, []string{"created a", "created c", "created a", "created b", "created c"}, w.told(t, "shop/rows"), "as it was asked for")

	assert.EqualValues(t, 0, notices())
	mu.Lock()
	status["total"] = 130
	mu.Unlock()
	ask()
	assert.EqualValues(t, 1, notices())
	mu.Lock()
	status["total"], records = 2, records[:2]
	mu.Unlock()
	ask()
	assert.EqualValues(t, 0, notices())
}
