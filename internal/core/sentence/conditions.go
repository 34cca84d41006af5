package sentence

import (
	"fmt"
	"slices"
	"strings"

	"dorfbote/internal/core/value"
)

// found is a condition that was read, and where.
type found struct {
	at, end int
	field   string
	op      string // of a test: became, is, above, between, …
	value   any
	many    int  // more than so many of the records in a day; the rest is empty then
	not     bool // it is said not to be so
	gone    bool // it is said to be so no longer
	except  bool // it stands behind "unless" or "except"
	soft    bool // it is said to become so with a word such as "is" only
}

// opposite is the test that holds where another does not, of a value that is there.
var opposite = map[string]string{"is": "is_not", "became": "is_not", "one_of": "none_of", "above": "at_most", "at_most": "above", "below": "at_least", "at_least": "below"}

// test is the condition as a sheet has it.
func (f found) test() map[string]any {
	switch {
	case f.gone:
		return map[string]any{"all": []any{map[string]any{"field": f.field, "was": f.value}, map[string]any{"field": f.field, "is_not": f.value}}}
	case f.not && f.op == "between":
		return map[string]any{"none": []any{map[string]any{"field": f.field, f.op: f.value}}}
	case f.not:
		return map[string]any{"field": f.field, opposite[f.op]: f.value}
	}
	return map[string]any{"field": f.field, f.op: f.value}
}

// conditions reads what is said of the records in a clause. In the first, what something becomes is what starts it.
// many is what so many of them a day are told for.
func (r *reader) conditions(from, to int, first bool) (out []map[string]any, many int) {
	list := r.allConditions(from, to)
	for _, f := range list {
		if f.many > 0 {
			many = f.many
		}
	}
	list = slices.DeleteFunc(list, func(f found) bool { return f.many > 0 })
	turned := slices.IndexFunc(list, func(f found) bool { return f.gone || f.op == "became" && !f.not })
	for i := range list { // … becomes late, and valley is Upper: of two that are so, the first is what happens
		if i > turned && turned >= 0 && list[i].soft && list[i].field != list[turned].field && list[i].op == "became" {
			list[i].op = "is"
		}
	}
	for _, g := range r.groups(list) {
		starts := first && slices.ContainsFunc(g, func(f found) bool { return f.gone || f.op == "became" && !f.not })
		if test := joint(g, starts); starts {
			r.draft.becomes = append(r.draft.becomes, test)
		} else {
			out = append(out, test)
		}
	}
	return out, many
}

// allConditions finds the conditions of a clause, in its order.
func (r *reader) allConditions(from, to int) (list []found) {
	for i := from; i < to; i++ {
		f, ok := r.comparison(i, from, to)
		if !ok {
			f, ok = r.valueAt(i, from, to)
		}
		if !ok {
			continue
		}
		r.polarity(&f, from)
		list = append(list, f)
		i = max(f.end-1, i)
	}
	return list
}

// polarity finds out whether what is said is denied, or excepted: by the words before it, up to what something else was said with.
func (r *reader) polarity(f *found, from int) {
	for i := f.at - 1; i >= from; i-- {
		t := &r.tokens[i]
		switch {
		case contains(r.g.Deny, t.low) && (t.as == "" || t.as == AsOperator):
			t.as, t.means = AsOperator, "not"
			f.not = !f.not
			if i > from && contains(r.g.But, r.tokens[i-1].low) && r.tokens[i-1].as == "" {
				r.mark(i-1, i, AsWord, "")
			}
			return
		case i > from && t.as == "" && contains(r.g.NoLonger, r.phrase(i-1, i+1)):
			r.mark(i-1, i+1, AsOperator, "no longer")
			if f.op == "is" || f.op == "became" {
				f.gone = true
			} else {
				f.not = true
			}
			return
		case contains(r.g.Except, t.low) && t.as == "" || i > from && t.as == "" && r.tokens[i-1].as == "" && contains(r.g.ExceptTwo, r.phrase(i-1, i+1)):
			r.mark(i, i+1, AsOperator, "except")
			if !contains(r.g.Except, t.low) {
				r.mark(i-1, i, AsOperator, "except")
			}
			f.except, f.not = !contains(r.g.ExceptOnly, t.low), !f.not
			return
		case t.as == AsField && t.means == f.field || t.as == AsOperator && t.means == "becomes" || t.as == "" && contains(r.g.Passed, t.low):
		default:
			return
		}
	}
}

