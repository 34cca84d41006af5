package decider

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"dorfbote/internal/core/decide"
	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
	"dorfbote/internal/engine/follow"
	"dorfbote/internal/engine/outbox"
	"dorfbote/internal/engine/sources"
	"dorfbote/internal/engine/workflows"
	"dorfbote/internal/notify"
	"dorfbote/internal/store"
)

// decided is one workflow's outcome for one arrival.
type decided struct {
	seq  int64
	at   time.Time
	live store.Live
	decide.Outcome
	plan   *sheet.Plan    // nil where the sheet cannot be run
	sc     *formula.Scope // what it was decided on
	before []decide.Later // what its workflow's pace had held, and tells before it
	// resumed is true of an arrival whose question has been decided: its verdict is there, and is exchanged.
	resumed bool
	edits   []decide.Post // of posts that follow the arrival's record
	asking  *decide.Asking
	first   []decide.Post // of a question, also where it waits
}

// decideAll decides arrivals for what is on for them. It says how many of the arrivals it came to within a time, of
// which there is at least one, and how long each workflow took; a time of 0 is without end.
func (de *Decider) decideAll(ctx context.Context, arrivals []store.Arrival, on workflows.On, within time.Duration) (made []decided, done int, took map[int64]time.Duration, err error) {
	find, notFound := de.Sources.Finder(ctx)
	past, notRead := de.Sources.Took(ctx)
	failed := func() error { return errors.Join(notFound(), notRead()) }
	took = map[int64]time.Duration{}
	book, err := de.Sources.People(ctx)
	if err != nil {
		return nil, 0, nil, err
	}
	reach, began := formula.Reach{Find: find, Outside: de.Sources.Outside(ctx, sources.AskAll), People: book, Took: past}, time.Now()
	at := began
	for i := range arrivals {
		if i > 0 && within > 0 && at.Sub(began) > within {
			return made, i, took, failed()
		}
		row := &arrivals[i]
		if row.Stopped() {
			de.stopped(ctx, row)
			continue
		}
		if len(on.Concerned(row, nil)) == 0 {
			continue
		}
		a, err := row.Core()
		if err != nil {
			return nil, 0, nil, err
		}
		sc := decide.NewScope(a)
		sc.Reach = reach
		for _, l := range on.Concerned(row, a.Record) {
			if row.Seq <= l.Since {
				continue
			}
			d, err := de.one(ctx, row.Seq, l, sc)
			if err != nil {
				return nil, 0, nil, err
			}
			if d.Verdict != decide.Ignored || d.plan != nil && d.sc.Subject != "" && d.plan.KeepsUp() {
				made = append(made, d)
			}
			now := time.Now()
			took[l.ID] += now.Sub(at)
			at = now
		}
	}
	return made, len(arrivals), took, failed() // what could not be looked up now is decided again
}

// stopped tells of an arrival that goes round in a circle, and of which nothing is told therefore.
func (de *Decider) stopped(ctx context.Context, row *store.Arrival) {
	names, err := de.Store.NamesOf(ctx, store.CameThrough(row.Through))
	if err != nil {
		de.Log.Warn("looking up a circle's workflows failed", "arrival", row.Seq, "error", err)
	}
	way := strings.Join(names, " → ")
	de.Log.Warn("an arrival goes round in a circle; it is stopped", "arrival", row.Seq, "source", row.Source, "through", row.Through)
	de.Notice(ctx, store.Notice{What: "goes round in a circle", Words: "What Dorfbote posts comes back to it as a new arrival: " + way + " → " + row.Source + ". It was stopped here. Take one of these posts out, or tell the app to leave out what Dorfbote sends.",
		Go: fmt.Sprintf("/arrivals/%d", row.Seq), About: row.Source})
}

// mostTries is how often an arrival is decided whose formulas the clock ended.
const mostTries = 3

