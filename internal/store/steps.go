package store

import (
	"context"
	"encoding/json"
	"time"

	"gorm.io/gorm"
)

// The states of a step of a run, besides those of a post.
const (
	Done    = "done"
	Skipped = "skipped" // what it follows on did not come about
	Failed  = "failed"
)

// Step is one thing that a run does after its posts.
type Step struct {
	ID        int64
	Workflow  int64
	Version   int
	Arrival   int64
	N         int
	Name      string
	Kind      string // add, change, call
	Target    string // a source, or a workflow's name
	RecordKey string
	Calls     *int64 // the workflow that is called; nil where there was none of the name
	Body      json.RawMessage
	IfFails   string // stop, go_on or tell
	Broken    string // why its values could not be worked out
	Fallback  *string
	Many      *string         // of many records that are added: what is set in each
	DoneN     int             // how many of them are done
	Failures  json.RawMessage // what failed of them: [{n, error}]
	Key       string          // idempotency key
	State     string
	Attempts  int
	Status    int
	Answer    string
	NotBefore *time.Time
	CreatedAt time.Time
	DoneAt    *time.Time
}

// StepKeyed gives the step with a key; an empty one where there is none.
func (s *Store) StepKeyed(ctx context.Context, key string) (Step, error) {
	var list []Step
	err := s.DB.WithContext(ctx).Where("key = ?", key).Limit(1).Find(&list).Error
	if err != nil || len(list) == 0 {
		return Step{}, err
	}
	return list[0], nil
}

// StepsOf lists the steps of a run, in their order.
func (s *Store) StepsOf(ctx context.Context, arrival, workflow int64) ([]Step, error) {
	var out []Step
	err := s.DB.WithContext(ctx).Where("arrival = ? AND workflow = ?", arrival, workflow).Order("n").Find(&out).Error
	return out, err
}

// TryStepsAgain has a run go on from its first step that failed: that one waits again, and so does what was left out because
// of it. Their keys stay: a step that did come about, without its answer being heard, is known as done by the other side.
// It tells whether there was such a step.
func (s *Store) TryStepsAgain(ctx context.Context, arrival, workflow int64) (there bool, err error) {
	err = s.DB.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		var first *int
		err := tx.Raw("SELECT min(n) FROM steps WHERE arrival = ? AND workflow = ? AND state IN ('failed', 'skipped')", arrival, workflow).Scan(&first).Error
		if err != nil || first == nil {
			return err
		}
		there = true
		return tx.Exec(`UPDATE steps SET state = 'waiting', not_before = NULL, done_at = NULL, answer = '' WHERE arrival = ? AND workflow = ? AND n >= ? AND state IN ('failed', 'skipped')`,
			arrival, workflow, *first).Error
	})
	return there, err
}
