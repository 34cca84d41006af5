package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"slices"
	"time"

	"gorm.io/gorm"
)

// The states of a post.
const (
	Waiting = "waiting"
	Sent    = "sent"
	Refused = "refused"
	GivenUp = "given up"
	Dropped = "dropped"
	Expired = "expired"
	Held    = "held" // set aside by a person; those behind it go on
)

// Post is one composed message on its way to one destination.
type Post struct {
	ID          int64
	Workflow    int64
	Arrival     int64
	Destination string
	Message     string
	Body        json.RawMessage // a message.Document
	Title       string
	Under       *int64
	Key         string
	State       string
	Attempts    int
	Answer      string
	Status      int
	RemoteID    string
	CreatedAt   time.Time
	SentAt      *time.Time
	Updates     *int64     // the earlier post that this one is put in the place of
	Trial       bool       // sent to try a sheet: it stops nothing, and nothing follows
	ExpiresAt   *time.Time // when it is no longer worth sending; nil is never
	Cc, Bcc     string     // of a mail: connection/addresses
	Link        string     // to the post, where the other side gives one
	Report      string     // what the other side told later of a post that it had taken: sent, delivered, failed
	ReportWords string
	ReportAt    *time.Time
	Ask         string     // the question that it puts, or reminds of
	Done        bool       // the last edit of a post that follows its record
	Edits       bool       // it is such an edit
	UnderRemote string     // the other side's id of what it answers, which is none of ours
	Was         string     `gorm:"->"` // the state before [Store.ActOn]
	Through     string     `gorm:"->"` // the workflows that its arrival came through; read by [Store.NextPosts] alone
	LinksEnded  *time.Time // since when its links lead nowhere; of the post that was made first
	Aside       bool       // refused for what is its own fault: what waits behind it goes on
}

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
	But         []int64 // none of these workflows
}

// PostRow is a post in a list.
type PostRow struct {
	Post
	WorkflowName string
}

// group asks for the posts of a state, a destination and a workflow, as far as they are named: what can be acted on at once.
func (f PostFilter) group(q *gorm.DB) *gorm.DB {
	if f.State != "" {
		q = q.Where("posts.state = ?", f.State)
	}
	if f.Destination != "" {
		q = q.Where("posts.destination = ?", f.Destination)
	}
	if f.Workflow > 0 {
		q = q.Where("posts.workflow = ?", f.Workflow)
	}
	if len(f.But) > 0 {
		q = q.Where("posts.workflow NOT IN ?", f.But)
	}
	return q
}

// Posts lists posts, newest first.
func (s *Store) Posts(ctx context.Context, f PostFilter) ([]PostRow, error) {
	q := s.DB.WithContext(ctx).Table("posts").Select("posts.*, workflows.name AS workflow_name").
		Joins("JOIN workflows ON workflows.id = posts.workflow").Order("posts.id DESC").Limit(f.Limit)
	q = f.group(q)
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
	err := q.Find(&out).Error
	return out, err
}

// NextPosts gives the next posts that wait for a destination, in order.
func (s *Store) NextPosts(ctx context.Context, destination string, limit int) ([]Post, error) {
	var out []Post
	err := s.DB.WithContext(ctx).Raw(`SELECT p.*, coalesce((SELECT a.through FROM arrivals a WHERE a.seq = p.arrival), '') AS through
		FROM posts p WHERE p.destination = ? AND p.state = 'waiting' ORDER BY p.id LIMIT ?`, destination, limit).Scan(&out).Error
	return out, err
}

// RootOf gives the post that was made first, of which a post may be an edit or a later one in its place.
func (s *Store) RootOf(ctx context.Context, p *Post) (int64, error) {
	if p.Updates == nil {
		return p.ID, nil
	}
	var root int64
	err := s.DB.WithContext(ctx).Raw(`WITH RECURSIVE up AS (SELECT id, updates FROM posts WHERE id = ? UNION SELECT p.id, p.updates FROM posts p JOIN up ON p.id = up.updates)
		SELECT min(id) FROM up`, *p.Updates).Scan(&root).Error
	return root, err
}

