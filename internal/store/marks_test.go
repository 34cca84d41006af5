package store_test

import (
	"context"
	"database/sql"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/store"
	"dorfbote/internal/testdb"
)

// marked is a database with two workflows that are on for a source, whose mark stands at ten.
func marked(t *testing.T) (st *store.Store, one, two int64) {
	t.Helper()
	st = testdb.New(t)
	for _, name := range []string{"One", "Two"} {
		w := &store.Workflow{Name: name, Draft: "x", IsOn: true, Source: "a/b", Version: 1, CreatedAt: time.Now(), UpdatedAt: time.Now()}
		require.NoError(t, st.AddWorkflow(context.Background(), w))
		one, two = two, w.ID
	}
	require.NoError(t, st.DB.Exec("INSERT INTO marks (source, seq) VALUES ('a/b', 10)").Error)
	return st, one, two
}

func within(t *testing.T, st *store.Store, do func(tx *sql.Tx) error) error {
	t.Helper()
	db, err := st.DB.DB()
	require.NoError(t, err)
	tx, err := db.BeginTx(context.Background(), nil)
	require.NoError(t, err)
	if err := do(tx); err != nil {
		require.NoError(t, tx.Rollback())
		return err
	}
	return tx.Commit()
}

// A source's mark moves once from where it was read, and only where those with a mark of their own are still those that
// were left out of what was decided.
func TestMovingAMark(t *testing.T) {
	ctx := context.Background()
	move := func(st *store.Store, lane store.Lane, from, to int64, own map[int64]bool) error {
		return within(t, st, func(tx *sql.Tx) error { return store.MoveMark(ctx, tx, lane, from, to, own) })
	}
	give := func(st *store.Store, workflow, seq int64) {
		t.Helper()
		require.NoError(t, within(t, st, func(tx *sql.Tx) error {
			return store.GiveOwnMark(ctx, tx, store.OwnMark{Workflow: workflow, Source: "a/b", Seq: seq})
		}))
	}
	at := func(st *store.Store) (int64, int) {
		t.Helper()
		seq, own, ok, err := st.Marks(ctx, "a/b")
		require.NoError(t, err)
		require.True(t, ok)
		return seq, len(own)
	}
	source := store.Lane{Source: "a/b"}

	st, one, two := marked(t)
	require.NoError(t, move(st, source, 10, 20, nil))
	require.ErrorIs(t, move(st, source, 10, 20, nil), store.ErrMoved, "somebody else was there first")
	give(st, one, 5)
	require.ErrorIs(t, move(st, source, 20, 30, nil), store.ErrMoved, "one was given a mark of its own while the batch was decided with it")
	require.NoError(t, move(st, source, 20, 30, map[int64]bool{one: true}))
	seq, own := at(st)
	assert.Equal(t, []any{int64(30), 1}, []any{seq, own})

	// One that has joined the others while a batch was decided without it would miss that batch.
	require.NoError(t, move(st, store.Lane{Source: "a/b", Workflow: one}, 5, 30, nil))
	require.NoError(t, st.Join(ctx, store.OwnMark{Workflow: one, Source: "a/b", Seq: 30}))
	_, own = at(st)
	require.Zero(t, own)
	require.ErrorIs(t, move(st, source, 30, 40, map[int64]bool{one: true}), store.ErrMoved)
	require.NoError(t, move(st, source, 30, 40, nil))

	// In the place of one that joined, another was given its own: as many, but not the same.
	give(st, two, 40)
	require.ErrorIs(t, move(st, source, 40, 50, map[int64]bool{one: true}), store.ErrMoved)
	require.NoError(t, move(st, source, 40, 50, map[int64]bool{two: true}))

	// The mark of a workflow that is off is in nobody's way.
	require.NoError(t, st.DB.Exec("UPDATE workflows SET is_on = false WHERE id = ?", two).Error)
	require.NoError(t, move(st, source, 50, 60, nil))
	_, _, ok, err := st.Marks(ctx, "never/heard")
	require.NoError(t, err)
	assert.False(t, ok)
}

// A workflow joins the others where they have come no further than it has, and stays by itself where it would miss something.
func TestJoiningTheOthers(t *testing.T) {
	ctx := context.Background()
	st, one, _ := marked(t)
	for _, c := range []struct {
		own, asked int64
		joins      bool
	}{{10, 10, true}, {12, 12, true}, {9, 9, false}, {12, 11, false}} {
		require.NoError(t, within(t, st, func(tx *sql.Tx) error {
			return store.GiveOwnMark(ctx, tx, store.OwnMark{Workflow: one, Source: "a/b", Seq: c.own})
		}))
		require.NoError(t, st.Join(ctx, store.OwnMark{Workflow: one, Source: "a/b", Seq: c.asked}))
		_, own, _, err := st.Marks(ctx, "a/b")
		require.NoError(t, err)
		assert.Equal(t, c.joins, len(own) == 0, "%+v", c)
	}
}
