package sentence

import (
	"fmt"
	"strings"
)

// comparison reads "over 500 litres", "litres over 500", "between 5 and 9 litres", "500 litres or more" and "over 10 samples a day".
func (r *reader) comparison(at, from, to int) (f found, ok bool) {
	if f, ok := r.spanned(at, from, to); ok {
		return f, true
	}
	if f, ok := r.orMore(at, from, to); ok {
		return f, true
	}
	for _, o := range r.g.Operators {
		n := len(strings.Fields(o.Words))
		if at+n >= to || !r.free(at, at+n) || r.phrase(at, at+n) != o.Words {
			continue
		}
		number, width, ok := r.number(at+n, to)
		if !ok {
			if r.asked(at + n) {
				r.mark(at, at+n, AsOperator, o.Words)
			}
			continue
		}
		end := at + n + width
		// So many of the records a day.
		if end < to && r.tokens[end].as == AsSource {
			per := end + 1
			if number >= 1 && per+1 < to && contains(r.g.PerDay, r.phrase(per, per+2)) {
				r.mark(at, end, AsOperator, "more than so many in a day")
				r.mark(per, per+2, AsTime, "in a day")
				return found{at: at, end: per + 2, many: int(number)}, true
			}
		}
		field, before, after := r.fieldBy(at, end, from, to)
		if field == "" {
			continue
		}
		r.mark(at, end, AsOperator, field+" "+strings.ReplaceAll(o.Op, "_", " ")+" "+r.text(at+n, end))
		r.mark(at-before, at, AsField, field)
		r.mark(end, end+after, AsField, field)
		return found{at: at - before, end: end + after, field: field, op: o.Op, value: number}, true
	}
	return found{}, false
}

// spanned reads "between 500 and 1000 litres".
func (r *reader) spanned(at, from, to int) (f found, ok bool) {
	if !contains(r.g.SpanFrom, r.tokens[at].low) || !r.free(at, at+1) {
		return f, false
	}
	low, w, ok := r.number(at+1, to)
	if !ok || at+1+w >= to || !contains(r.g.And, r.tokens[at+1+w].low) {
		return f, false
	}
	high, w2, ok := r.number(at+2+w, to)
	if !ok {
		return f, false
	}
	end := at + 2 + w + w2
	field, before, after := r.fieldBy(at, end, from, to)
	if field == "" || low > high {
		return f, false
	}
	r.mark(at, end, AsOperator, fmt.Sprintf("%s between %v and %v", field, low, high))
	r.mark(at-before, at, AsField, field)
	r.mark(end, end+after, AsField, field)
	return found{at: at - before, end: end + after, field: field, op: "between", value: []any{low, high}}, true
}

// orMore reads "500 litres or more" and "2000 or less".
func (r *reader) orMore(at, from, to int) (f found, ok bool) {
	number, w, ok := r.number(at, to)
	if !ok {
		return f, false
	}
	end, name := at+w, ""
	for _, fl := range r.from.Fields {
		if n := r.named(end, to, fl); n > 0 && fl.Type.IsNumber() && r.free(end, end+n) {
			name, end = fl.Name, end+n
			break
		}
	}
	if end+2 > to || !r.free(end, end+2) {
		return f, false
	}
	op := r.g.OrMore[r.phrase(end, end+2)]
	if op == "" {
		return f, false
	}
	if name == "" {
		var before, after int
		if name, before, after = r.fieldBy(at, end+2, from, to); name == "" {
			return f, false
		}
		r.mark(end+2, end+2+after, AsField, name)
		r.mark(at-before, at, AsField, name)
		r.mark(at, end+2, AsOperator, name+" "+strings.ReplaceAll(op, "_", " "))
		return found{at: at - before, end: end + 2 + after, field: name, op: op, value: number}, true
	}
	r.mark(at, end+2, AsOperator, name+" "+strings.ReplaceAll(op, "_", " "))
	return found{at: at, end: end + 2, field: name, op: op, value: number}, true
}

// fieldBy finds the field of numbers that a comparison is about: behind it, before it, or the only one there is.
func (r *reader) fieldBy(at, end, from, to int) (name string, before, after int) {
	for _, f := range r.from.Fields {
		if f.Type.IsNumber() {
			var n int
			if n = r.named(end, to, f); n > 0 && r.free(end, end+n) {
				return f.Name, 0, n
			}
		}
	}
	for skip := 0; skip <= 2 && at-skip > from; skip++ { // litres is not over 500
		if skip > 0 && !contains(r.g.Deny, r.tokens[at-skip].low) && !contains(r.g.Passed, r.tokens[at-skip].low) {
			break
		}
		for width := 1; width <= 3 && at-skip-width >= from; width++ {
			for _, f := range r.from.Fields {
				if f.Type.IsNumber() && r.free(at-skip-width, at-skip) && r.named(at-skip-width, at-skip, f) == width {
					if skip == 0 {
						return f.Name, width, 0
					}
					r.mark(at-skip-width, at-skip, AsField, f.Name)
					return f.Name, 0, 0
				}
			}
		}
	}
	only := ""
	for _, f := range r.from.Fields {
		if f.Type.IsNumber() && f.Name != r.from.Key {
			if only != "" {
				return "", 0, 0
			}
			only = f.Name
		}
	}
	return only, 0, 0
}
