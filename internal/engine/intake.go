package engine

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"
	"gorm.io/gorm"

	"dorfbote/internal/connect/hook"
)

// Receipt says what became of an event that was taken in.
type Receipt struct {
	Seq   int64  `json:"seq"`
	ID    string `json:"id"`
	Known bool   `json:"known"` // the same event had come before; nothing was changed
}

// ErrBusy means that events cannot be taken in now; the sender should try again.
var ErrBusy = errors.New("events cannot be stored at the moment")

// While many send at once, a batch waits a moment for more of them: fewer, larger transactions serve them
// all sooner. Who sends alone never waits.
const (
	batchWait = 2 * time.Millisecond
	batchFrom = 6
)

// maxBatch is the most events one transaction stores.
const maxBatch = 500

// Intake stores events. Events that come while a transaction is under way share the next one, so that
// many senders pay for few commits; an event that comes alone is stored at once.
//
// Storing and making durable go on side by side: while one batch waits for the disk, the next is being
// written. A sender hears 202 after both.
type Intake struct {
	engine  *Engine
	queue   chan *taking
	written chan []*taking
	done    chan struct{}
}

type taking struct {
	events   []hook.Event
	receipts []Receipt
	err      error
	ready    chan struct{}
}

// NewIntake starts to store events until ctx ends.
func NewIntake(ctx context.Context, e *Engine) *Intake {
	in := &Intake{engine: e, queue: make(chan *taking, 4096), written: make(chan []*taking, 64), done: make(chan struct{})}
	go in.loop(ctx)
	go in.settle(ctx)
	return in
}

// MaxUnnamed is the most events without an id of their own that are taken in at once.
const MaxUnnamed = 5000

// TooManyError says that so many events cannot be taken in at once.
type TooManyError struct{ Events int }

func (e *TooManyError) Error() string {
	return fmt.Sprintf("these are %d records without an id of their own, of which %d at most are taken in at once; send fewer at a time, or give the request a Webhook-Id header, by which it can be sent again safely", e.Events, MaxUnnamed)
}

// Take stores events. When it returns without an error they are durable. Up to 500 are stored all or none; more are stored
// in parts, between which others are served. Where that breaks off, what was stored is known by its ids when all are sent
// again; more than [MaxUnnamed] that have none are refused with a [*TooManyError].
func (in *Intake) Take(ctx context.Context, events []hook.Event) ([]Receipt, error) {
	if len(events) <= maxBatch {
		return in.take(ctx, events)
	}
	named := !slices.ContainsFunc(events, func(ev hook.Event) bool { return ev.ID == "" })
	switch {
	case !named && len(events) > MaxUnnamed:
		return nil, &TooManyError{len(events)}
	case !named:
		return in.take(ctx, events)
	}
	out := make([]Receipt, 0, len(events))
	for part := range slices.Chunk(events, maxBatch) {
		receipts, err := in.take(ctx, part)
		if err != nil {
			return nil, err
		}
		out = append(out, receipts...)
	}
	return out, nil
}

func (in *Intake) take(ctx context.Context, events []hook.Event) ([]Receipt, error) {
	t := &taking{events: events, ready: make(chan struct{})}
	select {
	case in.queue <- t:
	case <-in.done:
		return nil, ErrBusy
	case <-ctx.Done():
		return nil, ctx.Err()
	default:
		return nil, ErrBusy // the queue is full: better to say so than to let everyone wait
	}
	select {
	case <-t.ready:
		return t.receipts, t.err
	case <-in.done:
		return nil, ErrBusy
	}
}

func (in *Intake) loop(ctx context.Context) {
	defer close(in.done)
	busy := false
	for {
		var batch []*taking
		select {
		case <-ctx.Done():
			return
		case t := <-in.queue:
			batch = append(batch, t)
		}
		if busy {
			time.Sleep(batchWait)
		}
		batch = in.more(batch)
		busy = len(batch) >= batchFrom
		err := in.store(ctx, batch)
		if err != nil {
			in.engine.Log.Error("storing arrivals failed", "error", err)
		}
		if err != nil {
			answer(batch, err)
			continue
		}
		in.written <- batch
	}
}

// settle waits for the disk once for all batches that have been written meanwhile.
func (in *Intake) settle(ctx context.Context) {
	for {
		var batches [][]*taking
		select {
		case <-ctx.Done():
			return
		case b := <-in.written:
			batches = append(batches, b)
		}
		for more := true; more; {
			select {
			case b := <-in.written:
				batches = append(batches, b)
			default:
				more = false
			}
		}
		wait, cancel := context.WithTimeout(ctx, 10*time.Second)
		err := in.engine.Store.Durable(wait)
		cancel()
		for _, b := range batches {
			answer(b, err)
		}
	}
}

func answer(batch []*taking, err error) {
	for _, t := range batch {
		if err != nil {
			t.err = fmt.Errorf("%w: %w", ErrBusy, err)
		}
		close(t.ready)
	}
}

func (in *Intake) more(batch []*taking) []*taking {
	size := len(batch[0].events)
	for size < maxBatch {
		select {
		case t := <-in.queue:
			batch = append(batch, t)
			size += len(t.events)
		default:
			return batch
		}
	}
	return batch
}

func (in *Intake) store(ctx context.Context, batch []*taking) error {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	var flat []hook.Event
	for _, t := range batch {
		flat = append(flat, t.events...)
	}
	var receipts []Receipt
	err := pgx.BeginFunc(ctx, in.engine.Async.Pool, func(tx pgx.Tx) error {
		var err error
		receipts, err = in.engine.write(ctx, tx, flat, true)
		return err
	})
	if err != nil {
		return err
	}
	for _, t := range batch {
		t.receipts, receipts = receipts[:len(t.events)], receipts[len(t.events):]
	}
	return nil
}

// History writes past events and what the workflows that are on made of them, as if it had happened in
// its time: the posts count as sent, and nothing is sent. It is for filling a new database.
func (e *Engine) History(ctx context.Context, events []hook.Event) error {
	const step = 2000
	for len(events) > 0 {
		part := events[:min(step, len(events))]
		events = events[len(part):]
		var receipts []Receipt
		err := pgx.BeginFunc(ctx, e.Store.Pool, func(tx pgx.Tx) error {
			var err error
			receipts, err = e.write(ctx, tx, part, false)
			return err
		})
		if err != nil {
			return err
		}
		if err := e.decideHistory(ctx, receipts); err != nil {
			return err
		}
	}
	db := e.Store.DB.WithContext(ctx)
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
func (e *Engine) decideHistory(ctx context.Context, receipts []Receipt) error {
	seqs := make([]int64, len(receipts))
	for i, r := range receipts {
		seqs[i] = r.Seq
	}
	arrivals, err := e.Store.ArrivalsBySeq(ctx, seqs)
	if err != nil {
		return fmt.Errorf("reading arrivals: %w", err)
	}
	on, err := e.liveFor(ctx, arrivals)
	if err != nil {
		return fmt.Errorf("reading what is on: %w", err)
	}
	made, _, _, err := e.decideAll(ctx, arrivals, on, 0)
	if err != nil {
		return err
	}
	return e.Store.Tx(ctx, func(_ *gorm.DB, tx *sql.Tx) error { return e.keepIn(ctx, tx, made, false) })
}
