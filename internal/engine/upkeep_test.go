package engine_test

import (
	"context"
	"errors"
	"net/http"
	"net/http/httptest"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/engine/upkeep"
	"dorfbote/internal/store"
)

// A task that fails keeps no other from being done, and every failure is named.
func TestOneTaskThatFails(t *testing.T) {
	var did []string
	task := func(name string, err error) upkeep.Task {
		return upkeep.Task{Name: name, Do: func(context.Context) error { did = append(did, name); return err }}
	}
	u := &upkeep.Upkeep{Tasks: []upkeep.Task{task("waking", nil), task("tidying", errors.New("the disk is full")), task("looking", nil), task("letting go", errors.New("no"))}}
	err := u.Sweep(context.Background())
	assert.Equal(t, []string{"waking", "tidying", "looking", "letting go"}, did)
	require.EqualError(t, err, "tidying: the disk is full\nletting go: no")
	ctx, stop := context.WithCancel(context.Background())
	stop()
	did = nil
	require.ErrorIs(t, u.Sweep(ctx), context.Canceled)
	assert.Empty(t, did, "who stops does nothing more")
}

// What is kept for a while goes when that is over, and nothing before.
func TestTidying(t *testing.T) {
	w := start(t, false)
	db := w.Store.DB
	for _, q := range []string{
		"INSERT INTO hours (what, name, hour, n) VALUES ('arrivals', 'a/b', now() - interval '400 days', 1), ('arrivals', 'a/b', now() - interval '7 days', 1)",
		"INSERT INTO guesses (name, tries, since) VALUES ('old', 1, now() - interval '2 hours'), ('new', 1, now() - interval '2 minutes')",
		"INSERT INTO hook_requests (connection, at, status) SELECT 'tours', now(), 202 FROM generate_series(1, 130)",
	} {
		require.NoError(t, db.Exec(q).Error, q)
	}
	require.NoError(t, w.Upkeep.Tidy(context.Background()))
	count := func(table string) (n int64) {
		require.NoError(t, db.Raw("SELECT count(*) FROM "+table).Scan(&n).Error)
		return n
	}
	assert.EqualValues(t, 1, count("hours"))
	assert.EqualValues(t, 1, count("guesses"))
	assert.EqualValues(t, 100, count("hook_requests"), "the last hundred of each")
	require.NoError(t, w.Upkeep.Tidy(context.Background()))
	assert.EqualValues(t, 100, count("hook_requests"))
}

// Nothing goes where it is to be kept for ever. Where it is not, a process looks at once and then no more often than it
// should, however often it sweeps, and makes room for arrivals every time.
func TestLettingGo(t *testing.T) {
	w := start(t, false)
	ctx, db := context.Background(), w.Store.DB
	fill := func() {
		require.NoError(t, db.Exec(`INSERT INTO posts (workflow, arrival, destination, message, body, key, state)
			SELECT 1, n, 'square/#tours', 'm', '{}', 'k' || n, CASE WHEN n = 3 THEN 'refused' ELSE 'sent' END FROM generate_series(1, 9) n ON CONFLICT DO NOTHING`).Error)
	}
	left := func() (n int64) {
		require.NoError(t, w.Upkeep.Retain(ctx))
		require.NoError(t, db.Raw("SELECT count(*) FROM posts").Scan(&n).Error)
		return n
	}
	require.NoError(t, db.Exec(`INSERT INTO arrivals (seq, source, id, type, time, subject, data, received_at)
		SELECT n, 'tours/collections', 'o' || n, 'dorfbote.record.updated', now(), 'C', '{"record":{}}', now() FROM generate_series(1, 9) n`).Error)
	require.NoError(t, db.Exec("SELECT setval('arrivals_numbers', 9)").Error)
	require.NoError(t, db.Exec("UPDATE marks SET seq = 9").Error)
	fill()
	assert.EqualValues(t, 9, left(), "for ever")
	w.Upkeep.Keep, w.Upkeep.Every = store.Keep{Arrivals: 2}, time.Hour
	assert.EqualValues(t, 3, left(), "of the last two, and the one that was refused, which somebody may still have to see to")
	fill()
	require.NoError(t, db.Exec("SELECT setval('arrivals_numbers', ?)", 7*store.PartWidth).Error)
	assert.EqualValues(t, 9, left(), "the next look is in an hour")
	parts, err := w.Store.Parts(ctx)
	require.NoError(t, err)
	assert.Contains(t, parts, int64(8), "and yet there is room")
	w.Upkeep.Every = time.Nanosecond
	assert.EqualValues(t, 3, left())
}

// Of a channel that would refuse a post, whoever looks after the workflows that tell it hears before one is refused, and
// hears no more once it is open.
func TestAChannelThatWouldRefuse(t *testing.T) {
	w := start(t, false)
	var open atomic.Bool
	chat := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, _ *http.Request) {
		if open.Load() {
			_, _ = rw.Write([]byte(`[{"name":"#tours","private":true,"let_in":true},{"name":"#new","purpose":"news"}]`))
			return
		}
		_, _ = rw.Write([]byte(`[{"name":"#tours","private":true},{"name":"#board","private":true}]`))
	}))
	defer chat.Close()
	ctx, db := context.Background(), w.Store.DB
	require.NoError(t, db.Model(&store.Connection{ID: "square"}).Update("settings", store.Texts{"address": chat.URL}).Error)
	asked := func() {
		t.Helper()
		require.NoError(t, db.Exec("UPDATE destinations SET asked_at = now() - interval '3 days'").Error)
		require.NoError(t, w.Sources.AskChannelsDaily(ctx))
	}
	notices := func() (words []string) {
		list, err := w.Store.Notices(ctx, 0, 10)
		require.NoError(t, err)
		for _, n := range list {
			words = append(words, n.Words)
		}
		return words
	}
	asked()
	require.Len(t, notices(), 1, "only of what a workflow that is on tells")
	assert.Contains(t, notices()[0], "#tours is private, and Dorfbote has not been let in")
	assert.Contains(t, notices()[0], "It is told by Late.")
	asked()
	assert.Len(t, notices(), 1, "it is told of once")
	open.Store(true)
	asked()
	assert.Empty(t, notices())
	var names []string
	require.NoError(t, db.Raw("SELECT name FROM destinations ORDER BY name").Scan(&names).Error)
	assert.Contains(t, names, "square/#new", "new channels are known")

	// A chat that does not answer is asked again sooner, and changes nothing.
	chat.Close()
	asked()
	var at time.Time
	require.NoError(t, db.Raw("SELECT asked_at FROM destinations WHERE name = 'square/#tours'").Scan(&at).Error)
	assert.True(t, at.Before(time.Now().Add(-10*time.Hour)))
	assert.NoError(t, w.Sources.AskChannelsDaily(ctx))
}
