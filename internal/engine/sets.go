package engine

import (
	"context"
	"sync"

	"dorfbote/internal/core/decide"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
	"dorfbote/internal/store"
)

// manySheets is from how many sheets on one source on they are found by the value that their Watch waits for. What is passed
// over so is ignored, which leaves no verdict anywhere.
const manySheets = 64

// sets keeps the indexes of sources with many sheets, and what is on for them.
type sets struct {
	mu       sync.Mutex
	bySource map[string]liveSet
}

type liveSet struct {
	mark  store.LiveMark // what was on when it was made
	kind  *value.Kind
	lives []store.Live
	index *decide.Set // nil for few
}

// liveSet gives what is on for a source.
func (e *Engine) liveSet(ctx context.Context, source string) (liveSet, error) {
	mark, err := e.Store.LiveMark(ctx, source)
	if err != nil {
		return liveSet{}, err
	}
	var kind *value.Kind
	if mark.Count > manySheets {
		if kind, err = e.Kind(ctx, source); err != nil {
			return liveSet{}, err
		}
	}
	e.sets.mu.Lock()
	have, ok := e.sets.bySource[source]
	e.sets.mu.Unlock()
	if ok && have.mark == mark && have.kind == kind {
		return have, nil
	}
	made := liveSet{mark: mark, kind: kind}
	if made.lives, err = e.Store.LiveOn(ctx, []string{source}); err != nil {
		return liveSet{}, err
	}
	if len(made.lives) > manySheets {
		plans := make([]*sheet.Plan, len(made.lives))
		for i, l := range made.lives {
			if plans[i], err = e.plans.get(ctx, l); err != nil {
				if _, broken := err.(*BrokenSheet); !broken {
					return liveSet{}, err
				}
			}
		}
		made.index = decide.NewSet(plans)
	}
	e.sets.mu.Lock()
	defer e.sets.mu.Unlock()
	if e.sets.bySource == nil || len(e.sets.bySource) > maxPlans {
		e.sets.bySource = map[string]liveSet{}
	}
	e.sets.bySource[source] = made
	return made, nil
}

// concerned gives the workflows that a record could concern.
func (s liveSet) concerned(record map[string]any) []store.Live {
	if s.index == nil {
		return s.lives
	}
	found := s.index.Concerned(record, nil)
	out := make([]store.Live, len(found))
	for i, n := range found {
		out[i] = s.lives[n]
	}
	return out
}
