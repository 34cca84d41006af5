package intake

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"

	"dorfbote/internal/connect/hook"
	"dorfbote/internal/core/fault"
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
	writer  *Writer
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

// New starts to store events until ctx ends.
func New(ctx context.Context, e *Writer) *Intake {
	in := &Intake{writer: e, queue: make(chan *taking, 4096), written: make(chan []*taking, 64), done: make(chan struct{})}
	go in.loop(ctx)
	go in.waitForDisk(ctx)
	return in
}

// MaxUnnamed is the most events without an id of their own that are taken in at once.
const MaxUnnamed = 5000

// Take stores events. When it returns without an error they are durable. Up to 500 are stored all or none; more are stored
// in parts, between which others are served. Where that breaks off, what was stored is known by its ids when all are sent
// again; more than [MaxUnnamed] that have none are refused with a [*fault.Fault].
func (in *Intake) Take(ctx context.Context, events []hook.Event) ([]Receipt, error) {
	if len(events) <= maxBatch {
		return in.take(ctx, events)
	}
	named := !slices.ContainsFunc(events, func(ev hook.Event) bool { return ev.ID == "" })
	switch {
	case !named && len(events) > MaxUnnamed:
		return nil, fault.At("body", "these are %d records without an id of their own, of which %d at most are taken in at once; send fewer at a time, or give the request a Webhook-Id header, by which it can be sent again safely", len(events), MaxUnnamed)
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
			in.writer.Log.Error("storing arrivals failed", "error", err)
		}
		if err != nil {
			answer(batch, err)
			continue
		}
		in.written <- batch
	}
}

// settle waits for the disk once for all batches that have been written meanwhile.
func (in *Intake) waitForDisk(ctx context.Context) {
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
		err := in.writer.Store.Durable(wait)
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
	err := pgx.BeginFunc(ctx, in.writer.Async.Pool, func(tx pgx.Tx) error {
		var err error
		receipts, err = in.writer.Write(ctx, tx, flat, true)
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
