package decider

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"sort"
	"strconv"
	"time"

	"gorm.io/gorm"

	"dorfbote/internal/core/decide"
	"dorfbote/internal/engine/outbox"
	"dorfbote/internal/engine/workflows"
	"dorfbote/internal/store"
)

// pace has the pace of each workflow say what becomes of outcomes that would tell something. It is called in the
// transaction that writes them, under a lock for each workflow, so that every arrival counts once.
func (de *Decider) pace(ctx context.Context, tx *sql.Tx, made []decided) ([]decided, error) {
	byWorkflow := map[int64][]int{}
	for i, d := range made {
		if d.plan != nil && (d.plan.Pace != nil && d.Verdict == decide.Told || d.plan.KeepsUp()) {
			byWorkflow[d.live.ID] = append(byWorkflow[d.live.ID], i)
		}
	}
	if len(byWorkflow) == 0 {
		return made, nil
	}
	ids := make([]int64, 0, len(byWorkflow))
	for id := range byWorkflow {
		ids = append(ids, id)
	}
	slices.Sort(ids) // always in this order, so that two batches cannot wait for each other
	gone := map[int]bool{}
	for _, id := range ids {
		if err := paceLock(ctx, tx, id); err != nil {
			return nil, err
		}
		if err := de.paceOf(ctx, tx, id, made, byWorkflow[id], gone); err != nil {
			return nil, fmt.Errorf("the pace of workflow %d: %w", id, err)
		}
	}
	out := made[:0:0]
	for i, d := range made {
		if !gone[i] {
			out = append(out, d)
		}
	}
	return out, nil
}

// paceOf has the pace of one workflow, and what it keeps up, say what becomes of some outcomes. gone are those that have been
// decided before.
func (de *Decider) paceOf(ctx context.Context, tx *sql.Tx, id int64, made []decided, list []int, gone map[int]bool) error {
	known, err := verdictsOf(ctx, tx, id, made, list)
	if err != nil {
		return err
	}
	sort.SliceStable(list, func(a, b int) bool { return made[list[a]].at.Before(made[list[b]].at) })
	kept, err := keptOf(ctx, tx, id, made, list)
	if err != nil {
		return err
	}
	mem := &memory{ctx: ctx, tx: tx, workflow: id}
	for _, i := range list {
		d := &made[i]
		if known[d.seq] && !d.resumed { // this has been decided before
			gone[i] = true
			continue
		}
		d.conclude(mem, kept)
	}
	if mem.err != nil {
		return mem.err
	}
	return kept.write(ctx, tx)
}

func paceLock(ctx context.Context, tx *sql.Tx, workflow int64) error {
	return store.Lock(ctx, tx, store.LockPace, strconv.FormatInt(workflow, 10))
}

func verdictsOf(ctx context.Context, tx *sql.Tx, workflow int64, made []decided, list []int) (map[int64]bool, error) {
	seqs := make([]int64, len(list))
	for n, i := range list {
		seqs[n] = made[i].seq
	}
	rows, err := tx.QueryContext(ctx, "SELECT arrival FROM verdicts WHERE workflow = $1 AND arrival = ANY ($2)", workflow, seqs)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	known := map[int64]bool{}
	for rows.Next() {
		var seq int64
		if err := rows.Scan(&seq); err != nil {
			return nil, err
		}
		known[seq] = true
	}
	return known, rows.Err()
}

// LetGoDue tells what has been held for long enough, of every workflow.
func (de *Decider) LetGoDue(ctx context.Context) (more bool, err error) {
	var list []store.Live
	err = de.Store.DB.WithContext(ctx).Raw(`SELECT w.id, w.name, w.version, w.source, w.form, w.since FROM workflows w
		WHERE w.id IN (SELECT DISTINCT workflow FROM pace_held WHERE due_at <= now())`).Scan(&list).Error
	if err != nil {
		return false, err
	}
	var failed []error
	for _, l := range list {
		if err := de.letGo(ctx, l); err != nil {
			failed = append(failed, fmt.Errorf("letting go what workflow %d held: %w", l.ID, err))
		}
	}
	return false, errors.Join(failed...)
}

