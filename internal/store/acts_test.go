package store_test

import (
	"context"
	"errors"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"dorfbote/internal/store"
	"dorfbote/internal/testdb"
)

// filled is a database with a workflow, a destination, and a post in each state.
func filled(t *testing.T) (*store.Store, map[string]int64) {
	t.Helper()
	st := testdb.New(t)
	ctx := context.Background()
	require.NoError(t, st.AddConnection(ctx, &store.Connection{ID: "square", Kind: "chat", Title: "Square", CreatedAt: time.Now()}))
	for _, name := range []string{"square/#tours", "square/#board"} {
		require.NoError(t, st.DB.Create(&store.Destination{Name: name, Connection: "square", Title: name}).Error)
	}
	w := &store.Workflow{Name: "Late", Draft: "watch: {source: a/b}", CreatedAt: time.Now(), UpdatedAt: time.Now()}
	require.NoError(t, st.AddWorkflow(ctx, w))
	ids := map[string]int64{}
	for i, state := range []string{store.Waiting, store.Sent, store.Refused, store.GivenUp, store.Dropped, store.Expired, store.Held} {
		expires := time.Now().Add(time.Hour)
		p := &store.Post{Workflow: w.ID, Arrival: int64(i + 1), Destination: "square/#tours", Message: "m", Body: []byte("{}"), Title: "T " + state, Key: state, State: state, CreatedAt: time.Now(), ExpiresAt: &expires}
		require.NoError(t, st.DB.Create(p).Error)
		ids[state] = p.ID
	}
	return st, ids
}

// Each act is done with posts in the states it is for, and leaves the others as they are. What a person has looked at no
// longer expires.
func TestWhatCanBeDoneWithPosts(t *testing.T) {
	for _, act := range []store.Act{store.SendAgain, store.Drop, store.Hold, store.Release} {
		t.Run(string(act), func(t *testing.T) {
			st, ids := filled(t)
			ctx := context.Background()
			from := map[string]bool{}
			for _, s := range act.From() {
				from[s] = true
			}
			for state, id := range ids {
				done, of, err := st.ActOn(ctx, act, []int64{id}, store.PostFilter{}, 10)
				require.NoError(t, err)
				assert.Equal(t, 1, of)
				now, err := st.PostState(ctx, id)
				require.NoError(t, err)
				if !from[state] {
					assert.Empty(t, done, "%s of one that is %s", act, state)
					assert.Equal(t, state, now)
					continue
				}
				require.Len(t, done, 1, "%s of one that is %s", act, state)
				assert.Equal(t, "square/#tours", done[0].Destination)
				assert.Equal(t, act.To(), now)
				var p store.Post
				require.NoError(t, st.DB.First(&p, id).Error)
				assert.Nil(t, p.ExpiresAt)
			}
			_, sent := from[store.Sent]
			assert.False(t, sent, "what has been sent is never sent again")
		})
	}
	st, _ := filled(t)
	_, err := st.PostState(context.Background(), 99999)
	assert.ErrorIs(t, err, gorm.ErrRecordNotFound)
}

// A filter means all posts that it leaves, as far as so many are done at once.
func TestActsByFilter(t *testing.T) {
	st, _ := filled(t)
	ctx := context.Background()
	for i := range 5 {
		require.NoError(t, st.DB.Create(&store.Post{Workflow: 1, Arrival: 1, Destination: "square/#board", Message: "m", Body: []byte("{}"), Key: fmt.Sprint("b", i), State: store.Waiting, CreatedAt: time.Now()}).Error)
	}
	done, of, err := st.ActOn(ctx, store.Hold, nil, store.PostFilter{Destination: "square/#board"}, 3)
	require.NoError(t, err)
	assert.Len(t, done, 3)
	assert.Equal(t, 3, of)
	done, of, err = st.ActOn(ctx, store.Drop, nil, store.PostFilter{State: store.Held, Destination: "square/#board", Workflow: 1}, 100)
	require.NoError(t, err)
	assert.Len(t, done, 3)
	assert.Equal(t, 3, of)
	done, of, err = st.ActOn(ctx, store.Drop, nil, store.PostFilter{Workflow: 77}, 100)
	require.NoError(t, err)
	assert.Empty(t, done)
	assert.Zero(t, of)
}

// A paused destination sends nothing; when it goes on, what was refused waits again, or is dropped but for what was chosen.
func TestDestinationsPauseAndGoOn(t *testing.T) {
	ctx := context.Background()
	t.Run("everything", func(t *testing.T) {
		st, ids := filled(t)
		require.NoError(t, st.PauseDestination(ctx, "square/#tours", "too loud", "Marit"))
		names, err := st.WaitingDestinations(ctx)
		require.NoError(t, err)
		assert.Empty(t, names)
		require.NoError(t, st.Notice(ctx, store.Notice{What: "refused a post", Words: "x", About: "square/#tours"}))
		dropped, err := st.ResumeDestination(ctx, "square/#tours", nil)
		require.NoError(t, err)
		assert.Empty(t, dropped)
		for _, s := range []string{store.Waiting, store.Refused} {
			now, err := st.PostState(ctx, ids[s])
			require.NoError(t, err)
			assert.Equal(t, store.Waiting, now)
		}
		d, err := st.Destination(ctx, "square/#tours")
		require.NoError(t, err)
		assert.False(t, d.Paused)
		assert.Empty(t, d.Reason+d.HeldBy)
		notices, err := st.Notices(ctx, 0, 10)
		require.NoError(t, err)
		assert.Empty(t, notices, "what was told of it is done with")
	})
	t.Run("only some", func(t *testing.T) {
		st, ids := filled(t)
		only := []int64{ids[store.Refused]}
		dropped, err := st.ResumeDestination(ctx, "square/#tours", &only)
		require.NoError(t, err)
		require.Len(t, dropped, 1)
		assert.Equal(t, ids[store.Waiting], dropped[0].ID)
		now, err := st.PostState(ctx, ids[store.Refused])
		require.NoError(t, err)
		assert.Equal(t, store.Waiting, now)
		held, err := st.PostState(ctx, ids[store.Held])
		require.NoError(t, err)
		assert.Equal(t, store.Held, held, "what a person has set aside stays there")
	})
	t.Run("one that is not there", func(t *testing.T) {
		st, _ := filled(t)
		_, err := st.ResumeDestination(ctx, "square/#nowhere", nil)
		require.ErrorIs(t, err, gorm.ErrRecordNotFound)
		require.ErrorIs(t, st.PauseDestination(ctx, "square/#nowhere", "", ""), gorm.ErrRecordNotFound)
		assert.ErrorIs(t, st.RateDestination(ctx, "square/#nowhere", 3, false), gorm.ErrRecordNotFound)
	})
}

