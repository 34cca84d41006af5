package timing

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
	"gorm.io/gorm"

	"dorfbote/internal/core/arrival"
	"dorfbote/internal/core/decide"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/engine/workflows"
	"dorfbote/internal/store"
)

// Timers are kept right by looking at a source's arrivals strictly in their order: within one source, numbers are
// given out under a lock that is held until the transaction ends, so whoever sees one sees all before it. Each
// timed workflow remembers how far it has seen, and one process at a time moves it on.

// WatchAll moves on every timed workflow of a batch's lane, in the transaction that decides it.
func (g *Timing) WatchAll(ctx context.Context, tx *sql.Tx, on workflows.On) error {
	for _, set := range on.BySource {
		for _, l := range set.On {
			if !l.Timed() || on.Only != 0 && on.Only != l.ID || on.Only == 0 && on.But[l.ID] {
				continue
			}
			if err := g.catchUp(ctx, tx, l); err != nil {
				return fmt.Errorf("the timers of workflow %d: %w", l.ID, err)
			}
		}
	}
	return nil
}

// seenAtOnce is how many arrivals are looked at in one go.
const seenAtOnce = 1000

// catchUp has a timed workflow see what has come since it last looked. It holds the workflow's row in watches, and so
// is alone.
func (g *Timing) catchUp(ctx context.Context, tx *sql.Tx, l store.Live) error {
	var seen int64
	var since time.Time
	err := tx.QueryRowContext(ctx, "SELECT seq, since FROM watches WHERE workflow = $1 FOR UPDATE", l.ID).Scan(&seen, &since)
	if errors.Is(err, sql.ErrNoRows) || l.Source == "" {
		return nil
	}
	if err != nil {
		return err
	}
	plan, err := g.Workflows.PlanOf(ctx, l)
	brokenSheet := &workflows.BrokenSheet{}
	if errors.As(err, &brokenSheet) {
		return nil // its failures are told where it decides
	}
	if err != nil {
		return err
	}
	for {
		list, err := arrivalsAfter(ctx, tx, l.Source, seen)
		if err != nil || len(list) == 0 {
			return err
		}
		keys := make([]string, len(list))
		for i, a := range list {
			keys[i] = a.a.Subject
		}
		held, err := timersOf(ctx, tx, l.ID, keys)
		if err != nil {
			return err
		}
		touched := map[string]*decide.TimerChange{}
		for _, a := range list {
			seen = a.seq
			key := a.a.Subject
			if plan.Trigger.Form == sheet.Silent {
				key = ""
			}
			if c := decide.Seen(plan, a.a, held[key], since); c != nil {
				touched[c.Key] = c
				if held[c.Key] = &c.Timer; c.Gone {
					delete(held, c.Key)
				}
			}
		}
		if err := setTimers(ctx, tx, l.ID, touched); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, "UPDATE watches SET seq = $2 WHERE workflow = $1", l.ID, seen); err != nil {
			return err
		}
		if len(list) < seenAtOnce {
			return nil
		}
	}
}

type numbered struct {
	seq int64
	a   *arrival.Arrival
}

func arrivalsAfter(ctx context.Context, tx *sql.Tx, source string, seq int64) ([]numbered, error) {
	rows, err := tx.QueryContext(ctx, `SELECT seq, id, type, time, subject, data::text FROM arrivals
		WHERE source = $1 AND seq > $2 AND for_workflow IS NULL ORDER BY seq LIMIT $3`, source, seq, seenAtOnce)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []numbered
	for rows.Next() {
		row := store.Arrival{Source: source}
		var data string
		if err := rows.Scan(&row.Seq, &row.ID, &row.Type, &row.Time, &row.Subject, &data); err != nil {
			return nil, err
		}
		row.Data = json.RawMessage(data)
		a, err := row.Core()
		if err != nil {
			return nil, err
		}
		out = append(out, numbered{row.Seq, a})
	}
	return out, rows.Err()
}

// timersOf reads the timers of some keys, and the workflow's own.
func timersOf(ctx context.Context, tx *sql.Tx, workflow int64, keys []string) (map[string]*decide.Timer, error) {
	rows, err := tx.QueryContext(ctx, "SELECT key, due_at, spent FROM timers WHERE workflow = $1 AND (key = ANY ($2) OR key = '')", workflow, keys)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := map[string]*decide.Timer{}
	for rows.Next() {
		t := &decide.Timer{}
		if err := rows.Scan(&t.Key, &t.At, &t.Spent); err != nil {
			return nil, err
		}
		out[t.Key] = t
	}
	return out, rows.Err()
}

func setTimers(ctx context.Context, tx *sql.Tx, workflow int64, changes map[string]*decide.TimerChange) error {
	var keys, gone []string
	var times []time.Time
	var spent []bool
	for key, c := range changes {
		if c.Gone {
			gone = append(gone, key)
			continue
		}
		keys, times, spent = append(keys, key), append(times, c.At), append(spent, c.Spent)
	}
	if len(gone) > 0 {
		if _, err := tx.ExecContext(ctx, "DELETE FROM timers WHERE workflow = $1 AND key = ANY ($2)", workflow, gone); err != nil {
			return err
		}
	}
	if len(keys) == 0 {
		return nil
	}
	_, err := tx.ExecContext(ctx, `INSERT INTO timers (workflow, key, due_at, spent) SELECT $1, * FROM unnest($2::text[], $3::timestamptz[], $4::boolean[])
		ON CONFLICT (workflow, key) DO UPDATE SET due_at = excluded.due_at, spent = excluded.spent`, workflow, keys, times, spent)
	return err
}

