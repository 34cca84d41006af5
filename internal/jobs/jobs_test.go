package jobs_test

import (
	"context"
	"errors"
	"log/slog"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/jobs"
	"dorfbote/internal/store"
	"dorfbote/internal/testdb"
)

// done notes what was done.
type done struct {
	mu   sync.Mutex
	list []string
}

func (d *done) add(name string) { d.mu.Lock(); defer d.mu.Unlock(); d.list = append(d.list, name) }
func (d *done) has(name string) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return slices.Contains(d.list, name)
}

func start(t *testing.T) (*store.Store, *jobs.Queue, *done) {
	t.Helper()
	st := testdb.New(t)
	log := slog.New(slog.DiscardHandler)
	db, err := st.DB.DB()
	require.NoError(t, err)
	q, err := jobs.NewQueue(db, log)
	require.NoError(t, err)
	d := &done{}
	w, err := jobs.Work(t.Context(), st, log, jobs.Do{
		Drain:  func(_ context.Context, j jobs.Drain) error { d.add("drain " + j.Destination); return nil },
		Follow: func(_ context.Context, _ jobs.Follow) error { d.add("follow"); return errors.New("tried once") },
		Sweep:  func(context.Context, jobs.Sweep) error { d.add("sweep"); return nil },
	})
	require.NoError(t, err)
	t.Cleanup(w.Stop)
	return st, q, d
}

func eventually(t *testing.T, d *done, name string) {
	t.Helper()
	require.Eventually(t, func() bool { return d.has(name) }, 15*time.Second, 5*time.Millisecond, name)
}

// Jobs are done soon, at their time, and with the transaction they were asked for in: one that is undone asked for nothing.
func TestJobs(t *testing.T) {
	st, q, d := start(t)
	ctx := t.Context()
	eventually(t, d, "sweep")
	require.NoError(t, q.Add(ctx, jobs.Drain{Destination: "a"}))
	eventually(t, d, "drain a")
	no := errors.New("no")
	require.ErrorIs(t, st.Within(ctx, func(ctx context.Context) error {
		require.NoError(t, q.Add(ctx, jobs.Drain{Destination: "undone"}))
		return no
	}), no)
	require.NoError(t, st.Within(ctx, func(ctx context.Context) error { return q.Add(ctx, jobs.Drain{Destination: "kept"}) }))
	eventually(t, d, "drain kept")
	assert.False(t, d.has("drain undone"))
	require.NoError(t, q.AddAt(ctx, jobs.Drain{Destination: "tomorrow"}, time.Now().Add(24*time.Hour)))
	require.NoError(t, q.Add(ctx, jobs.Follow{Arrival: 1, Workflow: 2}))
	eventually(t, d, "follow")
	assert.False(t, d.has("drain tomorrow"))
	var queues []string
	require.NoError(t, st.DB.Raw("SELECT queue FROM river_job WHERE kind = 'drain' AND state = 'scheduled'").Scan(&queues).Error)
	assert.Equal(t, []string{"post"}, queues, "a job that is put on for later waits in its own queue")
}

// The jobs of a process that is gone are taken over within seconds; those of one that runs are left to it.
func TestJobsOfAProcessThatIsGone(t *testing.T) {
	st, _, d := start(t)
	ctx := t.Context()
	eventually(t, d, "sweep")
	conn, err := st.HoldAlone(ctx, store.LockProcess, "alive")
	require.NoError(t, err)
	defer conn.Close(ctx)
	for _, who := range []string{"gone", "alive"} {
		require.NoError(t, st.DB.Exec(`INSERT INTO river_job (args, kind, max_attempts, attempt, queue, state, attempted_at, attempted_by)
			VALUES (jsonb_build_object('destination', ?::text), 'drain', 5, 1, 'post', 'running', now() - interval '5 seconds', ARRAY[?])`, who, who).Error)
	}
	eventually(t, d, "drain gone")
	assert.False(t, d.has("drain alive"))
}
