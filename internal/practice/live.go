package practice

import (
	"context"
	"time"

	"gorm.io/gorm"

	"dorfbote/internal/core/value"
	"dorfbote/internal/practice/world"
)

// WriteRecords puts records into the apps as they are, without telling anybody.
func WriteRecords(db *gorm.DB, last map[string]world.Change) error {
	rows := make([]record, 0, len(last))
	for _, id := range value.SortedKeys(last) {
		c := last[id]
		rows = append(rows, record{App: c.App, Kind: c.Kind, Key: c.Key, Data: value.AppendJSON(nil, c.Record), UpdatedAt: c.At})
	}
	for len(rows) > 0 {
		n := min(len(rows), 1000)
		if tx := db.Table("practice.records").Create(rows[:n]); tx.Error != nil {
			return tx.Error
		}
		rows = rows[n:]
	}
	return nil
}

// LiveOn lets the world go on in real time, pace times as fast, until ctx ends. What happened while
// nobody was here is written down without telling anybody.
func (s *Server) LiveOn(ctx context.Context, zone *time.Location, base string, pace float64) error {
	var row struct {
		Seed    int64
		First   time.Time
		LivedTo time.Time
		Shift   int64 // seconds from the world's time to the time here
	}
	if err := s.db.WithContext(ctx).Raw("SELECT * FROM practice.world").Scan(&row).Error; err != nil || row.First.IsZero() {
		return err
	}
	w := world.NewWorld(uint64(row.Seed), time.Date(row.First.Year(), row.First.Month(), row.First.Day(), 0, 0, 0, 0, zone), base)
	shift := time.Duration(row.Shift) * time.Second
	began := time.Now().Add(-shift) // by the world's clock
	started := time.Now()
	clock := func() time.Time { return began.Add(time.Duration(float64(time.Since(started)) * pace)) }
	for ctx.Err() == nil {
		for _, c := range w.NextDay() {
			if !c.At.After(row.LivedTo) {
				continue
			}
			if wait := c.At.Sub(clock()); wait > 0 {
				select {
				case <-ctx.Done():
					return nil
				case <-time.After(time.Duration(float64(wait) / pace)):
				}
			}
			if err := s.live(ctx, c.Shifted(shift, zone), c.At, c.At.Before(began)); err != nil && ctx.Err() == nil {
				return err
			}
		}
	}
	return nil
}

// live has a change happen; at is its moment by the world's clock.
func (s *Server) live(ctx context.Context, c world.Change, at time.Time, missed bool) error {
	k := s.kind(c.App, c.Kind)
	edit := func(before map[string]any) (map[string]any, string, error) {
		if before == nil {
			return c.Record, "created", nil
		}
		return merged(before, c.Fields), "updated", nil
	}
	if missed {
		return s.db.WithContext(ctx).Exec(`INSERT INTO practice.records (app, kind, key, data) VALUES (?, ?, ?, ?::jsonb)
			ON CONFLICT (app, kind, key) DO UPDATE SET data = excluded.data`, c.App, c.Kind, c.Key, string(value.AppendJSON(nil, c.Record))).Error
	}
	if _, err := s.apply(ctx, k, c.Key, c.By, edit); err != nil {
		return err
	}
	return s.db.WithContext(ctx).Exec("UPDATE practice.world SET lived_to = ?", at).Error
}
