package store_test

import (
	"context"
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/store"
	"dorfbote/internal/testdb"
)

// What was posted to a connection counts as its health, as asking does: one that is only posted to is not said to have had no calls.
func TestHealthCountsPosts(t *testing.T) {
	ctx := context.Background()
	st := testdb.New(t)
	require.NoError(t, st.AddConnection(ctx, &store.Connection{ID: "square", Kind: "chat", Title: "Square"}))
	hour := time.Now().Truncate(time.Hour)
	for name, n := range map[string]int{"square/#tours": 5, "square/#lab": 2, "squares/#tours": 9} {
		require.NoError(t, st.DB.Exec("INSERT INTO hours (what, name, hour, n) VALUES ('posts', ?, ?, ?)", name, hour, n).Error)
	}
	require.NoError(t, st.NoteHealth(ctx, "square", nil))
	require.NoError(t, st.NoteHealth(ctx, "square", errors.New("it is down")))
	all, err := st.Health(ctx, "square")
	require.NoError(t, err)
	ok, failed := 0, 0
	for _, h := range all {
		ok, failed = ok+h.OK, failed+h.Failed
	}
	assert.Equal(t, []int{8, 1}, []int{ok, failed})
}
