package engine

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"slices"
	"sort"
	"strconv"
	"time"

	"gorm.io/gorm"

	"dorfbote/internal/core/decide"
	"dorfbote/internal/store"
)

// pace has the pace of each workflow say what becomes of outcomes that would tell something. It is called in the
// transaction that writes them, under a lock for each workflow, so that every arrival counts once.
func (e *Engine) pace(ctx context.Context, tx *sql.Tx, made []decided) ([]decided, error) {
	byWorkflow := map[int64][]int{}
	for i, d := range made {
		if d.plan != nil && d.plan.Pace != nil && d.Verdict == decide.Told {
			byWorkflow[d.live.ID] = append(byWorkflow[d.live.ID], i)
		}
	}
	if len(byWorkflow) == 0 {
		return made, nil
	}
	ids := make([]int64, 0, len(byWorkflow))
	for id := range byWorkflow {
		ids = append(ids, id)
	}
	slices.Sort(ids) // always in this order, so that two batches cannot wait for each other
	gone := map[int]bool{}
	for _, id := range ids {
		if err := paceLock(ctx, tx, id); err != nil {
			return nil, err
		}
		list := byWorkflow[id]
		known, err := verdictsOf(ctx, tx, id, made, list)
		if err != nil {
			return nil, err
		}
		sort.SliceStable(list, func(a, b int) bool { return made[list[a]].at.Before(made[list[b]].at) })
		mem := &paceMemory{ctx: ctx, tx: tx, workflow: id}
		for _, i := range list {
			d := &made[i]
			if known[d.seq] { // this has been decided before
				gone[i] = true
				continue
			}
			d.before = decide.LetGo(d.plan, mem, d.at)
			d.Outcome = decide.Paced(d.plan, mem, causeOf(d.seq), d.sc, d.Outcome)
			d.before = append(d.before, d.Releases...)
		}
		if mem.err != nil {
			return nil, fmt.Errorf("the pace of workflow %d: %w", id, mem.err)
		}
	}
	out := made[:0:0]
	for i, d := range made {
		if !gone[i] {
			out = append(out, d)
		}
	}
	return out, nil
}

func paceLock(ctx context.Context, tx *sql.Tx, workflow int64) error {
	return store.Lock(ctx, tx, store.LockPace, strconv.FormatInt(workflow, 10))
}

func verdictsOf(ctx context.Context, tx *sql.Tx, workflow int64, made []decided, list []int) (map[int64]bool, error) {
	seqs := make([]int64, len(list))
	for n, i := range list {
		seqs[n] = made[i].seq
	}
	rows, err := tx.QueryContext(ctx, "SELECT arrival FROM verdicts WHERE workflow_id = $1 AND arrival = ANY ($2)", workflow, seqs)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	known := map[int64]bool{}
	for rows.Next() {
		var seq int64
		if err := rows.Scan(&seq); err != nil {
			return nil, err
		}
		known[seq] = true
	}
	return known, rows.Err()
}

// LetGoDue tells what has been held for long enough, of every workflow.
func (e *Engine) LetGoDue(ctx context.Context) (more bool, err error) {
	var list []store.Live
	err = e.Store.DB.WithContext(ctx).Raw(`SELECT w.id, w.name, w.version, w.source, w.form, w.since FROM workflows w
		WHERE w.id IN (SELECT DISTINCT workflow_id FROM pace_held WHERE due_at <= now())`).Scan(&list).Error
	if err != nil {
		return false, err
	}
	for _, l := range list {
		if err := e.letGo(ctx, l); err != nil {
			return false, fmt.Errorf("letting go what workflow %d held: %w", l.ID, err)
		}
	}
	return false, nil
}

func (e *Engine) letGo(ctx context.Context, l store.Live) error {
	plan, err := e.plans.get(ctx, l)
	if _, broken := err.(*BrokenSheet); broken {
		e.Notice(ctx, store.Notice{What: "cannot run", Words: "something was held, and the sheet cannot be run", Go: fmt.Sprintf("/workflows/%d", l.ID), About: l.Name})
		return nil
	}
	if err != nil {
		return err
	}
	return e.Async.Tx(ctx, func(_ *gorm.DB, tx *sql.Tx) error {
		if err := paceLock(ctx, tx, l.ID); err != nil {
			return err
		}
		mem := &paceMemory{ctx: ctx, tx: tx, workflow: l.ID}
		laters := decide.LetGo(plan, mem, e.Now())
		if mem.err != nil || len(laters) == 0 {
			return mem.err
		}
		var rows []postRow
		for _, later := range laters {
			rows = append(rows, laterRows(l, later)...)
		}
		if err := rowsLater(ctx, tx, l.ID, laters); err != nil {
			return err
		}
		return e.putOut(ctx, tx, rows, true)
	})
}

