package past

import (
	"context"
	"fmt"
	"sort"
	"sync"
	"time"

	"dorfbote/internal/core/arrival"
	"dorfbote/internal/core/people"
	"dorfbote/internal/core/rehearse"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
	"dorfbote/internal/engine/sources"
)

// Stretch is what came in over a stretch of time, in the order of its times.
type Stretch struct {
	Total   int
	seqs    []int64
	records map[string]map[string]map[string]any // by source and key: as they were before
	people  *people.Book
}

// How arrivals are read: so many at once, and so many batches ahead of their use.
const (
	readBatch = 1000
	readAhead = 3
)

// Read looks up what came in from some sources, and for those that are looked up, how their records were before it.
// A zero time is without bound.
func (r *Reader) Read(ctx context.Context, sources, lookedUp []string, from, to time.Time) (*Stretch, error) {
	h := &Stretch{records: map[string]map[string]map[string]any{}}
	var err error
	if h.people, err = r.Sources.People(ctx); err != nil {
		return nil, err
	}
	if to.IsZero() {
		to = r.Now().Add(time.Hour)
	}
	rows, err := r.Store.Pool.Query(ctx, "SELECT seq, time FROM arrivals WHERE source = ANY ($1) AND for_workflow IS NULL AND time >= $2 AND time <= $3 ORDER BY seq",
		append(append([]string{}, sources...), lookedUp...), from, to)
	if err != nil {
		return nil, fmt.Errorf("reading what came in: %w", err)
	}
	defer rows.Close()
	var times []time.Time
	sorted := true
	for rows.Next() {
		var seq int64
		var at time.Time
		if err := rows.Scan(&seq, &at); err != nil {
			return nil, err
		}
		sorted = sorted && (len(times) == 0 || !at.Before(times[len(times)-1]))
		h.seqs, times = append(h.seqs, seq), append(times, at)
	}
	if err := rows.Err(); err != nil {
		return nil, err
	}
	if h.Total = len(h.seqs); !sorted {
		sort.Stable(byTime{h.seqs, times})
	}
	for _, source := range lookedUp {
		if h.records[source], err = r.recordsAt(ctx, source, from); err != nil {
			return nil, err
		}
	}
	return h, nil
}

type byTime struct {
	seqs  []int64
	times []time.Time
}

func (b byTime) Len() int { return len(b.seqs) }

func (b byTime) Less(i, j int) bool { return b.times[i].Before(b.times[j]) }

func (b byTime) Swap(i, j int) {
	b.seqs[i], b.seqs[j] = b.seqs[j], b.seqs[i]
	b.times[i], b.times[j] = b.times[j], b.times[i]
}

// recordsAt gives the records of a source as they were at a time: as they are now, but for those that something came in
// about since, which were as that first arrival says.
func (r *Reader) recordsAt(ctx context.Context, source string, at time.Time) (map[string]map[string]any, error) {
	out := map[string]map[string]any{}
	read := func(query string, args ...any) error {
		rows, err := r.Store.Pool.Query(ctx, query, args...)
		if err != nil {
			return fmt.Errorf("reading the records of %s: %w", source, err)
		}
		defer rows.Close()
		for rows.Next() {
			var key string
			var raw []byte
			if err := rows.Scan(&key, &raw); err != nil {
				return err
			}
			if raw == nil {
				delete(out, key)
				continue
			}
			v, err := value.ReadJSON(raw)
			if err != nil {
				return err
			}
			if m, ok := v.(map[string]any); ok {
				out[key] = m
			}
		}
		return rows.Err()
	}
	if err := read("SELECT key, convert_to(data::text, 'UTF8') FROM records WHERE source = $1 LIMIT $2", source, sources.LookupMost); err != nil {
		return nil, err
	}
	err := read(`SELECT DISTINCT ON (subject) subject, convert_to((data->'before')::text, 'UTF8') FROM arrivals
		WHERE source = $1 AND time >= $2 AND for_workflow IS NULL AND subject <> '' ORDER BY subject, time, seq`, source, at)
	return out, err
}

// Know tells a machine what its look-ups may find at the beginning.
func (h *Stretch) Know(m *rehearse.Machine, p *sheet.Plan) {
	states := rehearse.NewStates(p.Lookups())
	for source, records := range h.records {
		for key, r := range records {
			states.Put(source, key, r)
		}
	}
	m.Know(states)
	m.People(h.people)
}

// Each hands on the arrivals in order. Reading goes on ahead on other processors.
func (h *Stretch) Each(ctx context.Context, e *Reader, each func(*arrival.Arrival) error) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	type batch struct {
		list []*arrival.Arrival
		err  error
	}
	order := make(chan chan batch, readAhead)
	var busy sync.WaitGroup
	busy.Go(func() {
		defer close(order)
		for at := 0; at < len(h.seqs); at += readBatch {
			out := make(chan batch, 1)
			seqs := h.seqs[at:min(at+readBatch, len(h.seqs))]
			select {
			case order <- out:
			case <-ctx.Done():
				return
			}
			busy.Go(func() {
				list, err := e.readArrivals(ctx, seqs)
				out <- batch{list, err}
			})
		}
	})
	defer busy.Wait()
	defer cancel()
	for out := range order {
		b := <-out
		if b.err != nil {
			return b.err
		}
		for _, a := range b.list {
			if err := each(a); err != nil {
				return err
			}
		}
	}
	return ctx.Err()
}

// readArrivals reads some arrivals, in the order asked for.
func (r *Reader) readArrivals(ctx context.Context, seqs []int64) ([]*arrival.Arrival, error) {
	rows, err := r.Store.Pool.Query(ctx, "SELECT id, source, type, time, subject, convert_to(data::text, 'UTF8') FROM unnest($1::bigint[]) WITH ORDINALITY AS t(seq, n) JOIN arrivals USING (seq) ORDER BY n", seqs)
	if err != nil {
		return nil, fmt.Errorf("reading what came in: %w", err)
	}
	defer rows.Close()
	values := value.NewReader()
	out := make([]*arrival.Arrival, 0, len(seqs))
	for rows.Next() {
		a := &arrival.Arrival{}
		var raw []byte
		if err := rows.Scan(&a.ID, &a.Source, &a.Type, &a.Time, &a.Subject, &raw); err != nil {
			return nil, err
		}
		v, err := values.Read(raw)
		if err != nil {
			return nil, fmt.Errorf("the arrival %s in the database: %w", a.ID, err)
		}
		d, _ := v.(map[string]any)
		a.Time = a.Time.UTC()
		a.Carry(d)
		out = append(out, a)
	}
	return out, rows.Err()
}
