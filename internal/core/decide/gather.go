package decide

import (
	"sort"

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
	Count int    `json:"count"` // of a list
	Many  bool   `json:"many"`
	Error string `json:"error,omitempty"`
}

// gather fills in everything the plan gathers, in order. where names the entry that failed.
func gather(p *sheet.Plan, sc *formula.Scope) (where string, err error) {
	for i := range p.Gather {
		g := &p.Gather[i]
		if g.Value != nil {
			v, err := g.Value.Run(sc)
			if err != nil {
				return g.Path, err
			}
			sc.Gather(g.Name, v, v)
			continue
		}
		raw, err := lookUp(g.Find, sc)
		if err != nil {
			return g.Path, err
		}
		sc.Gather(g.Name, raw, typed(g.Find, raw))
	}
	return "", nil
}

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
	field, _, _ := f.Words.Kind.Find(f.Sort)
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
		return f.Words.Record(x, f.Words.Kind)
	case []any:
		out := make([]any, len(x))
		for i, e := range x {
			out[i] = f.Words.Record(e.(map[string]any), f.Words.Kind)
		}
		return out
	}
	return raw
}

// explainGather gathers and says what came of each.
func explainGather(p *sheet.Plan, sc *formula.Scope) []GatherProof {
	out := []GatherProof{}
	for i := range p.Gather {
		g := &p.Gather[i]
		l := GatherProof{Name: g.Name, Path: g.Path}
		one := *p
		one.Gather = p.Gather[i : i+1]
		if _, err := gather(&one, sc); err != nil {
			l.Error = err.Error()
			sc.Gather(g.Name, nil, nil)
		}
		v := sc.Typed[g.Name]
		if list, ok := v.([]any); ok {
			l.Count, l.Many = len(list), true
		}
		l.Value = formula.Shorten(formula.Show(v, p.Terms.Workspace), shownOfGathered)
		out = append(out, l)
	}
	return out
}

const shownOfGathered = 300
