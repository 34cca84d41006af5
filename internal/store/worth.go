package store

import (
	"context"
	"strings"
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

// WorthDays is over how many days it is looked at what alerts were worth.
const WorthDays = 30

// How many posts of a workflow, the newest, its worth is counted over: by itself, and where all workflows are looked at.
const (
	worthOver     = 5000
	worthOverEach = 300
)

// What is counted: posts that were delivered and stand by themselves, without edits and trials.
const countedPosts = `p.workflow = @workflow AND p.state = 'sent' AND p.sent_at > @since AND p.under IS NULL AND p.updates IS NULL AND NOT p.trial AND NOT p.edits`

// worthDeeds are the deeds by which people show what an alert is worth to them.
const worthDeeds = `('claimed', 'replied', 'pressed', 'answered', 'useful', 'not for me')`

// reactions is what people did with one of the posts p.
const reactions = `LEFT JOIN LATERAL (SELECT min(d.at) FILTER (WHERE d.what <> 'not for me') AS first, count(*) FILTER (WHERE d.what = 'useful') AS useful, count(*) FILTER (WHERE d.what = 'not for me') AS not_for_me
	FROM deeds d WHERE d.arrival = p.arrival AND d.workflow = p.workflow AND (d.post IS NULL OR d.post = p.id)
		AND d.what IN ` + worthDeeds + `) r ON true`

// WorthOf counts what came of what a workflow has told since a moment, by places, the most told first. What hangs under another
// post, edits and trials are not counted.
func (s *Store) WorthOf(ctx context.Context, workflow int64, since time.Time) ([]Worth, error) {
	var out []Worth
	err := s.DB.WithContext(ctx).Raw(`SELECT p.destination, count(*) AS posts, count(r.first) AS led, coalesce(sum(r.useful), 0) AS useful, coalesce(sum(r.not_for_me), 0) AS not_for_me,
			percentile_disc(0.5) WITHIN GROUP (ORDER BY extract(epoch FROM greatest(r.first - p.sent_at, interval '0')) ) FILTER (WHERE r.first IS NOT NULL) AS median_s, max(p.sent_at) AS last_at
		FROM (SELECT p.id, p.workflow, p.arrival, p.destination, p.sent_at FROM posts p WHERE `+countedPosts+` ORDER BY p.id DESC LIMIT @most) p `+reactions+`
		GROUP BY p.destination ORDER BY posts DESC, p.destination LIMIT 200`, map[string]any{"workflow": workflow, "since": since, "most": worthOver}).Scan(&out).Error
	return out, err
}

// Unneeded is a workflow whose alerts few need.
type Unneeded struct {
	ID       int64
	Name     string
	Posts    int64
	Led      int64
	Useful   int64
	NotForMe int64
}

// When a workflow is one that nobody needs: it told something worth counting, and people said so, or hardly anybody did
// anything, where people do something with alerts at all.
const (
	unneededPosts = 10 // told at least
	unneededWords = 2  // people who say that it is not for them, more than found it useful
	unneededPart  = 10 // or one in so many led to something, at most
	reactingLeast = 10 // things that people did with alerts, of any workflow, so that silence says something
)

// Unneeded finds the workflows that are on and whose alerts since a moment few need, as far as the version that is on told them,
// those first of which most was told for nothing. Those that somebody left as they are since then are not among them.
func (s *Store) Unneeded(ctx context.Context, since time.Time, most int) ([]Unneeded, error) {
	var out []Unneeded
	err := s.DB.WithContext(ctx).Raw(`SELECT w.id, w.name, c.posts, c.led, c.useful, c.not_for_me FROM workflows w
		CROSS JOIN LATERAL (SELECT count(*) AS posts, count(r.first) AS led, coalesce(sum(r.useful), 0) AS useful, coalesce(sum(r.not_for_me), 0) AS not_for_me
			FROM (SELECT p.id, p.workflow, p.arrival FROM posts p JOIN verdicts v ON v.arrival = p.arrival AND v.workflow = p.workflow AND v.version = w.version
				WHERE `+strings.Replace(countedPosts, "@workflow", "w.id", 1)+` ORDER BY p.id DESC LIMIT @most) p `+reactions+`) c
		WHERE w.is_on AND (w.left_at IS NULL OR w.left_at < @since) AND c.posts >= @posts
			AND (c.not_for_me >= @words AND c.not_for_me > c.useful
				OR c.led * @part <= c.posts AND (SELECT d.at FROM deeds d WHERE d.what IN `+worthDeeds+` ORDER BY d.id DESC OFFSET @reacting - 1 LIMIT 1) > @since)
		ORDER BY c.posts - c.led DESC, w.id LIMIT @limit`, map[string]any{
		"since": since, "most": worthOverEach, "posts": unneededPosts, "words": unneededWords, "part": unneededPart, "reacting": reactingLeast, "limit": most,
	}).Scan(&out).Error
	return out, err
}

// UnneededMark changes when somebody says or does something about an alert, when a workflow is switched on, and when one is left as it
// is; what is told alone does not change it.
func (s *Store) UnneededMark(ctx context.Context) (mark string, err error) {
	err = s.DB.WithContext(ctx).Raw(`SELECT concat_ws(' ', (SELECT max(id) FROM deeds), count(*), sum(version), max(left_at), min(left_at)) FROM workflows WHERE is_on`).Scan(&mark).Error
	return mark, err
}

// LeaveWorth notes that a workflow is left as it is, though few need it: it is not named for a while.
func (s *Store) LeaveWorth(ctx context.Context, workflow int64, at time.Time) error {
	return s.DB.WithContext(ctx).Exec("UPDATE workflows SET left_at = ? WHERE id = ?", at, workflow).Error
}

// Told is an arrival that a workflow told of.
type Told struct {
	Arrival int64 // its seq
	ID      string
	Subject string
	Time    time.Time
	Data    string // JSON
	Tick    bool   // a timer's, or the calendar's
	Led     bool   // somebody made use of it
}

// ToldOf lists the arrivals that a workflow has told of since a moment, the newest first; with a version, only those that this
// version told of.
func (s *Store) ToldOf(ctx context.Context, workflow int64, version int, since time.Time, most int) ([]Told, error) {
	var out []Told
	err := s.DB.WithContext(ctx).Raw(`SELECT a.seq AS arrival, a.id, a.subject, a.time, a.data::text AS data, a.for_workflow IS NOT NULL AS tick, t.led
		FROM (SELECT p.arrival, bool_or(r.first IS NOT NULL) AS led FROM posts p JOIN verdicts v ON v.arrival = p.arrival AND v.workflow = p.workflow `+reactions+`
			WHERE `+countedPosts+` AND (@version = 0 OR v.version = @version) GROUP BY p.arrival ORDER BY p.arrival DESC LIMIT @most) t
		JOIN arrivals a ON a.seq = t.arrival ORDER BY a.seq DESC`, map[string]any{"workflow": workflow, "version": version, "since": since, "most": most}).Scan(&out).Error
	return out, err
}
