package intake

import (
	"context"
	"crypto/sha256"
	"fmt"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"dorfbote/internal/connect/hook"
	"dorfbote/internal/core/arrival"
	"dorfbote/internal/core/value"
	"dorfbote/internal/notify"
	"dorfbote/internal/store"
)

// Keyed names a record or an event within its source.
type Keyed struct{ Source, Key string }

// Write stores events in a transaction: the arrivals, and the latest record of each key. What is no history lies beyond
// its source's mark then, and is decided.
//
// It speaks to PostgreSQL directly, with statements in batches: how many senders can be served is
// decided by how long this takes, and that by the number of round trips.
func (w *Writer) Write(ctx context.Context, tx pgx.Tx, events []hook.Event, decide bool) ([]Receipt, error) {
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
	touched := map[Keyed]*arrival.Arrival{}
	for i, ev := range events {
		id := Keyed{ev.Source, ev.ID}
		if seq, ok := k.arrivals[id]; ok { // known before, or twice in this batch
			receipts[i] = Receipt{Seq: seq, ID: ev.ID, Known: true}
			continue
		}
		complete(&ev, k.records[Keyed{ev.Source, ev.Subject}])
		if ev.Record != nil && ev.Subject != "" {
			key := Keyed{ev.Source, ev.Subject}
			touched[key] = ev.Arrival
			if k.records[key] = ev.Record; ev.Kind() == "removed" {
				k.records[key] = nil
			}
		}
		row := store.Stored(ev.Arrival)
		row.Seq = k.seqs[len(fresh)]
		if store.CameThrough(ev.Through) != nil {
			row.Through = ev.Through
		}
		fresh = append(fresh, row)
		k.arrivals[id] = row.Seq
		receipts[i] = Receipt{Seq: row.Seq, ID: ev.ID}
	}
	if len(fresh) == 0 {
		return receipts, nil
	}
	batch := &pgx.Batch{}
	insertArrivals(batch, fresh)
	UpsertRecords(batch, touched)
	if decide {
		countArrivals(batch, fresh)
	}
	begun(batch, fresh, decide)
	if err := tx.SendBatch(ctx, batch).Close(); err != nil {
		return nil, fmt.Errorf("storing arrivals: %w", err)
	}
	return receipts, nil
}

// begun sees to it that each source has a mark, beyond which lies what is to be decided, and tells the deciders. History
// is decided by whoever writes it: its marks lie behind it.
func begun(batch *pgx.Batch, fresh []store.Arrival, decide bool) {
	first, last := map[string]int64{}, map[string]int64{}
	for _, a := range fresh {
		if _, ok := first[a.Source]; !ok {
			first[a.Source] = a.Seq
		}
		last[a.Source] = a.Seq
	}
	sources := value.SortedKeys(first)
	if !decide {
		for _, s := range sources {
			batch.Queue("INSERT INTO marks (source, seq) VALUES ($1, $2) ON CONFLICT (source) DO UPDATE SET seq = excluded.seq", s, last[s])
		}
		return
	}
	for _, s := range sources {
		batch.Queue("INSERT INTO marks (source, seq) VALUES ($1, $2) ON CONFLICT DO NOTHING", s, first[s]-1)
		batch.Queue("SELECT pg_notify($1, $2)", notify.Channel, notify.Message{Topic: notify.Arrivals, Source: s, Seq: last[s]}.Text())
	}
}

