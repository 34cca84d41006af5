package engine_test

import (
	"context"
	"database/sql"
	"fmt"
	"io"
	"net"
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
	"dorfbote/internal/core/decide"
	"dorfbote/internal/core/message"
	"dorfbote/internal/engine/outbox"
	"dorfbote/internal/store"
)

// hung listens like a server that takes calls and never says a word. It gives its address, and how many have called.
func hung(t *testing.T) (address string, callers func() int) {
	t.Helper()
	l, err := (&net.ListenConfig{}).Listen(t.Context(), "tcp", "127.0.0.1:0")
	require.NoError(t, err)
	var mu sync.Mutex
	var all []net.Conn
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			mu.Lock()
			all = append(all, c)
			mu.Unlock()
		}
	}()
	t.Cleanup(func() {
		_ = l.Close()
		mu.Lock()
		defer mu.Unlock()
		for _, c := range all {
			_ = c.Close()
		}
	})
	return l.Addr().String(), func() int { mu.Lock(); defer mu.Unlock(); return len(all) }
}

// Two hundred places that hang, of as many connections, hold up no other; each of their tries is written down when it begins.
func TestHungPlacesHoldUpNone(t *testing.T) {
	w := start(t, true)
	address, callers := hung(t)
	const many = 200
	var tells strings.Builder
	for n := range many {
		id := fmt.Sprintf("hung%d", n)
		kind, settings := "webhook", store.Texts{"places": "in http://" + address + "/in"}
		to := id + "/in"
		if n%2 == 0 { // its server greets nobody
			kind, settings, to = "mail", store.Texts{"smtp": address, "smtp_security": "not at all", "from": "desk@lindental.example"}, id+"/a@lindental.example"
		}
		require.NoError(t, w.Store.DB.Create(&store.Connection{ID: id, Kind: kind, Title: id, Settings: settings, CreatedAt: time.Now()}).Error)
		require.NoError(t, w.Store.DB.Create(&store.Destination{Name: to, Connection: id, Title: to}).Error)
		fmt.Fprintf(&tells, ", {to: %q, message: m}", to)
	}
	w.only(t, `messages: {m: {title: "${record.id}"}}
route: {rows: [{when: {field: status, is: late}, tell: [`+tells.String()[2:]+`]}], otherwise: {tell: [{to: "square/#tours", message: m}]}}
`)
	w.take(t, event("1", "A", "late", 900))
	eventually(t, "all of them hang", func() bool { return callers() >= many })
	w.take(t, event("2", "B", "fine", 900))
	eventually(t, "the healthy place has its post while they do", func() bool { return len(w.chat.titles()) == 1 })
	var tried, open int64
	require.NoError(t, w.Store.DB.Raw("SELECT count(*) FROM posts WHERE attempts = 1 AND state = 'waiting' AND destination LIKE 'hung%'").Scan(&tried).Error)
	require.NoError(t, w.Store.DB.Raw("SELECT count(*) FROM attempts a JOIN posts p ON p.id = a.post WHERE a.open AND p.destination LIKE 'hung%'").Scan(&open).Error)
	assert.Equal(t, []int64{many, many}, []int64{tried, open}, "a try is written when it begins")
}

