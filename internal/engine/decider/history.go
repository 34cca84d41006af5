package decider

import (
	"context"
	"database/sql"
	"fmt"

	"github.com/jackc/pgx/v5"
	"gorm.io/gorm"

	"dorfbote/internal/connect/hook"
	"dorfbote/internal/engine/intake"
)

// History writes past events and what the workflows that are on made of them, as if it had happened in
// its time: the posts count as sent, and nothing is sent. It is for filling a new database.
func (de *Decider) History(ctx context.Context, events []hook.Event) error {
	const step = 2000
	for len(events) > 0 {
		part := events[:min(step, len(events))]
		events = events[len(part):]
		var receipts []intake.Receipt
		err := pgx.BeginFunc(ctx, de.Store.Pool, func(tx pgx.Tx) error {
			var err error
			receipts, err = de.Writer.Write(ctx, tx, part, false)
			return err
		})
		if err != nil {
			return err
		}
		if err := de.decideHistory(ctx, receipts); err != nil {
			return err
		}
	}
	db := de.Store.DB.WithContext(ctx)
	for _, statement := range []string{
		"UPDATE arrivals SET received_at = time", "UPDATE verdicts SET decided_at = at",
		"INSERT INTO hours SELECT 'arrivals', source, date_trunc('hour', received_at), count(*) FROM arrivals GROUP BY 2, 3 ON CONFLICT DO NOTHING",
		"INSERT INTO hours SELECT 'posts', destination, date_trunc('hour', sent_at), count(*) FROM posts WHERE state = 'sent' AND sent_at IS NOT NULL GROUP BY 2, 3 ON CONFLICT DO NOTHING",
	} {
		if err := db.Exec(statement).Error; err != nil {
			return err
		}
	}
	return nil
}

// decideHistory decides what has just been written as history. Nothing of it is left for the lanes.
func (de *Decider) decideHistory(ctx context.Context, receipts []intake.Receipt) error {
	seqs := make([]int64, len(receipts))
	for i, r := range receipts {
		seqs[i] = r.Seq
	}
	arrivals, err := de.Store.ArrivalsBySeq(ctx, seqs)
	if err != nil {
		return fmt.Errorf("reading arrivals: %w", err)
	}
	on, err := de.Workflows.OnFor(ctx, arrivals)
	if err != nil {
		return fmt.Errorf("reading what is on: %w", err)
	}
	made, _, _, err := de.decideAll(ctx, arrivals, on, 0)
	if err != nil {
		return err
	}
	return de.Store.Tx(ctx, func(_ *gorm.DB, tx *sql.Tx) error { return de.keepIn(ctx, tx, made, false) })
}