// one decides for one workflow, on a scope that reaches what sheets may look at. What is wrong with the sheet fails this arrival for this workflow and
// nothing else.
func (de *Decider) one(ctx context.Context, seq int64, l store.Live, sc *formula.Scope) (out decided, err error) {
	// Formulas' cached view of the record depends on what a sheet knows of its fields, which is the
	// same for all sheets on a source; gathered names would not be, so each sheet has its own scope.
	own := *sc
	out = decided{seq: seq, at: sc.Now, live: l, sc: &own}
	plan, err := de.Workflows.PlanOf(ctx, l)
	broken := &workflows.BrokenSheet{}
	if errors.As(err, &broken) {
		out.Outcome = decide.Outcome{Verdict: decide.Failed, Where: "sheet", Error: broken.Error()}
		return out, nil
	}
	if err != nil {
		return out, err
	}
	defer func() {
		if p := recover(); p != nil {
			de.Log.Error("deciding panicked", "workflow", l.ID, "arrival", sc.ID, "panic", p, "stack", string(debug.Stack()))
			out.Outcome = decide.Outcome{Verdict: decide.Failed, Where: "sheet", Error: fmt.Sprintf("a fault in Dorfbote itself: %v", p)}
		}
	}()
	out.plan = plan
	// What the clock ended is tried again before it counts: a busy machine is no fault of the sheet's.
	for try := 1; ; try++ {
		again := own
		if out.Outcome = decide.Decide(plan, &again); out.Verdict != decide.Failed || !strings.Contains(out.Error, formula.TookTooLong) || try == mostTries || ctx.Err() != nil {
			out.sc = &again
			return out, nil
		}
		de.Log.Warn("a formula took too long; it is tried again", "workflow", l.ID, "arrival", sc.ID)
	}
}

// keepIn writes outcomes in a transaction: the verdicts, and the posts and steps of those that are new.
func (de *Decider) keepIn(ctx context.Context, tx *sql.Tx, made []decided, send bool) error {
	if len(made) == 0 {
		return nil
	}
	made, err := de.pace(ctx, tx, made)
	if err != nil || len(made) == 0 {
		return err
	}
	for i := range made {
		if made[i].Verdict == decide.Asked {
			de.questions(&made[i])
		}
	}
	all := made
	made = slices.DeleteFunc(slices.Clone(made), func(d decided) bool { return d.Verdict == decide.Ignored }) // which leave no verdict
	fresh, err := writeVerdicts(ctx, tx, made)
	if err != nil {
		return err
	}
	for _, d := range all {
		if err := rowsLater(ctx, tx, d.live.ID, d.before); err != nil {
			return err
		}
	}
	if err := de.Outbox.Put(ctx, tx, postRows(all, fresh), send); err != nil || !send {
		return err
	}
	for _, d := range made {
		if !fresh[verdictKey{d.seq, d.live.ID}] {
			continue
		}
		if d.Reply != nil {
			if err := store.PutReply(ctx, tx, d.seq, d.live.ID, d.Reply.Status, value.AppendJSON(nil, d.Reply.Body)); err != nil {
				return err
			}
			if err := notify.In(ctx, tx, notify.Message{Topic: notify.Replied, Seq: d.seq, ID: d.live.ID}); err != nil {
				return err
			}
		}
		if d.asking != nil {
			if err := de.writeAsk(ctx, tx, &d); err != nil {
				return err
			}
			continue
		}
		if d.Unreached() {
			if err := writeEscalations(ctx, tx, &d); err != nil {
				return err
			}
		}
		if d.Verdict == decide.Told || d.Verdict == decide.Held {
			if err := follow.Journal(ctx, tx, d.live, d.seq, d.Steps); err != nil {
				return err
			}
			if err := writeEscalations(ctx, tx, &d); err != nil {
				return err
			}
		}
	}
	for _, d := range all { // those that were held just now among them
		if err := toldInDigests(ctx, tx, d.live.ID, d.before); err != nil {
			return err
		}
	}
	if len(made) == 0 {
		return nil
	}
	return notify.In(ctx, tx, notify.Message{Topic: notify.Decided, Seq: made[len(made)-1].seq})
}

type verdictKey struct{ arrival, workflow int64 }

