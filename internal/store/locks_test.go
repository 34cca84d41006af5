package store_test

import (
	"context"
	"database/sql"
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"dorfbote/internal/store"
	"dorfbote/internal/testdb"
)

// A lock is of a kind and a name: whoever holds one keeps others out of it, and of nothing else; it ends with what held it.
func TestLocksByName(t *testing.T) {
	ctx := context.Background()
	st := testdb.New(t)
	free := func(kind store.LockKind, name string) bool {
		mine, err := st.Hold(ctx, kind, name, func() error { return nil })
		require.NoError(t, err)
		return mine
	}
	mine, err := st.Hold(ctx, store.LockDrain, "a", func() error {
		assert.False(t, free(store.LockDrain, "a"), "held")
		assert.True(t, free(store.LockDrain, "b"), "another name")
		assert.True(t, free(store.LockRun, "a"), "another kind")
		return errors.New("failed")
	})
	assert.True(t, mine)
	require.EqualError(t, err, "failed")
	assert.True(t, free(store.LockDrain, "a"), "let go though what was done failed")

	conn, err := st.HoldAlone(ctx, store.LockListen, "x")
	require.NoError(t, err)
	require.NotNil(t, conn)
	other, err := st.HoldAlone(ctx, store.LockListen, "x")
	require.NoError(t, err)
	assert.Nil(t, other)
	require.NoError(t, conn.Close(ctx))
	assert.Eventually(t, func() bool { return free(store.LockListen, "x") }, 5*time.Second, 20*time.Millisecond)

	locks := st.NewLocks(store.LockLane)
	for _, name := range []string{"one", "two"} {
		mine, err := locks.Try(ctx, name)
		require.NoError(t, err)
		assert.True(t, mine)
		assert.False(t, free(store.LockLane, name))
	}
	locks.Free("one")
	assert.True(t, free(store.LockLane, "one"))
	assert.False(t, free(store.LockLane, "two"))
	locks.Free("never held")
	locks.Close()
	assert.Eventually(t, func() bool { return free(store.LockLane, "two") }, 5*time.Second, 20*time.Millisecond)
}

// Of two transactions that want the same names, in whichever order, one waits for the other, and none for ever.
func TestLocksOfTransactionsDoNotCross(t *testing.T) {
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	st := testdb.New(t)
	done := make(chan error, 20)
	for i := range 20 {
		names := []string{"a", "b", "c"}
		if i%2 == 0 {
			names = []string{"c", "b", "a", "c"}
		}
		go func() {
			done <- st.Tx(ctx, func(_ *gorm.DB, tx *sql.Tx) error {
				if err := store.Lock(ctx, tx, store.LockPlace, names...); err != nil {
					return err
				}
				time.Sleep(5 * time.Millisecond)
				return nil
			})
		}()
	}
	for range 20 {
		require.NoError(t, <-done)
	}
}

// A commit over the connections that do not wait is seen at once by everybody, and on the disk after Durable.
func TestCommitsThatDoNotWait(t *testing.T) {
	ctx := context.Background()
	st := testdb.New(t)
	async, err := st.Async(ctx)
	require.NoError(t, err)
	defer async.Close()
	var how string
	require.NoError(t, async.Pool.QueryRow(ctx, "SHOW synchronous_commit").Scan(&how))
	assert.Equal(t, "off", how)
	require.NoError(t, async.Notice(ctx, store.Notice{What: "w", Words: "x", About: "a"}))
	list, err := st.Notices(ctx, 0, 10)
	require.NoError(t, err)
	require.Len(t, list, 1)
	require.NoError(t, st.Durable(ctx))
	done, err := st.NoticeDone(ctx, "a", "w")
	require.NoError(t, err)
	assert.True(t, done)
	done, err = st.NoticeDone(ctx, "a", "w")
	require.NoError(t, err)
	assert.False(t, done, "it was done with already")
}

// What is done within a context is done all or none, a part that fails by itself is undone by itself, and what stands apart
// stays.
func TestWithin(t *testing.T) {
	ctx := context.Background()
	st := testdb.New(t)
	add := func(ctx context.Context, name string) error { _, err := st.AddTeam(ctx, name); return err }
	no := errors.New("no")
	err := st.Within(ctx, func(ctx context.Context) error {
		require.NoError(t, add(ctx, "lost"))
		require.NoError(t, add(store.Apart(ctx), "apart"))
		require.NoError(t, st.Within(ctx, func(ctx context.Context) error { return add(ctx, "lost, too") }))
		return no
	})
	require.ErrorIs(t, err, no)
	err = st.Within(ctx, func(ctx context.Context) error {
		require.NoError(t, add(ctx, "kept"))
		part := st.DB.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
			require.NoError(t, tx.Exec("INSERT INTO teams (name) VALUES ('undone')").Error)
			return no
		})
		require.ErrorIs(t, part, no)
		return nil
	})
	require.NoError(t, err)
	teams, err := st.Teams(ctx, 0)
	require.NoError(t, err)
	var names []string
	for _, t := range teams {
		names = append(names, t.Name)
	}
	assert.Equal(t, []string{"apart", "kept"}, names)
}
