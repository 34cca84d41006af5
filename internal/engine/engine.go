// Package engine is the live loop: it wires together, in the order of an arrival's way, what takes in (intake, poll),
// decides (decider, timing), posts (outbox) and does what follows (follow). Its work is spread over processes by jobs in
// PostgreSQL, so that any number of servers and workers share one database.
package engine

import (
	"context"
	"errors"
	"fmt"
	"log/slog"

	"dorfbote/internal/core/value"
	"dorfbote/internal/engine/alerts"
	"dorfbote/internal/engine/decider"
	"dorfbote/internal/engine/follow"
	"dorfbote/internal/engine/host"
	"dorfbote/internal/engine/intake"
	"dorfbote/internal/engine/links"
	"dorfbote/internal/engine/outbox"
	"dorfbote/internal/engine/past"
	"dorfbote/internal/engine/poll"
	"dorfbote/internal/engine/sources"
	"dorfbote/internal/engine/timing"
	"dorfbote/internal/engine/upkeep"
	"dorfbote/internal/engine/workflows"
	"dorfbote/internal/jobs"
	"dorfbote/internal/store"
)

// Engine holds the parts of the live loop. Make it with New.
type Engine struct {
	*host.Host
	Sources   *sources.Sources
	Workflows *workflows.Workflows
	Writer    *intake.Writer
	Polls     *poll.Polls
	Decider   *decider.Decider
	Timing    *timing.Timing
	Outbox    *outbox.Outbox
	Follow    *follow.Follow
	Links     *links.Links
	Alerts    *alerts.Alerts
	Past      *past.Reader
	Upkeep    *upkeep.Upkeep

	working *jobs.Working
	stop    context.CancelFunc
	loops   []interface{ Wait() } // end when stop is called
}

// New makes an engine that can take in. Work starts with Start.
func New(s *store.Store, ws value.Workspace, log *slog.Logger) (*Engine, error) {
	h, err := host.New(s, ws, log)
	if err != nil {
		return nil, err
	}
	e := &Engine{Host: h, Sources: sources.New(h), Writer: &intake.Writer{Host: h}}
	e.Past = &past.Reader{Host: h, Sources: e.Sources}
	s.OnClose(e.Sources.Scripts.Close)
	e.Workflows = workflows.New(h, e.Sources)
	e.Polls = poll.New(h, e.Sources, e.Writer)
	e.Links = &links.Links{Host: h}
	e.Outbox = outbox.New(h, e.Sources, e.Links)
	e.Timing = &timing.Timing{Host: h, Workflows: e.Workflows}
	e.Decider = &decider.Decider{Host: h, Sources: e.Sources, Workflows: e.Workflows, Writer: e.Writer, Timing: e.Timing, Outbox: e.Outbox, Missed: e.wakeAll}
	e.Follow = &follow.Follow{Host: h, Sources: e.Sources, Workflows: e.Workflows, Writer: e.Writer, Outbox: e.Outbox}
	e.Follow.Followed = e.Decider.AnswerCommand
	e.Alerts = &alerts.Alerts{Host: h, Sources: e.Sources, Decider: e.Decider, Outbox: e.Outbox, Follow: e.Follow, Links: e.Links}
	e.Workflows.Arm, e.Workflows.CheckNow = e.Timing.Arm, e.Polls.CheckNow
	e.Timing.Due = append(e.Timing.Due, e.Decider.LetGoDue, e.Decider.EscalateDue, e.Decider.AskDue)
	e.Upkeep = &upkeep.Upkeep{Host: h}
	e.Upkeep.Tasks = []upkeep.Task{
		{Name: "waking what waits", Do: e.wakeAll},
		{Name: "following up what nobody could be told", Do: e.Store.BeginStuck},
		{Name: "keeping schedules", Do: e.Timing.KeepSchedules},
		{Name: "asking for channels", Do: e.Sources.AskChannelsDaily},
		{Name: "asking what became of posts", Do: e.Outbox.AskReports},
		{Name: "looking for drift", Do: e.Sources.LookForDrift},
		{Name: "letting go of what is old", Do: e.Upkeep.Retain},
		{Name: "tidying", Do: e.Upkeep.Tidy},
	}
	return e, nil
}

// wakeAll wakes every destination and every run that has something to do.
func (e *Engine) wakeAll(ctx context.Context) error {
	return errors.Join(e.Outbox.WakeAll(ctx), e.Follow.WakeAll(ctx))
}

// Start begins to work until Stop.
func (e *Engine) Start(ctx context.Context) error {
	if err := e.MeasureClock(ctx); err != nil {
		return fmt.Errorf("asking the database for the time: %w", err)
	}
	var err error
	do := jobs.Do{Drain: e.Outbox.Drain, Follow: e.Follow.Do, Said: e.Alerts.Said, Sweep: func(ctx context.Context, _ jobs.Sweep) error { return e.Upkeep.Sweep(ctx) }}
	if e.working, err = jobs.Work(ctx, e.Async, e.Log, do); err != nil {
		return err
	}
	ctx, e.stop = context.WithCancel(ctx)
	e.loops = []interface{ Wait() }{e.Polls.Start(ctx), e.Timing.Start(ctx), e.Decider.Start(ctx)}
	return nil
}

// Stop lets what is under way end, and ends it after a few seconds.
func (e *Engine) Stop() {
	if e.working == nil {
		return
	}
	e.stop()
	for _, l := range e.loops {
		l.Wait()
	}
	e.working.Stop()
	e.Outbox.LetGo()
}
