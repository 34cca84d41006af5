package engine

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"maps"
	"runtime/debug"
	"slices"
	"time"

	"github.com/riverqueue/river"
	"gorm.io/gorm"

	"dorfbote/internal/core/decide"
	"dorfbote/internal/core/formula"
	"dorfbote/internal/store"
)

// DecideArgs names a batch of arrivals to be decided.
type DecideArgs struct {
	Seqs []int64 `json:"seqs"`
}

// Kind names the job.
func (DecideArgs) Kind() string { return "decide" }

// InsertOpts puts the job into its queue.
func (DecideArgs) InsertOpts() river.InsertOpts { return river.InsertOpts{Queue: queueDecide} }

type decideWorker struct {
	river.WorkerDefaults[DecideArgs]
	engine *Engine
}

// Work decides a batch. Running it again changes nothing, since a verdict is made once.
func (w *decideWorker) Work(ctx context.Context, job *river.Job[DecideArgs]) error {
	arrivals, err := w.engine.Store.ArrivalsBySeq(ctx, job.Args.Seqs)
	if err != nil {
		return fmt.Errorf("reading arrivals: %w", err)
	}
	made, err := w.engine.decideAll(ctx, arrivals)
	if err != nil {
		return err
	}
	if err := w.engine.keep(ctx, w.engine.lazy, made, true); err != nil {
		return err
	}
	return w.engine.watchSources(ctx, arrivals)
}

// decided is one workflow's outcome for one arrival.
type decided struct {
	seq  int64
	at   time.Time
	live store.Live
	decide.Outcome
}

func (e *Engine) decideBatch(ctx context.Context, seqs []int64) ([]decided, error) {
	arrivals, err := e.Store.ArrivalsBySeq(ctx, seqs)
	if err != nil {
		return nil, fmt.Errorf("reading arrivals: %w", err)
	}
	return e.decideAll(ctx, arrivals)
}

// decideAll decides arrivals for the workflows that are on for their sources, and ticks and starts for the one
// workflow that each is for.
func (e *Engine) decideAll(ctx context.Context, arrivals []store.Arrival) ([]decided, error) {
	byID, bySource, err := e.liveFor(ctx, arrivals)
	if err != nil {
		return nil, fmt.Errorf("reading what is on: %w", err)
	}
	var made []decided
	for i := range arrivals {
		row := &arrivals[i]
		lives := bySource[row.Source]
		if row.ForWorkflow != nil {
			lives = byID[*row.ForWorkflow]
		}
		if len(lives) == 0 {
			continue
		}
		a, err := row.Core()
		if err != nil {
			return nil, err
		}
		sc := decide.NewScope(a)
		for _, l := range lives {
			if row.Seq <= l.Since {
				continue
			}
			o, err := e.one(ctx, l, sc)
			if err != nil {
				return nil, err
			}
			if o.Verdict != decide.Ignored {
				made = append(made, decided{row.Seq, a.Time, l, o})
			}
		}
	}
	return made, nil
}

func (e *Engine) liveFor(ctx context.Context, arrivals []store.Arrival) (byID map[int64][]store.Live, bySource map[string][]store.Live, err error) {
	set, named := map[string]bool{}, map[int64]bool{}
	for _, a := range arrivals {
		if a.ForWorkflow != nil {
			named[*a.ForWorkflow] = true
		} else {
			set[a.Source] = true
		}
	}
	byID, bySource = map[int64][]store.Live{}, map[string][]store.Live{}
	if len(set) > 0 {
		list, err := e.Store.LiveOn(ctx, slices.Collect(maps.Keys(set)))
		if err != nil {
			return nil, nil, err
		}
		for _, l := range list {
			bySource[l.Source] = append(bySource[l.Source], l)
		}
	}
	if len(named) > 0 {
		list, err := e.Store.LiveNamed(ctx, slices.Collect(maps.Keys(named)))
		if err != nil {
			return nil, nil, err
		}
		for _, l := range list {
			byID[l.ID] = append(byID[l.ID], l)
		}
	}
	return byID, bySource, nil
}