// knowledge is what the database knows of a batch of events.
type knowledge struct {
	arrivals map[Keyed]int64          // those that came before
	records  map[Keyed]map[string]any // the latest of each key
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
	k := &knowledge{arrivals: map[Keyed]int64{}, records: map[Keyed]map[string]any{}}
	batch := &pgx.Batch{}
	// (source, id) is unique because whoever writes arrivals holds this from before looking what is there.
	batch.Queue(store.LockStatement, value.SortedKeys(lockSet), store.LockSource)
	batch.Queue(`SELECT t.source, t.id, a.seq FROM unnest($1::text[], $2::text[]) AS t(source, id)
		CROSS JOIN LATERAL (SELECT seq FROM arrivals WHERE source = t.source AND id = t.id LIMIT 1) a`, sources, ids).Query(func(rows pgx.Rows) error {
		var at Keyed
		var seq int64
		_, err := pgx.ForEachRow(rows, []any{&at.Source, &at.Key, &seq}, func() error { k.arrivals[at] = seq; return nil })
		return err
	})
	batch.Queue(`SELECT t.source, t.key, r.data FROM (SELECT DISTINCT * FROM unnest($1::text[], $2::text[])) AS t(source, key)
		CROSS JOIN LATERAL (SELECT data::text FROM records WHERE source = t.source AND key = t.key LIMIT 1) r`, sources, keys).Query(func(rows pgx.Rows) error {
		var at Keyed
		var raw string
		_, err := pgx.ForEachRow(rows, []any{&at.Source, &at.Key, &raw}, func() error {
			v, err := value.ReadJSON([]byte(raw))
			k.records[at], _ = v.(map[string]any)
			return err
		})
		return err
	})
	batch.Queue("SELECT nextval('arrivals_numbers') FROM generate_series(1, $1)", n).Query(func(rows pgx.Rows) error {
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
	times, through := make([]time.Time, n), make([]string, n)
	for i, a := range list {
		through[i] = a.Through
		seqs[i], sources[i], ids[i], types[i], subjects[i], data[i], times[i] = a.Seq, a.Source, a.ID, a.Type, a.Subject, string(a.Data), a.Time
	}
	batch.Queue(`INSERT INTO arrivals (seq, source, id, type, time, subject, data, through)
		SELECT * FROM unnest($1::bigint[], $2::text[], $3::text[], $4::text[], $5::timestamptz[], $6::text[], $7::jsonb[], $8::text[])`,
		seqs, sources, ids, types, times, subjects, data, through)
}

// countArrivals counts arrivals by the hour. The transaction has its sources' locks, so that no other waits for these rows.
func countArrivals(batch *pgx.Batch, list []store.Arrival) {
	counts := map[string]int64{}
	for _, a := range list {
		counts[a.Source]++
	}
	sources := value.SortedKeys(counts)
	n := make([]int64, len(sources))
	for i, s := range sources {
		n[i] = counts[s]
	}
	batch.Queue(`INSERT INTO hours (what, name, hour, n) SELECT 'arrivals', t.s, date_trunc('hour', now()), t.n FROM unnest($1::text[], $2::bigint[]) AS t(s, n)
		ON CONFLICT (what, name, hour) DO UPDATE SET n = hours.n + excluded.n`, sources, n)
}

// UpsertRecords writes the latest record of each key, or takes it away where it was removed.
func UpsertRecords(batch *pgx.Batch, touched map[Keyed]*arrival.Arrival) {
	var sources, keys, data, goneSources, goneKeys []string
	var hashes [][]byte
	var times []time.Time
	for k, a := range touched {
		if a.Kind() == "removed" {
			goneSources, goneKeys = append(goneSources, k.Source), append(goneKeys, k.Key)
			continue
		}
		sources, keys, times = append(sources, k.Source), append(keys, k.Key), append(times, a.Time)
		raw := value.AppendJSON(nil, a.Record)
		data, hashes = append(data, string(raw)), append(hashes, HashOf(raw))
	}
	if len(sources) > 0 {
		batch.Queue(`INSERT INTO records (source, key, data, time, hash)
			SELECT * FROM unnest($1::text[], $2::text[], $3::jsonb[], $4::timestamptz[], $5::bytea[])
			ON CONFLICT (source, key) DO UPDATE SET data = excluded.data, time = excluded.time, hash = excluded.hash`, sources, keys, data, times, hashes)
	}
	if len(goneSources) > 0 {
		batch.Queue(`DELETE FROM records r USING unnest($1::text[], $2::text[]) AS t(source, key)
			WHERE r.source = t.source AND r.key = t.key`, goneSources, goneKeys)
	}
}

// HashOf is what a record is known by: the same record, however its names are ordered, has the same.
func HashOf(data []byte) []byte {
	sum := sha256.Sum256(data)
	return sum[:16]
}
