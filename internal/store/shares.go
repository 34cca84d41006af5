package store

import (
	"context"
	"encoding/json"
	"time"

	"gorm.io/gorm"

	"dorfbote/internal/core/message"
)

// Share is a page for people without an account: a link of a post, with the chosen fields as they were when told.
type Share struct {
	Post     int64 `gorm:"primaryKey"` // the one that was made first
	N        int   `gorm:"primaryKey"` // of the link
	Workflow int64
	Arrival  int64
	Text     string // of the link
	Title    string // of the message
	Fields   json.RawMessage
	MadeAt   time.Time
	EndsAt   time.Time
	EndedAt  *time.Time
	EndedBy  string
	Opened   int
	LastAt   *time.Time
}

// PutShare makes a page, or renews what it shows. It ends when it was to end first, and stays ended where somebody ended it.
func (s *Store) PutShare(ctx context.Context, sh Share) error {
	return s.DB.WithContext(ctx).Exec(`INSERT INTO shares (post, n, workflow, arrival, text, title, fields, ends_at) VALUES (?, ?, ?, ?, ?, ?, ?::jsonb, ?)
		ON CONFLICT (post, n) DO UPDATE SET text = excluded.text, title = excluded.title, fields = excluded.fields`, sh.Post, sh.N, sh.Workflow, sh.Arrival, sh.Text, sh.Title, string(sh.Fields), sh.EndsAt).Error
}

// ShareOf gives a page; gone is true where it has ended, or where its record was removed, even if one with its key has come since.
func (s *Store) ShareOf(ctx context.Context, post int64, n int) (sh *Share, fields []message.SharedField, gone bool, err error) {
	var row struct {
		Share
		Gone bool
	}
	res := s.DB.WithContext(ctx).Raw(`SELECT s.*, s.ended_at IS NOT NULL OR s.ends_at <= now() OR coalesce(a.subject <> '' AND (NOT EXISTS (SELECT 1 FROM records r WHERE r.source = a.source AND r.key = a.subject)
			OR EXISTS (SELECT 1 FROM arrivals g WHERE g.source = a.source AND g.subject = a.subject AND g.seq > a.seq AND g.type LIKE '%.removed')), false) AS gone
		FROM shares s LEFT JOIN arrivals a ON a.seq = s.arrival WHERE s.post = ? AND s.n = ?`, post, n).Scan(&row)
	if res.Error != nil {
		return nil, nil, false, res.Error
	}
	if res.RowsAffected == 0 {
		return nil, nil, false, gorm.ErrRecordNotFound
	}
	err = json.Unmarshal(row.Fields, &fields)
	return &row.Share, fields, row.Gone, err
}

// Opened counts that a page was opened.
func (s *Store) Opened(ctx context.Context, post int64, n int) error {
	return s.DB.WithContext(ctx).Exec("UPDATE shares SET opened = opened + 1, last_at = now() WHERE post = ? AND n = ?", post, n).Error
}

// Shares lists pages, newest first: of a post, or of a workflow.
func (s *Store) Shares(ctx context.Context, post, workflow int64, limit int) ([]Share, error) {
	q := s.DB.WithContext(ctx).Order("made_at DESC, post DESC, n").Limit(limit)
	if post > 0 {
		q = q.Where("post = ?", post)
	}
	if workflow > 0 {
		q = q.Where("workflow = ?", workflow)
	}
	out := []Share{}
	err := q.Find(&out).Error
	return out, err
}

// EndShare ends a page for good, and with it what else the links of its post lead to.
func (s *Store) EndShare(ctx context.Context, post int64, n int, by string) error {
	return s.DB.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := found(tx.Exec("UPDATE shares SET ended_at = coalesce(ended_at, now()), ended_by = CASE WHEN ended_at IS NULL THEN ? ELSE ended_by END WHERE post = ? AND n = ?", by, post, n)); err != nil {
			return err
		}
		return tx.Exec("UPDATE posts SET links_ended = coalesce(links_ended, now()) WHERE id = ?", post).Error
	})
}

// EndLinks ends all that a post's links lead to, for good: its pages, pictures, files and buttons, and the page that says why.
func (s *Store) EndLinks(ctx context.Context, p *Post, by string) error {
	root, err := s.RootOf(ctx, p)
	if err != nil {
		return err
	}
	return s.DB.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Exec("UPDATE shares SET ended_at = coalesce(ended_at, now()), ended_by = CASE WHEN ended_at IS NULL THEN ? ELSE ended_by END WHERE post = ?", by, root).Error; err != nil {
			return err
		}
		return found(tx.Exec("UPDATE posts SET links_ended = coalesce(links_ended, now()) WHERE id = ?", root))
	})
}

// LinksEnded tells whether somebody has ended a post's links.
func (s *Store) LinksEnded(ctx context.Context, p *Post) (ended bool, err error) {
	root, err := s.RootOf(ctx, p)
	if err != nil {
		return false, err
	}
	err = s.DB.WithContext(ctx).Raw("SELECT EXISTS (SELECT 1 FROM posts WHERE id = ? AND links_ended IS NOT NULL)", root).Scan(&ended).Error
	return ended, err
}