// between is what joins two conditions: "or", "and", or "" for neither.
func (r *reader) between(a, b found) (word string) {
	for i := a.end; i < b.at; i++ {
		t := &r.tokens[i]
		if t.as != "" {
			continue
		}
		switch {
		case contains(r.g.Or, t.low):
			r.mark(i, i+1, AsWord, "or")
			return "or"
		case contains(r.g.Joins, t.low):
			r.mark(i, i+1, AsWord, "and")
			word = "and"
		}
	}
	return word
}

// groups puts together what is said to be one or the other; each of the groups has to hold. What can be meant in two ways is asked.
func (r *reader) groups(list []found) (out [][]found) {
	for i := range list {
		if i == 0 {
			out = append(out, []found{list[i]})
			continue
		}
		before := list[i-1]
		join := r.between(before, list[i])
		same := before.field == list[i].field
		if before.except && join == "and" && !same && !list[i].not {
			word := before.at
			for word > 0 && !contains(r.g.Excepting, r.tokens[word].low) {
				word--
			}
			except, first, second := r.text(word, before.at), r.text(before.at, before.end), r.text(list[i].at, list[i].end)
			about := r.text(word, list[i].end)
			r.doubts = append(r.doubts, Doubt{
				About: about, Ask: fmt.Sprintf("Is %q part of the exception, or must it be true?", second),
				Choices: r.answers(about, []string{except + " " + first + " or " + second, except + " " + first + " and " + r.tokens[word].low + " " + second, "and " + second + " " + except + " " + first}),
			})
		}
		if before.except && join != "" && !list[i].not { // what is excepted goes on
			list[i].except, list[i].not = true, true
		}
		listed := join == "or" || join == "" && same && r.tokens[before.end-1].comma && i+1 < len(list) && list[i+1].field == list[i].field
		switch {
		case listed && (same || join == "or"):
			if before.not && !list[i].not && !list[i].except { // not late or refused: neither
				list[i].not = true
			}
			last := &out[len(out)-1]
			*last = append(*last, list[i])
		case same && join == "and" && isOne(before) && isOne(list[i]) && before.not == list[i].not && !before.except:
			about := r.text(before.at, list[i].end)
			r.doubts = append(r.doubts, Doubt{About: about, Ask: fmt.Sprintf("No record is both at once: what does %q mean?", about), Choices: []string{r.text(before.at, before.end) + " or " + r.text(list[i].at, list[i].end)}})
			out = append(out, []found{list[i]})
		default:
			out = append(out, []found{list[i]})
		}
	}
	mixed := slices.ContainsFunc(out, func(g []found) bool {
		return len(g) > 1 && slices.ContainsFunc(g, func(f found) bool { return f.field != g[0].field })
	})
	if mixed && len(out) > 1 {
		about := r.text(list[0].at, list[len(list)-1].end)
		r.doubts = append(r.doubts, Doubt{About: about, Ask: fmt.Sprintf("%q joins by \"and\" and by \"or\", which can be meant in two ways. Say it in two sentences, apart by a semicolon.", about)})
	}
	return out
}

func isOne(f found) bool { return (f.op == "is" || f.op == "became") && !f.gone }

// joint is one condition made of those of a group, any of which may hold; of what is denied, none may.
func joint(g []found, starts bool) map[string]any {
	tests, denied := make([]any, len(g)), true
	for i, f := range g {
		if !f.not && starts && f.op == "is" {
			f.op = "became"
		} else if !f.not && !starts && f.op == "became" {
			f.op = "is"
		}
		tests[i] = f.test()
		denied = denied && f.not && !f.gone
	}
	switch {
	case len(g) == 1:
		return tests[0].(map[string]any)
	case denied: // each of them
		return gathering(tests, "is_not", "none_of", "all")
	}
	return gathering(tests, "is", "one_of", "any")
}

// gathering is one condition of several: where they all test one field by one operator, its operator for lists, else a group of them.
func gathering(tests []any, op, list, group string) map[string]any {
	var values []any
	field := tests[0].(map[string]any)["field"]
	for _, t := range tests {
		if v, ok := t.(map[string]any)[op]; ok && t.(map[string]any)["field"] == field {
			values = append(values, v)
		}
	}
	if len(values) < len(tests) {
		return map[string]any{group: tests}
	}
	return map[string]any{"field": field, list: values}
}