// writeVerdicts writes what became of arrivals; those that are new, or are decided now, are told of.
func writeVerdicts(ctx context.Context, tx *sql.Tx, made []decided) (map[verdictKey]bool, error) {
	var first []decided
	for _, d := range made {
		if !d.resumed {
			first = append(first, d)
		}
	}
	fresh, err := insertVerdicts(ctx, tx, first)
	for _, d := range made {
		if err != nil {
			return nil, err
		}
		if d.resumed {
			fresh[verdictKey{d.seq, d.live.ID}] = true
			err = changeVerdict(ctx, tx, &d)
		}
	}
	return fresh, err
}

// changeVerdict exchanges the verdict of an arrival that was asked about.
func changeVerdict(ctx context.Context, tx *sql.Tx, d *decided) error {
	answers, err := json.Marshal(d.Answers)
	if err != nil {
		return err
	}
	failures, err := failuresOf(d)
	if err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, `UPDATE verdicts SET verdict = $3, route = $4, decided_by = $5, failed_at = $6, error = $7, failures = $8, more = $9, ask = $10, answers = $11, decided_at = now()
		WHERE arrival = $1 AND workflow = $2`, d.seq, d.live.ID, string(d.Verdict), d.Row, d.DecidedBy, d.Where, d.Error, failures, d.More, d.Ask, string(answers))
	if err != nil {
		return fmt.Errorf("writing what was decided: %w", err)
	}
	return nil
}

// failuresOf is what failed of an outcome, as JSON; nil for nothing.
func failuresOf(d *decided) (*string, error) {
	if len(d.Failures) == 0 {
		return nil, nil
	}
	raw, err := json.Marshal(d.Failures)
	text := string(raw)
	return &text, err
}

func insertVerdicts(ctx context.Context, tx *sql.Tx, made []decided) (map[verdictKey]bool, error) {
	n := len(made)
	if n == 0 {
		return map[verdictKey]bool{}, nil
	}
	arrivals, workflows, versions := make([]int64, n), make([]int64, n), make([]int32, n)
	verdicts, routes, by, where, errs := make([]string, n), make([]string, n), make([]string, n), make([]string, n), make([]string, n)
	times, gathered, failures, more, asks := make([]time.Time, n), make([]*string, n), make([]*string, n), make([]int32, n), make([]string, n)
	for i, d := range made {
		arrivals[i], workflows[i], versions[i], times[i] = d.seq, d.live.ID, int32(d.live.Version), d.at
		verdicts[i], routes[i], by[i], where[i], errs[i] = string(d.Verdict), d.Row, d.DecidedBy, d.Where, d.Error
		gathered[i], more[i], asks[i] = gatheredOf(d), int32(d.More), d.Ask
		var err error
		if failures[i], err = failuresOf(&d); err != nil {
			return nil, err
		}
	}
	rows, err := tx.QueryContext(ctx, `INSERT INTO verdicts (arrival, workflow, version, verdict, route, decided_by, failed_at, error, at, gathered, failures, more, ask)
		SELECT * FROM unnest($1::bigint[], $2::bigint[], $3::int[], $4::text[], $5::text[], $6::text[], $7::text[], $8::text[], $9::timestamptz[], $10::jsonb[], $11::jsonb[], $12::int[], $13::text[])
		ON CONFLICT DO NOTHING RETURNING arrival, workflow`, arrivals, workflows, versions, verdicts, routes, by, where, errs, times, gathered, failures, more, asks)
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

func postRows(made []decided, fresh map[verdictKey]bool) []outbox.Row {
	var rows []outbox.Row
	for _, d := range made {
		for _, later := range d.before {
			rows = outbox.Append(rows, laterRows(d.live, later))
		}
		if d.Verdict == decide.Ignored || fresh[verdictKey{d.seq, d.live.ID}] {
			rows = outbox.Append(rows, outbox.Rows(d.live.ID, d.seq, d.at, append(slices.Clip(d.Posts), d.edits...)))
		}
	}
	return rows
}

// laterRows are the posts of what a pace tells at a moment of its own.
func laterRows(l store.Live, later decide.Later) []outbox.Row {
	return outbox.Rows(l.ID, outbox.CauseSeq(later.Causes[0]), later.At, later.Posts)
}
