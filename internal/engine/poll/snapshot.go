package poll

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"dorfbote/internal/connect"
	"dorfbote/internal/connect/hook"
	"dorfbote/internal/core/arrival"
	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/value"
	"dorfbote/internal/engine/intake"
	"dorfbote/internal/store"
)

// snapshot compares what a source says now with what it said before: the stored records of the source. So it is
// known what is new, what has changed and what is gone, whatever the source itself can tell.
//
// Each batch is one transaction. One that was written before a crash is found unchanged afterwards, so nothing
// is told twice; and the cursor moves only after the last, so nothing is missed.
type snapshot struct {
	polls  *Polls
	source string
	// begin decides of a record that is seen in the very first poll whether it makes an arrival.
	begin func(it *connect.Item) bool
	batch []connect.Item
	known map[uint64]bool // a hash of each key that was handed over, to find what is gone and what stands twice
	tally Tally
	now   time.Time
}

// Tally counts what a poll made of a source.
type Tally struct {
	Rows, Created, Updated, Removed int64
	Quietly                         int64 // records remembered without an arrival
	Twice                           int64 // rows whose key had stood before; the first counts
}

// Arrivals is how many arrivals came of it.
func (t Tally) Arrivals() int64 { return t.Created + t.Updated + t.Removed }

const snapshotBatch = 500

func (q *Polls) newSnapshot(source string, begin func(*connect.Item) bool) *snapshot {
	return &snapshot{polls: q, source: source, begin: begin, known: map[uint64]bool{}, now: q.Now().UTC()}
}

func keyHash(key string) uint64 {
	sum := sha256.Sum256([]byte(key))
	return binary.LittleEndian.Uint64(sum[:8])
}

// add takes one record as it was read.
func (s *snapshot) add(ctx context.Context, it connect.Item) error {
	if len(it.Key) > 500 {
		return &fault.Fault{Tried: "reading a record", Said: "its key is longer than 500 bytes", Do: "choose another field as the key"}
	}
	s.tally.Rows++
	h := keyHash(it.Key)
	if s.known[h] {
		s.tally.Twice++
		return nil
	}
	s.known[h] = true
	s.batch = append(s.batch, it)
	if len(s.batch) >= snapshotBatch {
		return s.flush(ctx)
	}
	return nil
}

// stored is what is known of a record.
type stored struct{ hash []byte }

func (s *snapshot) flush(ctx context.Context) error {
	if len(s.batch) == 0 {
		return nil
	}
	batch := s.batch
	s.batch = s.batch[:0]
	if err := s.polls.about(ctx, s.source, batch); err != nil {
		return fmt.Errorf("looking for what a message answers: %w", err)
	}
	return pgx.BeginFunc(ctx, s.polls.Async.Pool, func(tx pgx.Tx) error {
		keys := make([]string, len(batch))
		for i, it := range batch {
			keys[i] = it.Key
		}
		had, err := known(ctx, tx, s.source, keys)
		if err != nil {
			return fmt.Errorf("comparing with what was known: %w", err)
		}
		var events []hook.Event
		quiet := map[intake.Keyed]*arrival.Arrival{}
		for i := range batch {
			it := &batch[i]
			before, ok := had[it.Key]
			if it.Removed {
				if ok {
					s.tally.Removed++
					events = append(events, s.event(it, arrival.Removed))
				}
				continue
			}
			switch {
			case ok && bytes.Equal(before.hash, intake.HashOf(value.AppendJSON(nil, it.Record))):
			case ok:
				s.tally.Updated++
				events = append(events, s.event(it, arrival.Updated))
			case it.Old || s.begin != nil && !s.begin(it):
				s.tally.Quietly++
				quiet[intake.Keyed{Source: s.source, Key: it.Key}] = s.event(it, arrival.Created).Arrival
			default:
				s.tally.Created++
				events = append(events, s.event(it, arrival.Created))
			}
		}
		if len(quiet) > 0 {
			b := &pgx.Batch{}
			intake.UpsertRecords(b, quiet)
			if err := tx.SendBatch(ctx, b).Close(); err != nil {
				return fmt.Errorf("remembering records: %w", err)
			}
		}
		if len(events) == 0 {
			return nil
		}
		_, err = s.polls.Writer.Write(ctx, tx, events, true)
		return err
	})
}

func (s *snapshot) event(it *connect.Item, typ string) hook.Event {
	at := it.At.UTC()
	if it.At.IsZero() || typ != arrival.Created || at.After(s.now) {
		at = s.now // a change is known to be one only since it was seen
	}
	return hook.Event{Arrival: &arrival.Arrival{
		ID: uuid.Must(uuid.NewV7()).String(), Source: s.source, Type: typ, Time: at, Subject: it.Key, Record: it.Record, By: it.By,
	}}
}

// known looks up what is known of the keys, with a lock on the source, so that nothing comes between.
func known(ctx context.Context, tx pgx.Tx, source string, keys []string) (map[string]stored, error) {
	if _, err := tx.Exec(ctx, store.LockStatement, []string{source}, store.LockSource); err != nil {
		return nil, err
	}
	rows, err := tx.Query(ctx, "SELECT key, hash FROM records WHERE source = $1 AND key = ANY ($2)", source, keys)
	if err != nil {
		return nil, err
	}
	out := map[string]stored{}
	var key string
	var hash []byte
	_, err = pgx.ForEachRow(rows, []any{&key, &hash}, func() error {
		out[key] = stored{slices.Clone(hash)}
		return nil
	})
	return out, err
}

// gone finds the records that were not handed over although everything was, and removes them; but for those that
// are to be forgotten. Where doubted is not nil, one must have been missing the last time as well; those that were not
// are returned.
func (s *snapshot) gone(ctx context.Context, forget func(record map[string]any) bool, doubted, before store.Keys) (store.Keys, error) {
	last := map[string]bool{}
	for _, k := range before {
		last[k] = true
	}
	var missing []string
	rows, err := s.polls.Store.Pool.Query(ctx, "SELECT key FROM records WHERE source = $1", s.source)
	if err != nil {
		return nil, err
	}
	var key string
	_, err = pgx.ForEachRow(rows, []any{&key}, func() error {
		switch {
		case s.known[keyHash(key)]:
		case doubted != nil && !last[key]:
			doubted = append(doubted, key)
		default:
			missing = append(missing, key)
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	for part := range slices.Chunk(missing, snapshotBatch) {
		var forgotten []string
		if forget != nil {
			records, err := s.polls.Store.RecordsOf(ctx, s.source, part)
			if err != nil {
				return nil, err
			}
			for key, r := range records {
				if forget(r) {
					forgotten = append(forgotten, key)
				}
			}
			if _, err := s.polls.Async.Pool.Exec(ctx, "DELETE FROM records WHERE source = $1 AND key = ANY ($2)", s.source, forgotten); err != nil {
				return nil, err
			}
		}
		for _, key := range part {
			if !slices.Contains(forgotten, key) {
				s.batch = append(s.batch, connect.Item{Key: key, Removed: true})
			}
		}
		if err := s.flush(ctx); err != nil {
			return nil, err
		}
	}
	return doubted, nil
}
