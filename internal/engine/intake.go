package engine

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"dorfbote/internal/connect/hook"
	"dorfbote/internal/core/arrival"
	"dorfbote/internal/core/value"
	"dorfbote/internal/store"
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
	gather = 2 * time.Millisecond
	crowd  = 6
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

// Take stores events, all or none. When it returns without an error they are durable.
func (in *Intake) Take(ctx context.Context, events []hook.Event) ([]Receipt, error) {
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
			time.Sleep(gather)
		}
		batch = in.more(batch)
		busy = len(batch) >= crowd
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
		err := in.engine.durable(wait)
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
	err := pgx.BeginFunc(ctx, in.engine.lazy.Pool, func(tx pgx.Tx) error {
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

// keyed names a record or an event within its source.
type keyed struct{ source, key string }

// write stores events in a transaction: the arrivals, the latest record of each key, and, unless the
// events are history, one job that names the batch.
//
// It speaks to PostgreSQL directly, with statements in batches: how many senders can be served is
// decided by how long this takes, and that by the number of round trips.
func (e *Engine) write(ctx context.Context, tx pgx.Tx, events []hook.Event, decide bool) ([]Receipt, error) {
	for i := range events {
		if events[i].ID == "" {
			events[i].ID = uuid.Must(uuid.NewV7()).String()
		}
	}
	k, err := lookUp(ctx, tx, events)
	if err != nil {
		return nil, fmt.Errorf("looking up what is known: %w", err)
	}
	receipts := make([]Receipt, len(events))
	var fresh []store.Arrival
	touched := map[keyed]*arrival.Arrival{}
	for i, ev := range events {
		id := keyed{ev.Source, ev.ID}
		if seq, ok := k.arrivals[id]; ok { // known before, or twice in this batch
			receipts[i] = Receipt{Seq: seq, ID: ev.ID, Known: true}
			continue
		}
		complete(&ev, k.records[keyed{ev.Source, ev.Subject}])
		if ev.Record != nil && ev.Subject != "" {
			key := keyed{ev.Source, ev.Subject}
			touched[key] = ev.Arrival
			if k.records[key] = ev.Record; ev.Kind() == "removed" {
				k.records[key] = nil
			}
		}
		row := store.Stored(ev.Arrival)
		row.Seq = k.seqs[len(fresh)]
		fresh = append(fresh, row)
		k.arrivals[id] = row.Seq
		receipts[i] = Receipt{Seq: row.Seq, ID: ev.ID}
	}
	if len(fresh) == 0 {
		return receipts, nil
	}
	batch := &pgx.Batch{}
	insertArrivals(batch, fresh)
	upsertRecords(batch, touched)
	last := fresh[len(fresh)-1]
	if decide {
		raw, _ := json.Marshal(Event{Topic: "arrivals", Source: last.Source, Seq: last.Seq})
		batch.Queue("SELECT pg_notify($1, $2)", channelName, string(raw))
	}
	if err := tx.SendBatch(ctx, batch).Close(); err != nil {
		return nil, fmt.Errorf("storing arrivals: %w", err)
	}
	if !decide {
		return receipts, nil
	}
	if _, err := e.intake.InsertTx(ctx, tx, DecideArgs{Seqs: k.seqs[:len(fresh)]}, nil); err != nil {
		return nil, fmt.Errorf("adding the job: %w", err)
	}
	return receipts, nil
}

// knowledge is what the database knows of a batch of events.
type knowledge struct {
	arrivals map[keyed]int64          // those that came before
	records  map[keyed]map[string]any // the latest of each key
	seqs     []int64                  // numbers for those that are new
}

// lookUp locks the sources, so that "before" is what was really there before, and asks for everything
// in one round trip. Each question is one look into an index; a join would be planned by how many
// rows the planner thinks there are, and end in reading whole tables.
func lookUp(ctx context.Context, tx pgx.Tx, events []hook.Event) (*knowledge, error) {
	n := len(events)
	sources, ids, keys := make([]string, n), make([]string, n), make([]string, n)
	lockSet := map[string]bool{}
	for i, ev := range events {
		sources[i], ids[i], keys[i] = ev.Source, ev.ID, ev.Subject
		lockSet[ev.Source] = true
	}
	k := &knowledge{arrivals: map[keyed]int64{}, records: map[keyed]map[string]any{}}
	batch := &pgx.Batch{}
	batch.Queue("SELECT pg_advisory_xact_lock(hashtextextended(s, 7)) FROM (SELECT unnest($1::text[]) AS s ORDER BY 1) x", value.SortedKeys(lockSet))
	batch.Queue(`SELECT t.source, t.id, a.seq FROM unnest($1::text[], $2::text[]) AS t(source, id)
		CROSS JOIN LATERAL (SELECT seq FROM arrivals WHERE source = t.source AND id = t.id LIMIT 1) a`, sources, ids).Query(func(rows pgx.Rows) error {
		var at keyed
		var seq int64
		_, err := pgx.ForEachRow(rows, []any{&at.source, &at.key, &seq}, func() error { k.arrivals[at] = seq; return nil })
		return err
	})
	batch.Queue(`SELECT t.source, t.key, r.data FROM (SELECT DISTINCT * FROM unnest($1::text[], $2::text[])) AS t(source, key)
		CROSS JOIN LATERAL (SELECT data::text FROM records WHERE source = t.source AND key = t.key LIMIT 1) r`, sources, keys).Query(func(rows pgx.Rows) error {
		var at keyed
		var raw string
		_, err := pgx.ForEachRow(rows, []any{&at.source, &at.key, &raw}, func() error {
			v, err := value.ReadJSON([]byte(raw))
			k.records[at], _ = v.(map[string]any)
			return err
		})
		return err
	})
	batch.Queue("SELECT nextval(pg_get_serial_sequence('arrivals', 'seq')) FROM generate_series(1, $1)", n).Query(func(rows pgx.Rows) error {
		var err error
		k.seqs, err = pgx.CollectRows(rows, pgx.RowTo[int64])
		return err
	})
	return k, tx.SendBatch(ctx, batch).Close()
}

// complete fills in what the sender left out: what was before, and whether the record is new.
func complete(ev *hook.Event, state map[string]any) {
	if ev.Before == nil && ev.Kind() != "created" {
		ev.Before = state
	}
	if ev.Kind() == "removed" && ev.Record == nil {
		ev.Record = state
	}
	if ev.Compute && ev.Before == nil {
		ev.Type = arrival.Created
	}
}

func insertArrivals(batch *pgx.Batch, list []store.Arrival) {
	n := len(list)
	seqs, sources, ids, types, subjects, data := make([]int64, n), make([]string, n), make([]string, n), make([]string, n), make([]string, n), make([]string, n)
	times := make([]time.Time, n)
	for i, a := range list {
		seqs[i], sources[i], ids[i], types[i], subjects[i], data[i], times[i] = a.Seq, a.Source, a.ID, a.Type, a.Subject, string(a.Data), a.Time
	}
	batch.Queue(`INSERT INTO arrivals (seq, source, id, type, time, subject, data) OVERRIDING SYSTEM VALUE
		SELECT * FROM unnest($1::bigint[], $2::text[], $3::text[], $4::text[], $5::timestamptz[], $6::text[], $7::jsonb[])`,
		seqs, sources, ids, types, times, subjects, data)
}

func upsertRecords(batch *pgx.Batch, touched map[keyed]*arrival.Arrival) {
	var sources, keys, data, goneSources, goneKeys []string
	var times []time.Time
	for k, a := range touched {
		if a.Kind() == "removed" {
			goneSources, goneKeys = append(goneSources, k.source), append(goneKeys, k.key)
			continue
		}
		sources, keys, times = append(sources, k.source), append(keys, k.key), append(times, a.Time)
		data = append(data, string(value.AppendJSON(nil, a.Record)))
	}
	if len(sources) > 0 {
		batch.Queue(`INSERT INTO records (source, key, data, time)
			SELECT * FROM unnest($1::text[], $2::text[], $3::jsonb[], $4::timestamptz[])
			ON CONFLICT (source, key) DO UPDATE SET data = excluded.data, time = excluded.time`, sources, keys, data, times)
	}
	if len(goneSources) > 0 {
		batch.Queue(`DELETE FROM records r USING unnest($1::text[], $2::text[]) AS t(source, key)
			WHERE r.source = t.source AND r.key = t.key`, goneSources, goneKeys)
	}
}

// Event is what processes tell each other about, and browsers are told, when something has changed.
type Event struct {
	Topic  string `json:"topic"` // arrivals, decided, posts, workflows, destinations
	Source string `json:"source,omitempty"`
	Seq    int64  `json:"seq,omitempty"`
	ID     int64  `json:"id,omitempty"`
}

// channelName is the PostgreSQL channel for events.
const channelName = "dorfbote"

func notify(ctx context.Context, tx *sql.Tx, ev Event) error {
	raw, err := json.Marshal(ev)
	if err != nil {
		return err
	}
	_, err = tx.ExecContext(ctx, "SELECT pg_notify($1, $2)", channelName, string(raw))
	return err
}

// Tell tells all processes that something has changed.
func (e *Engine) Tell(ctx context.Context, ev Event) {
	raw, _ := json.Marshal(ev)
	if err := e.Store.DB.WithContext(ctx).Exec("SELECT pg_notify(?, ?)", channelName, string(raw)).Error; err != nil {
		e.Log.Warn("telling others failed", "error", err)
	}
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
		seqs := make([]int64, len(receipts))
		for i, r := range receipts {
			seqs[i] = r.Seq
		}
		made, err := e.decideBatch(ctx, seqs)
		if err != nil {
			return err
		}
		if err := e.keep(ctx, e.Store, made, false); err != nil {
			return err
		}
	}
	return e.Store.DB.WithContext(ctx).Exec("UPDATE arrivals SET received_at = time").Error
}
