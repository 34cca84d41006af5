package decide

import (
	"errors"
	"sort"
	"time"

	"dorfbote/internal/core/cond"
	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
)

// GatherProof is what was gathered under a name.
type GatherProof struct {
	Name  string `json:"name"`
	Path  string `json:"path"`
	Value string `json:"value"`
	// Raw is the record that was found, or the first of several; otherwise what was gathered, unless it is large.
	Raw   any    `json:"raw,omitempty"`
	Count int    `json:"count"` // of a list
	Many  bool   `json:"many"`
	Error string `json:"error,omitempty"`
	// Would says what would be asked or run, where whoever looks may not have it done.
	Would string `json:"would,omitempty"`
	// Took is how long it took in microseconds, where there is a clock to tell.
	Took int64 `json:"took"`
}

// gather fills in everything the plan gathers, in order. A failure that is not to be gone on from names the entry.
func gather(p *sheet.Plan, sc *formula.Scope) (failed *sheet.PlanGather, err error) {
	for i := range p.Gather {
		g := &p.Gather[i]
		raw, typed, err := gatherOne(g, p.Terms, sc)
		if withheld := (*formula.Withheld)(nil); errors.As(err, &withheld) {
			err = nil
		}
		if err != nil && g.Fails != sheet.FailEmpty {
			return g, err
		}
		sc.Gather(g.Name, raw, typed)
	}
	return nil, nil
}

// gatherOne gathers one thing: as it is, and as formulas see it.
func gatherOne(g *sheet.PlanGather, words *formula.Words, sc *formula.Scope) (raw, seen any, err error) {
	recalled, known := sc.Recall[g.Name]
	switch {
	case g.Value != nil: // the same of the same
		raw, err = g.Value.Run(sc)
		return raw, raw, err
	case known && g.Find != nil:
		return recalled, typed(g.Find, recalled), nil
	case known:
		return recalled, recalled, nil
	case g.Find != nil:
		if raw, err = lookUp(g.Find, sc); err != nil {
			return nil, nil, err
		}
		return raw, typed(g.Find, raw), nil
	case g.Summary != nil:
		raw, err = summarise(g.Summary, words, sc)
	case g.Script != "":
		if sc.Outside == nil {
			return nil, nil, errNoOutside
		}
		raw, err = sc.Outside.Script(g.Script, sc.Seen())
	case g.HTTP != nil:
		raw, err = ask(g.HTTP, words, sc)
	}
	if err != nil {
		return nil, nil, err
	}
	return raw, raw, nil
}

var errNoOutside = errors.New("this cannot be asked for here")

// lookUp finds the record, or the list of records, that the look-up asks for. A condition that fails for a record fails
// the look-up.
func lookUp(f *sheet.PlanFind, sc *formula.Scope) (any, error) {
	var list []any
	if sc.Find != nil {
		inner := sc.Judging()
		for _, r := range sc.Find(f.Source) {
			if f.Where != nil {
				inner.Next(r)
				switch f.Where.Eval(inner) {
				case cond.Broken:
					_, err := f.Where.Decider(inner)
					return nil, err
				case cond.False:
					continue
				}
			}
			list = append(list, r)
			if !f.All && f.Sort.String() == "" {
				break
			}
		}
	}
	if f.Sort.String() != "" {
		sortBy(list, f)
	}
	if !f.All {
		if len(list) == 0 {
			return nil, nil
		}
		return list[0], nil
	}
	if f.Limit > 0 && len(list) > f.Limit {
		list = list[:f.Limit]
	}
	if list == nil {
		list = []any{}
	}
	return list, nil
}

// sortBy orders records by a field as its type orders it: numbers by their size, moments by time, the rest as text.
// Empty values come last, and what is equal stays in the order of the keys.
func sortBy(list []any, f *sheet.PlanFind) {
	ws := f.Words.Workspace
	field, _, _ := f.Words.Schema.Find(f.Sort)
	get := func(e any) any {
		v, _ := f.Sort.Get(e.(map[string]any))
		return v
	}
	sort.SliceStable(list, func(i, j int) bool {
		a, b := get(list[i]), get(list[j])
		if value.Empty(a) || value.Empty(b) {
			return !value.Empty(a) && value.Empty(b)
		}
		c := order(a, b, field.Type, ws)
		if f.Descending {
			return c > 0
		}
		return c < 0
	})
}

func order(a, b any, t value.Type, ws value.Workspace) int {
	if t.IsTime() {
		x, _, okX := value.ReadMoment(formula.Show(a, ws), ws.Location())
		y, _, okY := value.ReadMoment(formula.Show(b, ws), ws.Location())
		if okX && okY {
			return x.Compare(y)
		}
	}
	if t.IsNumber() || t == value.Any {
		x, okX := value.ReadNumber(a, ws)
		y, okY := value.ReadNumber(b, ws)
		if okX && okY {
			return x.Cmp(y)
		}
	}
	x, y := value.Fold(formula.Show(a, ws)), value.Fold(formula.Show(b, ws))
	switch {
	case x < y:
		return -1
	case x > y:
		return 1
	}
	return 0
}

// typed reads what was found by the types of its fields, as formulas see it.
func typed(f *sheet.PlanFind, raw any) any {
	switch x := raw.(type) {
	case map[string]any:
		return f.Words.Record(x, f.Words.Schema)
	case []any:
		out := make([]any, len(x))
		for i, e := range x {
			out[i] = f.Words.Record(e.(map[string]any), f.Words.Schema)
		}
		return out
	}
	return raw
}

// explainGather gathers and says what came of each.
func explainGather(p *sheet.Plan, sc *formula.Scope) []GatherProof {
	out := []GatherProof{}
	elapsed := func() time.Duration { return 0 }
	if sc.Outside != nil {
		elapsed = sc.Outside.Elapsed
	}
	for i := range p.Gather {
		g := &p.Gather[i]
		l := GatherProof{Name: g.Name, Path: g.Path}
		began := elapsed()
		raw, seen, err := gatherOne(g, p.Terms, sc)
		l.Took = (elapsed() - began).Microseconds()
		if withheld := (*formula.Withheld)(nil); errors.As(err, &withheld) {
			l.Would, err = withheld.Would, nil
		}
		if err != nil {
			l.Error = err.Error()
		}
		sc.Gather(g.Name, raw, seen)
		if list, ok := seen.([]any); ok {
			l.Count, l.Many = len(list), true
		}
		l.Raw = firstOf(raw)
		l.Value = formula.Shorten(formula.Show(seen, p.Terms.Workspace), shownOfGathered)
		out = append(out, l)
	}
	return out
}

// firstOf is a record, or the first of a list of them.
func firstOf(raw any) any {
	list, ok := raw.([]any)
	if ok && len(list) > 0 {
		raw = list[0]
	}
	if m, ok := raw.(map[string]any); ok {
		return m
	}
	return nil
}

const shownOfGathered = 300

// Gathered gives what was gathered for an outcome from elsewhere, which another look might find changed; nil where
// nothing was.
func Gathered(p *sheet.Plan, sc *formula.Scope) map[string]any {
	var out map[string]any
	for _, g := range p.Gather {
		raw, ok := sc.Gathered[g.Name]
		if !ok || g.Value != nil {
			continue
		}
		if out == nil {
			out = map[string]any{}
		}
		out[g.Name] = raw
	}
	return out
}
