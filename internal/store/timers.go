package store

import (
	"context"
	"database/sql"
	"time"
)

// NextMoment is when the next timer comes due, something held is to be told, an alert is to be followed up, or a question is due; null where nothing waits.
func (s *Store) NextMoment(ctx context.Context) (at sql.NullTime, err error) {
	err = s.Pool.QueryRow(ctx, "SELECT least((SELECT min(due_at) FROM timers WHERE NOT spent), (SELECT min(due_at) FROM pace_held), (SELECT min(due_at) FROM escalations), (SELECT min(due_at) FROM asks WHERE state = 'open'))").Scan(&at)
	return at, err
}

// NextUp is a workflow that will start by itself.
type NextUp struct {
	At       time.Time
	Workflow int64
	Name     string
	Form     string
	Key      string
}

// NextUp lists what will start next; silences are left out, since they start only if nothing comes.
func (s *Store) NextUp(ctx context.Context, most int) ([]NextUp, error) {
	out := []NextUp{}
	err := s.DB.WithContext(ctx).Raw(`SELECT t.due_at AS at, w.id AS workflow, w.name, w.form, t.key FROM timers t JOIN workflows w ON w.id = t.workflow
		WHERE NOT t.spent AND w.is_on AND w.form <> 'silent' ORDER BY t.due_at LIMIT ?`, most).Scan(&out).Error
	return out, err
}
