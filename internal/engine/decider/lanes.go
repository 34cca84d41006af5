package decider

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"net"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"go.opentelemetry.io/otel"
	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/trace"
	"gorm.io/gorm"

	"dorfbote/internal/core/decide"
	"dorfbote/internal/engine/host"
	"dorfbote/internal/engine/workflows"
	"dorfbote/internal/jobs"
	"dorfbote/internal/notify"
	"dorfbote/internal/store"
)

// Arrivals are decided strictly in the order of their numbers, source by source. Numbers are given out under the source's
// lock, which is held until the transaction ends, so whoever sees one sees all before it. A lane is one such reader: of
// all workflows on a source, or of one that goes at its own pace since it asks slow services. Whoever holds a lane's lock
// reads what lies beyond its mark, decides it, and moves the mark in the transaction that writes verdicts, posts and
// jobs: so what is not decided lies beyond the mark, whatever happens to a process, a job or the database.

const (
	decidedAtOnce = 500
	// decidingTime is after how long of deciding a lane writes what it has, and begins anew with the rest.
	decidingTime = time.Second
	// turnTime is after how long a lane makes room for others.
	turnTime = 2 * time.Second
	// behindLook is how often a process looks for lanes that nobody has told it of, such as those of a process that is gone.
	behindLook = time.Second
	// heldUp is how much of a batch's time one workflow may take before it gets a mark of its own.
	heldUp = 250 * time.Millisecond
	// quickLanes and ownLanes are how many lanes of each sort a process decides at once.
	quickLanes = 4
	ownLanes   = 16
	// brokenTries is how often an arrival is tried that cannot be written, before it is passed over as failed.
	brokenTries = 6
)

// Lanes runs the lanes of a process.
type Lanes struct {
	decider    *Decider
	quick, own chan struct{}
	locks      *store.Locks
	busy       sync.WaitGroup

	mu    sync.Mutex
	lanes map[store.Lane]*laneRun
}

// laneRun is a lane while this process is at it.
type laneRun struct {
	again    bool // something has come meanwhile
	failures int  // in a row
}

// Start decides until ctx ends.
func (de *Decider) Start(ctx context.Context) *Lanes {
	d := &Lanes{decider: de, quick: make(chan struct{}, quickLanes), own: make(chan struct{}, ownLanes), locks: de.Store.NewLocks(store.LockLane), lanes: map[store.Lane]*laneRun{}}
	d.busy.Go(func() {
		notify.Listen(ctx, de.Store.Pool, de.Log, func(ev notify.Message) {
			switch ev.Topic {
			case notify.Arrivals:
				d.wake(ctx, store.Lane{Source: ev.Source})
			case notify.Connections, notify.Destinations, notify.People:
				de.Sources.Forget()
			case notify.All: // the database may have been away: what was on its way may have been lost with it
				de.Sources.Forget()
				d.look(ctx)
				if err := de.Missed(ctx); err != nil && ctx.Err() == nil {
					de.Log.Warn("looking for what waits failed", "error", err)
				}
			}
		})
	})
	d.busy.Go(func() {
		for ctx.Err() == nil {
			d.look(ctx)
			host.Wait(ctx, behindLook)
		}
	})
	return d
}

// Wait returns when what was under way has ended.
func (d *Lanes) Wait() {
	d.busy.Wait()
	d.locks.Close()
}

// look wakes every lane that has something to decide.
func (d *Lanes) look(ctx context.Context) {
	list, err := d.decider.Async.Behind(ctx, 0)
	if err != nil {
		if ctx.Err() == nil {
			d.decider.Log.Warn("looking for what is to be decided failed", "error", err)
		}
		return
	}
	for _, l := range list {
		d.wake(ctx, l)
	}
}

// wake has a lane read what has come. It never waits.
func (d *Lanes) wake(ctx context.Context, l store.Lane) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if run := d.lanes[l]; run != nil {
		run.again = true
		return
	}
	run := &laneRun{}
	d.lanes[l] = run
	d.busy.Go(func() {
		for {
			rest := d.turn(ctx, l, run)
			host.Wait(ctx, rest)
			d.mu.Lock()
			if !run.again && rest == 0 || ctx.Err() != nil {
				delete(d.lanes, l)
				d.mu.Unlock()
				return
			}
			d.mu.Unlock()
		}
	})
}

// news tells whether something has come since it was last asked.
func (d *Lanes) news(run *laneRun) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	was := run.again
	run.again = false
	return was
}

// taken is how long to wait where another process holds a lane: it sees what has come, and this one looks once more.
const taken = 20 * time.Millisecond

