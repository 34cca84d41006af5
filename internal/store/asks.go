package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"gorm.io/gorm"

	"dorfbote/internal/core/decide"
)

// The states of a question.
const (
	AskOpen      = "open"
	AskDecided   = "decided"
	AskWithdrawn = "withdrawn"
)

// Ask is a question that was put about an arrival.
type Ask struct {
	ID        int64
	Workflow  int64
	Arrival   int64
	Version   int // of the sheet that asked
	Name      string
	State     string
	Title     string
	Asking    decide.Asking
	Recall    json.RawMessage // what was gathered from elsewhere
	PutAt     time.Time
	DueAt     *time.Time // when it goes, is reminded of, or ends
	EndsAt    *time.Time
	Reminded  int
	Answer    *decide.Answered
	DecidedAt *time.Time
}

// Ended says in words how a question ended.
func (a *Ask) Ended() string {
	switch {
	case a.State == AskWithdrawn:
		return "the question has been withdrawn"
	case a.Answer == nil:
		return "the question has been decided"
	case a.Answer.By == "":
		return "the time for an answer is over"
	}
	return fmt.Sprintf("%s was faster: %s", a.Answer.By, a.Answer.Choice)
}

// askColumns are read by scanAsk.
const askColumns = "id, workflow, arrival, version, name, state, title, body::text, recall::text, put_at, due_at, ends_at, reminded, answer::text, decided_at"

func scanAsk(row interface{ Scan(dest ...any) error }) (*Ask, error) {
	var a Ask
	var body string
	var recall, answer *string
	err := row.Scan(&a.ID, &a.Workflow, &a.Arrival, &a.Version, &a.Name, &a.State, &a.Title, &body, &recall, &a.PutAt, &a.DueAt, &a.EndsAt, &a.Reminded, &answer, &a.DecidedAt)
	if err != nil {
		return nil, err
	}
	if err := json.Unmarshal([]byte(body), &a.Asking); err != nil {
		return nil, err
	}
	if recall != nil {
		a.Recall = json.RawMessage(*recall)
	}
	if answer != nil {
		a.Answer = &decide.Answered{}
		err = json.Unmarshal([]byte(*answer), a.Answer)
	}
	return &a, err
}

// PutAsk writes down a question with the places that are asked. entitled are the mail addresses of the accounts that may answer for each
// place: who that is does not change afterwards, whatever becomes of the people book.
func PutAsk(ctx context.Context, tx *sql.Tx, a *Ask, entitled map[string][]string) error {
	body, err := json.Marshal(a.Asking)
	if err != nil {
		return err
	}
	emails := make([]string, len(a.Asking.Asked))
	for i, place := range a.Asking.Asked {
		emails[i] = strings.Join(entitled[place], " ")
	}
	var recall any
	if len(a.Recall) > 0 {
		recall = string(a.Recall)
	}
	_, err = tx.ExecContext(ctx, `WITH a AS (INSERT INTO asks (workflow, arrival, version, name, title, body, recall, put_at, due_at, ends_at)
			VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10) ON CONFLICT (workflow, arrival, name) DO NOTHING RETURNING id)
		INSERT INTO asked (ask, n, place, emails) SELECT a.id, p.n, p.place, CASE WHEN p.emails = '' THEN '{}' ELSE string_to_array(p.emails, ' ') END
			FROM a, unnest($11::text[], $12::text[]) WITH ORDINALITY AS p(place, emails, n)`,
		a.Workflow, a.Arrival, a.Version, a.Name, a.Title, string(body), recall, a.PutAt, a.DueAt, a.EndsAt, a.Asking.Asked, emails)
	if err != nil {
		return fmt.Errorf("writing the question: %w", err)
	}
	return nil
}

