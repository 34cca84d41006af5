package store

import (
	"context"
	"time"
)

// Attempt is one try of a post or a step.
type Attempt struct {
	ID      int64
	Post    *int64
	Step    *int64
	At      time.Time
	TookMs  int
	Status  int    // of HTTP; 0 when no answer came
	Address string // what was called
	Sent    string // the body as it went out; secrets travel in headers, which are not kept
	Answer  string // as it came, shortened
	Open    bool   // it has begun, and what came of it is not known yet
}

// beganTry counts a try with its post and writes it down, so that one that is cut off is known of.
const beganTry = `WITH p AS (UPDATE posts SET attempts = attempts + 1 WHERE id = $1)
	INSERT INTO attempts (post, at, took_ms, status, address, sent, answer, open) VALUES ($1, $2, 0, 0, '', '', '', true) RETURNING id`

// BeganTry writes down that a post is being tried. The try is open until it is settled.
func (s *Store) BeganTry(ctx context.Context, post int64, at time.Time) (id int64, err error) {
	err = s.Pool.QueryRow(ctx, beganTry, post, at).Scan(&id)
	return id, err
}

// EndTry writes down what came of a try that another follows at once.
func (s *Store) EndTry(ctx context.Context, a Attempt) error {
	_, err := s.Pool.Exec(ctx, "UPDATE attempts SET open = false, took_ms = $2, status = $3, address = $4, sent = $5, answer = $6 WHERE id = $1", a.ID, a.TookMs, a.Status, a.Address, a.Sent, a.Answer)
	return err
}

// CutOff closes the tries to a destination that were never settled, and tells how many there were. Whoever calls has the destination's
// lock, so nobody is in the middle of one.
func (s *Store) CutOff(ctx context.Context, destination, words string) (int64, error) {
	done, err := s.Pool.Exec(ctx, `WITH a AS (
			UPDATE attempts SET open = false, answer = $2 FROM posts p WHERE attempts.open AND p.id = attempts.post AND p.destination = $1 RETURNING p.id)
		UPDATE posts SET answer = $2, status = 0 WHERE id IN (SELECT id FROM a) AND state = 'waiting'`, destination, words)
	return done.RowsAffected(), err
}

// AttemptsOfPost lists the last tries of a post, the newest first.
func (s *Store) AttemptsOfPost(ctx context.Context, post int64, most int) ([]Attempt, error) {
	var out []Attempt
	err := s.DB.WithContext(ctx).Where("post = ?", post).Order("id DESC").Limit(most).Find(&out).Error
	return out, err
}

// AttemptsOfStep lists the last tries of a step, the newest first.
func (s *Store) AttemptsOfStep(ctx context.Context, step int64, most int) ([]Attempt, error) {
	var out []Attempt
	err := s.DB.WithContext(ctx).Where("step = ?", step).Order("id DESC").Limit(most).Find(&out).Error
	return out, err
}
