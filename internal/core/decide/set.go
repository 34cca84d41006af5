package decide

import (
	"slices"

	"dorfbote/internal/core/cond"
	"dorfbote/internal/core/sheet"
)

// Set finds, among many sheets on one source, those that an arrival starts or may start: sheets whose Watch waits for one
// value of a field are found by that value. The time it takes does not grow with those that wait for another one. What
// Keep makes of an arrival is left to deciding: to be dropped is a verdict, however many sheets there are.
type Set struct {
	always  []int
	byField []fieldIndex
}

type fieldIndex struct {
	need   cond.Need
	byText map[string][]int
}

// NewSet indexes sheets; nil ones, which cannot be run, always concern everybody.
func NewSet(plans []*sheet.Plan) *Set {
	s := &Set{}
	for i, p := range plans {
		need, ok := needOf(p)
		if !ok {
			s.always = append(s.always, i)
			continue
		}
		at := slices.IndexFunc(s.byField, func(f fieldIndex) bool { return f.need.Field.String() == need.Field.String() })
		if at < 0 {
			at = len(s.byField)
			s.byField = append(s.byField, fieldIndex{need, map[string][]int{}})
		}
		for _, text := range need.Texts {
			s.byField[at].byText[text] = append(s.byField[at].byText[text], i)
		}
	}
	return s
}

func needOf(p *sheet.Plan) (cond.Need, bool) {
	if p == nil || p.KeepsUp() || p.Timed() || p.AsksFor() {
		return cond.Need{}, false
	}
	if p.When == nil {
		return cond.Need{}, false
	}
	return cond.NeedOf(p.When)
}

// Concerned gives the sheets, by their index in ascending order, that could make anything of a record but ignore it. The slice given is reused.
func (s *Set) Concerned(record map[string]any, into []int) []int {
	into = append(into[:0], s.always...)
	for i := range s.byField {
		into = append(into, s.byField[i].byText[s.byField[i].need.Key(record)]...)
	}
	if len(s.byField) > 0 {
		slices.Sort(into)
		into = slices.Compact(into) // a sheet may name a text twice
	}
	return into
}
