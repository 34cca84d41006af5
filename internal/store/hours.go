package store

import (
	"context"
	"time"
)

// HourCount is how many arrivals of a source came, or posts to a destination were sent, within an hour.
type HourCount struct {
	What string // arrivals or posts
	Name string
	Hour time.Time
	N    int64
}

// HoursSince lists the counts of the hours after a moment.
func (s *Store) HoursSince(ctx context.Context, after time.Time) ([]HourCount, error) {
	var out []HourCount
	err := s.DB.WithContext(ctx).Raw("SELECT what, name, hour, n FROM hours WHERE hour > ?", after).Scan(&out).Error
	return out, err
}

// FailedRuns is how many arrivals a workflow failed on.
type FailedRuns struct {
	Workflow int64
	Name     string
	N        int64
	Error    string // one of them
}

// FailedSince lists the workflows that failed on most arrivals after a moment.
func (s *Store) FailedSince(ctx context.Context, after time.Time, most int) ([]FailedRuns, error) {
	var out []FailedRuns
	err := s.DB.WithContext(ctx).Raw(`SELECT v.workflow, w.name, count(*) AS n, max(CASE WHEN v.failures IS NULL THEN v.error ELSE v.failures->0->>'error' END) AS error FROM verdicts v JOIN workflows w ON w.id = v.workflow
		WHERE (v.verdict = 'failed' OR v.failures IS NOT NULL) AND v.at > ? GROUP BY 1, 2 ORDER BY 3 DESC LIMIT ?`, after, most).Scan(&out).Error
	return out, err
}

// CountFrom counts the arrivals from a number on, and what was told about them.
func (s *Store) CountFrom(ctx context.Context, seq int64) (arrivals, told int64, err error) {
	db := s.DB.WithContext(ctx)
	if err := db.Raw("SELECT count(*) FROM arrivals WHERE seq >= ?", seq).Scan(&arrivals).Error; err != nil {
		return 0, 0, err
	}
	err = db.Raw("SELECT count(*) FROM verdicts WHERE verdict = 'told' AND arrival >= ?", seq).Scan(&told).Error
	return arrivals, told, err
}
