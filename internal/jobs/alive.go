package jobs

import (
	"context"
	"log/slog"
	"time"

	"github.com/jackc/pgx/v5"

	"dorfbote/internal/store"
)

// A process that works holds a lock that goes with it however it ends. The others see by it that a job's process is
// gone, and put the job back within seconds; the job library alone would wait for longer than the longest job.
const lookEvery = 2 * time.Second

// orphans puts back the jobs of processes that are gone. A job that has just been taken is left for a moment.
const orphans = `UPDATE river_job j SET state = 'available', scheduled_at = now()
	WHERE j.state = 'running' AND j.attempted_at < now() - interval '2 seconds' AND NOT EXISTS (
		SELECT 1 FROM pg_locks l WHERE l.locktype = 'advisory' AND l.objsubid = 1
			AND l.database = (SELECT oid FROM pg_database WHERE datname = current_database())
			AND ((l.classid::bigint << 32) | l.objid::bigint) = hashtextextended(j.attempted_by[array_upper(j.attempted_by, 1)], $1))`

// alive is this process's lock.
type alive struct {
	store  *store.Store
	log    *slog.Logger
	name   string
	conn   *pgx.Conn
	cancel context.CancelFunc
	done   chan struct{}
}

// showAlive takes the lock, and keeps it until its end.
func showAlive(ctx context.Context, s *store.Store, log *slog.Logger, name string) (*alive, error) {
	a := &alive{store: s, log: log, name: name, done: make(chan struct{})}
	if err := a.lock(ctx); err != nil {
		return nil, err
	}
	ctx, a.cancel = context.WithCancel(ctx)
	go a.watch(ctx)
	return a, nil
}

func (a *alive) lock(ctx context.Context) (err error) {
	a.conn, err = a.store.HoldAlone(ctx, store.LockProcess, a.name)
	return err
}

func (a *alive) watch(ctx context.Context) {
	defer close(a.done)
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			if a.conn != nil {
				_ = a.conn.Close(context.WithoutCancel(ctx))
			}
			return
		case <-tick.C:
		}
		if a.conn == nil {
			if a.lock(ctx) != nil || a.conn == nil {
				continue // the database is away; it is tried again
			}
		}
		look, cancel := context.WithTimeout(ctx, 5*time.Second)
		done, err := a.conn.Exec(look, orphans, store.LockProcess)
		cancel()
		if err != nil {
			_ = a.conn.Close(context.WithoutCancel(ctx))
			a.conn = nil
		} else if n := done.RowsAffected(); n > 0 {
			a.log.Info("took over jobs of a process that is gone", "jobs", n)
		}
	}
}

// end lets go of the lock.
func (a *alive) end() {
	a.cancel()
	<-a.done
}