func (de *Decider) letGo(ctx context.Context, l store.Live) error {
	plan, err := de.Workflows.PlanOf(ctx, l)
	brokenSheet := &workflows.BrokenSheet{}
	if errors.As(err, &brokenSheet) {
		de.Notice(ctx, store.Notice{What: "cannot run", Words: "something was held, and the sheet cannot be run", Go: fmt.Sprintf("/workflows/%d", l.ID), About: l.Name})
		return nil
	}
	if err != nil {
		return err
	}
	return de.Async.Tx(ctx, func(_ *gorm.DB, tx *sql.Tx) error {
		if err := paceLock(ctx, tx, l.ID); err != nil {
			return err
		}
		until, err := de.comeTo(ctx, tx, l)
		if err != nil {
			return err
		}
		mem := &memory{ctx: ctx, tx: tx, workflow: l.ID}
		laters := decide.LetGo(plan, mem, until)
		if mem.err != nil || len(laters) == 0 {
			return mem.err
		}
		var rows []outbox.Row
		for _, later := range laters {
			rows = outbox.Append(rows, laterRows(l, later))
			if err := keptGone(ctx, tx, l.ID, later.Gone); err != nil {
				return err
			}
		}
		if err := rowsLater(ctx, tx, l.ID, laters); err != nil {
			return err
		}
		if err := toldInDigests(ctx, tx, l.ID, laters); err != nil {
			return err
		}
		return de.Outbox.Put(ctx, tx, rows, true)
	})
}

// overtaking is for how long what is held waits for arrivals that have come and are not decided; then something else is wrong, and it goes.
const overtaking = time.Minute

// comeTo is the moment up to which a workflow has been decided: now, unless an arrival is still to be decided that came earlier. What is held
// until later than that may yet be joined by it, or told before it.
func (de *Decider) comeTo(ctx context.Context, tx *sql.Tx, l store.Live) (time.Time, error) {
	now := de.Now()
	if l.Source == "" {
		return now, nil
	}
	var next time.Time
	err := tx.QueryRowContext(ctx, `SELECT time FROM arrivals WHERE source = $2 AND (for_workflow IS NULL OR for_workflow = $1) AND received_at > now() - $3 * interval '1 second'
		AND seq > coalesce((SELECT seq FROM own_marks WHERE workflow = $1), (SELECT seq FROM marks WHERE source = $2), 0) ORDER BY seq LIMIT 1`, l.ID, l.Source, overtaking.Seconds()).Scan(&next)
	if errors.Is(err, sql.ErrNoRows) || err == nil && next.After(now) {
		return now, nil
	}
	return next, err
}

// toldInDigests has the alerts that went in digests count from when those are delivered, each of which is the post of the first of them.
func toldInDigests(ctx context.Context, tx *sql.Tx, workflow int64, laters []decide.Later) error {
	for _, later := range laters {
		if later.Verdict != decide.Digested || later.Step != "" || len(later.Causes) < 2 {
			continue
		}
		if err := store.ToldWith(ctx, tx, workflow, seqsOf(later.Causes[1:]), outbox.KeyOf(workflow, later.Posts[0].Ref)); err != nil {
			return err
		}
	}
	return nil
}

func seqsOf(causes []string) []int64 {
	seqs := make([]int64, len(causes))
	for i, c := range causes {
		seqs[i] = outbox.CauseSeq(c)
	}
	return seqs
}

// rowsLater notes with the arrivals what became of them.
func rowsLater(ctx context.Context, tx *sql.Tx, workflow int64, laters []decide.Later) error {
	for _, later := range laters {
		if later.Step != "" { // it is of an escalation, not of the arrival itself
			continue
		}
		if _, err := tx.ExecContext(ctx, "UPDATE verdicts SET later = $3, later_at = $4 WHERE workflow = $1 AND arrival = ANY ($2)", workflow, seqsOf(later.Causes), string(later.Verdict), later.At); err != nil {
			return err
		}
	}
	return nil
}