// turn decides what lies beyond a lane's mark, for a while. It says how long to wait before the next turn; 0 where there
// is nothing left.
func (d *Lanes) turn(ctx context.Context, l store.Lane, run *laneRun) (rest time.Duration) {
	slots := d.quick
	if l.Workflow != 0 {
		slots = d.own
	}
	select {
	case slots <- struct{}{}:
	case <-ctx.Done():
		return 0
	}
	defer func() { <-slots }()
	again := d.news(run)
	name := fmt.Sprintf("%s %d", l.Source, l.Workflow)
	mine, err := d.locks.Try(ctx, name)
	if err != nil {
		return d.failed(ctx, l, run, err)
	}
	if !mine {
		if again {
			return taken
		}
		return 0
	}
	defer d.locks.Free(name)
	for began := time.Now(); ctx.Err() == nil; {
		limit := decidedAtOnce
		if run.failures > 0 {
			limit = 1 // whatever is wrong with one arrival is that one's alone
		}
		more, err := d.step(ctx, l, limit, run.failures)
		if errors.Is(err, store.ErrMoved) {
			return taken
		}
		if err != nil {
			return d.failed(ctx, l, run, err)
		}
		if limit == 1 {
			more = true
		}
		run.failures = 0
		if !more && !d.news(run) {
			return 0
		}
		if time.Since(began) > turnTime {
			return time.Millisecond
		}
	}
	return 0
}

// failed says how long to wait after a failure.
func (d *Lanes) failed(ctx context.Context, l store.Lane, run *laneRun, err error) time.Duration {
	if ctx.Err() != nil {
		return 0
	}
	run.failures++
	d.decider.Log.Warn("deciding failed; it is tried again", "source", l.Source, "workflow", l.Workflow, "failures", run.failures, "error", err)
	return min(50*time.Millisecond<<min(run.failures, 7), 5*time.Second)
}

// step decides one batch. more is true where there may be more to decide.
func (d *Lanes) step(all context.Context, l store.Lane, limit, failures int) (more bool, err error) {
	ctx, cancel := context.WithTimeout(all, jobs.Timeout)
	defer cancel()
	e := d.decider
	b, err := e.nextBatch(ctx, l, limit)
	if err != nil {
		return false, err
	}
	if len(b.arrivals) == 0 {
		if b.joins != nil {
			return false, e.Async.Join(ctx, *b.joins)
		}
		return false, nil
	}
	if l.Workflow == 0 {
		for _, o := range b.own {
			d.wake(all, store.Lane{Source: l.Source, Workflow: o.Workflow}) // which goes on when this step has ended
		}
	}
	err = e.decideLane(ctx, b)
	if err != nil && failures >= brokenTries && !passingFault(err) && len(b.arrivals) == 1 {
		err = e.passOver(ctx, b, err)
	}
	return len(b.arrivals) == limit || b.left, err
}

// batch is what one lane decides at once.
type batch struct {
	lane     store.Lane
	from, to int64 // the mark before and after
	arrivals []store.Arrival
	own      []store.OwnMark // the workflows with a mark of their own
	joins    *store.OwnMark  // the lane's own, where it joins the others once it has caught up
	left     bool            // the time was too short for all of them
}

// nextBatch reads what lies beyond a lane's mark.
func (de *Decider) nextBatch(ctx context.Context, l store.Lane, limit int) (*batch, error) {
	b := &batch{lane: l}
	seq, own, ok, err := de.Async.Marks(ctx, l.Source)
	if err != nil || !ok {
		return b, err
	}
	b.from, b.own = seq, own
	if l.Workflow != 0 {
		ok = false
		for _, o := range own {
			if o.Workflow == l.Workflow {
				b.from, ok = o.Seq, true
				if !o.Stays {
					b.joins = &o
				}
			}
		}
		if !ok { // it has joined the others, or is off
			return b, nil
		}
	}
	b.arrivals, err = de.Async.After(ctx, l.Source, b.from, limit)
	if n := len(b.arrivals); n > 0 {
		b.to = b.arrivals[n-1].Seq
	}
	return b, err
}

// laneLives gives what is on for a batch's lane: for ticks and starts the one workflow that each is for, for all else
// those on the source.
func (de *Decider) laneLives(ctx context.Context, b *batch) (workflows.On, error) {
	out, err := de.Workflows.OnFor(ctx, b.arrivals)
	if err != nil {
		return out, fmt.Errorf("reading what is on: %w", err)
	}
	out.Only, out.But = b.lane.Workflow, map[int64]bool{}
	for _, o := range b.own {
		out.But[o.Workflow] = true
	}
	return out, nil
}

