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

// Notices lists what is still to be told to a person, the newest first.
func (s *Store) Notices(ctx context.Context, person int64, most int) ([]Notice, error) {
	var out []Notice
	err := s.DB.WithContext(ctx).Where("done_at IS NULL AND (owner IS NULL OR owner = ?)", person).Order("at DESC").Limit(most).Find(&out).Error
	return out, err
}

// DismissNotice takes a notice away; it comes back if what it tells of does.
func (s *Store) DismissNotice(ctx context.Context, id int64) error {
	return s.DB.WithContext(ctx).Exec("UPDATE notices SET done_at = now() WHERE id = ?", id).Error
}
