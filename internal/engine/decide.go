package engine

import (
	"context"
	"database/sql"
	"fmt"
	"maps"
	"runtime/debug"
	"slices"
	"time"

	"github.com/riverqueue/river"
	"go.opentelemetry.io/otel"
	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/trace"
	"gorm.io/gorm"

	"dorfbote/internal/core/decide"
	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
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
	began := time.Now()
	ctx, span := otel.Tracer("dorfbote/engine").Start(ctx, "decide", trace.WithAttributes(attribute.Int("arrivals", len(job.Args.Seqs)), attribute.Int64Slice("arrival", job.Args.Seqs[:min(len(job.Args.Seqs), 20)])))
	defer span.End()
	made, done, err := w.engine.decideAll(ctx, arrivals, decidingTime)
	if err != nil {
		return err
	}
	if done < len(arrivals) { // the services that its sheets ask are slow: the rest is a job of its own
		rest := DecideArgs{}
		for _, a := range arrivals[done:] {
			rest.Seqs = append(rest.Seqs, a.Seq)
		}
		if _, err := w.engine.inserts.Insert(ctx, rest, nil); err != nil {
			return fmt.Errorf("adding the job: %w", err)
		}
		arrivals = arrivals[:done]
	}
	if err := w.engine.keep(ctx, w.engine.lazy, made, true); err != nil {
		return err
	}
	verdicts := map[string]int{}
	for _, d := range made {
		verdicts[string(d.Verdict)]++
	}
	w.engine.Meters.Decided(verdicts, time.Since(began))
	return w.engine.watchSources(ctx, arrivals)
}

// decided is one workflow's outcome for one arrival.
type decided struct {
	seq  int64
	at   time.Time
	live store.Live
	decide.Outcome
	plan   *sheet.Plan    // nil where the sheet cannot be run
	sc     *formula.Scope // what it was decided on
	before []decide.Later // what its workflow's pace had held, and tells before it
}

func (e *Engine) decideBatch(ctx context.Context, seqs []int64) ([]decided, error) {
	arrivals, err := e.Store.ArrivalsBySeq(ctx, seqs)
	if err != nil {
		return nil, fmt.Errorf("reading arrivals: %w", err)
	}
	made, _, err := e.decideAll(ctx, arrivals, 0)
	return made, err
}

// decidingTime is after how long of deciding the rest of a batch is left to another job, well within jobTimeout.
const decidingTime = 8 * time.Second

// decideAll decides arrivals for the workflows that are on for their sources, and ticks and starts for the one
// workflow that each is for. It says how many of the arrivals it came to within a
// time; 0 is without end.
func (e *Engine) decideAll(ctx context.Context, arrivals []store.Arrival, within time.Duration) (made []decided, done int, err error) {
	byID, bySource, err := e.liveFor(ctx, arrivals)
	if err != nil {
		return nil, 0, fmt.Errorf("reading what is on: %w", err)
	}
	find, failed := e.finder(ctx)
	var scratch []int
	reach, began := formula.Reach{Find: find, Outside: e.outside(ctx, AskAll)}, time.Now()
	for i := range arrivals {
		if i > 0 && within > 0 && time.Since(began) > within {
			return made, i, failed()
		}
		row := &arrivals[i]
		set := bySource[row.Source]
		lives := set.lives
		if row.ForWorkflow != nil {
			lives = byID[*row.ForWorkflow]
		}
		if len(lives) == 0 {
			continue
		}
		a, err := row.Core()
		if err != nil {
			return nil, 0, err
		}
		if row.ForWorkflow == nil {
			lives, scratch = set.concerned(a.Record, scratch)
		}
		sc := decide.NewScope(a)
		sc.Reach = reach
		for _, l := range lives {
			if row.Seq <= l.Since {
				continue
			}
			d, err := e.one(ctx, row.Seq, l, sc)
			if err != nil {
				return nil, 0, err
			}
			if d.Verdict != decide.Ignored {
				made = append(made, d)
			}
		}
	}
	return made, len(arrivals), failed() // what could not be looked up now is decided again
}

