// Package host is what a process gives to every part of the live loop: the database, the clock, jobs, connections to the
// outside, secrets, the log; and how people and processes are told of things.
package host

import (
	"context"
	"log/slog"
	"math/rand/v2"
	"time"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/value"
	"dorfbote/internal/jobs"
	"dorfbote/internal/notify"
	"dorfbote/internal/observe"
	"dorfbote/internal/seal"
	"dorfbote/internal/store"
)

// Host is shared by all parts of one process. Its exported fields are set before anything starts.
type Host struct {
	Store     *store.Store
	Async     *store.Store // the same database; its commits do not wait for the disk, see store/async.go
	Jobs      *jobs.Queue
	Workspace value.Workspace
	Log       *slog.Logger
	Env       connect.Env      // what connections reach the outside by
	Box       *seal.Box        // for secrets
	Meters    *observe.Meters  // nil counts nothing
	Clock     func() time.Time // this process's own clock; nil is the machine's

	process string // as people are told of it
	clock   databaseClock
}

// New opens what a process needs beside its store, and keeps measuring the database's clock until the store is closed.
// Secrets are sealed by a key that is kept nowhere, and no private addresses are called, until Box and Env are set.
func New(s *store.Store, ws value.Workspace, log *slog.Logger) (*Host, error) {
	h := &Host{Store: s, Workspace: ws, Log: log, Box: seal.Ephemeral(), process: processName()}
	var err error
	if h.Env, err = connect.NewEnv(ws, ""); err != nil {
		return nil, err
	}
	sqlDB, err := s.DB.DB()
	if err != nil {
		return nil, err
	}
	if h.Jobs, err = jobs.NewQueue(sqlDB, log); err != nil {
		return nil, err
	}
	if h.Async, err = s.Async(context.Background()); err != nil {
		return nil, err
	}
	s.OnClose(h.Async.Close)
	// A database that is away now is asked again by and by.
	_ = h.MeasureClock(context.Background())
	watch, cancel := context.WithCancel(context.Background())
	s.OnClose(cancel)
	go h.watchClock(watch)
	return h, nil
}

// Tell tells all processes, and the browsers, that something has changed.
func (h *Host) Tell(ctx context.Context, m notify.Message) {
	if err := h.Store.DB.WithContext(ctx).Exec("SELECT pg_notify(?, ?)", notify.Channel, m.Text()).Error; err != nil {
		h.Log.Warn("telling others failed", "error", err)
	}
}

// Notice tells a person of something, once until it is done with.
func (h *Host) Notice(ctx context.Context, n store.Notice) {
	if err := h.Store.Notice(ctx, n); err != nil {
		h.Log.Warn("noting failed", "notice", n.What, "error", err)
	}
	h.Tell(ctx, notify.Message{Topic: notify.Today})
}

// Done takes back what was told about something.
func (h *Host) Done(ctx context.Context, about, what string) {
	if done, err := h.Store.NoticeDone(ctx, about, what); err == nil && done {
		h.Tell(ctx, notify.Message{Topic: notify.Today})
	}
}

// Backoff doubles from a quarter of a second to ten minutes with the failures in a row, spread by a quarter.
func Backoff(failures int) time.Duration {
	d := 250 * time.Millisecond << min(failures, 12)
	d = min(d, 10*time.Minute)
	return d - d/8 + rand.N(d/4)
}

// Wait returns after a time, or when ctx ends.
func Wait(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}
