package store

import (
	"context"
	"database/sql"
	"time"
)

// What people did with alerts, and what came of alerts by the clock.
const (
	ActClaimed   = "claimed"
	ActReplied   = "replied"
	ActPressed   = "pressed"
	ActAnswered  = "answered"
	ActFollowed  = "followed"
	ActWithdrawn = "withdrawn"
	ActHanded    = "handed over"
	ActLetGo     = "let go"
	// Beside them, what people say of an alert: [ActUseful], [ActNotForMe].
)

// Deed is one thing that was done with an alert.
type Deed struct {
	ID       int64
	Workflow int64
	Arrival  int64
	Post     *int64
	What     string
	Name     string // of the button, the question or the step
	By       string
	Words    string
	At       time.Time
}

// TableName implements gorm's Tabler.
func (Deed) TableName() string { return "deeds" }

// AddAct notes something that was done.
func AddAct(ctx context.Context, tx *sql.Tx, a Deed) error {
	_, err := tx.ExecContext(ctx, "INSERT INTO deeds (workflow, arrival, post, what, name, by, words) VALUES ($1, $2, $3, $4, $5, $6, $7)", a.Workflow, a.Arrival, a.Post, a.What, a.Name, a.By, a.Words)
	return err
}

// Press notes that a button of a post was pressed; fresh is false where it was pressed before, by whom first says.
func Press(ctx context.Context, tx *sql.Tx, a Deed) (first *Deed, fresh bool, err error) {
	res, err := tx.ExecContext(ctx, `INSERT INTO deeds (workflow, arrival, post, what, name, by, words) VALUES ($1, $2, $3, 'pressed', $4, $5, $6)
		ON CONFLICT (post, name) WHERE what = 'pressed' DO NOTHING`, a.Workflow, a.Arrival, a.Post, a.Name, a.By, a.Words)
	if err != nil {
		return nil, false, err
	}
	if n, err := res.RowsAffected(); err != nil || n > 0 {
		return nil, n > 0, err
	}
	first = &Deed{}
	err = tx.QueryRowContext(ctx, "SELECT by, at, words FROM deeds WHERE post = $1 AND name = $2 AND what = 'pressed'", a.Post, a.Name).Scan(&first.By, &first.At, &first.Words)
	return first, false, err
}

// PressedOn gives who pressed a button of a post first; nil where nobody has.
func (s *Store) PressedOn(ctx context.Context, post int64, name string) (*Deed, error) {
	var list []Deed
	err := s.DB.WithContext(ctx).Where("post = ? AND name = ? AND what = ?", post, name, ActPressed).Limit(1).Find(&list).Error
	if err != nil || len(list) == 0 {
		return nil, err
	}
	return &list[0], nil
}

// ActsOf lists what was done with an alert, in its order.
func (s *Store) ActsOf(ctx context.Context, arrival, workflow int64) ([]Deed, error) {
	var out []Deed
	err := s.DB.WithContext(ctx).Where("arrival = ? AND workflow = ?", arrival, workflow).Order("id").Limit(200).Find(&out).Error
	return out, err
}

// Alert is what people did with an alert: the first who took it, the first who answered.
type Alert struct {
	Workflow  int64
	Arrival   int64
	ClaimedBy string
	ClaimedAt *time.Time
	RepliedBy string
	RepliedAt *time.Time
	// ClaimedPerson is the account that took it; nil where it was taken by a link or in a chat.
	ClaimedPerson *int64
}

// AlertOf gives what people did with an alert; an empty one where they did nothing.
func (s *Store) AlertOf(ctx context.Context, arrival, workflow int64) (Alert, error) {
	var list []Alert
	err := s.DB.WithContext(ctx).Where("arrival = ? AND workflow = ?", arrival, workflow).Limit(1).Find(&list).Error
	if err != nil || len(list) == 0 {
		return Alert{Workflow: workflow, Arrival: arrival}, err
	}
	return list[0], nil
}

// Claim notes who took an alert; first is who had taken it before, "" where nobody had.
func Claim(ctx context.Context, tx *sql.Tx, workflow, arrival int64, by string, account int64) (first string, err error) {
	res, err := tx.ExecContext(ctx, `INSERT INTO alerts (workflow, arrival, claimed_by, claimed_at, claimed_person) VALUES ($1, $2, $3, now(), nullif($4, 0))
		ON CONFLICT (workflow, arrival) DO UPDATE SET claimed_by = excluded.claimed_by, claimed_at = excluded.claimed_at, claimed_person = excluded.claimed_person WHERE alerts.claimed_by = ''`, workflow, arrival, by, account)
	if err != nil {
		return "", err
	}
	if n, err := res.RowsAffected(); err != nil || n > 0 {
		return "", err
	}
	err = tx.QueryRowContext(ctx, "SELECT claimed_by FROM alerts WHERE workflow = $1 AND arrival = $2", workflow, arrival).Scan(&first)
	return first, err
}

// Unclaim takes a claim back.
func Unclaim(ctx context.Context, tx *sql.Tx, workflow, arrival int64) error {
	_, err := tx.ExecContext(ctx, "UPDATE alerts SET claimed_by = '', claimed_at = NULL, claimed_person = NULL WHERE workflow = $1 AND arrival = $2", workflow, arrival)
	return err
}

// Replied notes who answered an alert first.
func Replied(ctx context.Context, tx *sql.Tx, workflow, arrival int64, by string) error {
	_, err := tx.ExecContext(ctx, `INSERT INTO alerts (workflow, arrival, replied_by, replied_at) VALUES ($1, $2, $3, now())
		ON CONFLICT (workflow, arrival) DO UPDATE SET replied_by = CASE WHEN alerts.replied_by = '' THEN excluded.replied_by ELSE alerts.replied_by END,
			replied_at = coalesce(alerts.replied_at, excluded.replied_at)`, workflow, arrival, by)
	return err
}
