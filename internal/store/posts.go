package store

import (
	"context"
	"time"
)

// PostFilter narrows the outbox. Zero values do not narrow.
type PostFilter struct {
	State       string
	Destination string
	Workflow    int64
	Arrival     int64
	ID          int64
	Text        string // in the title
	Before      int64
	Limit       int
}

// PostRow is a post in a list.
type PostRow struct {
	Post
	WorkflowName string
}

// Posts lists posts, newest first.
func (s *Store) Posts(ctx context.Context, f PostFilter) ([]PostRow, error) {
	q := s.DB.WithContext(ctx).Table("posts").Select("posts.*, workflows.name AS workflow").
		Joins("JOIN workflows ON workflows.id = posts.workflow").Order("posts.id DESC").Limit(f.Limit)
	if f.State != "" {
		q = q.Where("posts.state = ?", f.State)
	}
	if f.Destination != "" {
		q = q.Where("posts.destination = ?", f.Destination)
	}
	if f.Workflow > 0 {
		q = q.Where("posts.workflow = ?", f.Workflow)
	}
	if f.Arrival > 0 {
		q = q.Where("posts.arrival = ?", f.Arrival)
	}
	if f.ID > 0 {
		q = q.Where("posts.id = ?", f.ID)
	}
	if f.Text != "" {
		q = q.Where("posts.title ILIKE ?", "%"+escapeLike(f.Text)+"%")
	}
	if f.Before > 0 {
		q = q.Where("posts.id < ?", f.Before)
	}
	var out []PostRow
	return out, q.Find(&out).Error
}

// NextPosts gives the next posts that wait for a destination, in order.
func (s *Store) NextPosts(ctx context.Context, destination string, limit int) ([]Post, error) {
	var out []Post
	err := s.DB.WithContext(ctx).Where("destination = ? AND state = ?", destination, Waiting).Order("id").Limit(limit).Find(&out).Error
	return out, err
}

// RemoteID gives the other side's id of a post, "" while it has none.
func (s *Store) RemoteID(ctx context.Context, id int64) (string, error) {
	var remote string
	err := s.DB.WithContext(ctx).Model(&Post{}).Where("id = ?", id).Pluck("remote_id", &remote).Error
	return remote, err
}

// Destination gives one destination.
func (s *Store) Destination(ctx context.Context, name string) (*Destination, error) {
	var d Destination
	err := s.DB.WithContext(ctx).First(&d, "name = ?", name).Error
	return &d, err
}

// DestinationRow is a destination with how its posts stand.
type DestinationRow struct {
	Destination
	Waiting  int64
	Sent     int64 // in the last 24 hours
	LastSent *time.Time
	Refused  int64
	Oldest   *time.Time // since when the oldest waiting post waits
}

// Destinations lists every destination.
func (s *Store) Destinations(ctx context.Context) ([]DestinationRow, error) {
	var out []DestinationRow
	err := s.DB.WithContext(ctx).Raw(`SELECT d.*,
		(SELECT count(*) FROM posts p WHERE p.destination = d.name AND p.state = 'waiting') AS waiting,
		(SELECT count(*) FROM posts p WHERE p.destination = d.name AND p.state = 'refused') AS refused,
		(SELECT created_at FROM posts p WHERE p.destination = d.name AND p.state = 'waiting' ORDER BY id LIMIT 1) AS oldest,
		(SELECT count(*) FROM posts p WHERE p.destination = d.name AND p.state = 'sent' AND p.sent_at > now() - interval '1 day') AS sent,
		(SELECT max(sent_at) FROM posts p WHERE p.destination = d.name AND p.state = 'sent') AS last_sent
		FROM destinations d ORDER BY d.name`).Scan(&out).Error
	return out, err
}

// WaitingDestinations lists the destinations that have something to send and may.
func (s *Store) WaitingDestinations(ctx context.Context) ([]string, error) {
	var out []string
	err := s.DB.WithContext(ctx).Raw(`SELECT d.name FROM destinations d WHERE NOT d.paused
		AND EXISTS (SELECT 1 FROM posts p WHERE p.destination = d.name AND p.state = 'waiting')`).Scan(&out).Error
	return out, err
}