// A connection whose places hang has a share of what is sent at once: the places of others go on, and so does one that has not been
// tried yet once another of the connection has given up.
func TestAConnectionHasItsShare(t *testing.T) {
	w := start(t, true)
	release := make(chan struct{})
	var mu sync.Mutex
	under, most := 0, 0
	side := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		_, _ = io.Copy(io.Discard, r.Body)
		mu.Lock()
		if under++; under > most {
			most = under
		}
		mu.Unlock()
		select {
		case <-release:
		case <-r.Context().Done():
		}
		mu.Lock()
		under--
		mu.Unlock()
	}))
	defer side.Close()
	const many = 80
	names := make([]string, many)
	for n := range names {
		names[n] = fmt.Sprintf("p%d", n)
	}
	require.NoError(t, w.Store.DB.Create(&store.Connection{ID: "side", Kind: "webhook", Title: "side", CreatedAt: time.Now(),
		Settings: store.Texts{"addresses": "one address with {place}", "address": side.URL + "/{place}", "names": strings.Join(names, ",")}}).Error)
	var tells strings.Builder
	for _, n := range names {
		require.NoError(t, w.Store.DB.Create(&store.Destination{Name: "side/" + n, Connection: "side", Title: n}).Error)
		fmt.Fprintf(&tells, ", {to: %q, message: m}", "side/"+n)
	}
	w.only(t, `messages: {m: {title: "${record.id}"}}
route: {rows: [{when: {field: status, is: late}, tell: [`+tells.String()[2:]+`]}], otherwise: {tell: [{to: "square/#tours", message: m}]}}
`)
	w.take(t, event("1", "A", "late", 900))
	eventually(t, "its share hangs", func() bool { mu.Lock(); defer mu.Unlock(); return under >= 32 })
	w.take(t, event("2", "B", "fine", 900))
	eventually(t, "another connection goes on", func() bool { return len(w.chat.titles()) == 1 })
	close(release)
	eventually(t, "all go", func() bool {
		var n int64
		return w.Store.DB.Raw("SELECT count(*) FROM posts WHERE state = 'sent' AND destination LIKE 'side/%'").Scan(&n).Error == nil && n == many
	})
	mu.Lock()
	defer mu.Unlock()
	assert.LessOrEqual(t, most, 32)
}

// What is a post's own fault is set aside alone, and what waits behind it goes; three of them in a row are not the posts' fault any
// more, and after a success it is counted anew.
func TestAPostIsSetAsideAlone(t *testing.T) {
	for _, status := range []int{400, 413, 414, 415, 422, 431} {
		t.Run(fmt.Sprint(status), func(t *testing.T) {
			w := start(t, true)
			w.only(t, "messages: {m: {title: \"${record.id}\"}}\nroute: {otherwise: {tell: [{to: \"square/#tours\", message: m}]}}\n")
			bad := func(title string) bool { return strings.HasPrefix(title, "bad") }
			w.chat.answer = func(_ int, title string) (int, string) {
				if bad(title) {
					return status, ""
				}
				return http.StatusCreated, ""
			}
			ctx := context.Background()
			take := func(ids ...string) {
				var all []hook.Event
				for _, id := range ids {
					all = append(all, event(id, id, "late", 900))
				}
				w.take(t, all...)
			}
			take("A", "bad 1", "bad 2", "B", "bad 3", "bad 4", "C")
			eventually(t, "the rest goes", func() bool { return len(w.chat.titles()) == 3 })
			d, err := w.Store.Destination(ctx, "square/#tours")
			require.NoError(t, err)
			assert.False(t, d.Paused)
			rows, err := w.Store.Destinations(ctx, []string{"chat"})
			require.NoError(t, err)
			assert.Equal(t, int64(4), rows[0].Refused)
			assert.Contains(t, rows[0].Words, fmt.Sprint(status))

			var first store.Post
			require.NoError(t, w.Store.DB.Where("title = 'bad 1'").First(&first).Error)
			for range 4 { // the same one again counts once
				_, _, err = w.Store.ActOn(ctx, store.SendAgain, []int64{first.ID}, store.PostFilter{}, 1)
				require.NoError(t, err)
				require.NoError(t, w.Outbox.Wake(ctx, "square/#tours"))
				eventually(t, "it is refused again", func() bool {
					s, err := w.Store.PostState(ctx, first.ID)
					return err == nil && s == store.Refused
				})
			}
			take("D")
			eventually(t, "it is not paused", func() bool { return len(w.chat.titles()) == 4 })

			take("bad 5", "bad 6", "bad 7", "E")
			eventually(t, "three in a row pause it", func() bool {
				d, err = w.Store.Destination(ctx, "square/#tours")
				return err == nil && d.Paused
			})
			assert.Contains(t, d.Reason, "3 different posts in a row were refused")
			bad = func(title string) bool { return title == "bad 1" || title == "bad 2" }
			_, err = w.Store.ResumeDestination(ctx, "square/#tours", nil)
			require.NoError(t, err)
			require.NoError(t, w.Outbox.Wake(ctx, "square/#tours"))
			eventually(t, "those that led to the pause go again, and what waited", func() bool { return len(w.chat.titles()) == 8 })
			assert.Equal(t, []string{"A", "B", "C", "D", "bad 5", "bad 6", "bad 7", "E"}, w.chat.titles())
			var aside int64
			require.NoError(t, w.Store.DB.Raw("SELECT count(*) FROM posts WHERE state = 'refused' AND aside").Scan(&aside).Error)
			assert.Equal(t, int64(4), aside, "what was set aside alone stays aside")
		})
	}
}

