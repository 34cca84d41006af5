// Package engine is the live loop: take in, decide, post. Its work is spread over processes by jobs in
// PostgreSQL, so that any number of servers and workers share one database.
package engine

import (
	"context"
	"fmt"
	"log/slog"
	"time"

	"gorm.io/gorm"

	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
	"dorfbote/internal/engine/host"
	"dorfbote/internal/jobs"
	"dorfbote/internal/script"
	"dorfbote/internal/store"
)

// Engine holds what the live loop needs. Make it with New.
type Engine struct {
	*host.Host
	KeepEvery time.Duration // how often old ones are looked for; 0 is every ten minutes
	Keep      store.Keep    // how long arrivals are kept; the zero value is for ever

	plans     *plans
	learnt    learnt
	missed    func(context.Context) error
	arm       func(ctx context.Context, db *gorm.DB, w *store.Workflow, plan *sheet.Plan, trigger string) error
	checkNow  func(ctx context.Context, source string) error
	due       []func(context.Context) (more bool, err error)
	lookups   lookups
	sets      sets
	working   *jobs.Working
	decider   *decider
	pollers   *pollers
	clock     *clock
	stop      context.CancelFunc // ends pollers and clock
	pollNow   chan struct{}      // wakes the pollers of this process
	scripts   script.Runner
	retention retention
}

// New makes an engine that can take in. Work starts with Start.
func New(s *store.Store, ws value.Workspace, log *slog.Logger) (*Engine, error) {
	h, err := host.New(s, ws, log)
	if err != nil {
		return nil, err
	}
	e := &Engine{Host: h, pollNow: make(chan struct{}, 1)}
	e.plans = newPlans(e)
	s.OnClose(e.scripts.Close)
	return e, nil
}

// Start begins to work on jobs until Stop.
func (e *Engine) Start(ctx context.Context) error {
	if err := e.Unsealed(ctx); err != nil {
		return fmt.Errorf("sealing secrets: %w", err)
	}
	if err := e.MeasureClock(ctx); err != nil {
		return fmt.Errorf("asking the database for the time: %w", err)
	}
	var err error
	if e.working, err = jobs.Work(ctx, e.Async, e.Log, jobs.Do{Drain: e.Drain, Follow: e.DoSteps, Sweep: e.sweep}); err != nil {
		return err
	}
	ctx, e.stop = context.WithCancel(ctx)
	e.decider, e.pollers, e.clock = e.startDecider(ctx), e.startPollers(ctx), e.startClock(ctx)
	return nil
}

// Stop lets running jobs end, and ends them after a few seconds.
func (e *Engine) Stop() {
	if e.working == nil {
		return
	}
	e.stop()
	e.pollers.wait()
	e.clock.wait()
	e.decider.wait()
	e.working.Stop()
}

// sweep does what is done from time to time.
func (e *Engine) sweep(ctx context.Context, _ jobs.Sweep) error {
	for _, do := range []func(context.Context) error{e.wakeAll, e.sweepSteps, e.keepSchedules, e.askChannelsDaily, e.LookForDrift, e.retain, e.tidy} {
		if err := do(ctx); err != nil {
			return err
		}
	}
	return nil
}
