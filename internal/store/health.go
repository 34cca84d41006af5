package store

import (
	"context"
	"time"
)

// HealthHour is how many calls to or from a connection went well and failed within an hour.
type HealthHour struct {
	Hour   time.Time
	OK     int `gorm:"column:ok"`
	Failed int
}

// NoteHealth notes how a call to or from a connection went.
func (s *Store) NoteHealth(ctx context.Context, connection string, failure error) error {
	db := s.DB.WithContext(ctx)
	ok, failed := 1, 0
	if failure != nil {
		ok, failed = 0, 1
	}
	err := db.Exec(`INSERT INTO health (connection, hour, ok, failed) VALUES (?, date_trunc('hour', now()), ?, ?)
		ON CONFLICT (connection, hour) DO UPDATE SET ok = health.ok + excluded.ok, failed = health.failed + excluded.failed`, connection, ok, failed).Error
	if err != nil {
		return err
	}
	if failure == nil {
		return db.Exec("UPDATE connections SET last_ok = now(), failing_since = NULL, last_error = '' WHERE id = ?", connection).Error
	}
	return db.Exec("UPDATE connections SET failing_since = coalesce(failing_since, now()), last_error = ? WHERE id = ?", failure.Error(), connection).Error
}

// Health gives a connection's health by the hour, as far as it is kept: how asking went, and what was posted there in the last two weeks.
func (s *Store) Health(ctx context.Context, connection string) ([]HealthHour, error) {
	out := []HealthHour{}
	err := s.DB.WithContext(ctx).Raw(`SELECT hour, sum(ok) AS ok, sum(failed) AS failed FROM (
			SELECT hour, ok, failed FROM health WHERE connection = ?
			UNION ALL SELECT hour, n, 0 FROM hours WHERE what = 'posts' AND starts_with(name, ?) AND hour > now() - interval '14 days'
		) t GROUP BY hour ORDER BY hour`, connection, connection+"/").Scan(&out).Error
	return out, err
}