// Post gives one post; the error is [gorm.ErrRecordNotFound] where there is none.
func (s *Store) Post(ctx context.Context, id int64) (*Post, error) {
	var p Post
	err := s.DB.WithContext(ctx).First(&p, id).Error
	return &p, err
}

// ThreadsOf lists the posts of an alert that were delivered and have no other above them: what hangs on the alert hangs there.
func (s *Store) ThreadsOf(ctx context.Context, arrival, workflow int64) ([]Post, error) {
	var out []Post
	err := s.DB.WithContext(ctx).Where("arrival = ? AND workflow = ? AND under IS NULL AND updates IS NULL AND state = ? AND NOT trial AND ask = ''", arrival, workflow, Sent).Order("id").Limit(200).Find(&out).Error
	return out, err
}

// PostCalled finds the post that another side names so, over one connection; nil where there is none.
func (s *Store) PostCalled(ctx context.Context, connection, remote string) (*Post, error) {
	if remote == "" {
		return nil, nil
	}
	var list []Post
	err := s.DB.WithContext(ctx).Raw("SELECT * FROM posts WHERE remote_id = ? AND split_part(destination, '/', 1) = ? ORDER BY id LIMIT 1", remote, connection).Scan(&list).Error
	if err != nil || len(list) == 0 {
		return nil, err
	}
	return &list[0], nil
}

// About is what a post was about.
type About struct {
	Workflow   string
	WorkflowID int64
	Arrival    int64
	Source     string
	Key        string
}

// AboutOf finds what the post was about that a message answers: the other side's id of the post (of two, as chat servers give, the one
// by which others know it), in the same room or, where there is no room, over the same connection. It is nil where the post is none of ours.
func (s *Store) AboutOf(ctx context.Context, source, room, remote string) (*About, error) {
	var list []About
	err := s.DB.WithContext(ctx).Raw(`SELECT w.name AS workflow, p.workflow AS workflow_id, p.arrival, coalesce(a.source, '') AS source, coalesce(a.subject, '') AS key
		FROM posts p JOIN workflows w ON w.id = p.workflow LEFT JOIN arrivals a ON a.seq = p.arrival
		CROSS JOIN LATERAL (SELECT substr(p.destination, strpos(p.destination, '/') + 1) AS place, split_part(p.destination, '/', 1) = split_part(@source, '/', 1) AS same) d
		WHERE (p.remote_id = @remote OR split_part(p.remote_id, ' ', 2) = @remote AND @remote <> '') AND NOT p.trial
			AND CASE WHEN @room = '' THEN d.same ELSE d.place = @room OR d.same AND split_part(d.place, '@', 1) = @room END
		ORDER BY p.id LIMIT 1`, sql.Named("remote", remote), sql.Named("room", room), sql.Named("source", source)).Scan(&list).Error
	if err != nil || len(list) == 0 {
		return nil, err
	}
	return &list[0], nil
}

// RemoteID gives the other side's id of a post, "" while it has none.
func (s *Store) RemoteID(ctx context.Context, id int64) (string, error) {
	var remote string
	err := s.DB.WithContext(ctx).Model(&Post{}).Where("id = ?", id).Pluck("remote_id", &remote).Error
	return remote, err
}

// Act is what a person does with posts.
type Act string

// What a person can do with posts.
const (
	SendAgain Act = "again"
	Drop      Act = "drop"
	Hold      Act = "hold"
	Release   Act = "release"
)

// To is the state that a post gets by an act.
func (a Act) To() string {
	return map[Act]string{SendAgain: Waiting, Drop: Dropped, Hold: Held, Release: Waiting}[a]
}

// From are the states that a post must be in for an act.
func (a Act) From() []string {
	return map[Act][]string{
		SendAgain: {Refused, GivenUp, Dropped, Expired, Held},
		Drop:      {Waiting, Refused, GivenUp, Held},
		Hold:      {Waiting, Refused},
		Release:   {Held},
	}[a]
}

