package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"time"

	"dorfbote/internal/core/decide"
)

// Escalation is a step that tells others where an alert is not taken care of.
type Escalation struct {
	Workflow  int64
	Arrival   int64
	Step      int
	Version   int
	Name      string
	WithinMs  int64
	DueAt     *time.Time
	Posts     json.RawMessage // of what is told again
	ClaimedBy string
	RepliedBy string
	IsOn      bool
	Now       bool                       `gorm:"-"` // it counts at once: nobody could be sent the alert
	Answers   map[string]decide.Answered `gorm:"-"`
}

// AgainPost is a post that is told again after a while.
type AgainPost struct {
	To      string          `json:"to"`
	Cc      string          `json:"cc,omitempty"`
	Bcc     string          `json:"bcc,omitempty"`
	Message string          `json:"message"`
	Thread  bool            `json:"thread,omitempty"` // it stands in the thread of the one before it that does not
	Body    json.RawMessage `json:"body"`
}

// TakeEscalations takes the steps of a workflow whose moment has come off the list, the oldest first, with what people have done.
func TakeEscalations(ctx context.Context, tx *sql.Tx, workflow int64, limit int) ([]Escalation, error) {
	rows, err := tx.QueryContext(ctx, `WITH due AS (DELETE FROM escalations WHERE (workflow, arrival, step) IN (
			SELECT workflow, arrival, step FROM escalations WHERE workflow = $1 AND due_at <= now() ORDER BY due_at, arrival, step LIMIT $2) RETURNING *)
		SELECT d.workflow, d.arrival, d.step, d.version, d.name, d.within_ms, d.due_at, d.posts::text, coalesce(a.claimed_by, ''), coalesce(a.replied_by, ''), w.is_on,
			(SELECT v.answers::text FROM verdicts v WHERE v.arrival = d.arrival AND v.workflow = d.workflow)
		FROM due d JOIN workflows w ON w.id = d.workflow LEFT JOIN alerts a ON a.workflow = d.workflow AND a.arrival = d.arrival ORDER BY d.due_at, d.arrival, d.step`, workflow, limit)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []Escalation
	for rows.Next() {
		var e Escalation
		var posts, answers *string
		if err := rows.Scan(&e.Workflow, &e.Arrival, &e.Step, &e.Version, &e.Name, &e.WithinMs, &e.DueAt, &posts, &e.ClaimedBy, &e.RepliedBy, &e.IsOn, &answers); err != nil {
			return nil, err
		}
		if posts != nil {
			e.Posts = json.RawMessage(*posts)
		}
		if answers != nil {
			if err := json.Unmarshal([]byte(*answers), &e.Answers); err != nil {
				return nil, err
			}
		}
		out = append(out, e)
	}
	return out, rows.Err()
}

// EscalationsOf lists what an alert waits for still.
func (s *Store) EscalationsOf(ctx context.Context, arrival, workflow int64) ([]Escalation, error) {
	var out []Escalation
	err := s.DB.WithContext(ctx).Table("escalations").Select("workflow, arrival, step, version, name, within_ms, due_at").
		Where("arrival = ? AND workflow = ?", arrival, workflow).Order("step").Find(&out).Error
	return out, err
}

// PutEscalation has a step of an alert wait. It has no moment until one of the alert's posts is delivered.
func PutEscalation(ctx context.Context, tx *sql.Tx, e Escalation) error {
	_, err := tx.ExecContext(ctx, "INSERT INTO escalations (workflow, arrival, step, version, name, within_ms, due_at) VALUES ($1, $2, $3, $4, $5, CAST($6 AS bigint), CASE WHEN $7 THEN now() + CAST($6 AS bigint) * interval '1 millisecond' END) ON CONFLICT DO NOTHING",
		e.Workflow, e.Arrival, e.Step, e.Version, e.Name, e.WithinMs, e.Now)
	if err != nil {
		return fmt.Errorf("writing what is told where nobody takes it: %w", err)
	}
	return nil
}

