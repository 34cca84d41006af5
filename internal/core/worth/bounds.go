package worth

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"dorfbote/internal/core/cond"
	"dorfbote/internal/core/value"
)

// bound is a side of a number on which an alert is told: at least so much, or at most.
type bound struct {
	op   string // at_least or at_most
	edge float64
}

func (b bound) keeps(n float64) bool {
	if b.op == "at_least" {
		return n >= b.edge
	}
	return n <= b.edge
}

// sides are the operators whose bound can be moved, with the one that a moved bound has.
var sides = map[string]string{"above": "at_least", "at_least": "at_least", "below": "at_most", "at_most": "at_most"}

// standing is a test that stands where all that is told must pass it.
type standing struct {
	path string
	test map[string]any
}

// standing finds the tests of a sheet that all must pass: of Keep, and of what Watch waits for.
func (f finder) standing(s map[string]any) (out []standing) {
	var walk func(v any, path string)
	walk = func(v any, path string) {
		m, _ := v.(map[string]any)
		if list, ok := m["all"].([]any); ok {
			for i, sub := range list {
				walk(sub, fmt.Sprintf("%s.all[%d]", path, i))
			}
		} else if _, ok := m["field"].(string); ok {
			out = append(out, standing{path, m})
		}
	}
	walk(s["keep"], "keep")
	if watch, ok := s["watch"].(map[string]any); ok {
		walk(watch["when"], "watch.when")
	}
	return out
}

// moved proposes to move bounds that stand in the sheet to where all that was of use is still told.
func (f finder) moved() (found []Proposal, err error) {
	s, err := f.copy()
	if err != nil {
		return nil, err
	}
	tests := f.standing(s)
	for i := range tests {
		for op, side := range sides {
			raw, ok := tests[i].test[op]
			was, number := value.ReadNumber(raw, f.ws)
			if _, text := raw.(string); !ok || !number || text {
				continue
			}
			field := tests[i].test["field"].(string)
			b, gone, ok := f.bound(field, side, &was.Float)
			if !ok || float64(gone) < partMoved*float64(len(f.alerts)-f.led) {
				continue
			}
			fresh, err := f.copy()
			if err != nil {
				return nil, err
			}
			test := f.standing(fresh)[i].test
			delete(test, op)
			test[b.op] = b.edge
			found = append(found, Proposal{
				Kind: Threshold, Path: tests[i].path, Sheet: fresh, Because: f.because(gone),
				Words: fmt.Sprintf("%s %s %s, not %s %s", f.label(field), words(b.op), value.NumberText(b.edge), bare(op), value.NumberText(was.Float)),
			})
		}
	}
	slices.SortStableFunc(found, func(a, b Proposal) int { return strings.Compare(a.Path, b.Path) })
	return found, nil
}

func words(op string) string {
	o, _ := cond.OpNamed(op)
	return o.Words
}

// bare is an operator's words without its verb.
func bare(op string) string { return strings.TrimPrefix(words(op), "is ") }

// bound finds where a number could begin or end so that everything that was of use is still told, and how many others would
// not be. Was is where it begins or ends now.
func (f finder) bound(field, side string, was *float64) (b bound, gone int, ok bool) {
	path := value.ParsePath(field)
	if _, many, known := f.schema.Find(path); many || !known && f.schema != nil && !f.schema.Learnt {
		return b, 0, false
	}
	var others []float64
	b.op = side
	first := true
	for _, a := range f.alerts {
		v, several := path.Get(a.Record)
		n, number := value.ReadNumber(v, f.ws)
		if several || !number || n.Exact != "" {
			if a.Led {
				return b, 0, false // it says nothing of what was of use
			}
			continue
		}
		switch {
		case !a.Led:
			others = append(others, n.Float)
		case first, side == "at_least" && n.Float < b.edge, side == "at_most" && n.Float > b.edge:
			b.edge, first = n.Float, false
		}
	}
	if first {
		return b, 0, false
	}
	b.edge = round(b.edge, side, was, others)
	for _, n := range others {
		if !b.keeps(n) {
			gone++
		}
	}
	return b, gone, gone >= leastGone
}

