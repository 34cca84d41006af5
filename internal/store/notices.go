package store

import (
	"context"
	"time"
)

// Notice is something that a person is told once.
type Notice struct {
	ID     int64
	What   string
	Words  string
	Go     string // where in the application it is seen to
	About  string
	Owner  *int64 // nil: everyone
	At     time.Time
	DoneAt *time.Time
}

// Notice keeps something to be told; where it is told already, with the newest words.
func (s *Store) Notice(ctx context.Context, n Notice) error {
	return s.DB.WithContext(ctx).Exec(`INSERT INTO notices (what, words, go, about, owner) VALUES (?, ?, ?, ?, ?)
		ON CONFLICT (about, what) WHERE done_at IS NULL DO UPDATE SET words = excluded.words`, n.What, n.Words, n.Go, n.About, n.Owner).Error
}

// NoticeDone takes back what was told about something. It tells whether there was anything.
func (s *Store) NoticeDone(ctx context.Context, about, what string) (bool, error) {
	res := s.DB.WithContext(ctx).Exec("UPDATE notices SET done_at = now() WHERE about = ? AND what = ? AND done_at IS NULL", about, what)
	return res.RowsAffected > 0, res.Error
}