// A refused post is made anew of the version that is on, and goes; one that this version would not tell stays as it is, and says why.
func TestAPostIsMadeAnew(t *testing.T) {
	w := start(t, true)
	ctx := context.Background()
	sheet := func(title string) string {
		return "messages: {m: {title: \"" + title + "\"}}\nroute: {rows: [{when: {field: litres, above: 500}, tell: [{to: \"square/#tours\", message: m}]}]}\n"
	}
	w.only(t, sheet("too long ${record.id}"))
	w.chat.answer = func(_ int, title string) (int, string) {
		if strings.HasPrefix(title, "too long") {
			return http.StatusRequestEntityTooLarge, ""
		}
		return http.StatusCreated, ""
	}
	w.take(t, event("1", "A", "late", 900))
	refused := func() bool {
		var state string
		return w.Store.DB.Raw("SELECT state FROM posts ORDER BY id DESC LIMIT 1").Scan(&state).Error == nil && state == store.Refused
	}
	eventually(t, "it is refused", refused)
	p := w.postOf(t, "true")
	w.only(t, sheet("short ${record.id}"))
	got, err := w.Decider.Anew(ctx, p.ID)
	require.NoError(t, err)
	assert.Equal(t, "short A", got.Title)
	require.NoError(t, w.Outbox.Wake(ctx, p.Destination))
	eventually(t, "it goes", func() bool { return len(w.chat.titles()) == 1 })
	_, err = w.Decider.Anew(ctx, p.ID)
	require.ErrorIs(t, err, store.ErrState, "what was sent is not sent again")

	w.only(t, sheet("too long ${record.id}"))
	w.take(t, event("2", "B", "late", 900))
	eventually(t, "the next is there", func() bool {
		var n int64
		return w.Store.DB.Raw("SELECT count(*) FROM posts").Scan(&n).Error == nil && n == 2
	})
	eventually(t, "and refused", refused)
	w.only(t, strings.ReplaceAll(sheet("short"), "500", "5000"))
	_, err = w.Decider.Anew(ctx, w.postOf(t, "true").ID)
	require.ErrorContains(t, err, "doesn't tell square/#tours of this arrival")
}

// A try that its process did not live to settle counts as one that failed: it is shown, and the place is left alone for a while.
func TestATryThatIsCutOffCounts(t *testing.T) {
	w := start(t, false)
	ctx := context.Background()
	require.NoError(t, w.Store.Tx(ctx, func(_ *gorm.DB, tx *sql.Tx) error {
		return w.Outbox.Put(ctx, tx, outbox.Rows(1, 1, w.Now(), []decide.Post{{To: "square/#tours", Message: "m", Under: -1, Doc: &message.Document{Title: "A"}}}), true)
	}))
	p := w.postOf(t, "title = 'A'")
	_, err := w.Async.BeganTry(ctx, p.ID, w.Now())
	require.NoError(t, err)
	require.NoError(t, w.Start(context.Background()))
	require.NoError(t, w.Outbox.Wake(ctx, p.Destination))
	eventually(t, "it goes", func() bool { s, err := w.Store.PostState(ctx, p.ID); return err == nil && s == store.Sent })
	tried, err := w.Store.AttemptsOfPost(ctx, p.ID, 10)
	require.NoError(t, err)
	require.Len(t, tried, 2)
	assert.Equal(t, "it was cut off before an answer came", tried[1].Answer)
	assert.GreaterOrEqual(t, tried[0].At.Sub(tried[1].At), 200*time.Millisecond, "it backs off")
	assert.False(t, tried[0].Open || tried[1].Open)
}