// liveFor finds what is on: for ticks and starts the one workflow that each is for, for all else those on the source.
func (e *Engine) liveFor(ctx context.Context, arrivals []store.Arrival) (byID map[int64][]store.Live, bySource map[string]liveSet, err error) {
	named := map[int64]bool{}
	byID, bySource = map[int64][]store.Live{}, map[string]liveSet{}
	for _, a := range arrivals {
		if a.ForWorkflow != nil {
			named[*a.ForWorkflow] = true
			continue
		}
		if _, ok := bySource[a.Source]; !ok {
			if bySource[a.Source], err = e.liveSet(ctx, a.Source); err != nil {
				return nil, nil, err
			}
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

// one decides for one workflow, on a scope that reaches what sheets may look at. What is wrong with the sheet fails this arrival for this workflow and
// nothing else.
func (e *Engine) one(ctx context.Context, seq int64, l store.Live, sc *formula.Scope) (out decided, err error) {
	// Formulas' cached view of the record depends on what a sheet knows of its fields, which is the
	// same for all sheets on a source; gathered names would not be, so each sheet has its own scope.
	own := *sc
	out = decided{seq: seq, at: sc.Now, live: l, sc: &own}
	plan, err := e.plans.get(ctx, l)
	if broken, ok := err.(*BrokenSheet); ok {
		out.Outcome = decide.Outcome{Verdict: decide.Failed, Where: "sheet", Error: broken.Error()}
		return out, nil
	}
	if err != nil {
		return out, err
	}
	defer func() {
		if p := recover(); p != nil {
			e.Log.Error("deciding panicked", "workflow", l.ID, "arrival", sc.ID, "panic", p, "stack", string(debug.Stack()))
			out.Outcome = decide.Outcome{Verdict: decide.Failed, Where: "sheet", Error: fmt.Sprintf("a fault in Dorfbote itself: %v", p)}
		}
	}()
	out.plan = plan
	out.Outcome = decide.Decide(plan, &own)
	return out, nil
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
	made, err := e.pace(ctx, tx, made)
	if err != nil || len(made) == 0 {
		return err
	}
	fresh, err := insertVerdicts(ctx, tx, made)
	if err != nil {
		return err
	}
	for _, d := range made {
		if err := rowsLater(ctx, tx, d.live.ID, d.before); err != nil {
			return err
		}
	}
	if err := e.putOut(ctx, tx, postRows(made, fresh), send); err != nil || !send {
		return err
	}
	if err := insertSteps(ctx, tx, made, fresh); err != nil {
		return err
	}
	return notify(ctx, tx, Event{Topic: "decided", Seq: made[len(made)-1].seq})
}

// putOut writes posts into the outbox, and asks for them to be sent.
func (e *Engine) putOut(ctx context.Context, tx *sql.Tx, rows []postRow, send bool) error {
	if err := insertPosts(ctx, tx, rows, send); err != nil || !send {
		return err
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
	return nil
}

type verdictKey struct{ arrival, workflow int64 }

func insertVerdicts(ctx context.Context, tx *sql.Tx, made []decided) (map[verdictKey]bool, error) {
	n := len(made)
	arrivals, workflows, versions := make([]int64, n), make([]int64, n), make([]int32, n)
	verdicts, routes, by, where, errs := make([]string, n), make([]string, n), make([]string, n), make([]string, n), make([]string, n)
	times, gathered := make([]time.Time, n), make([]*string, n)
	for i, d := range made {
		arrivals[i], workflows[i], versions[i], times[i] = d.seq, d.live.ID, int32(d.live.Version), d.at
		verdicts[i], routes[i], by[i], where[i], errs[i] = string(d.Verdict), d.Row, d.DecidedBy, d.Where, d.Error
		gathered[i] = gatheredOf(d)
	}
	rows, err := tx.QueryContext(ctx, `INSERT INTO verdicts (arrival, workflow_id, version, verdict, route, decided_by, failed_at, error, at, gathered)
		SELECT * FROM unnest($1::bigint[], $2::bigint[], $3::int[], $4::text[], $5::text[], $6::text[], $7::text[], $8::text[], $9::timestamptz[], $10::jsonb[])
		ON CONFLICT DO NOTHING RETURNING arrival, workflow_id`, arrivals, workflows, versions, verdicts, routes, by, where, errs, times, gathered)
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

// maxGathered bounds what is kept of what was gathered for one arrival, in bytes.
const maxGathered = 32 << 10

// gatheredOf is what a run that got as far as its route has gathered from elsewhere, for the run to be shown as it was.
func gatheredOf(d decided) *string {
	if d.plan == nil || d.Verdict == decide.Dropped || len(d.plan.Gather) == 0 {
		return nil
	}
	all := decide.Gathered(d.plan, d.sc)
	if all == nil {
		return nil
	}
	raw := string(value.AppendJSON(nil, all))
	if len(raw) > maxGathered {
		return nil
	}
	return &raw
}
