package engine

import (
	"context"
	"database/sql"
	"fmt"
	"sync"
	"time"

	"gorm.io/gorm"

	"dorfbote/internal/core/arrival"
	"dorfbote/internal/core/calendar"
	"dorfbote/internal/core/decide"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
	"dorfbote/internal/engine/host"
	"dorfbote/internal/notify"
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

type clock struct{ done sync.WaitGroup }

func (c *clock) wait() { c.done.Wait() }

func (e *Engine) startClock(ctx context.Context) *clock {
	c := &clock{}
	c.done.Add(1)
	go func() {
		defer c.done.Done()
		for ctx.Err() == nil {
			next, err := e.fireDue(ctx)
			if err != nil && ctx.Err() == nil {
				e.Log.Warn("firing timers failed", "error", err)
				host.Wait(ctx, time.Second)
				continue
			}
			host.Wait(ctx, next)
		}
	}()
	return c
}

// fireDue fires every timer that has come due, and says how long to wait until the next look.
func (e *Engine) fireDue(ctx context.Context) (time.Duration, error) {
	var list []store.Live
	err := e.Store.DB.WithContext(ctx).Raw(`SELECT w.id, w.name, w.version, w.source, w.form, w.since FROM workflows w
		WHERE w.is_on AND w.id IN (SELECT DISTINCT workflow_id FROM timers WHERE NOT spent AND due_at <= now())`).Scan(&list).Error
	if err != nil {
		return 0, err
	}
	again := false
	for _, l := range list {
		more, err := e.fire(ctx, l)
		if err != nil {
			return 0, fmt.Errorf("workflow %d: %w", l.ID, err)
		}
		again = again || more
	}
	for _, do := range e.due {
		more, err := do(ctx)
		if err != nil {
			return 0, err
		}
		again = again || more
	}
	if again {
		return 0, nil
	}
	next, err := e.Store.NextMoment(ctx)
	if err != nil {
		return 0, err
	}
	if !next.Valid {
		return clockLook, nil
	}
	return min(max(e.Until(next.Time), time.Millisecond), clockLook), nil
}

// fire fires one workflow's timers in one transaction: the ticks, and what becomes of the timers. So each fires once,
// whatever happens. The ticks are decided in their turn. more is true where more have come due.
func (e *Engine) fire(ctx context.Context, l store.Live) (more bool, err error) {
	err = e.Async.Tx(ctx, func(_ *gorm.DB, tx *sql.Tx) error {
		var mine int
		err := tx.QueryRowContext(ctx, "SELECT 1 FROM watches WHERE workflow_id = $1 FOR UPDATE SKIP LOCKED", l.ID).Scan(&mine)
		if err == sql.ErrNoRows { // another process is at it, or the workflow has been switched off
			return nil
		}
		if err != nil {
			return err
		}
		if err := e.catchUp(ctx, tx, l); err != nil { // what has come before the moment counts
			return err
		}
		plan, err := e.plans.get(ctx, l)
		if _, broken := err.(*BrokenSheet); broken {
			_, err := tx.ExecContext(ctx, "UPDATE timers SET spent = true WHERE workflow_id = $1 AND due_at <= now()", l.ID)
			e.Notice(ctx, store.Notice{What: "cannot run", Words: "a timer came due, and the sheet cannot be run", Go: fmt.Sprintf("/workflows/%d", l.ID), About: l.Name})
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
		return e.fireAll(ctx, tx, l, plan, due)
	})
	return more, err
}

func dueTimers(ctx context.Context, tx *sql.Tx, workflow int64) ([]decide.Timer, error) {
	rows, err := tx.QueryContext(ctx, "SELECT key, due_at FROM timers WHERE workflow_id = $1 AND NOT spent AND due_at <= now() ORDER BY due_at, key LIMIT $2", workflow, firedAtOnce)
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

func (e *Engine) fireAll(ctx context.Context, tx *sql.Tx, l store.Live, plan *sheet.Plan, due []decide.Timer) error {
	skip, err := e.DaysOff(ctx, plan)
	if err != nil {
		return err
	}
	keys := make([]string, len(due))
	for i, t := range due {
		keys[i] = t.Key
	}
	records, err := recordsOf(ctx, tx, plan.Source, keys)
	if err != nil {
		return err
	}
	changes := map[string]*decide.TimerChange{}
	var ticks []*arrival.Arrival
	for _, t := range due {
		tick, change := fireOne(plan, t, records[t.Key], skip, e.Now())
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
	_, err = insertFor(ctx, tx, l.ID, ticks)
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

// recordsOf reads the records of some keys as they are now.
func recordsOf(ctx context.Context, tx *sql.Tx, source string, keys []string) (map[string]map[string]any, error) {
	list, err := scanRecords(tx.QueryContext(ctx, "SELECT key, data::text FROM records WHERE source = $1 AND key = ANY ($2)", source, keys))
	out := map[string]map[string]any{}
	for _, r := range list {
		out[r.key] = r.record
	}
	return out, err
}

func recordsAfter(ctx context.Context, tx *sql.Tx, source, key string) ([]keyRecord, error) {
	return scanRecords(tx.QueryContext(ctx, "SELECT key, data::text FROM records WHERE source = $1 AND key > $2 ORDER BY key LIMIT 2000", source, key))
}

type keyRecord struct {
	key    string
	record map[string]any
}

func scanRecords(rows *sql.Rows, err error) ([]keyRecord, error) {
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []keyRecord
	for rows.Next() {
		var key, data string
		if err := rows.Scan(&key, &data); err != nil {
			return nil, err
		}
		v, err := value.ReadJSON([]byte(data))
		if err != nil {
			return nil, err
		}
		record, _ := v.(map[string]any)
		out = append(out, keyRecord{key, record})
	}
	return out, rows.Err()
}

// insertFor writes arrivals that are for one workflow: ticks and starts. One that is there already is passed over.
func insertFor(ctx context.Context, tx *sql.Tx, workflow int64, list []*arrival.Arrival) ([]store.Arrival, error) {
	if len(list) == 0 {
		return nil, nil
	}
	n := len(list)
	sources, ids, types, subjects, data, times := make([]string, n), make([]string, n), make([]string, n), make([]string, n), make([]string, n), make([]time.Time, n)
	byID := map[string]store.Arrival{}
	for i, a := range list {
		row := store.Stored(a)
		sources[i], ids[i], types[i], subjects[i], data[i], times[i] = row.Source, row.ID, row.Type, row.Subject, string(row.Data), row.Time
		byID[row.ID] = row
	}
	if err := store.Lock(ctx, tx, store.LockSource, sources...); err != nil {
		return nil, err
	}
	rows, err := tx.QueryContext(ctx, `INSERT INTO arrivals (source, id, type, time, subject, data, for_workflow)
		SELECT t.*, $7 FROM unnest($1::text[], $2::text[], $3::text[], $4::timestamptz[], $5::text[], $6::jsonb[]) AS t(source, id)
		WHERE NOT EXISTS (SELECT 1 FROM arrivals a WHERE a.source = t.source AND a.id = t.id) RETURNING seq, id`, sources, ids, types, times, subjects, data, workflow)
	if err != nil {
		return nil, fmt.Errorf("writing ticks: %w", err)
	}
	defer rows.Close()
	var out []store.Arrival
	for rows.Next() {
		var seq int64
		var id string
		if err := rows.Scan(&seq, &id); err != nil {
			return nil, err
		}
		row := byID[id]
		row.Seq, row.ForWorkflow = seq, &workflow
		out = append(out, row)
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	return out, toDecide(ctx, tx, out)
}

// toDecide has what was written decided: it lies beyond its source's mark, and the deciders are told.
func toDecide(ctx context.Context, tx *sql.Tx, rows []store.Arrival) error {
	told := map[string]bool{}
	for _, r := range rows { // in the order of their numbers, so that the first of a source is its lowest
		if told[r.Source] {
			continue
		}
		told[r.Source] = true
		if _, err := tx.ExecContext(ctx, "INSERT INTO marks (source, seq) VALUES ($1, $2) ON CONFLICT DO NOTHING", r.Source, r.Seq-1); err != nil {
			return err
		}
		if err := notify.In(ctx, tx, notify.Message{Topic: notify.Arrivals, Source: r.Source, Seq: r.Seq}); err != nil {
			return err
		}
	}
	return nil
}