// What Dorfbote tells a hook of its own comes back as an arrival that bears its mark, and is stopped after five rounds, with a word of
// where it goes round.
func TestACircleThroughAHookIsStopped(t *testing.T) {
	w := start(t, true)
	ctx := context.Background()
	n := 0
	var mu sync.Mutex
	door := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		mu.Lock()
		n++
		id := fmt.Sprintf("back-%d", n)
		mu.Unlock()
		e := event(id, id, "late", 900)
		e.Through = r.Header.Get("Dorfbote-Through")
		_, err := w.intake.Take(ctx, []hook.Event{e})
		assert.NoError(t, err)
		rw.WriteHeader(http.StatusAccepted)
	}))
	defer door.Close()
	require.NoError(t, w.Store.DB.Create(&store.Connection{ID: "own", Kind: "webhook", Title: "own", Settings: store.Texts{"places": "in " + door.URL}, CreatedAt: time.Now()}).Error)
	require.NoError(t, w.Store.DB.Create(&store.Destination{Name: "own/in", Connection: "own", Title: "in"}).Error)
	w.only(t, "messages: {m: {title: \"${record.id}\"}}\nroute: {otherwise: {tell: [{to: \"own/in\", message: m}]}}\n")
	w.take(t, event("1", "A", "late", 900))
	var told store.Notice
	eventually(t, "it is stopped and told", func() bool {
		return w.Store.DB.Where("what = 'goes round in a circle'").First(&told).Error == nil
	})
	assert.Contains(t, told.Words, "Late → Late → Late → Late → Late → tours/collections. It was stopped here.")
	var posts int64
	require.NoError(t, w.Store.DB.Raw("SELECT count(*) FROM posts").Scan(&posts).Error)
	assert.Equal(t, int64(5), posts)
	w.take(t, event("2", "B", "late", 900))
	eventually(t, "what comes from elsewhere is told", func() bool {
		return w.Store.DB.Raw("SELECT count(*) FROM posts WHERE title = 'B'").Scan(&posts).Error == nil && posts == 1
	})
}

// An address that is longer than a key of the database may be is told, and fails nothing beside it.
func TestALongListOfAddresses(t *testing.T) {
	w := start(t, true)
	var list []string
	for i := range 300 {
		list = append(list, fmt.Sprintf("somebody-%d@lindental.example", i))
	}
	all := strings.Join(list, ", ")
	require.NoError(t, w.Store.DB.Create(&store.Connection{ID: "mail", Kind: "mail", Title: "mail", Settings: store.Texts{"smtp": "127.0.0.1:1", "smtp_security": "not at all", "from": "desk@lindental.example"}, CreatedAt: time.Now()}).Error)
	w.only(t, "messages: {m: {title: \"${record.id}\"}}\nroute: {otherwise: {tell: [{to: \"mail/"+all+"\", message: m}, {to: \"square/#tours\", message: m}]}}\npace: {limit: {posts: 20, per: 1h}, repeat: {key: \"${repeat(record.id, 3000)}\", within: 1h, then: drop}}\n")
	w.take(t, event("1", "A", "late", 900))
	eventually(t, "the other hears", func() bool { return len(w.chat.titles()) == 1 })
	var d store.Destination
	require.NoError(t, w.Store.DB.Where("connection = 'mail'").First(&d).Error)
	assert.Less(t, len(d.Name), 300)
	assert.Equal(t, all, d.To(), "the whole of it is kept")
	eventually(t, "it is tried", func() bool {
		var n int64
		return w.Store.DB.Raw("SELECT attempts FROM posts WHERE destination = ?", d.Name).Scan(&n).Error == nil && n > 0
	})
}
