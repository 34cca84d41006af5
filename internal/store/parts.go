package store

import (
	"context"
	"fmt"
	"time"

	"gorm.io/gorm"
)

// PartWidth is how many arrivals lie in one partition, as the migration makes them.
const PartWidth = 1_000_000

// partsAhead is how many arrivals there is always room for. The sweep sees to it every few seconds, in which no
// database takes in as many.
const partsAhead = 3 * PartWidth

// Room makes the partitions that the next arrivals will lie in.
func (s *Store) Room(ctx context.Context) error {
	var next int64
	if err := s.DB.WithContext(ctx).Raw("SELECT last_value FROM arrivals_numbers").Scan(&next).Error; err != nil {
		return err
	}
	return s.DB.WithContext(ctx).Exec("SELECT hold_arrivals(n) FROM generate_series(?::bigint, ?::bigint, ?::bigint) AS n", next, next+partsAhead, PartWidth).Error
}

// SeqAt gives the number of the first arrival that came in at a moment or after it; where none did, the next number
// there will be. Arrivals are numbered in the order in which they come in, so that this takes a few looks into an
// index however many there are.
func (s *Store) SeqAt(ctx context.Context, at time.Time) (int64, error) {
	var bounds struct{ Low, High *int64 }
	db := s.DB.WithContext(ctx)
	if err := db.Raw("SELECT min(seq) AS low, max(seq) AS high FROM arrivals").Scan(&bounds).Error; err != nil || bounds.Low == nil {
		return 0, err
	}
	low, high := *bounds.Low, *bounds.High+1
	for low < high {
		mid := low + (high-low)/2
		var row struct {
			Seq        int64
			ReceivedAt time.Time
		}
		if err := db.Raw("SELECT seq, received_at FROM arrivals WHERE seq >= ? ORDER BY seq LIMIT 1", mid).Scan(&row).Error; err != nil {
			return 0, err
		}
		switch {
		case row.ReceivedAt.Before(at):
			low = row.Seq + 1
		default:
			high = mid
		}
	}
	return low, nil
}

// Keep says how long arrivals are kept, with their verdicts and posts. Zero values keep everything.
type Keep struct {
	Days     int
	Arrivals int64 // about how many; up to one partition more are kept
}

// Retained says what Retain did.
type Retained struct {
	Partitions int   // dropped
	Arrivals   int64 // deleted one by one
	Posts      int64 // deleted with their attempts
}

// deletedAtOnce bounds a statement that deletes.
const deletedAtOnce = 5000

// Retain lets go of what is older than it is to be kept. Whole partitions are dropped; where arrivals come so slowly
// that a partition outlives what it holds by a quarter, the old ones in it are deleted. What is not yet decided stays,
// and so does a post that still waits.
func (s *Store) Retain(ctx context.Context, keep Keep, now time.Time) (Retained, error) {
	var out Retained
	var cut int64
	db := s.DB.WithContext(ctx)
	if keep.Days > 0 {
		var err error
		if cut, err = s.SeqAt(ctx, now.AddDate(0, 0, -keep.Days)); err != nil {
			return out, err
		}
	}
	if keep.Arrivals > 0 {
		last, err := s.LastSeq(ctx)
		if err != nil {
			return out, err
		}
		cut = max(cut, last-keep.Arrivals+1)
	}
	if cut <= 0 {
		return out, nil
	}
	parts, err := s.Parts(ctx)
	if err != nil {
		return out, err
	}
	for _, n := range parts {
		if (n+1)*PartWidth > cut {
			break
		}
		free, err := s.done(ctx, (n+1)*PartWidth)
		if err != nil || !free {
			return out, err
		}
		if err := s.dropPart(ctx, n); err != nil {
			return out, err
		}
		out.Partitions++
	}
	if keep.Days > 0 {
		if out.Arrivals, err = s.deleteOld(ctx, now, keep.Days); err != nil {
			return out, err
		}
	}
	for ctx.Err() == nil {
		res := db.Exec(`DELETE FROM posts WHERE id IN (SELECT id FROM posts WHERE arrival < ? AND state NOT IN ('waiting', 'held', 'refused') ORDER BY arrival LIMIT ?)`, cut, deletedAtOnce)
		out.Posts += res.RowsAffected
		if res.Error != nil || res.RowsAffected < deletedAtOnce {
			if res.Error != nil {
				return out, res.Error
			}
			break
		}
	}
	return out, db.Exec("DELETE FROM steps WHERE id IN (SELECT id FROM steps WHERE arrival < ? AND state <> 'waiting' LIMIT ?)", cut, deletedAtOnce).Error
}