// one decides for one workflow. What is wrong with the sheet fails this arrival for this workflow and
// nothing else.
func (e *Engine) one(ctx context.Context, l store.Live, sc *formula.Scope) (out decide.Outcome, err error) {
	plan, err := e.plans.get(ctx, l)
	if broken, ok := err.(*BrokenSheet); ok {
		return decide.Outcome{Verdict: decide.Failed, Where: "sheet", Error: broken.Error()}, nil
	}
	if err != nil {
		return out, err
	}
	defer func() {
		if p := recover(); p != nil {
			e.Log.Error("deciding panicked", "workflow", l.ID, "arrival", sc.ID, "panic", p, "stack", string(debug.Stack()))
			out = decide.Outcome{Verdict: decide.Failed, Where: "sheet", Error: fmt.Sprintf("a fault in Dorfbote itself: %v", p)}
		}
	}()
	// Formulas' cached view of the record depends on what a sheet knows of its fields, which is the
	// same for all sheets on a source; gathered names would not be, so each sheet has its own scope.
	own := *sc
	find, failed := e.finder(ctx)
	own.Find = find
	out = decide.Decide(plan, &own)
	return out, failed() // what could not be looked up now is decided again
}

// keep writes outcomes: the verdicts, and the posts of those that are new.
func (e *Engine) keep(ctx context.Context, st *store.Store, made []decided, send bool) error {
	if len(made) == 0 {
		return nil
	}
	return st.Tx(ctx, func(_ *gorm.DB, tx *sql.Tx) error { return e.keepIn(ctx, tx, made, send) })
}

// keepIn writes outcomes in a transaction that has more to do.
func (e *Engine) keepIn(ctx context.Context, tx *sql.Tx, made []decided, send bool) error {
	if len(made) == 0 {
		return nil
	}
	fresh, err := insertVerdicts(ctx, tx, made)
	if err != nil {
		return err
	}
	rows := postRows(made, fresh)
	if err := insertPosts(ctx, tx, rows, send); err != nil {
		return err
	}
	if !send {
		return nil
	}
	told := map[string]bool{}
	for _, p := range rows {
		if told[p.Destination] {
			continue
		}
		told[p.Destination] = true
		if _, err := e.inserts.InsertTx(ctx, tx, DrainArgs{Destination: p.Destination}, nil); err != nil {
			return fmt.Errorf("adding the job: %w", err)
		}
	}
	return notify(ctx, tx, Event{Topic: "decided", Seq: made[len(made)-1].seq})
}

type verdictKey struct{ arrival, workflow int64 }

func insertVerdicts(ctx context.Context, tx *sql.Tx, made []decided) (map[verdictKey]bool, error) {
	n := len(made)
	arrivals, workflows, versions := make([]int64, n), make([]int64, n), make([]int32, n)
	verdicts, routes, by, where, errs := make([]string, n), make([]string, n), make([]string, n), make([]string, n), make([]string, n)
	times := make([]time.Time, n)
	for i, d := range made {
		arrivals[i], workflows[i], versions[i], times[i] = d.seq, d.live.ID, int32(d.live.Version), d.at
		verdicts[i], routes[i], by[i], where[i], errs[i] = string(d.Verdict), d.Row, d.DecidedBy, d.Where, d.Error
	}
	rows, err := tx.QueryContext(ctx, `INSERT INTO verdicts (arrival, workflow_id, version, verdict, route, decided_by, failed_at, error, at)
		SELECT * FROM unnest($1::bigint[], $2::bigint[], $3::int[], $4::text[], $5::text[], $6::text[], $7::text[], $8::text[], $9::timestamptz[])
		ON CONFLICT DO NOTHING RETURNING arrival, workflow_id`, arrivals, workflows, versions, verdicts, routes, by, where, errs, times)
	if err != nil {
		return nil, fmt.Errorf("writing verdicts: %w", err)
	}
	defer rows.Close()
	fresh := map[verdictKey]bool{}
	for rows.Next() {
		var k verdictKey
		if err := rows.Scan(&k.arrival, &k.workflow); err != nil {
			return nil, err
		}
		fresh[k] = true
	}
	return fresh, rows.Err()
}