// SetAsk writes down how a question stands.
func SetAsk(ctx context.Context, tx *sql.Tx, a *Ask) error {
	body, err := json.Marshal(a.Asking)
	if err != nil {
		return err
	}
	var answer any
	if a.Answer != nil {
		raw, err := json.Marshal(a.Answer)
		if err != nil {
			return err
		}
		answer = string(raw)
	}
	_, err = tx.ExecContext(ctx, "UPDATE asks SET state = $2, title = $3, body = $4, due_at = $5, ends_at = $6, reminded = $7, answer = $8, decided_at = $9 WHERE id = $1",
		a.ID, a.State, a.Title, string(body), a.DueAt, a.EndsAt, a.Reminded, answer, a.DecidedAt)
	return err
}

// OpenAsk reads a question, and holds it until the transaction ends.
func OpenAsk(ctx context.Context, tx *sql.Tx, id int64) (*Ask, error) {
	a, err := scanAsk(tx.QueryRowContext(ctx, "SELECT "+askColumns+" FROM asks WHERE id = $1 FOR UPDATE", id))
	if errors.Is(err, sql.ErrNoRows) {
		return nil, gorm.ErrRecordNotFound
	}
	return a, err
}

// AskEnds gives the end of the time for an answer to a question; nil where it waits to be put, or is not kept any more.
func (s *Store) AskEnds(ctx context.Context, workflow, arrival int64, name string) (*time.Time, error) {
	var ends []*time.Time
	err := s.DB.WithContext(ctx).Raw("SELECT ends_at FROM asks WHERE workflow = ? AND arrival = ? AND name = ?", workflow, arrival, name).Scan(&ends).Error
	if err != nil || len(ends) == 0 {
		return nil, err
	}
	return ends[0], nil
}

// AskWorkflow gives the workflow that put a question.
func (s *Store) AskWorkflow(ctx context.Context, id int64) (workflow int64, err error) {
	res := s.DB.WithContext(ctx).Raw("SELECT workflow FROM asks WHERE id = ?", id).Scan(&workflow)
	if res.Error == nil && res.RowsAffected == 0 {
		return 0, gorm.ErrRecordNotFound
	}
	return workflow, res.Error
}

// DueAsk is a question with which something is to be done now.
type DueAsk struct{ ID, Workflow int64 }

// DueAsks lists questions with which something is to be done now, the earliest first, and those of one moment by their records' keys.
func (s *Store) DueAsks(ctx context.Context, limit int) ([]DueAsk, error) {
	var out []DueAsk
	err := s.DB.WithContext(ctx).Raw(`SELECT q.id, q.workflow FROM (SELECT id, workflow, arrival, due_at FROM asks WHERE state = 'open' AND due_at <= now() ORDER BY due_at LIMIT ?) q
		LEFT JOIN arrivals a ON a.seq = q.arrival ORDER BY q.due_at, a.subject COLLATE "C", q.id`, limit).Scan(&out).Error
	return out, err
}

// PutOffAsk has it looked later what is to be done with a question, where that cannot be done now.
func PutOffAsk(ctx context.Context, tx *sql.Tx, id int64, by time.Duration) error {
	_, err := tx.ExecContext(ctx, "UPDATE asks SET due_at = now() + $2 * interval '1 second' WHERE id = $1 AND state = 'open'", id, by.Seconds())
	return err
}

// GivenBy notes that a place has answered, and HandAsked that another is asked in its stead.
func GivenBy(ctx context.Context, tx *sql.Tx, ask int64, place string) error {
	_, err := tx.ExecContext(ctx, "UPDATE asked SET given = true WHERE ask = $1 AND place = $2", ask, place)
	return err
}

// HandAsked notes that another place is asked in the stead of one.
func HandAsked(ctx context.Context, tx *sql.Tx, ask int64, from, to string, entitled []string) error {
	_, err := tx.ExecContext(ctx, "UPDATE asked SET place = $3, emails = $4::text[] WHERE ask = $1 AND place = $2", ask, from, to, entitled)
	return err
}

