package engine

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

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

// maxBatch is the most events one transaction stores.
const maxBatch = 500

// Intake stores events. Events that come while a transaction is under way share the next one, so that
// many senders pay for few commits; an event that comes alone is stored at once.
type Intake struct {
	engine *Engine
	queue  chan *taking
	done   chan struct{}
}

type taking struct {
	events   []hook.Event
	receipts []Receipt
	err      error
	ready    chan struct{}
}

// NewIntake starts to store events until ctx ends.
func NewIntake(ctx context.Context, e *Engine) *Intake {
	in := &Intake{engine: e, queue: make(chan *taking, 4096), done: make(chan struct{})}
	go in.loop(ctx)
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
	for {
		var batch []*taking
		select {
		case <-ctx.Done():
			return
		case t := <-in.queue:
			batch = append(batch, t)
		}
		batch = in.more(batch)
		err := in.store(ctx, batch)
		if err != nil {
			in.engine.Log.Error("storing arrivals failed", "error", err)
		}
		for _, t := range batch {
			if err != nil {
				t.err = fmt.Errorf("%w: %w", ErrBusy, err)
			}
			close(t.ready)
		}
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
	err := in.engine.Store.Tx(ctx, func(_ *gorm.DB, tx *sql.Tx) error {
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
func (e *Engine) write(ctx context.Context, tx *sql.Tx, events []hook.Event, decide bool) ([]Receipt, error) {
	var sources, ids, keySources, keys []string
	lockSet := map[string]bool{}
	for i := range events {
		ev := &events[i]
		if ev.ID == "" {
			ev.ID = uuid.Must(uuid.NewV7()).String()
		}
		sources, ids = append(sources, ev.Source), append(ids, ev.ID)
		keySources, keys = append(keySources, ev.Source), append(keys, ev.Subject)
		lockSet[ev.Source] = true
	}
	// One writer a source at a time, so that "before" is what was really there before.
	if _, err := tx.ExecContext(ctx, "SELECT pg_advisory_xact_lock(hashtextextended(s, 7)) FROM (SELECT unnest($1::text[]) AS s ORDER BY 1) x", value.SortedKeys(lockSet)); err != nil {
		return nil, fmt.Errorf("locking the sources: %w", err)
	}
	known, err := knownArrivals(ctx, tx, sources, ids)
	if err != nil {
		return nil, err
	}
	states, err := knownRecords(ctx, tx, keySources, keys)
	if err != nil {
		return nil, err
	}
	receipts := make([]Receipt, len(events))
	var fresh []store.Arrival
	touched := map[keyed]*arrival.Arrival{}
	place := map[keyed]int{}
	for i, ev := range events {
		id := keyed{ev.Source, ev.ID}
		receipts[i].ID = ev.ID
		if seq, ok := known[id]; ok {
			receipts[i] = Receipt{Seq: seq, ID: ev.ID, Known: true}
			continue
		}
		if _, ok := place[id]; ok { // twice in one batch
			receipts[i].Known = true
			continue
		}
		place[id] = i
		complete(&ev, states[keyed{ev.Source, ev.Subject}])
		if ev.Record != nil && ev.Subject != "" {
			k := keyed{ev.Source, ev.Subject}
			touched[k] = ev.Arrival
			if states[k] = ev.Record; ev.Kind() == "removed" {
				states[k] = nil
			}
		}
		fresh = append(fresh, store.Stored(ev.Arrival))
	}
	seqs, err := insertArrivals(ctx, tx, fresh)
	if err != nil {
		return nil, err
	}
	for i, a := range fresh {
		receipts[place[keyed{a.Source, a.ID}]].Seq = seqs[i]
	}
	for i := range receipts { // the second of two in one batch is the first
		if receipts[i].Seq == 0 {
			receipts[i].Seq = receipts[place[keyed{events[i].Source, events[i].ID}]].Seq
		}
	}
	if len(fresh) == 0 {
		return receipts, nil
	}
	if err := upsertRecords(ctx, tx, touched); err != nil {
		return nil, err
	}
	if !decide {
		return receipts, nil
	}
	if _, err := e.inserts.InsertTx(ctx, tx, DecideArgs{Seqs: seqs}, nil); err != nil {
		return nil, fmt.Errorf("adding the job: %w", err)
	}
	return receipts, notify(ctx, tx, Event{Topic: "arrivals", Source: fresh[len(fresh)-1].Source, Seq: seqs[len(seqs)-1]})
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

func knownArrivals(ctx context.Context, tx *sql.Tx, sources, ids []string) (map[keyed]int64, error) {
	rows, err := tx.QueryContext(ctx, `SELECT a.source, a.id, a.seq FROM arrivals a
		JOIN unnest($1::text[], $2::text[]) AS t(source, id) ON a.source = t.source AND a.id = t.id`, sources, ids)
	if err != nil {
		return nil, fmt.Errorf("looking for known arrivals: %w", err)
	}
	defer rows.Close()
	known := map[keyed]int64{}
	for rows.Next() {
		var k keyed
		var seq int64
		if err := rows.Scan(&k.source, &k.key, &seq); err != nil {
			return nil, err
		}
		known[k] = seq
	}
	return known, rows.Err()
}

func knownRecords(ctx context.Context, tx *sql.Tx, sources, keys []string) (map[keyed]map[string]any, error) {
	rows, err := tx.QueryContext(ctx, `SELECT DISTINCT r.source, r.key, r.data::text FROM records r
		JOIN unnest($1::text[], $2::text[]) AS t(source, key) ON r.source = t.source AND r.key = t.key`, sources, keys)
	if err != nil {
		return nil, fmt.Errorf("looking for known records: %w", err)
	}
	defer rows.Close()
	states := map[keyed]map[string]any{}
	for rows.Next() {
		var k keyed
		var raw []byte
		if err := rows.Scan(&k.source, &k.key, &raw); err != nil {
			return nil, err
		}
		v, err := value.ReadJSON(raw)
		if err != nil {
			return nil, err
		}
		states[k], _ = v.(map[string]any)
	}
	return states, rows.Err()
}

func insertArrivals(ctx context.Context, tx *sql.Tx, list []store.Arrival) ([]int64, error) {
	if len(list) == 0 {
		return nil, nil
	}
	n := len(list)
	sources, ids, types, subjects, data := make([]string, n), make([]string, n), make([]string, n), make([]string, n), make([]string, n)
	times := make([]time.Time, n)
	for i, a := range list {
		sources[i], ids[i], types[i], subjects[i], data[i], times[i] = a.Source, a.ID, a.Type, a.Subject, string(a.Data), a.Time
	}
	rows, err := tx.QueryContext(ctx, `INSERT INTO arrivals (source, id, type, time, subject, data)
		SELECT source, id, type, time, subject, data FROM unnest($1::text[], $2::text[], $3::text[], $4::timestamptz[], $5::text[], $6::jsonb[])
			WITH ORDINALITY AS t(source, id, type, time, subject, data, n) ORDER BY n
		RETURNING seq`, sources, ids, types, times, subjects, data)
	if err != nil {
		return nil, fmt.Errorf("storing arrivals: %w", err)
	}
	defer rows.Close()
	seqs := make([]int64, 0, n)
	for rows.Next() {
		var seq int64
		if err := rows.Scan(&seq); err != nil {
			return nil, err
		}
		seqs = append(seqs, seq)
	}
	if err := rows.Err(); err != nil {
		return nil, fmt.Errorf("storing arrivals: %w", err)
	}
	return seqs, nil
}

func upsertRecords(ctx context.Context, tx *sql.Tx, touched map[keyed]*arrival.Arrival) error {
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
		if _, err := tx.ExecContext(ctx, `INSERT INTO records (source, key, data, time)
			SELECT * FROM unnest($1::text[], $2::text[], $3::jsonb[], $4::timestamptz[])
			ON CONFLICT (source, key) DO UPDATE SET data = excluded.data, time = excluded.time`, sources, keys, data, times); err != nil {
			return fmt.Errorf("keeping the records: %w", err)
		}
	}
	if len(goneSources) > 0 {
		if _, err := tx.ExecContext(ctx, `DELETE FROM records r USING unnest($1::text[], $2::text[]) AS t(source, key)
			WHERE r.source = t.source AND r.key = t.key`, goneSources, goneKeys); err != nil {
			return fmt.Errorf("removing records: %w", err)
		}
	}
	return nil
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
		err := e.Store.Tx(ctx, func(_ *gorm.DB, tx *sql.Tx) error {
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
		if err := e.keep(ctx, made, false); err != nil {
			return err
		}
	}
	return e.Store.DB.WithContext(ctx).Exec("UPDATE arrivals SET received_at = time").Error
}