// postRow is a post to be inserted; parent is the index in the list of the post it is a reply to.
type postRow struct {
	store.Post
	parent int
}

func postRows(made []decided, fresh map[verdictKey]bool) []postRow {
	var rows []postRow
	for _, d := range made {
		if !fresh[verdictKey{d.seq, d.live.ID}] {
			continue
		}
		first := len(rows)
		for n, p := range d.Posts {
			body, _ := json.Marshal(p.Doc)
			row := postRow{parent: -1, Post: store.Post{
				WorkflowID: d.live.ID, Arrival: d.seq, Destination: p.To, Message: p.Message, Body: body, Title: p.Doc.Title,
				Key: fmt.Sprintf("w%d-a%d-p%d", d.live.ID, d.seq, n), CreatedAt: d.at,
			}}
			if p.Under >= 0 {
				row.parent = first + p.Under
			}
			rows = append(rows, row)
		}
	}
	return rows
}

func insertPosts(ctx context.Context, tx *sql.Tx, rows []postRow, send bool) error {
	if len(rows) == 0 {
		return nil
	}
	ids, err := reserve(ctx, tx, len(rows))
	if err != nil {
		return err
	}
	n := len(rows)
	workflows, arrivals, under := make([]int64, n), make([]int64, n), make([]sql.NullInt64, n)
	destinations, messages, bodies, titles, keys := make([]string, n), make([]string, n), make([]string, n), make([]string, n), make([]string, n)
	times := make([]time.Time, n)
	for i, p := range rows {
		workflows[i], arrivals[i], destinations[i], messages[i] = p.WorkflowID, p.Arrival, p.Destination, p.Message
		bodies[i], titles[i], keys[i], times[i] = string(p.Body), p.Title, p.Key, p.CreatedAt
		if p.parent >= 0 {
			under[i] = sql.NullInt64{Int64: ids[p.parent], Valid: true}
		}
	}
	underIDs := make([]*int64, n)
	for i := range under {
		if under[i].Valid {
			underIDs[i] = &under[i].Int64
		}
	}
	// History was told in its time: it is written as sent and goes nowhere.
	state := "'sent'"
	created, sent := "t.at", "t.at"
	if send {
		state, created, sent = "'waiting'", "now()", "NULL"
	}
	_, err = tx.ExecContext(ctx, `INSERT INTO posts (id, workflow_id, arrival, destination, message, body, title, under, key, created_at, sent_at, state)
		OVERRIDING SYSTEM VALUE
		SELECT t.id, t.w, t.a, t.d, t.m, t.b, t.t, t.u, t.k, `+created+`, `+sent+`, `+state+`
		FROM unnest($1::bigint[], $2::bigint[], $3::bigint[], $4::text[], $5::text[], $6::jsonb[], $7::text[], $8::bigint[], $9::text[], $10::timestamptz[])
			AS t(id, w, a, d, m, b, t, u, k, at)`, ids, workflows, arrivals, destinations, messages, bodies, titles, underIDs, keys, times)
	if err != nil {
		return fmt.Errorf("writing posts: %w", err)
	}
	return nil
}

// reserve takes ids for posts, so that replies can name the posts they belong under.
func reserve(ctx context.Context, tx *sql.Tx, n int) ([]int64, error) {
	rows, err := tx.QueryContext(ctx, "SELECT nextval(pg_get_serial_sequence('posts', 'id')) FROM generate_series(1, $1)", n)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var ids []int64
	for rows.Next() {
		var id int64
		if err := rows.Scan(&id); err != nil {
			return nil, err
		}
		ids = append(ids, id)
	}
	return ids, rows.Err()
}