// AskRow is a question in a list.
type AskRow struct {
	Ask
	WorkflowName string
	Source, Key  string   // of the arrival
	Open         []string // the places that have not answered
	// Entitled are the mail addresses of who may answer for each place; a place without an entry was asked before that was written down.
	Entitled map[string][]string
}

// AskFilter narrows a list of questions.
type AskFilter struct {
	ID       int64
	Places   []string // put to one of these; nil is anybody
	Email    string   // or to who had this address then
	State    string   // "" is any
	Arrival  int64
	Workflow int64
	Before   int64
	Limit    int
}

// forWhom tells whether one who was asked is somebody: who was entitled then or, of a room and of
// questions from before that was written down, who is reached there.
const forWhom = "((d.emails IS NULL OR d.emails = '{}') AND d.place = ANY ($%d::text[]) OR $%d = ANY (d.emails))"

// Asks lists questions, newest first.
func (s *Store) Asks(ctx context.Context, f AskFilter) ([]AskRow, error) {
	where, args := "true", []any{f.Limit}
	add := func(condition string, v any) {
		args = append(args, v)
		where += fmt.Sprintf(" AND "+condition, len(args))
	}
	if f.Places != nil {
		args = append(args, f.Places, strings.ToLower(f.Email))
		where += fmt.Sprintf(" AND EXISTS (SELECT 1 FROM asked d WHERE d.ask = asks.id AND NOT d.given AND "+forWhom+")", len(args)-1, len(args))
	}
	if f.State != "" {
		add("state = $%d", f.State)
	}
	if f.ID > 0 {
		add("asks.id = $%d", f.ID)
	}
	if f.Arrival > 0 {
		add("arrival = $%d", f.Arrival)
	}
	if f.Workflow > 0 {
		add("workflow = $%d", f.Workflow)
	}
	if f.Before > 0 {
		add("asks.id < $%d", f.Before)
	}
	rows, err := s.plain(ctx).QueryContext(ctx, `SELECT `+askColumns+`, (SELECT w.name FROM workflows w WHERE w.id = workflow), coalesce((SELECT a.source FROM arrivals a WHERE a.seq = arrival), ''),
		coalesce((SELECT a.subject FROM arrivals a WHERE a.seq = arrival), ''), (SELECT jsonb_object_agg(d.place, d.emails)::text FROM asked d WHERE d.ask = asks.id AND d.emails IS NOT NULL) FROM asks WHERE `+where+` ORDER BY id DESC LIMIT $1`, args...)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	out := []AskRow{}
	for rows.Next() {
		var r AskRow
		var entitled *string
		a, err := scanAsk(withMore{rows, []any{&r.WorkflowName, &r.Source, &r.Key, &entitled}})
		if err != nil {
			return nil, err
		}
		r.Ask, r.Open, r.Entitled = *a, a.Asking.Open(), map[string][]string{}
		if entitled != nil {
			if err := json.Unmarshal([]byte(*entitled), &r.Entitled); err != nil {
				return nil, err
			}
		}
		out = append(out, r)
	}
	return out, rows.Err()
}

// withMore scans further columns behind those that are asked for.
type withMore struct {
	row interface{ Scan(dest ...any) error }
	as  []any
}

// Scan implements the scanning of a row.
func (w withMore) Scan(dest ...any) error { return w.row.Scan(append(dest, w.as...)...) }

// CountAsked counts the open questions that wait for somebody, who is reached at some places.
func (s *Store) CountAsked(ctx context.Context, places []string, email string) (n int64, err error) {
	err = s.plain(ctx).QueryRowContext(ctx, "SELECT count(DISTINCT d.ask) FROM asked d JOIN asks a ON a.id = d.ask WHERE NOT d.given AND a.state = 'open' AND a.ends_at IS NOT NULL AND "+fmt.Sprintf(forWhom, 1, 2), places, strings.ToLower(email)).Scan(&n)
	return n, err
}
