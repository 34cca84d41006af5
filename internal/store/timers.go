package store

import (
	"context"
	"database/sql"
)

// NextMoment is when the next timer comes due, or something held is to be told; null where nothing waits.
func (s *Store) NextMoment(ctx context.Context) (at sql.NullTime, err error) {
	err = s.Pool.QueryRow(ctx, "SELECT least((SELECT min(due_at) FROM timers WHERE NOT spent), (SELECT min(due_at) FROM pace_held))").Scan(&at)
	return at, err
}
