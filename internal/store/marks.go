package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"
)

// OwnMark is how far a workflow has been decided that goes at its own pace. A source's mark, in the table marks, is how far
// all its other workflows have: everything up to it has its verdicts and posts.
type OwnMark struct {
	Workflow int64 `gorm:"primaryKey"`
	Source   string
	Seq      int64
	Stays    bool // false: it joins the others of its source once it has caught up with them
}

// ErrMoved means that another process has moved a mark on meanwhile.
var ErrMoved = errors.New("another process has decided this meanwhile")

// Marks gives a source's mark, and the workflows on it that have one of their own. A source that was never heard of
// has none, and ok is false.
func (s *Store) Marks(ctx context.Context, source string) (seq int64, own []OwnMark, ok bool, err error) {
	rows, err := s.Pool.Query(ctx, `SELECT 0, seq, true FROM marks WHERE source = $1
		UNION ALL SELECT o.workflow, o.seq, o.stays FROM own_marks o JOIN workflows w ON w.id = o.workflow AND w.is_on WHERE o.source = $1`, source)
	if err != nil {
		return 0, nil, false, err
	}
	defer rows.Close()
	for rows.Next() {
		m := OwnMark{Source: source}
		if err := rows.Scan(&m.Workflow, &m.Seq, &m.Stays); err != nil {
			return 0, nil, false, err
		}
		if m.Workflow == 0 {
			seq, ok = m.Seq, true
			continue
		}
		own = append(own, m)
	}
	return seq, own, ok, rows.Err()
}

// After gives a source's arrivals after a number, in order.
func (s *Store) After(ctx context.Context, source string, seq int64, limit int) ([]Arrival, error) {
	rows, err := s.Pool.Query(ctx, `SELECT seq, id, type, time, subject, data::text, for_workflow, through FROM arrivals WHERE source = $1 AND seq > $2 ORDER BY seq LIMIT $3`, source, seq, limit)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []Arrival
	for rows.Next() {
		a := Arrival{Source: source}
		var data string
		if err := rows.Scan(&a.Seq, &a.ID, &a.Type, &a.Time, &a.Subject, &data, &a.ForWorkflow, &a.Through); err != nil {
			return nil, err
		}
		a.Data = []byte(data)
		out = append(out, a)
	}
	return out, rows.Err()
}

// MoveMark moves a source's mark, or a workflow's own where workflow is not 0, in the transaction of what was decided.
// The error is [ErrMoved] where it no longer stands where it was read, or where others have a mark of their own than own
// says, which were left out of what was decided for the source: one that was given its mark meanwhile would be told out of
// order, and one that has joined the others would miss what was decided without it.
func MoveMark(ctx context.Context, tx *sql.Tx, lane Lane, from, to int64, own map[int64]bool) error {
	source, workflow := lane.Source, lane.Workflow
	query, name := "UPDATE marks SET seq = $3 WHERE source = $1 AND seq = $2", any(source)
	if workflow != 0 {
		query, name = "UPDATE own_marks SET seq = $3 WHERE workflow = $1 AND seq = $2", any(workflow)
	}
	res, err := tx.ExecContext(ctx, query, name, from, to)
	if err != nil {
		return fmt.Errorf("moving the mark of %s: %w", source, err)
	}
	if n, err := res.RowsAffected(); err != nil || n == 0 {
		return errors.Join(err, ErrMoved)
	}
	if workflow != 0 {
		return nil
	}
	// Marks of their own are given and taken under the source's mark, which this transaction holds from here on.
	rows, err := tx.QueryContext(ctx, "SELECT o.workflow FROM own_marks o JOIN workflows w ON w.id = o.workflow AND w.is_on WHERE o.source = $1", source)
	if err != nil {
		return fmt.Errorf("moving the mark of %s: %w", source, err)
	}
	defer rows.Close()
	n := 0
	for rows.Next() {
		var id int64
		if err := rows.Scan(&id); err != nil {
			return err
		}
		if n++; !own[id] {
			return ErrMoved
		}
	}
	if err := rows.Err(); err != nil || n == len(own) {
		return err
	}
	return ErrMoved
}

// GiveOwnMark lets a workflow go at its own pace from an arrival on.
func GiveOwnMark(ctx context.Context, tx *sql.Tx, m OwnMark) error {
	_, err := tx.ExecContext(ctx, `INSERT INTO own_marks (workflow, source, seq, stays) VALUES ($1, $2, $3, $4)
		ON CONFLICT (workflow) DO UPDATE SET source = excluded.source, seq = excluded.seq, stays = excluded.stays`, m.Workflow, m.Source, m.Seq, m.Stays)
	return err
}

// Join ends a workflow's own mark if the others of its source have come no further than it has. What they decide again
// for it has its verdict already.
func (s *Store) Join(ctx context.Context, m OwnMark) error {
	return s.DB.WithContext(ctx).Exec(`WITH common AS (SELECT seq FROM marks WHERE source = ? FOR UPDATE)
		DELETE FROM own_marks o USING common WHERE o.workflow = ? AND o.seq = ? AND common.seq <= o.seq`, m.Source, m.Workflow, m.Seq).Error
}

// Lane names one strictly ordered reader: of a source, or of one workflow on it.
type Lane struct {
	Source   string
	Workflow int64 // 0: of all workflows without a mark of their own
}

// Behind lists where something is still to be decided. With an age above 0 it lists only where that is older.
func (s *Store) Behind(ctx context.Context, age time.Duration) ([]Lane, error) {
	var out []Lane
	old := ""
	if age > 0 {
		old = fmt.Sprintf(" AND a.received_at < now() - interval '%d milliseconds'", age.Milliseconds())
	}
	err := s.DB.WithContext(ctx).Raw(`SELECT m.source, 0 AS workflow FROM marks m WHERE EXISTS (SELECT 1 FROM arrivals a WHERE a.source = m.source AND a.seq > m.seq` + old + `)
		UNION ALL SELECT o.source, o.workflow FROM own_marks o JOIN workflows w ON w.id = o.workflow AND w.is_on
			WHERE ` + joins(age) + `EXISTS (SELECT 1 FROM arrivals a WHERE a.source = o.source AND a.seq > o.seq` + old + `)`).Scan(&out).Error
	return out, err
}

// joins lists workflows that wait to join the others as well, unless it is asked what is late.
func joins(age time.Duration) string {
	if age > 0 {
		return ""
	}
	return "NOT o.stays OR "
}

// Undecided counts arrivals that came in longer ago than an age and lie beyond their source's mark, up to a thousand a
// source.
func (s *Store) Undecided(ctx context.Context, age time.Duration) (int64, error) {
	var n int64
	err := s.DB.WithContext(ctx).Raw(`SELECT coalesce(sum(n), 0)::bigint FROM marks m CROSS JOIN LATERAL (SELECT count(*) AS n FROM (
		SELECT 1 FROM arrivals a WHERE a.source = m.source AND a.seq > m.seq AND a.received_at < now() - ? * interval '1 second' LIMIT 1000) x) y`, age.Seconds()).Scan(&n).Error
	return n, err
}
