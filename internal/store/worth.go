package store

import (
	"context"
	"time"
)

// What people say of an alert.
const (
	ActUseful   = "useful"
	ActNotForMe = "not for me"
)

// SayWorth notes what somebody says of a post; what they said of it before gives way. By is "" for whoever has the link.
func (s *Store) SayWorth(ctx context.Context, p *Post, by, what string) error {
	return s.DB.WithContext(ctx).Exec(`INSERT INTO deeds (workflow, arrival, post, what, by) VALUES (?, ?, ?, ?, ?)
		ON CONFLICT (post, by) WHERE what IN ('useful', 'not for me') DO UPDATE SET what = excluded.what, at = now()`, p.Workflow, p.Arrival, p.ID, what, by).Error
}

// Worth is what came of what a workflow told to one place.
type Worth struct {
	Destination string
	Posts       int64      // that were delivered
	Led         int64      // of these, to which somebody did something: took it, replied, pressed, answered, found it useful
	Useful      int64      // words of people
	NotForMe    int64      // words of people
	MedianS     *float64   // seconds from delivery until somebody did the first of these; nil where nobody has
	LastAt      *time.Time // when the last was delivered
}

// worthOver is over how many posts of a workflow, the newest, its worth is counted.
const worthOver = 5000

// WorthOf counts what came of what a workflow has told since a moment, by places, the most told first. What hangs under another
// post, edits and trials are not counted.
func (s *Store) WorthOf(ctx context.Context, workflow int64, since time.Time) ([]Worth, error) {
	var out []Worth
	err := s.DB.WithContext(ctx).Raw(`SELECT p.destination, count(*) AS posts, count(r.first) AS led, coalesce(sum(r.useful), 0) AS useful, coalesce(sum(r.not_for_me), 0) AS not_for_me,
			percentile_disc(0.5) WITHIN GROUP (ORDER BY extract(epoch FROM greatest(r.first - p.sent_at, interval '0')) ) FILTER (WHERE r.first IS NOT NULL) AS median_s, max(p.sent_at) AS last_at
		FROM (SELECT id, workflow, arrival, destination, sent_at FROM posts
			WHERE workflow = ? AND state = 'sent' AND sent_at > ? AND under IS NULL AND updates IS NULL AND NOT trial AND NOT edits ORDER BY id DESC LIMIT ?) p
		LEFT JOIN LATERAL (SELECT min(d.at) FILTER (WHERE d.what <> 'not for me') AS first, count(*) FILTER (WHERE d.what = 'useful') AS useful, count(*) FILTER (WHERE d.what = 'not for me') AS not_for_me
			FROM deeds d WHERE d.arrival = p.arrival AND d.workflow = p.workflow AND (d.post IS NULL OR d.post = p.id)
				AND d.what IN ('claimed', 'replied', 'pressed', 'answered', 'useful', 'not for me')) r ON true
		GROUP BY p.destination ORDER BY posts DESC, p.destination LIMIT 200`, workflow, since, worthOver).Scan(&out).Error
	return out, err
}
