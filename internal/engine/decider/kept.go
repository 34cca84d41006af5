package decider

import (
	"context"
	"database/sql"
	"encoding/json"
	"slices"
	"time"

	"dorfbote/internal/core/decide"
	"dorfbote/internal/core/formula"
	"dorfbote/internal/engine/outbox"
)

// kept are the posts of one workflow that follow the records of some arrivals, as they are in a transaction.
type kept struct {
	workflow int64
	version  int
	byKey    map[string][]decide.Kept
	touched  map[string]bool
	gone     []string // refs of what went in a digest
}

// keptOf reads what follows the records of some arrivals.
func keptOf(ctx context.Context, tx *sql.Tx, workflow int64, made []decided, list []int) (*kept, error) {
	k := &kept{workflow: workflow, byKey: map[string][]decide.Kept{}, touched: map[string]bool{}}
	var keys []string
	for _, i := range list {
		d := &made[i]
		if k.version = d.live.Version; d.plan.KeepsUp() && d.sc.Subject != "" {
			keys = append(keys, d.sc.Subject)
		}
	}
	if len(keys) == 0 {
		return k, nil
	}
	rows, err := tx.QueryContext(ctx, "SELECT body::text FROM kept WHERE workflow = $1 AND key = ANY ($2) ORDER BY ref", workflow, keys)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var raw []byte
		var one decide.Kept
		if err := rows.Scan(&raw); err != nil {
			return nil, err
		}
		if err := json.Unmarshal(raw, &one); err != nil {
			return nil, err
		}
		k.byKey[one.Key] = append(k.byKey[one.Key], one)
	}
	return k, rows.Err()
}

// conclude makes of an outcome what the pace and what is kept up make of it.
func (d *decided) conclude(mem *memory, k *kept) {
	var paced decide.Memory
	key := d.sc.Subject
	if d.plan.Pace != nil {
		paced = mem
		if d.Verdict == decide.Told || len(k.byKey[key]) > 0 {
			d.before = decide.LetGo(d.plan, mem, d.at)
		}
	}
	for _, later := range d.before {
		k.went(later.Gone)
	}
	following := k.byKey[key]
	var fresh []decide.Kept
	d.Outcome, fresh = decide.Conclude(d.plan, paced, decide.Following(following, d.sc.Now), outbox.Cause(d.seq), key, d.sc, d.Outcome)
	d.before = append(d.before, d.Releases...)
	if len(following) > 0 && !d.resumed {
		record := d.sc.Record
		if record == nil {
			record = d.sc.Before
		}
		sc := &formula.Scope{Record: record, Before: d.sc.Before, Arrival: d.sc.Arrival, Answers: d.sc.Answers, Now: d.sc.Now, Reach: d.sc.Reach}
		followed := decide.Follow(d.plan, paced, following, outbox.Cause(d.seq), sc, d.sc.Kind == "removed")
		d.edits = followed.After(d.Posts)[len(d.Posts):]
		d.Failures = append(d.Failures, followed.Failures...)
		k.byKey[key], k.touched[key] = followed.Left, true
	}
	if len(fresh) > 0 {
		k.byKey[key], k.touched[key] = append(k.byKey[key], fresh...), true
	}
}

// went lets go of posts that went in a digest.
func (k *kept) went(refs []string) {
	k.gone = append(k.gone, refs...)
	for key, list := range k.byKey {
		k.byKey[key] = slices.DeleteFunc(list, func(one decide.Kept) bool { return slices.Contains(refs, one.Ref) })
	}
}

// write writes down what is kept up from now on.
func (k *kept) write(ctx context.Context, tx *sql.Tx) error {
	if err := keptGone(ctx, tx, k.workflow, k.gone); err != nil || len(k.touched) == 0 {
		return err
	}
	var keys, refs, of, bodies []string
	var ends []time.Time
	for key := range k.touched {
		keys = append(keys, key)
		for _, one := range k.byKey[key] {
			raw, err := json.Marshal(one)
			if err != nil {
				return err
			}
			refs, of, bodies, ends = append(refs, one.Ref), append(of, key), append(bodies, string(raw)), append(ends, one.Ends)
		}
	}
	if _, err := tx.ExecContext(ctx, "DELETE FROM kept WHERE workflow = $1 AND key = ANY ($2)", k.workflow, keys); err != nil {
		return err
	}
	_, err := tx.ExecContext(ctx, `INSERT INTO kept (workflow, version, ref, key, body, ends_at) SELECT $1, $2, * FROM unnest($3::text[], $4::text[], $5::jsonb[], $6::timestamptz[])
		ON CONFLICT (workflow, ref) DO UPDATE SET body = excluded.body`, k.workflow, k.version, refs, of, bodies, ends)
	return err
}

// keptGone lets go of posts that went in a digest, and so are none of their own.
func keptGone(ctx context.Context, tx *sql.Tx, workflow int64, refs []string) error {
	if len(refs) == 0 {
		return nil
	}
	_, err := tx.ExecContext(ctx, "DELETE FROM kept WHERE workflow = $1 AND ref = ANY ($2)", workflow, refs)
	return err
}
