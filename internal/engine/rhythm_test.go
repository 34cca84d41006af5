package engine_test

import (
	"context"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/engine/poll"
	"dorfbote/internal/practice"
	"dorfbote/internal/store"
)

func (w *world) poll(t *testing.T, source string) store.Poll {
	t.Helper()
	_, err := w.Polls.Poll(context.Background(), source)
	require.NoError(t, err)
	var p store.Poll
	require.NoError(t, w.Store.DB.First(&p, "source = ?", source).Error)
	return p
}

// A source that a workflow watches is asked at least so often as its kind promises, unless somebody has said otherwise.
func TestWhatIsWatchedIsAskedOften(t *testing.T) {
	l := &listing{}
	server := httptest.NewServer(l)
	defer server.Close()
	w := start(t, false)
	l.set(record("a", 1))
	w.polled(t, "rest", "shop/orders", "id", map[string]string{"address": server.URL}, nil, poll.Begin{})
	db := w.Store.DB
	quiet := func() {
		require.NoError(t, db.Exec("UPDATE polls SET quickest = 10, slowest = 900, every = 800").Error)
	}
	quiet()
	assert.Equal(t, 900, w.poll(t, "shop/orders").Every, "nobody watches it")
	w.turnOn(t, "dorfbote: 1\nname: W\nwatch: {source: shop/orders}\nmessages: {m: {title: x}}\nroute: {otherwise: {tell: [{to: \"square/#tours\", message: m}]}}\n", -1)
	quiet()
	p := w.poll(t, "shop/orders")
	assert.Equal(t, 30, p.Every)
	assert.LessOrEqual(t, time.Until(p.DueAt), 30*time.Second)
	require.NoError(t, db.Exec("UPDATE polls SET owned = true").Error)
	quiet()
	assert.Equal(t, 900, w.poll(t, "shop/orders").Every, "somebody has said how often")
}

// Who asks for a call while one is under way is given another: what is new may have come too late for the first.
func TestACallAskedForMeanwhileIsMade(t *testing.T) {
	var w *world
	server := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, _ *http.Request) {
		assert.NoError(t, w.Polls.CheckNow(context.Background(), "shop/orders"))
		_ = json.NewEncoder(rw).Encode([]map[string]any{record("a", 1)})
	}))
	defer server.Close()
	w = start(t, false)
	w.polled(t, "rest", "shop/orders", "id", map[string]string{"address": server.URL}, nil, poll.Begin{})
	p := w.poll(t, "shop/orders")
	assert.Negative(t, time.Until(p.DueAt))
}

// What is said in a room that is watched comes in because it is listened to, however seldom it is asked; and what a
// message holds is known before the first is said.
func TestTheSquareIsListenedTo(t *testing.T) {
	w := start(t, true)
	ctx := t.Context()
	stand, err := practice.New(ctx, w.Store.DB, practice.DefaultOptions())
	require.NoError(t, err)
	server := httptest.NewServer(stand.Handler())
	defer server.Listener.Close() // it keeps whoever waits for news waiting
	require.NoError(t, w.Store.DB.Exec("INSERT INTO practice.tokens (token, sender) VALUES ('t-1', 'Dorfbote')").Error)
	require.NoError(t, w.Store.DB.Exec("INSERT INTO practice.channels (name) VALUES ('#tours')").Error)
	sealed, err := w.Box.Seal(map[string]string{"token": "t-1"}, "talk")
	require.NoError(t, err)
	w.polled(t, "room", "talk/tours", "id", map[string]string{"chat": "the square", "address": server.URL + "/square"}, map[string]string{"room": "#tours"}, poll.Begin{})
	require.NoError(t, w.Store.DB.Exec("UPDATE connections SET sealed = ? WHERE id = 'talk'", sealed).Error)
	require.NoError(t, w.Store.DB.Exec("UPDATE polls SET owned = true, quickest = 3600, slowest = 3600, every = 3600").Error)

	schema, err := w.Sources.Schema(ctx, "talk/tours")
	require.NoError(t, err)
	assert.Subset(t, schema.Names(), []string{"author", "text", "command", "rest", "mentions", "thread", "at"})

	eventually(t, "asked for the first time", func() bool {
		var p store.Poll
		return w.Store.DB.First(&p, "source = 'talk/tours' AND begun").Error == nil
	})
	for _, text := range []string{"one", "two"} {
		res, err := http.Post(server.URL+"/square/channels/tours/say", "application/json", strings.NewReader(`{"text":"`+text+`","author":"Jonas"}`))
		require.NoError(t, err)
		require.NoError(t, res.Body.Close())
		eventually(t, text+" has come in", func() bool {
			rows := w.told(t, "talk/tours")
			return len(rows) == map[string]int{"one": 1, "two": 2}[text]
		})
	}
}

// What is only remembered at the first reading has fields all the same, and they are known at once.
func TestFieldsAreKnownOnceASourceHasBegun(t *testing.T) {
	l := &listing{}
	server := httptest.NewServer(l)
	defer server.Close()
	w := start(t, false)
	l.set(record("a", 1))
	w.polled(t, "rest", "shop/orders", "id", map[string]string{"address": server.URL}, nil, poll.Begin{How: "now"})
	schema, err := w.Sources.Schema(context.Background(), "shop/orders")
	require.NoError(t, err)
	assert.Empty(t, schema.Names(), "nothing has been read yet")
	w.poll(t, "shop/orders")
	schema, err = w.Sources.Schema(context.Background(), "shop/orders")
	require.NoError(t, err)
	assert.ElementsMatch(t, []string{"id", "n"}, schema.Names())
}