// MadeUnder gives the posts that were made together with one to stand in its thread, in order.
func MadeUnder(ctx context.Context, tx *sql.Tx, p *Post) ([]AgainPost, error) {
	rows, err := tx.QueryContext(ctx, `SELECT destination, cc, bcc, message, body::text FROM posts
		WHERE workflow = $1 AND arrival = $2 AND under = $3 AND created_at = $4 AND NOT edits ORDER BY id`, p.Workflow, p.Arrival, p.ID, p.CreatedAt)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var out []AgainPost
	for rows.Next() {
		var raw string
		one := AgainPost{Thread: true}
		if err := rows.Scan(&one.To, &one.Cc, &one.Bcc, &one.Message, &raw); err != nil {
			return nil, err
		}
		one.Body = json.RawMessage(raw)
		out = append(out, one)
	}
	return out, rows.Err()
}

// ToldWith notes of alerts that they are told by a post that is another alert's, too.
func ToldWith(ctx context.Context, tx *sql.Tx, workflow int64, arrivals []int64, key string) error {
	_, err := tx.ExecContext(ctx, "UPDATE escalations SET with_posts = with_posts || $3::text WHERE workflow = $1 AND arrival = ANY ($2) AND due_at IS NULL AND NOT $3 = ANY (with_posts)", workflow, arrivals, key)
	return err
}

// againSteps is where the numbers begin of what is told again, which no step of the sheet is.
const againSteps = 1000

// PutAgain has posts told again after a while, by the version that is on then. Name is the words of the button.
func PutAgain(ctx context.Context, tx *sql.Tx, workflow, arrival int64, name string, after time.Duration, posts []AgainPost) error {
	raw, err := json.Marshal(posts)
	if err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, `INSERT INTO escalations (workflow, arrival, step, version, name, within_ms, due_at, posts)
		SELECT $1, $2, coalesce((SELECT max(step) + 1 FROM escalations WHERE workflow = $1 AND arrival = $2 AND step >= $6), $6),
			(SELECT version FROM workflows WHERE id = $1), $3, $4::bigint, now() + $4::bigint * interval '1 millisecond', $5`, workflow, arrival, name, after.Milliseconds(), string(raw), againSteps)
	return err
}

// PutOffEscalation has it looked later at the step of a workflow that is due first, which could not be told now.
func (s *Store) PutOffEscalation(ctx context.Context, workflow int64, by time.Duration) error {
	return s.DB.WithContext(ctx).Exec(`UPDATE escalations SET due_at = now() + ? * interval '1 second' WHERE (workflow, arrival, step) IN (
		SELECT workflow, arrival, step FROM escalations WHERE workflow = ? AND due_at <= now() ORDER BY due_at, arrival, step LIMIT 1)`, by.Seconds(), workflow).Error
}

// EscalationsDue lists the workflows that have steps whose moment has come.
func (s *Store) EscalationsDue(ctx context.Context) ([]Live, error) {
	var out []Live
	err := s.DB.WithContext(ctx).Raw(`SELECT w.id, w.name, w.version, w.source, w.form, w.since FROM workflows w
		WHERE w.id IN (SELECT DISTINCT workflow FROM escalations WHERE due_at <= now())`).Scan(&out).Error
	return out, err
}

// BeginStuck has alerts count none of whose posts is on its way any more, for what a person dropped.
func (s *Store) BeginStuck(ctx context.Context) error {
	return s.DB.WithContext(ctx).Exec(`UPDATE escalations e SET due_at = now() + within_ms * interval '1 millisecond' WHERE due_at IS NULL
		AND (with_posts <> '{}' OR EXISTS (SELECT 1 FROM posts p WHERE p.workflow = e.workflow AND p.arrival = e.arrival))
		AND NOT EXISTS (SELECT 1 FROM posts p WHERE p.workflow = e.workflow AND p.arrival = e.arrival AND p.state IN ('waiting', 'held'))
		AND NOT EXISTS (SELECT 1 FROM posts p WHERE p.key = ANY (e.with_posts) AND p.state IN ('waiting', 'held'))
		AND NOT EXISTS (SELECT 1 FROM pace_held h WHERE h.workflow = e.workflow AND h.body->>'cause' = 'a' || e.arrival)`).Error
}