// decideLane decides a batch and writes everything that comes of it, in one transaction with the mark.
func (de *Decider) decideLane(ctx context.Context, b *batch) error {
	began := time.Now()
	ctx, span := otel.Tracer("dorfbote/engine").Start(ctx, "decide", trace.WithAttributes(attribute.String("source", b.lane.Source), attribute.Int("arrivals", len(b.arrivals)), attribute.Int64("first", b.arrivals[0].Seq)))
	defer span.End()
	on, err := de.laneLives(ctx, b)
	if err != nil {
		return err
	}
	made, done, took, err := de.decideAll(ctx, b.arrivals, on, decidingTime)
	if err != nil {
		return err
	}
	if done < len(b.arrivals) {
		b.left, b.to = true, b.arrivals[done-1].Seq
	}
	err = de.Async.Tx(ctx, func(_ *gorm.DB, tx *sql.Tx) error {
		if err := store.MoveMark(ctx, tx, b.lane, b.from, b.to, on.But); err != nil {
			return err
		}
		if err := de.Timing.WatchAll(ctx, tx, on); err != nil {
			return err
		}
		if id := slowest(took, b.lane); id != 0 {
			de.Log.Info("a workflow takes long, and is decided at its own pace from now on", "workflow", id, "source", b.lane.Source, "took_ms", took[id].Milliseconds())
			if err := store.GiveOwnMark(ctx, tx, store.OwnMark{Workflow: id, Source: b.lane.Source, Seq: b.to, Stays: true}); err != nil {
				return err
			}
		}
		if b.lane.Workflow == 0 {
			if err := de.talk(ctx, tx, b.arrivals, on, made); err != nil {
				return err
			}
		}
		if err := de.refused(ctx, tx, b.arrivals, made); err != nil {
			return err
		}
		return de.keepIn(ctx, tx, made, true)
	})
	if err != nil {
		return err
	}
	de.Meters.Decided(countVerdicts(made), time.Since(began))
	return nil
}

// slowest finds a workflow that has held up the others on its source; 0 where none has.
func slowest(took map[int64]time.Duration, l store.Lane) int64 {
	if l.Workflow != 0 {
		return 0
	}
	var most int64
	for id, t := range took {
		if t > heldUp && (most == 0 || t > took[most]) {
			most = id
		}
	}
	return most
}

func countVerdicts(made []decided) map[string]int {
	out := map[string]int{}
	for _, d := range made {
		if d.Verdict != decide.Ignored {
			out[string(d.Verdict)]++
		}
	}
	return out
}

// passOver moves on from an arrival that can be decided or written by no means, so that those behind it are. It counts as
// failed for every workflow that it may have concerned, and somebody is told.
func (de *Decider) passOver(ctx context.Context, b *batch, cause error) error {
	de.Log.Error("an arrival cannot be decided, and is passed over", "arrival", b.arrivals[0].Seq, "source", b.lane.Source, "error", cause)
	on, err := de.laneLives(ctx, b)
	if err != nil {
		return err
	}
	words := strings.ToValidUTF8(strings.ReplaceAll(cause.Error(), "\x00", ""), "")
	var made []decided
	for _, l := range on.Concerned(&b.arrivals[0], nil) {
		made = append(made, decided{seq: b.arrivals[0].Seq, at: b.arrivals[0].Time, live: l, Outcome: decide.Outcome{Verdict: decide.Failed, Where: "arrival", Error: words}})
	}
	err = de.Async.Tx(ctx, func(_ *gorm.DB, tx *sql.Tx) error {
		if err := store.MoveMark(ctx, tx, b.lane, b.from, b.to, on.But); err != nil {
			return err
		}
		return de.keepIn(ctx, tx, made, true)
	})
	if err == nil {
		de.Notice(ctx, store.Notice{What: "could not be decided", Words: words, Go: fmt.Sprintf("/arrivals/%d", b.arrivals[0].Seq), About: b.lane.Source})
	}
	return err
}

// passingFault tells whether a failure is likely to pass by itself: the database is away, full, or busy.
func passingFault(err error) bool {
	if pg, ok := errors.AsType[*pgconn.PgError](err); ok {
		switch pg.Code[:2] {
		case "22", "23", "42", "21", "54": // what was to be written is wrong, and stays so
			return false
		}
		return true
	}
	var n net.Error
	return errors.As(err, &n) || errors.Is(err, context.DeadlineExceeded) || errors.Is(err, context.Canceled) || pgconn.SafeToRetry(err) || strings.Contains(err.Error(), "conn")
}