// round takes a bound to a number that a person would have written, away from what is of use, while it leaves out the same.
func round(edge float64, side string, was *float64, others []float64) float64 {
	if edge == 0 {
		return edge
	}
	size := math.Floor(math.Log10(math.Abs(edge)))
	for digits := 0.0; digits < 4; digits++ {
		unit := math.Pow(10, size-digits)
		near := math.Floor(edge/unit) * unit
		if side == "at_most" {
			near = math.Ceil(edge/unit) * unit
		}
		near = shortest(near)
		same := was == nil || (side == "at_least") == (near > *was)
		for _, n := range others {
			same = same && (bound{side, near}).keeps(n) == (bound{side, edge}).keeps(n)
		}
		if same {
			return near
		}
	}
	return edge
}

// shortest takes the dust of a binary fraction off a number.
func shortest(n float64) float64 { return math.Round(n*1e9) / 1e9 }

// added proposes the condition that would leave out most: a bound of a number, or some values of a text.
func (f finder) added() ([]Proposal, error) {
	if f.led < leastLed || f.schema == nil {
		return nil, nil
	}
	var best Proposal
	var test map[string]any
	most := max(leastGone, int(math.Ceil(partAdded*float64(len(f.alerts)-f.led))))
	take := func(gone int, p Proposal, t map[string]any) {
		if gone >= most {
			most, best, test = gone+1, p, t
			best.Because = f.because(gone)
		}
	}
	for _, field := range f.schema.Fields {
		switch {
		case field.Hidden || field.Name == "id" || field.Name == "key":
		case field.Type.IsNumber():
			for _, side := range []string{"at_least", "at_most"} {
				if b, gone, ok := f.bound(field.Name, side, nil); ok {
					take(gone, Proposal{Kind: Narrow, Words: fmt.Sprintf("Only where %s %s %s", f.label(field.Name), words(b.op), value.NumberText(b.edge))},
						map[string]any{"field": field.Name, b.op: b.edge})
				}
			}
		case field.Type.IsText():
			if values, gone := f.values(field.Name); gone > 0 {
				list := make([]any, len(values))
				for i, v := range values {
					list[i] = v
				}
				take(gone, Proposal{Kind: LeaveOut, Words: fmt.Sprintf("Not where %s is %s", f.label(field.Name), strings.Join(values, " or "))},
					map[string]any{"field": field.Name, "none_of": list})
			}
		}
	}
	if test == nil {
		return nil, nil
	}
	s, err := f.copy()
	if err != nil {
		return nil, err
	}
	best.Path, best.Sheet = keepAlso(s, test), s
	return []Proposal{best}, nil
}

// keepAlso adds a test to Keep, and gives its path.
func keepAlso(s, test map[string]any) string {
	keep, _ := s["keep"].(map[string]any)
	if keep == nil {
		s["keep"] = test
		return "keep"
	}
	all, ok := keep["all"].([]any)
	if !ok {
		all = []any{keep}
	}
	s["keep"] = map[string]any{"all": append(all, test)}
	return fmt.Sprintf("keep.all[%d]", len(all))
}

// values finds the values of a text field with which nothing was of use, and how many alerts had them.
func (f finder) values(field string) (values []string, gone int) {
	path := value.ParsePath(field)
	counts, needed := map[string]int{}, map[string]bool{}
	shown := map[string]string{}
	for _, a := range f.alerts {
		v, _ := path.Get(a.Record)
		text, ok := v.(string)
		if !ok || text == "" {
			continue
		}
		folded := value.Fold(text)
		if shown[folded] == "" {
			shown[folded] = text
		}
		if counts[folded]++; a.Led {
			needed[folded] = true
		}
		if len(counts) > mostValues {
			return nil, 0
		}
	}
	for _, folded := range value.SortedKeys(counts) {
		if n := counts[folded]; !needed[folded] && n >= leastGone {
			values, gone = append(values, shown[folded]), gone+n
		}
	}
	return values, gone
}
