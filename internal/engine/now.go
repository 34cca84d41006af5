package engine

import (
	"context"
	"fmt"
	"os"
	"sync/atomic"
	"time"

	"dorfbote/internal/store"
)

// All waiting is by the database's clock, of which there is one: the clocks of processes on several machines differ. Each
// process measures how far its own is off, and goes by what that makes of it.

const (
	skewLook = 5 * time.Second
	// skewTrip is the longest a question for the time may take for its answer to count.
	skewTrip = time.Second
	// SkewTold is from how far off a process's clock is told of in Today.
	SkewTold = 2 * time.Second
	// processHolds is for how long a process that was not heard of counts as running.
	processHolds = time.Minute
)

// databaseClock is the database's clock as this process knows it.
type databaseClock struct{ ahead atomic.Int64 }

// Now is the moment by the database's clock.
func (e *Engine) Now() time.Time { return e.ownClock().Add(time.Duration(e.clockOf.ahead.Load())) }

func (e *Engine) ownClock() time.Time {
	if e.Clock != nil {
		return e.Clock()
	}
	return time.Now()
}

// until is how long it is to a moment by the database's clock.
func (e *Engine) until(at time.Time) time.Duration { return at.Sub(e.Now()) }

// measureClock asks the database for the time, and tells the others how far this process's own clock is off.
func (e *Engine) measureClock(ctx context.Context) error {
	began, own := time.Now(), e.ownClock()
	var there time.Time
	if err := e.Store.Pool.QueryRow(ctx, "SELECT clock_timestamp()").Scan(&there); err != nil {
		return err
	}
	trip := time.Since(began)
	if trip > skewTrip {
		return nil
	}
	ahead := there.Sub(own.Add(trip / 2))
	e.clockOf.ahead.Store(int64(ahead))
	if e.process == "" {
		return nil
	}
	return e.Store.DB.WithContext(ctx).Exec(`INSERT INTO processes (name, skew_ms, seen_at) VALUES (?, ?, now())
		ON CONFLICT (name) DO UPDATE SET skew_ms = excluded.skew_ms, seen_at = now()`, e.process, -ahead.Milliseconds()).Error
}

// watchClock keeps measuring until ctx ends.
func (e *Engine) watchClock(ctx context.Context) {
	for ctx.Err() == nil {
		wait(ctx, skewLook)
		ask, cancel := context.WithTimeout(ctx, 3*time.Second)
		if err := e.measureClock(ask); err != nil && ctx.Err() == nil {
			e.Log.Debug("asking the database for the time failed", "error", err)
		}
		cancel()
	}
}

// processName names this process to people.
func processName() string {
	host, err := os.Hostname()
	if err != nil {
		host = "a machine without a name"
	}
	return fmt.Sprintf("process %d on %s", os.Getpid(), host)
}

// Process is a process whose clock is off.
type Process struct {
	Name string
	Skew time.Duration // how far its clock is ahead of the database's
}

// WrongClocks lists running processes whose clocks are off by more than [SkewTold].
func (e *Engine) WrongClocks(ctx context.Context) ([]Process, error) {
	var rows []store.Process
	err := e.Store.DB.WithContext(ctx).Where("abs(skew_ms) > ? AND seen_at > now() - ? * interval '1 second'", SkewTold.Milliseconds(), processHolds.Seconds()).Order("name").Find(&rows).Error
	out := make([]Process, 0, len(rows))
	for _, r := range rows {
		out = append(out, Process{r.Name, time.Duration(r.SkewMs) * time.Millisecond})
	}
	return out, err
}
