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