// Parts lists the numbers of the partitions that arrivals lie in, oldest first.
func (s *Store) Parts(ctx context.Context) ([]int64, error) {
	var out []int64
	err := s.DB.WithContext(ctx).Raw(`SELECT substr(c.relname, 10)::bigint AS n FROM pg_inherits i JOIN pg_class c ON c.oid = i.inhrelid
		WHERE i.inhparent = 'arrivals'::regclass ORDER BY 1`).Scan(&out).Error
	return out, err
}

// done tells whether everything below a number has been decided, and seen by what waits for a time.
func (s *Store) done(ctx context.Context, below int64) (bool, error) {
	var open bool
	err := s.DB.WithContext(ctx).Raw(`SELECT
		EXISTS (SELECT 1 FROM marks m WHERE m.seq < @below AND EXISTS (SELECT 1 FROM arrivals a WHERE a.source = m.source AND a.seq > m.seq AND a.seq < @below))
		OR EXISTS (SELECT 1 FROM own_marks o JOIN workflows f ON f.id = o.workflow AND f.is_on WHERE o.seq < @below AND EXISTS (SELECT 1 FROM arrivals a WHERE a.source = o.source AND a.seq > o.seq AND a.seq < @below))
		OR EXISTS (SELECT 1 FROM watches w JOIN workflows f ON f.id = w.workflow AND f.is_on
			JOIN LATERAL (SELECT 1 FROM arrivals a WHERE a.source = f.source AND a.for_workflow IS NULL AND a.seq > w.seq AND a.seq < @below LIMIT 1) a ON true)`,
		map[string]any{"below": below}).Scan(&open).Error
	return !open, err
}

// dropPart drops a partition, unless others use the tables for so long that they would have to be stopped.
func (s *Store) dropPart(ctx context.Context, n int64) error {
	return s.DB.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Exec("SET LOCAL lock_timeout = '2s'").Error; err != nil {
			return err
		}
		if err := tx.Exec(fmt.Sprintf("DROP TABLE verdicts_%d, arrivals_%d", n, n)).Error; err != nil {
			return fmt.Errorf("dropping the partition of arrivals from %d on: %w", n*PartWidth, err)
		}
		return nil
	})
}

func (s *Store) deleteOld(ctx context.Context, now time.Time, days int) (int64, error) {
	var oldest *time.Time
	db := s.DB.WithContext(ctx)
	if err := db.Raw("SELECT received_at FROM arrivals ORDER BY seq LIMIT 1").Scan(&oldest).Error; err != nil || oldest == nil {
		return 0, err
	}
	if now.Sub(*oldest) < time.Duration(days)*30*time.Hour { // a quarter more than it is to be kept
		return 0, nil
	}
	cut, err := s.SeqAt(ctx, now.AddDate(0, 0, -days))
	if err != nil {
		return 0, err
	}
	free, err := s.done(ctx, cut)
	if err != nil || !free {
		return 0, err
	}
	gone := int64(0)
	for ctx.Err() == nil {
		res := db.Exec("DELETE FROM arrivals WHERE seq IN (SELECT seq FROM arrivals WHERE seq < ? ORDER BY seq LIMIT ?)", cut, deletedAtOnce)
		gone += res.RowsAffected
		if res.Error != nil {
			return gone, res.Error
		}
		if res.RowsAffected < deletedAtOnce {
			break
		}
	}
	return gone, db.Exec("DELETE FROM verdicts WHERE arrival < ?", cut).Error
}