// valueAt reads a value that a field of the records can have, with "is" before it or the field's name beside it.
func (r *reader) valueAt(at, from, to int) (found, bool) {
	type hit struct {
		field, value string
		width        int
	}
	var best hit
	for _, f := range r.from.Fields {
		if !f.Type.IsText() && f.Type != value.Choices {
			continue
		}
		for _, v := range append(append([]string{}, f.Options...), f.Values...) {
			n := len(strings.Fields(v))
			if n == 0 || at+n > to || !r.free(at, at+n) || r.phrase(at, at+n) != value.Fold(v) {
				continue
			}
			// A field that is named beside it is meant before one that happens to have the value.
			beside := r.beside(at, at+n, from, to, f)
			if n > best.width || n == best.width && (beside || len(f.Options) > 0 && best.field == "") {
				best = hit{f.Name, v, n}
			}
		}
	}
	if best.width == 0 {
		return found{}, false
	}
	out := found{at: at, end: at + best.width, field: best.field, op: "is", value: best.value}
	verb := at
	if verb > from && contains(r.g.Either, r.tokens[verb-1].low) {
		verb--
	}
	for _, word := range r.g.Turns {
		n := len(strings.Fields(word))
		if verb-n >= from && r.phrase(verb-n, verb) == word {
			r.mark(verb-n, verb, AsOperator, "becomes")
			out.op = "became"
			out.soft = contains(r.g.Is, word)
			out.at = verb - n
			break
		}
	}
	if (contains(r.g.OrAnd, r.tokens[max(at-1, 0)].low) || at > from && r.tokens[at-1].comma) && out.op == "is" && r.continues(at, from) {
		out.op = "became" // is late or refused
	}
	r.mark(at, at+best.width, AsValue, best.field+" is "+best.value)
	for _, f := range r.from.Fields {
		if f.Name != best.field {
			continue
		}
		if n := r.named(out.end, to, f); n > 0 && r.free(out.end, out.end+n) {
			r.mark(out.end, out.end+n, AsField, f.Name)
			out.end += n
			out.op = strings.Replace(out.op, "became", "is", 1)
		} else {
			r.fieldBefore(out.at, from, f)
			for n := 1; n <= 3 && out.at-n >= from; n++ {
				if r.named(out.at-n, out.at, f) == n && r.free(out.at-n, out.at) {
					r.mark(out.at-n, out.at, AsField, f.Name)
					out.at -= n
				}
			}
		}
	}
	return out, true
}

// fieldBefore marks the name of a field that stands before what is said of it, with words such as "is not" or "of a collection"
// between.
func (r *reader) fieldBefore(at, from int, f Field) {
	for i := at - 1; i >= from; i-- {
		for n := 1; n <= 3 && i-n+1 >= from && i < at-1; n++ {
			if r.free(i-n+1, i+1) && r.named(i-n+1, i+1, f) == n {
				r.mark(i-n+1, i+1, AsField, f.Name)
				return
			}
		}
		t := r.tokens[i]
		if t.as != AsSource && (t.as != "" || !contains(r.g.Deny, t.low) && !contains(r.g.Passed, t.low) && !contains(r.g.OtherThan, t.low)) {
			return
		}
	}
}

// continues tells whether a value stands in a list behind one that something becomes.
func (r *reader) continues(at, from int) bool {
	i := at - 1
	if i >= from && contains(r.g.OrAnd, r.tokens[i].low) {
		i--
	}
	if i < from || r.tokens[i].as != AsValue {
		return false
	}
	for i >= from && r.tokens[i].as == AsValue {
		i--
	}
	if i > from && contains(r.g.Either, r.tokens[i].low) {
		i--
	}
	return i >= from && (r.tokens[i].as == AsOperator && r.tokens[i].means == "becomes" || r.continues(i+1, from))
}

func (r *reader) beside(start, end, from, to int, f Field) bool {
	if r.named(end, to, f) > 0 {
		return true
	}
	for n := 1; n <= 3 && start-n >= from; n++ {
		if r.named(start-n, start, f) == n {
			return true
		}
	}
	return false
}
