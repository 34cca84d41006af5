package host

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
func (h *Host) Now() time.Time { return h.ownClock().Add(time.Duration(h.clock.ahead.Load())) }

func (h *Host) ownClock() time.Time {
	if h.Clock != nil {
		return h.Clock()
	}
	return time.Now()
}

// Until is how long it is to a moment by the database's clock.
func (h *Host) Until(at time.Time) time.Duration { return at.Sub(h.Now()) }

// MeasureClock asks the database for the time, and tells the others how far this process's own clock is off.
func (h *Host) MeasureClock(ctx context.Context) error {
	began, own := time.Now(), h.ownClock()
	there, err := h.Store.ClockTime(ctx)
	if err != nil {
		return err
	}
	trip := time.Since(began)
	if trip > skewTrip {
		return nil
	}
	ahead := there.Sub(own.Add(trip / 2))
	h.clock.ahead.Store(int64(ahead))
	return h.Store.SeenProcess(ctx, store.Process{Name: h.process, SkewMs: -ahead.Milliseconds()})
}

// watchClock keeps measuring until ctx ends.
func (h *Host) watchClock(ctx context.Context) {
	for ctx.Err() == nil {
		Wait(ctx, skewLook)
		ask, cancel := context.WithTimeout(ctx, 3*time.Second)
		if err := h.MeasureClock(ask); err != nil && ctx.Err() == nil {
			h.Log.Debug("asking the database for the time failed", "error", err)
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

// WrongClocks lists running processes whose clocks are off by more than [SkewTold].
func (h *Host) WrongClocks(ctx context.Context) ([]store.Process, error) {
	return h.Store.WrongClocks(ctx, SkewTold, processHolds)
}
