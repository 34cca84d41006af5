package timing

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"sync"
	"time"

	"gorm.io/gorm"

	"dorfbote/internal/core/arrival"
	"dorfbote/internal/core/calendar"
	"dorfbote/internal/core/decide"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/engine/host"
	"dorfbote/internal/engine/intake"
	"dorfbote/internal/engine/workflows"
	"dorfbote/internal/store"
)

// How the clock looks for timers that have come due. Every working process has one; what one process is firing, the
// others pass over.
const (
	clockLook   = 250 * time.Millisecond
	firedAtOnce = 500
	// overslept is how late a moment of the calendar or of silence counts as missed: nothing ran then.
	overslept = time.Minute
)

// Clock fires timers until its context ends.
type Clock struct{ done sync.WaitGroup }

// Wait returns when what was under way has ended.
func (c *Clock) Wait() { c.done.Wait() }

// Start fires timers until ctx ends.
func (g *Timing) Start(ctx context.Context) *Clock {
	c := &Clock{}
	c.done.Go(func() {
		for ctx.Err() == nil {
			next, err := g.fireDue(ctx)
			if err != nil && ctx.Err() == nil {
				g.Log.Warn("firing timers failed", "error", err)
				host.Wait(ctx, time.Second)
				continue
			}
			host.Wait(ctx, next)
		}
	})
	return c
}

// fireDue fires every timer that has come due, and says how long to wait until the next look.
func (g *Timing) fireDue(ctx context.Context) (time.Duration, error) {
	var list []store.Live
	err := g.Store.DB.WithContext(ctx).Raw(`SELECT w.id, w.name, w.version, w.source, w.form, w.since FROM workflows w
		WHERE w.is_on AND w.id IN (SELECT DISTINCT workflow FROM timers WHERE NOT spent AND due_at <= now())`).Scan(&list).Error
	if err != nil {
		return 0, err
	}
	again := false
	var failed []error // one workflow that fails holds up no other
	for _, l := range list {
		more, err := g.fire(ctx, l)
		if err != nil {
			failed = append(failed, fmt.Errorf("workflow %d: %w", l.ID, err))
		}
		again = again || more
	}
	for _, do := range g.Due {
		more, err := do(ctx)
		failed, again = append(failed, err), again || more
	}
	if err := errors.Join(failed...); err != nil {
		return 0, err
	}
	if again {
		return 0, nil
	}
	next, err := g.Store.NextMoment(ctx)
	if err != nil {
		return 0, err
	}
	if !next.Valid {
		return clockLook, nil
	}
	return min(max(g.Until(next.Time), time.Millisecond), clockLook), nil
}

// fire fires one workflow's timers in one transaction: the ticks, and what becomes of the timers. So each fires once,
// whatever happens. The ticks are decided in their turn. more is true where more have come due.
func (g *Timing) fire(ctx context.Context, l store.Live) (more bool, err error) {
	err = g.Async.Tx(ctx, func(_ *gorm.DB, tx *sql.Tx) error {
		var mine int
		err := tx.QueryRowContext(ctx, "SELECT 1 FROM watches WHERE workflow = $1 FOR UPDATE SKIP LOCKED", l.ID).Scan(&mine)
		if errors.Is(err, sql.ErrNoRows) { // another process is at it, or the workflow has been switched off
			return nil
		}
		if err != nil {
			return err
		}
		if err := g.catchUp(ctx, tx, l); err != nil { // what has come before the moment counts
			return err
		}
		plan, err := g.Workflows.PlanOf(ctx, l)
		brokenSheet := &workflows.BrokenSheet{}
		if errors.As(err, &brokenSheet) {
			_, err := tx.ExecContext(ctx, "UPDATE timers SET spent = true WHERE workflow = $1 AND due_at <= now()", l.ID)
			g.Notice(ctx, store.Notice{What: "cannot run", Words: "a timer came due, and the sheet cannot be run", Go: fmt.Sprintf("/workflows/%d", l.ID), About: l.Name})
			return err
		}
		if err != nil {
			return err
		}
		due, err := dueTimers(ctx, tx, l.ID)
		if err != nil || len(due) == 0 {
			return err
		}
		more = len(due) == firedAtOnce
		return g.fireAll(ctx, tx, l, plan, due)
	})
	return more, err
}

func dueTimers(ctx context.Context, tx *sql.Tx, workflow int64) ([]decide.Timer, error) {
	rows, err := tx.QueryContext(ctx, "SELECT key, due_at FROM timers WHERE workflow = $1 AND NOT spent AND due_at <= now() ORDER BY due_at, key LIMIT $2", workflow, firedAtOnce)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []decide.Timer
	for rows.Next() {
		var t decide.Timer
		if err := rows.Scan(&t.Key, &t.At); err != nil {
			return nil, err
		}
		t.At = t.At.UTC()
		out = append(out, t)
	}
	return out, rows.Err()
}

func (g *Timing) fireAll(ctx context.Context, tx *sql.Tx, l store.Live, plan *sheet.Plan, due []decide.Timer) error {
	skip, err := g.DaysOff(ctx, plan)
	if err != nil {
		return err
	}
	keys := make([]string, len(due))
	for i, t := range due {
		keys[i] = t.Key
	}
	records, err := intake.RecordsOf(ctx, tx, plan.Source, keys)
	if err != nil {
		return err
	}
	changes := map[string]*decide.TimerChange{}
	var ticks []*arrival.Arrival
	for _, t := range due {
		tick, change := fireOne(plan, t, records[t.Key], skip, g.Now())
		if change != nil {
			changes[t.Key] = change
		}
		if tick != nil {
			tick.ID = fmt.Sprintf("w%d-%s", l.ID, tick.ID)
			ticks = append(ticks, tick)
		}
	}
	if err := setTimers(ctx, tx, l.ID, changes); err != nil {
		return err
	}
	_, err = intake.InsertFor(ctx, tx, l.ID, ticks, nil)
	return err
}

// fireOne fires a timer. While nothing ran, moments of the calendar may have passed: they are made up for by the last
// of them, or not at all, as the sheet says. A silence that would have been noticed then may have been our own.
func fireOne(plan *sheet.Plan, t decide.Timer, record map[string]any, skip decide.Skip, now time.Time) (*arrival.Arrival, *decide.TimerChange) {
	late := now.Sub(t.At)
	if plan.Trigger.Form == sheet.Schedule && skip != nil && skip(calendar.Wall(t.At.In(plan.Trigger.Moments.Zone()))) {
		return nil, decide.NextMoment(plan, t.At, skip) // the day was left out since the timer was set
	}
	switch {
	case late < overslept:
	case plan.Trigger.Form == sheet.Silent:
		return nil, decide.Listen(plan, now.UTC())
	case plan.Trigger.Form == sheet.Schedule && plan.Trigger.Missed == "skip":
		return nil, decide.NextMoment(plan, now, skip)
	case plan.Trigger.Form == sheet.Schedule:
		if last, ok := plan.Trigger.Moments.Last(now, skip); ok && last.After(t.At) {
			t.At = last.UTC()
		}
	}
	return decide.Fire(plan, t, record, skip)
}

func recordsAfter(ctx context.Context, tx *sql.Tx, source, key string) ([]intake.KeyRecord, error) {
	return intake.ScanRecords(tx.QueryContext(ctx, "SELECT key, data::text FROM records WHERE source = $1 AND key > $2 ORDER BY key LIMIT 2000", source, key))
}