// A new rate takes back the time that the old one has set, and not the one that the other side asked for.
func TestRatesAndWhatTheOtherSideAskedFor(t *testing.T) {
	st, _ := filled(t)
	ctx := context.Background()
	later := time.Now().Add(time.Hour)
	for _, c := range []struct {
		failures int
		stays    bool
	}{{0, false}, {2, true}} {
		require.NoError(t, st.DB.Exec("UPDATE destinations SET not_before = ?, failures = ?, spacing_ms = 500 WHERE name = 'square/#tours'", later, c.failures).Error)
		require.NoError(t, st.RateDestination(ctx, "square/#tours", 30, c.failures == 0))
		at, err := st.NotUntil(ctx, "square/#tours")
		require.NoError(t, err)
		assert.Equal(t, c.stays, at != nil)
		d, err := st.Destination(ctx, "square/#tours")
		require.NoError(t, err)
		assert.Equal(t, 30, d.PerMinute)
		assert.Equal(t, c.failures == 0, d.SpacingMs == 0, "what it was seen to bear is forgotten only when asked")
	}
}

// Steps are tried again from the first that failed, under the keys they had.
func TestStepsAreTriedAgain(t *testing.T) {
	st, _ := filled(t)
	ctx := context.Background()
	for n, state := range []string{store.Done, store.Failed, store.Skipped} {
		require.NoError(t, st.DB.Create(&store.Step{Workflow: 1, Version: 1, Arrival: 1, N: n, Name: "s", Kind: "add", Target: "a/b", Body: []byte("{}"), IfFails: "stop", Key: fmt.Sprint("k", n), State: state, CreatedAt: time.Now()}).Error)
	}
	there, err := st.TryStepsAgain(ctx, 1, 1)
	require.NoError(t, err)
	assert.True(t, there)
	steps, err := st.StepsOf(ctx, 1, 1)
	require.NoError(t, err)
	var got []string
	for _, s := range steps {
		got = append(got, s.Key+" "+s.State)
	}
	assert.Equal(t, []string{"k0 done", "k1 waiting", "k2 waiting"}, got)
	there, err = st.TryStepsAgain(ctx, 1, 1)
	require.NoError(t, err)
	assert.False(t, there)
}

// A change whose function fails changes nothing; what starts a draft is kept with it.
func TestChangesAreWholeOrNone(t *testing.T) {
	st, _ := filled(t)
	ctx := context.Background()
	no := errors.New("no")
	require.ErrorIs(t, st.ChangeConnection(ctx, "square", func(c *store.Connection) error { c.Title = "Other"; return no }), no)
	c, err := st.Connection(ctx, "square")
	require.NoError(t, err)
	assert.Equal(t, "Square", c.Title)
	require.ErrorIs(t, st.ChangeConnection(ctx, "nothing", func(*store.Connection) error { return nil }), gorm.ErrRecordNotFound)

	row, poll := &store.Source{Name: "shop/orders", Connection: "square", Title: "Orders", KeyField: "id"}, &store.Poll{Source: "shop/orders", Connection: "square", Every: 60, Quickest: 60, Slowest: 600, DueAt: time.Now().Add(time.Hour)}
	require.NoError(t, st.BeginSource(ctx, row, poll))
	require.Error(t, st.BeginSource(ctx, row, poll), "there is one of this name")
	require.NoError(t, st.ChangeSource(ctx, "shop/orders", "", func(s *store.Source, p *store.Poll, _ *store.Connection) (bool, error) {
		s.Title, p.Quickest = "All orders", 30
		return true, nil
	}))
	polls, err := st.Polls(ctx)
	require.NoError(t, err)
	assert.Equal(t, 30, polls["shop/orders"].Quickest)
	assert.WithinDuration(t, time.Now(), polls["shop/orders"].DueAt, time.Minute, "what is read anew is due at once")
	require.NoError(t, st.DeleteSource(ctx, "shop/orders"))
	require.ErrorIs(t, st.DeleteSource(ctx, "shop/orders"), gorm.ErrRecordNotFound)

	w, err := st.WorkflowNamed(ctx, "Late")
	require.NoError(t, err)
	w.Draft = "watch: {called: {takes: []}}"
	require.NoError(t, st.SaveDraft(ctx, w))
	callable, err := st.Callable(ctx)
	require.NoError(t, err)
	assert.Equal(t, []string{"Late"}, callable)
	moved, err := st.MoveDraft(ctx, w.ID, "something else", "x", "A", time.Now())
	require.NoError(t, err)
	assert.False(t, moved, "a draft that was changed meanwhile is not written over")
}
