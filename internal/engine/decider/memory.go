package decider

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"time"

	"dorfbote/internal/core/decide"
)

// paceMemory is a workflow's pace as the database remembers it, within one transaction. The first error ends it.
type memory struct {
	ctx      context.Context
	tx       *sql.Tx
	workflow int64
	err      error
}

func (m *memory) ask(dest []any, query string, args ...any) bool {
	if m.err != nil {
		return false
	}
	err := m.tx.QueryRowContext(m.ctx, query, append([]any{m.workflow}, args...)...).Scan(dest...)
	if err != nil && err != sql.ErrNoRows {
		m.err = err
	}
	return err == nil
}

func (m *memory) do(query string, args ...any) {
	if m.err == nil {
		_, m.err = m.tx.ExecContext(m.ctx, query, append([]any{m.workflow}, args...)...)
	}
}

func (m *memory) read(raw []byte, into any) {
	if err := json.Unmarshal(raw, into); err != nil && m.err == nil {
		m.err = err
	}
}

// keyed is a key that the database's own keys have room for: a long one is its digest.
func keyed(key string) string {
	if len(key) <= mostKey {
		return key
	}
	sum := sha256.Sum256([]byte(key))
	return "#" + hex.EncodeToString(sum[:])
}

// mostKey is how long a key may be in bytes before its digest stands for it.
const mostKey = 1000

// Told gives what was last told under a key.
func (m *memory) Told(key string) (decide.Earlier, bool) {
	var t decide.Earlier
	var posts []byte
	ok := m.ask([]any{&t.At, &posts}, "SELECT at, posts::text FROM pace_told WHERE workflow = $1 AND key = $2", keyed(key))
	if ok {
		m.read(posts, &t.Posts)
	}
	return t, ok
}

// SetTold keeps what is told under a key.
func (m *memory) SetTold(key string, t decide.Earlier, until time.Time) {
	posts, _ := json.Marshal(t.Posts)
	m.do(`INSERT INTO pace_told (workflow, key, at, until, posts) VALUES ($1, $2, $3, $4, $5)
		ON CONFLICT (workflow, key) DO UPDATE SET at = excluded.at, until = excluded.until, posts = excluded.posts`, keyed(key), t.At, until, string(posts))
}

// Window gives a destination's window.
func (m *memory) Window(to string) (decide.Window, bool) {
	var w decide.Window
	ok := m.ask([]any{&w.End, &w.Posts}, "SELECT ends, posts FROM pace_windows WHERE workflow = $1 AND destination = $2", keyed(to))
	return w, ok
}

// SetWindow keeps a destination's window.
func (m *memory) SetWindow(to string, w decide.Window) {
	m.do(`INSERT INTO pace_windows (workflow, destination, ends, posts) VALUES ($1, $2, $3, $4)
		ON CONFLICT (workflow, destination) DO UPDATE SET ends = excluded.ends, posts = excluded.posts`, keyed(to), w.End, w.Posts)
}

// Held gives what is held under a ref.
func (m *memory) Held(ref string) (decide.Waiting, bool) {
	var w decide.Waiting
	var body []byte
	ok := m.ask([]any{&body}, "SELECT body::text FROM pace_held WHERE workflow = $1 AND ref = $2", keyed(ref))
	if ok {
		m.read(body, &w)
	}
	return w, ok
}

// Hold holds a post, or puts another in its place.
func (m *memory) Hold(w decide.Waiting) {
	body, _ := json.Marshal(w)
	m.do(`INSERT INTO pace_held (workflow, ref, due_at, destination, digest, body) VALUES ($1, $2, $3, $4, $5, $6)
		ON CONFLICT (workflow, ref) DO UPDATE SET due_at = excluded.due_at, digest = excluded.digest, body = excluded.body`, keyed(w.Ref), w.Due, keyed(w.To), w.Digest, string(body))
}

// Let takes away what is no longer held.
func (m *memory) Unhold(ref string) {
	m.do("DELETE FROM pace_held WHERE workflow = $1 AND ref = $2", keyed(ref))
}

// Due lists what is held up to a moment.
func (m *memory) Due(upTo time.Time) []decide.Waiting {
	if m.err != nil {
		return nil
	}
	rows, err := m.tx.QueryContext(m.ctx, "SELECT body::text FROM pace_held WHERE workflow = $1 AND due_at <= $2 ORDER BY due_at, id", m.workflow, upTo)
	if err != nil {
		m.err = err
		return nil
	}
	defer rows.Close()
	var out []decide.Waiting
	for rows.Next() {
		var w decide.Waiting
		var body []byte
		if m.err = rows.Scan(&body); m.err != nil {
			return nil
		}
		m.read(body, &w)
		out = append(out, w)
	}
	m.err = rows.Err()
	return out
}
