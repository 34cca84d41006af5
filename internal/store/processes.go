package store

import (
	"context"
	"time"
)

// Process is a process as it was last heard of.
type Process struct {
	Name   string `gorm:"primaryKey"`
	SkewMs int64  // how far its clock is ahead of the database's
	SeenAt time.Time
}

// Skew is how far the process's clock is ahead of the database's.
func (p Process) Skew() time.Duration { return time.Duration(p.SkewMs) * time.Millisecond }

// ClockTime is the moment by the database's clock.
func (s *Store) ClockTime(ctx context.Context) (at time.Time, err error) {
	err = s.Pool.QueryRow(ctx, "SELECT clock_timestamp()").Scan(&at)
	return at, err
}

// SeenProcess notes that a process is running.
func (s *Store) SeenProcess(ctx context.Context, p Process) error {
	return s.DB.WithContext(ctx).Exec(`INSERT INTO processes (name, skew_ms, seen_at) VALUES (?, ?, now())
		ON CONFLICT (name) DO UPDATE SET skew_ms = excluded.skew_ms, seen_at = now()`, p.Name, p.SkewMs).Error
}

// WrongClocks lists processes heard of within a time whose clocks are off by more than another.
func (s *Store) WrongClocks(ctx context.Context, off, within time.Duration) ([]Process, error) {
	var out []Process
	err := s.DB.WithContext(ctx).Where("abs(skew_ms) > ? AND seen_at > now() - ? * interval '1 second'", off.Milliseconds(), within.Seconds()).Order("name").Find(&out).Error
	return out, err
}
