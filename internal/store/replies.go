package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"

	"github.com/jackc/pgx/v5"
)

// PutReply keeps what a caller is answered.
func PutReply(ctx context.Context, tx *sql.Tx, arrival, workflow int64, status int, body []byte) error {
	_, err := tx.ExecContext(ctx, "INSERT INTO replies (arrival, workflow, status, body) VALUES ($1, $2, $3, $4) ON CONFLICT DO NOTHING", arrival, workflow, status, string(body))
	return err
}

// ReplyTo gives what the caller is answered whose call is an arrival; there is false while that is not known.
func (s *Store) ReplyTo(ctx context.Context, arrival, workflow int64) (status int, body json.RawMessage, there bool, err error) {
	var text *string
	err = s.Pool.QueryRow(ctx, "SELECT status, body::text FROM replies WHERE arrival = $1 AND workflow = $2", arrival, workflow).Scan(&status, &text)
	if errors.Is(err, pgx.ErrNoRows) {
		return 0, nil, false, nil
	}
	if err == nil && text != nil {
		body = json.RawMessage(*text)
	}
	return status, body, err == nil, err
}

// CallStands tells whether a call that was taken is kept, and still has no answer.
func (s *Store) CallStands(ctx context.Context, arrival, workflow int64) (stands bool, err error) {
	err = s.Pool.QueryRow(ctx, "SELECT EXISTS (SELECT 1 FROM arrivals WHERE seq = $1 AND for_workflow = $2 AND received_at > now() - interval '8 days')", arrival, workflow).Scan(&stands)
	return stands, err
}

// ForgetReplies lets go of answers that are older than a day.
func (s *Store) ForgetReplies(ctx context.Context) error {
	_, err := s.Pool.Exec(ctx, "DELETE FROM replies WHERE at < now() - interval '1 day'")
	return err
}
