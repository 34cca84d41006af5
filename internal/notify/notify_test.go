package notify_test

import (
	"database/sql"
	"errors"
	"log/slog"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"dorfbote/internal/notify"
	"dorfbote/internal/testdb"
)

// next gives what is heard next, of a topic.
func next(t *testing.T, ch <-chan notify.Message, topic string) notify.Message {
	t.Helper()
	end := time.After(10 * time.Second)
	for {
		select {
		case m := <-ch:
			if m.Topic == topic {
				return m
			}
		case <-end:
			require.FailNow(t, "nothing was heard of "+topic)
		}
	}
}

// What a transaction tells is heard when it is committed, and not where it is undone; after a break whoever listens hears
// that messages may have been missed.
func TestProcessesTellEachOther(t *testing.T) {
	ctx := t.Context()
	st := testdb.New(t)
	heard := make(chan notify.Message, 100)
	go notify.Listen(ctx, st.Pool, slog.New(slog.DiscardHandler), func(m notify.Message) { heard <- m })
	next(t, heard, notify.All)
	no := errors.New("no")
	require.ErrorIs(t, st.Tx(ctx, func(_ *gorm.DB, tx *sql.Tx) error {
		require.NoError(t, notify.In(ctx, tx, notify.Message{Topic: notify.Posts, ID: 1}))
		return no
	}), no)
	require.NoError(t, st.Tx(ctx, func(_ *gorm.DB, tx *sql.Tx) error {
		return notify.In(ctx, tx, notify.Message{Topic: notify.Posts, ID: 2, Source: "a/ü", Seq: 1 << 60})
	}))
	assert.Equal(t, notify.Message{Topic: notify.Posts, ID: 2, Source: "a/ü", Seq: 1 << 60}, next(t, heard, notify.Posts))
	require.NoError(t, st.DB.Exec("SELECT pg_notify('dorfbote', 'no JSON')").Error)
	require.NoError(t, st.DB.Exec("SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE datname = current_database() AND query LIKE 'LISTEN%'").Error)
	next(t, heard, notify.All)
	require.NoError(t, st.DB.Exec("SELECT pg_notify(?, ?)", notify.Channel, notify.Message{Topic: notify.Today}.Text()).Error)
	next(t, heard, notify.Today)
}

// A hub hands on to all that listen; one that is slow misses messages and holds nobody up, and one that has gone hears none.
func TestHub(t *testing.T) {
	ctx := t.Context()
	st := testdb.New(t)
	hub := notify.NewHub(ctx, st.Pool, slog.New(slog.DiscardHandler))
	slow, endSlow := hub.Subscribe()
	defer endSlow()
	gone, end := hub.Subscribe()
	end()
	quick, endQuick := hub.Subscribe()
	defer endQuick()
	tell := func(topic string, id int64) {
		require.NoError(t, st.DB.Exec("SELECT pg_notify(?, ?)", notify.Channel, notify.Message{Topic: topic, ID: id}.Text()).Error)
	}
	require.Eventually(t, func() bool { // it begins to listen by and by
		tell(notify.Steps, 0)
		select {
		case <-quick:
			return true
		case <-time.After(50 * time.Millisecond):
			return false
		}
	}, 10*time.Second, 10*time.Millisecond)
	for i := range int64(500) {
		tell(notify.Workflows, i)
		if i%50 == 49 {
			for m := next(t, quick, notify.Workflows); m.ID < i; m = next(t, quick, notify.Workflows) {
			}
		}
	}
	assert.LessOrEqual(t, len(slow), 64)
	assert.Empty(t, gone)
}
