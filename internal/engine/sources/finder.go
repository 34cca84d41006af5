package sources

import (
	"context"
	"fmt"
	"time"

	"github.com/hashicorp/golang-lru/v2/expirable"

	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/value"
)

// lookups keeps the records of sources that are looked up, for a moment: the sheets on one arrival, and the arrivals of one
// batch, mostly look up the same.
type lookups = expirable.LRU[string, []map[string]any]

// How long what was looked up holds, and how many records of a source are looked at.
const (
	lookupHolds = 500 * time.Millisecond
	LookupMost  = 50_000
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
	return formula.Reach{Find: find, Outside: src.Outside(ctx, asking), People: book}
}

// Finder gives look-ups the records, and tells afterwards whether any look-up failed.
func (src *Sources) Finder(ctx context.Context) (find func(source string) []map[string]any, failed func() error) {
	var failure error
	find = func(source string) []map[string]any {
		list, err := src.lookUp(ctx, source)
		if err != nil {
			failure = err
		}
		return list
	}
	return find, func() error { return failure }
}

func (src *Sources) lookUp(ctx context.Context, source string) ([]map[string]any, error) {
	if list, ok := src.lookups.Get(source); ok {
		return list, nil
	}
	var raws []string
	err := src.Store.DB.WithContext(ctx).Raw(`SELECT data::text FROM records WHERE source = ? ORDER BY key COLLATE "C" LIMIT ?`, source, LookupMost).Scan(&raws).Error
	if err != nil {
		return nil, fmt.Errorf("looking up the records of %s: %w", source, err)
	}
	list := make([]map[string]any, 0, len(raws))
	for _, raw := range raws {
		v, err := value.ReadJSON([]byte(raw))
		if err != nil {
			return nil, fmt.Errorf("looking up the records of %s: %w", source, err)
		}
		if m, ok := v.(map[string]any); ok {
			list = append(list, m)
		}
	}
	src.lookups.Add(source, list)
	return list, nil
}
