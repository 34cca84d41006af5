package store

import (
	"context"
	"time"
)

// Poll is how a source that is asked from time to time stands.
type Poll struct {
	Source     string `gorm:"primaryKey"`
	Connection string
	Cursor     *string
	Start      string
	Begun      bool
	Every      int
	Quickest   int
	Slowest    int
	Owned      bool // somebody has said how often it is asked
	DueAt      time.Time
	LeaseUntil *time.Time
	Failures   int
	Suspect    bool
	Missing    Keys `gorm:"type:jsonb"`
	LastAt     *time.Time
	LastOK     *time.Time `gorm:"column:last_ok"`
	LastError  string
	LastRows   int64
	LastCalls  int
	LastMs     int
}

// Polls gives how every source that is asked stands, by source.
func (s *Store) Polls(ctx context.Context) (map[string]*Poll, error) {
	var list []Poll
	if err := s.DB.WithContext(ctx).Find(&list).Error; err != nil {
		return nil, err
	}
	out := make(map[string]*Poll, len(list))
	for i := range list {
		out[list[i].Source] = &list[i]
	}
	return out, nil
}

// Due has a source asked at once.
func (s *Store) Due(ctx context.Context, source string) error {
	return s.DB.WithContext(ctx).Exec("UPDATE polls SET due_at = now() WHERE source = ?", source).Error
}

// DueOf has all sources of a connection asked at once.
func (s *Store) DueOf(ctx context.Context, connection string) error {
	return s.DB.WithContext(ctx).Exec("UPDATE polls SET due_at = least(due_at, now()) WHERE connection = ?", connection).Error
}