// Arm sets what a workflow that has just been switched on waits for. Records that are there already count as they are
// now: a due moment still to come is waited for, a day that is not over starts now, and a state that holds is taken to have begun now. Where the version
// before waited for the very same, its timers go on.
func (g *Timing) Arm(ctx context.Context, db *gorm.DB, w *store.Workflow, plan *sheet.Plan, trigger string) error {
	tx, err := store.Raw(db)
	if err != nil {
		return err
	}
	var had string
	err = tx.QueryRowContext(ctx, "SELECT trigger FROM watches WHERE workflow = $1 FOR UPDATE", w.ID).Scan(&had)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return err
	}
	if err == nil && had == trigger && plan.Timed() {
		return nil
	}
	for _, q := range []string{"DELETE FROM timers WHERE workflow = $1", "DELETE FROM watches WHERE workflow = $1"} {
		if _, err := tx.ExecContext(ctx, q, w.ID); err != nil {
			return err
		}
	}
	if !plan.Timed() {
		return nil
	}
	now := g.Now().UTC()
	// No arrival of the source may come between what is seen in the records and what is seen after them.
	if err := store.Lock(ctx, tx, store.LockSource, plan.Source); err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, "INSERT INTO watches (workflow, seq, trigger, since) SELECT $1, coalesce(max(seq), 0), $2, $3 FROM arrivals", w.ID, trigger, now); err != nil {
		return err
	}
	switch plan.Trigger.Form {
	case sheet.Silent:
		return setTimers(ctx, tx, w.ID, map[string]*decide.TimerChange{"": decide.Listen(plan, now)})
	case sheet.Schedule:
		skip, err := g.DaysOff(ctx, plan)
		if err != nil {
			return err
		}
		return setTimers(ctx, tx, w.ID, map[string]*decide.TimerChange{"": decide.NextMoment(plan, now, skip)})
	}
	return g.armRecords(ctx, tx, w.ID, plan, now)
}

func (g *Timing) armRecords(ctx context.Context, tx *sql.Tx, workflow int64, plan *sheet.Plan, now time.Time) error {
	last := ""
	for {
		records, err := recordsAfter(ctx, tx, plan.Source, last)
		if err != nil || len(records) == 0 {
			return err
		}
		changes := map[string]*decide.TimerChange{}
		for _, r := range records {
			last = r.Key
			a := &arrival.Arrival{Source: plan.Source, Type: arrival.Created, Subject: r.Key, Time: now, Record: r.Record}
			if c := decide.Seen(plan, a, nil, now); c != nil {
				changes[r.Key] = c
			}
		}
		if err := setTimers(ctx, tx, workflow, changes); err != nil {
			return err
		}
	}
}

// TimedSince is when a timed workflow began to wait; the zero time where it does not.
func (g *Timing) TimedSince(ctx context.Context, workflow int64) (since time.Time, err error) {
	err = g.Store.Pool.QueryRow(ctx, "SELECT since FROM watches WHERE workflow = $1", workflow).Scan(&since)
	if errors.Is(err, pgx.ErrNoRows) {
		return time.Time{}, nil
	}
	return since, err
}

// Disarm takes away what a workflow that has been switched off was waiting for.
func (g *Timing) Disarm(ctx context.Context, workflow int64) error {
	return g.Store.DB.WithContext(ctx).Exec("WITH t AS (DELETE FROM timers WHERE workflow = @id) DELETE FROM watches WHERE workflow = @id", sql.Named("id", workflow)).Error
}

// KeepSchedules sets the timers of calendars anew whose days left out have changed since they were set, so that what is
// promised is what comes. A moment that has come already is left to firing, which asks for the days itself.
func (g *Timing) KeepSchedules(ctx context.Context) error {
	var list []store.Live
	err := g.Store.DB.WithContext(ctx).Raw("SELECT id, name, version, source, form, since FROM workflows WHERE is_on AND form = ?", sheet.Schedule).Scan(&list).Error
	if err != nil {
		return err
	}
	for _, l := range list {
		plan, err := g.Workflows.PlanOf(ctx, l)
		brokenSheet := &workflows.BrokenSheet{}
		if errors.As(err, &brokenSheet) {
			continue
		}
		if err != nil {
			return err
		}
		if plan.Trigger.Except == "" {
			continue
		}
		err = g.Store.Tx(ctx, func(_ *gorm.DB, tx *sql.Tx) error {
			var due time.Time
			err := tx.QueryRowContext(ctx, `SELECT t.due_at FROM watches w JOIN timers t ON t.workflow = w.workflow AND t.key = '' AND NOT t.spent
				WHERE w.workflow = $1 AND t.due_at > now() FOR UPDATE OF w`, l.ID).Scan(&due)
			if errors.Is(err, sql.ErrNoRows) {
				return nil
			}
			if err != nil {
				return err
			}
			skip, err := g.DaysOff(ctx, plan)
			if err != nil {
				return err
			}
			next := decide.NextMoment(plan, g.Now(), skip)
			if !next.Gone && next.At.Equal(due) {
				return nil
			}
			return setTimers(ctx, tx, l.ID, map[string]*decide.TimerChange{"": next})
		})
		if err != nil {
			return fmt.Errorf("the schedule of workflow %d: %w", l.ID, err)
		}
	}
	return nil
}

// DaysOff reads the days that a schedule leaves out.
func (g *Timing) DaysOff(ctx context.Context, plan *sheet.Plan) (decide.Skip, error) {
	if plan.Trigger.Except == "" {
		return nil, nil
	}
	events, err := g.Store.SampleRecords(ctx, plan.Trigger.Except, 20_000)
	if err != nil {
		return nil, fmt.Errorf("reading the days that are left out: %w", err)
	}
	return decide.DaysOff(events, g.Workspace.Location()), nil
}
