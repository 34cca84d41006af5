package workflows

import (
	"context"
	"errors"
	"maps"
	"slices"

	"dorfbote/internal/core/decide"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
	"dorfbote/internal/store"
)

// On is what is on for a batch of arrivals.
type On struct {
	byID     map[int64][]store.Live // for ticks and starts, the one workflow that each is for
	BySource map[string]liveSet
	Only     int64          // where not 0, nothing but this workflow is decided
	But      map[int64]bool // where only is 0, these are not
}

// All gives the workflows that are on for what an arrival is from, those among them that are decided at their own pace.
func (v *On) All(row *store.Arrival) []store.Live { return v.BySource[row.Source].On }

// Concerned gives the workflows that an arrival could concern. Without a record, all that are on.
func (v *On) Concerned(row *store.Arrival, record map[string]any) []store.Live {
	var all []store.Live
	switch set := v.BySource[row.Source]; {
	case row.ForWorkflow != nil:
		all = v.byID[*row.ForWorkflow]
	case record == nil:
		all = set.On
	default:
		all = set.concerned(record)
	}
	if v.Only == 0 && len(v.But) == 0 {
		return all
	}
	return slices.DeleteFunc(slices.Clone(all), func(l store.Live) bool {
		if v.Only != 0 {
			return l.ID != v.Only
		}
		return v.But[l.ID]
	})
}

// OnFor finds what is on: for ticks and starts the one workflow that each is for, for all else those on the source.
func (ws *Workflows) OnFor(ctx context.Context, arrivals []store.Arrival) (out On, err error) {
	named := map[int64]bool{}
	out = On{byID: map[int64][]store.Live{}, BySource: map[string]liveSet{}}
	for _, a := range arrivals {
		if a.ForWorkflow != nil {
			named[*a.ForWorkflow] = true
			continue
		}
		if _, ok := out.BySource[a.Source]; !ok {
			if out.BySource[a.Source], err = ws.liveSet(ctx, a.Source); err != nil {
				return On{}, err
			}
		}
	}
	if len(named) > 0 {
		list, err := ws.Store.LiveNamed(ctx, slices.Collect(maps.Keys(named)))
		if err != nil {
			return On{}, err
		}
		for _, l := range list {
			out.byID[l.ID] = append(out.byID[l.ID], l)
		}
	}
	return out, nil
}

// manySheets is from how many sheets on one source on they are found by the value that their Watch waits for. What is passed
// over so is ignored, which leaves no verdict anywhere.
const manySheets = 64

// liveSet is what is on for a source, with an index where that is many sheets.
type liveSet struct {
	mark   store.LiveMark // what was on when it was made
	schema *value.Schema
	On     []store.Live
	index  *decide.Set // nil for few
}

// liveSet gives what is on for a source.
func (ws *Workflows) liveSet(ctx context.Context, source string) (liveSet, error) {
	mark, err := ws.Store.LiveMark(ctx, source)
	if err != nil {
		return liveSet{}, err
	}
	var schema *value.Schema
	if mark.Count > manySheets {
		if schema, err = ws.Sources.Schema(ctx, source); err != nil {
			return liveSet{}, err
		}
	}
	if have, ok := ws.sets.Get(source); ok && have.mark == mark && have.schema == schema {
		return have, nil
	}
	made := liveSet{mark: mark, schema: schema}
	if made.On, err = ws.Store.LiveOn(ctx, []string{source}); err != nil {
		return liveSet{}, err
	}
	if len(made.On) > manySheets {
		plans := make([]*sheet.Plan, len(made.On))
		for i, l := range made.On {
			if plans[i], err = ws.plans.get(ctx, l); err != nil {
				brokenSheet := &BrokenSheet{}
				if errors.As(err, &brokenSheet) {
					return liveSet{}, err
				}
			}
		}
		made.index = decide.NewSet(plans)
	}
	ws.sets.Add(source, made)
	return made, nil
}

// concerned gives the workflows that a record could concern.
func (s liveSet) concerned(record map[string]any) []store.Live {
	if s.index == nil {
		return s.On
	}
	found := s.index.Concerned(record, nil)
	out := make([]store.Live, len(found))
	for i, n := range found {
		out[i] = s.On[n]
	}
	return out
}
