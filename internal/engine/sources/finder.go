package sources

import (
	"context"
	"fmt"
	"sync"
	"time"

	"github.com/hashicorp/golang-lru/v2/expirable"

	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/value"
)

// lookups keeps the records of sources that are looked up, for a moment or until something comes in from there: the sheets on one
// arrival, and the arrivals of one batch, mostly look up the same.
type lookups = expirable.LRU[string, lookedUp]

// lookedUp are a source's records, and the number of the last arrival that came in from there before they were read.
type lookedUp struct {
	keys    []string
	records []map[string]any
	last    int64
	since   time.Time // when all of them were read
}

// How long what was looked up holds, and how many records of a source are looked at.
const (
	lookupHolds = 500 * time.Millisecond
	LookupMost  = 50_000
	// lookAgainMost is after how many arrivals all of a source's records are read again.
	lookAgainMost = 1000
	// lookupSources is how many sources are kept at once.
	lookupSources = 64
)

// Reach gives sheets what they look at beyond an arrival, as it is now. What cannot be looked up is taken to be empty; it is
// for looking at sheets, not for deciding.
func (src *Sources) Reach(ctx context.Context, asking Asking) formula.Reach {
	find, _ := src.Finder(ctx)
	book, err := src.People(ctx)
	if err != nil {
		src.Log.Warn("looking at sheets without the people book", "error", err)
	}
	took, _ := src.Took(ctx)
	return formula.Reach{Find: find, Outside: src.Outside(ctx, asking), People: book, Took: took}
}

// Finder gives look-ups the records, and tells afterwards whether any look-up failed. They hold all that had come in when it first looked
// a source up; it is for what is done at one moment.
func (src *Sources) Finder(ctx context.Context) (find func(source string) []map[string]any, failed func() error) {
	var failure error
	seen := map[string][]map[string]any{}
	var alone sync.Mutex
	find = func(source string) []map[string]any {
		alone.Lock()
		defer alone.Unlock()
		list, known := seen[source]
		if known {
			return list
		}
		list, err := src.lookUp(ctx, source)
		if err != nil {
			failure = err
			return nil
		}
		seen[source] = list
		return list
	}
	return find, func() error { return failure }
}

// lookUp gives a source's records as they are now.
func (src *Sources) lookUp(ctx context.Context, source string) ([]map[string]any, error) {
	wrong := func(err error) error { return fmt.Errorf("looking up the records of %s: %w", source, err) }
	last, err := src.lastOf(ctx, source)
	if err != nil {
		return nil, wrong(err)
	}
	known, ok := src.lookups.Get(source)
	if ok && known.last == last && time.Since(known.since) < lookupHolds {
		return known.records, nil
	}
	if ok && len(known.records) < LookupMost {
		next, whole, err := src.lookAgain(ctx, source, &known, last)
		if err != nil {
			return nil, wrong(err)
		}
		if whole {
			src.lookups.Add(source, *next)
			return next.records, nil
		}
	}
	var rows []recordRow
	err = src.Store.DB.WithContext(ctx).Raw(`SELECT key, data::text AS data FROM records WHERE source = ? ORDER BY key COLLATE "C" LIMIT ?`, source, LookupMost).Scan(&rows).Error
	if err != nil {
		return nil, wrong(err)
	}
	read := lookedUp{last: last, since: time.Now()}
	for _, row := range rows {
		if err := read.add(row); err != nil {
			return nil, wrong(err)
		}
	}
	src.lookups.Add(source, read)
	return read.records, nil
}

// lastOf is the number of the last arrival that has come in from a source, 0 where none has.
func (src *Sources) lastOf(ctx context.Context, source string) (last int64, err error) {
	err = src.Store.DB.WithContext(ctx).Raw("SELECT coalesce(max(seq), 0) FROM arrivals WHERE source = ?", source).Scan(&last).Error
	return last, err
}

// recordRow is a record as it is stored.
type recordRow struct{ Key, Data string }

// add puts a record at the end.
func (l *lookedUp) add(row recordRow) error {
	v, err := value.ReadJSON([]byte(row.Data))
	if err != nil {
		return err
	}
	if m, ok := v.(map[string]any); ok {
		l.keys, l.records = append(l.keys, row.Key), append(l.records, m)
	}
	return nil
}

// lookAgain reads of a source's records those of which something has come in since; whole is false where it is better to read all.
func (src *Sources) lookAgain(ctx context.Context, source string, known *lookedUp, last int64) (next *lookedUp, whole bool, err error) {
	if time.Since(known.since) > lookupHolds {
		return nil, false, nil
	}
	var changed []string
	err = src.Store.DB.WithContext(ctx).Raw("SELECT subject FROM arrivals WHERE source = ? AND seq > ? LIMIT ?", source, known.last, lookAgainMost).Scan(&changed).Error
	if err != nil || len(changed) == lookAgainMost {
		return nil, false, err
	}
	var rows []recordRow
	err = src.Store.DB.WithContext(ctx).Raw(`SELECT key, data::text AS data FROM records WHERE source = ? AND key IN ? ORDER BY key COLLATE "C"`, source, changed).Scan(&rows).Error
	if err != nil {
		return nil, false, err
	}
	gone := map[string]bool{}
	for _, key := range changed {
		gone[key] = true
	}
	next = &lookedUp{last: last, since: known.since, keys: make([]string, 0, len(known.keys)+len(rows)), records: make([]map[string]any, 0, len(known.keys)+len(rows))}
	for i, key := range known.keys {
		for ; len(rows) > 0 && rows[0].Key < key; rows = rows[1:] {
			if err := next.add(rows[0]); err != nil {
				return nil, false, err
			}
		}
		if !gone[key] {
			next.keys, next.records = append(next.keys, key), append(next.records, known.records[i])
		}
	}
	for _, row := range rows {
		if err := next.add(row); err != nil {
			return nil, false, err
		}
	}
	return next, len(next.records) <= LookupMost, nil
}