// ActOn does something with posts, and gives those that were in a state for it. Which are meant is said by their ids, or by a
// filter where there are none; at most so many are looked at, which is how many there were. A person has looked at them: they
// no longer expire by themselves.
func (s *Store) ActOn(ctx context.Context, a Act, ids []int64, f PostFilter, most int) (done []Post, of int, err error) {
	err = s.DB.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		q := f.group(tx.Table("posts").Select("id"))
		if len(ids) > 0 {
			q = q.Where("id IN ?", ids)
		}
		var meant []int64
		if err := q.Order("id").Limit(most).Scan(&meant).Error; err != nil || len(meant) == 0 {
			return err
		}
		of = len(meant)
		return tx.Raw(`UPDATE posts SET state = ?, aside = false, expires_at = NULL FROM (SELECT id, state FROM posts WHERE id IN ? AND state IN ? FOR UPDATE) old
			WHERE posts.id = old.id RETURNING posts.id, destination, arrival, workflow, old.state AS was`, a.To(), meant, a.From()).Scan(&done).Error
	})
	return done, of, err
}

// CountPosts counts posts that are named by their ids, or by a filter where there are none.
func (s *Store) CountPosts(ctx context.Context, ids []int64, f PostFilter) (n int64, err error) {
	q := f.group(s.DB.WithContext(ctx).Table("posts"))
	if len(ids) > 0 {
		q = q.Where("id IN ?", ids)
	}
	err = q.Count(&n).Error
	return n, err
}

// ErrState means that a post is in a state in which something cannot be done with it.
var ErrState = errors.New("the post is in another state")

// RemakePost has a post that was not sent say something else, and wait again; [ErrState] where it is not in a state for that.
func (s *Store) RemakePost(ctx context.Context, p *Post) error {
	res := s.DB.WithContext(ctx).Exec(`UPDATE posts SET body = ?::jsonb, title = ?, cc = ?, bcc = ?, message = ?, state = 'waiting', aside = false, expires_at = NULL WHERE id = ? AND state IN ?`,
		string(p.Body), p.Title, p.Cc, p.Bcc, p.Message, p.ID, SendAgain.From())
	if res.Error == nil && res.RowsAffected == 0 {
		return ErrState
	}
	return res.Error
}

// ReportPost notes what the other side told later of a post that it had taken, which is named by its own id for it; p is nil where
// none of the connection's posts is. That one was not reached counts for more than that others were; fresh is false where nothing
// new was told.
func (s *Store) ReportPost(ctx context.Context, connection, remote, state, words string) (p *Post, fresh bool, err error) {
	err = s.DB.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		var list []Post
		err := tx.Raw("SELECT * FROM posts WHERE remote_id = ? AND split_part(destination, '/', 1) = ? ORDER BY id DESC LIMIT 1 FOR UPDATE", remote, connection).Scan(&list).Error
		if err != nil || len(list) == 0 || remote == "" {
			return err
		}
		p = &list[0]
		if p.Report == "failed" || p.Report == state {
			return nil
		}
		fresh = true
		return tx.Exec(`UPDATE posts SET report = ?, report_words = ?, report_at = now(), state = CASE WHEN ? = 'failed' AND state = 'sent' THEN 'refused' ELSE state END,
			answer = CASE WHEN ? = 'failed' THEN ? ELSE answer END WHERE id = ?`, state, words, state, state, words, p.ID).Error
	})
	return p, fresh, err
}

// Fed gives the last posts that were sent over a connection, to one place or to all, the oldest first.
func (s *Store) Fed(ctx context.Context, connection, place string, most int) ([]Post, error) {
	q := s.DB.WithContext(ctx).Where("state = ? AND NOT trial", Sent).Order("id DESC").Limit(most)
	if place != "" {
		q = q.Where("destination = ?", connection+"/"+place)
	} else {
		q = q.Where("split_part(destination, '/', 1) = ?", connection)
	}
	var out []Post
	err := q.Find(&out).Error
	slices.Reverse(out)
	return out, err
}

// PostState gives a post's state; the error is [gorm.ErrRecordNotFound] where there is none.
func (s *Store) PostState(ctx context.Context, id int64) (string, error) {
	var state string
	err := s.DB.WithContext(ctx).Raw("SELECT state FROM posts WHERE id = ?", id).Scan(&state).Error
	if err == nil && state == "" {
		err = gorm.ErrRecordNotFound
	}
	return state, err
}