// rowsLater notes with the arrivals what became of them.
func rowsLater(ctx context.Context, tx *sql.Tx, workflow int64, laters []decide.Later) error {
	for _, later := range laters {
		seqs := make([]int64, len(later.Causes))
		for i, c := range later.Causes {
			seqs[i] = seqOf(c)
		}
		if _, err := tx.ExecContext(ctx, "UPDATE verdicts SET later = $3, later_at = $4 WHERE workflow_id = $1 AND arrival = ANY ($2)", workflow, seqs, string(later.Verdict), later.At); err != nil {
			return err
		}
	}
	return nil
}

// paceMemory is a workflow's pace as the database remembers it, within one transaction. The first error ends it.
type paceMemory struct {
	ctx      context.Context
	tx       *sql.Tx
	workflow int64
	err      error
}

func (m *paceMemory) ask(dest []any, query string, args ...any) bool {
	if m.err != nil {
		return false
	}
	err := m.tx.QueryRowContext(m.ctx, query, append([]any{m.workflow}, args...)...).Scan(dest...)
	if err != nil && err != sql.ErrNoRows {
		m.err = err
	}
	return err == nil
}

func (m *paceMemory) do(query string, args ...any) {
	if m.err == nil {
		_, m.err = m.tx.ExecContext(m.ctx, query, append([]any{m.workflow}, args...)...)
	}
}

func (m *paceMemory) read(raw []byte, into any) {
	if err := json.Unmarshal(raw, into); err != nil && m.err == nil {
		m.err = err
	}
}

// Told gives what was last told under a key.
func (m *paceMemory) Told(key string) (decide.Earlier, bool) {
	var t decide.Earlier
	var posts []byte
	ok := m.ask([]any{&t.At, &posts}, "SELECT at, posts::text FROM pace_told WHERE workflow_id = $1 AND key = $2", key)
	if ok {
		m.read(posts, &t.Posts)
	}
	return t, ok
}

// SetTold keeps what is told under a key.
func (m *paceMemory) SetTold(key string, t decide.Earlier, until time.Time) {
	posts, _ := json.Marshal(t.Posts)
	m.do(`INSERT INTO pace_told (workflow_id, key, at, until, posts) VALUES ($1, $2, $3, $4, $5)
		ON CONFLICT (workflow_id, key) DO UPDATE SET at = excluded.at, until = excluded.until, posts = excluded.posts`, key, t.At, until, string(posts))
}

// Window gives a destination's window.
func (m *paceMemory) Window(to string) (decide.Window, bool) {
	var w decide.Window
	ok := m.ask([]any{&w.End, &w.Posts}, "SELECT ends, posts FROM pace_windows WHERE workflow_id = $1 AND destination = $2", to)
	return w, ok
}

// SetWindow keeps a destination's window.
func (m *paceMemory) SetWindow(to string, w decide.Window) {
	m.do(`INSERT INTO pace_windows (workflow_id, destination, ends, posts) VALUES ($1, $2, $3, $4)
		ON CONFLICT (workflow_id, destination) DO UPDATE SET ends = excluded.ends, posts = excluded.posts`, to, w.End, w.Posts)
}

// Held gives what is held under a ref.
func (m *paceMemory) Held(ref string) (decide.Waiting, bool) {
	var w decide.Waiting
	var body []byte
	ok := m.ask([]any{&body}, "SELECT body::text FROM pace_held WHERE workflow_id = $1 AND ref = $2", ref)
	if ok {
		m.read(body, &w)
	}
	return w, ok
}

// Hold holds a post, or puts another in its place.
func (m *paceMemory) Hold(w decide.Waiting) {
	body, _ := json.Marshal(w)
	m.do(`INSERT INTO pace_held (workflow_id, ref, due_at, destination, digest, body) VALUES ($1, $2, $3, $4, $5, $6)
		ON CONFLICT (workflow_id, ref) DO UPDATE SET due_at = excluded.due_at, digest = excluded.digest, body = excluded.body`, w.Ref, w.Due, w.To, w.Digest, string(body))
}

// Let takes away what is no longer held.
func (m *paceMemory) Let(ref string) {
	m.do("DELETE FROM pace_held WHERE workflow_id = $1 AND ref = $2", ref)
}

// Due lists what is held up to a moment.
func (m *paceMemory) Due(upTo time.Time) []decide.Waiting {
	if m.err != nil {
		return nil
	}
	rows, err := m.tx.QueryContext(m.ctx, "SELECT body::text FROM pace_held WHERE workflow_id = $1 AND due_at <= $2 ORDER BY due_at, id", m.workflow, upTo)
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
