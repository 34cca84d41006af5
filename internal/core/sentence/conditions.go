package sentence

import (
	"strconv"
	"strings"

	"dorfbote/internal/core/value"
)

// conditions reads what is said of the records in a clause. In the first, what something becomes is what starts it.
// many is what so many of them a day are told for.
func (r *reader) conditions(from, to int, first bool) (out []map[string]any, many int) {
	for i := from; i < to; i++ {
		if c, n := r.comparison(i, from, to); c != nil {
			if c["many"] != nil {
				many = c["many"].(int)
			} else {
				out = append(out, c)
			}
			i += n - 1
			continue
		}
		c, n := r.valueAt(i, from, to)
		if c == nil {
			continue
		}
		if op := c["op"].(string); first && op == "became" {
			r.draft.becomes = append(r.draft.becomes, map[string]any{"field": c["field"], "became": c["value"]})
		} else if op == "is_not" {
			out = append(out, map[string]any{"field": c["field"], "is_not": c["value"]})
		} else {
			out = append(out, map[string]any{"field": c["field"], "is": c["value"]})
		}
		i += n - 1
	}
	return out, many
}

// comparison reads "over 500 litres", "litres over 500" and "over 10 samples a day".
func (r *reader) comparison(at, from, to int) (c map[string]any, width int) {
	for _, o := range operators {
		n := len(strings.Fields(o.words))
		if at+n >= to || !r.free(at, at+n) || r.phrase(at, at+n) != o.words {
			continue
		}
		number, ok := amount(r.tokens[at+n].low)
		if !ok || !r.free(at+n, at+n+1) {
			continue
		}
		end := at + n + 1
		// So many of the records a day.
		if end < to && r.tokens[end].as == AsSource {
			per := end + 1
			if per+1 < to && (r.phrase(per, per+2) == "a day" || r.phrase(per, per+2) == "per day") {
				r.mark(at, end, AsOperator, "more than so many in a day")
				r.mark(per, per+2, AsTime, "in a day")
				return map[string]any{"many": int(number)}, per + 2 - at
			}
		}
		field, before, after := r.fieldBy(at, end, from, to)
		if field == "" {
			continue
		}
		r.mark(at, end, AsOperator, field+" "+o.op+" "+r.tokens[at+n].text)
		r.mark(at-before, at, AsField, field)
		r.mark(end, end+after, AsField, field)
		return map[string]any{"field": field, o.op: number}, n + 1 + after
	}
	return nil, 0
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
	for width := 1; width <= 3 && at-width >= from; width++ {
		for _, f := range r.from.Fields {
			if f.Type.IsNumber() && r.free(at-width, at) && r.named(at-width, at, f) == width {
				return f.Name, width, 0
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

func amount(s string) (float64, bool) {
	s = strings.ReplaceAll(s, ",", "")
	f, err := strconv.ParseFloat(strings.TrimRight(s, "%°lkg"), 64)
	return f, err == nil
}

// valueAt reads a value that a field of the records can have, with "is" before it or the field's name beside it.
func (r *reader) valueAt(at, from, to int) (map[string]any, int) {
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
		return nil, 0
	}
	op := "is"
	for _, word := range turning {
		n := len(strings.Fields(word))
		if at-n >= from && r.phrase(at-n, at) == word {
			r.mark(at-n, at, AsOperator, "becomes")
			op = "became"
			break
		}
	}
	if at-2 >= from && (r.phrase(at-2, at) == "is not" || r.phrase(at-2, at) == "are not") || at-1 >= from && r.tokens[at-1].low == "not" {
		op = "is_not"
		r.mark(at-1, at, AsOperator, "is not")
	}
	r.mark(at, at+best.width, AsValue, best.field+" is "+best.value)
	width := best.width
	for _, f := range r.from.Fields {
		if f.Name != best.field {
			continue
		}
		if n := r.named(at+width, to, f); n > 0 && r.free(at+width, at+width+n) {
			r.mark(at+width, at+width+n, AsField, f.Name)
			width += n
			op = strings.Replace(op, "became", "is", 1)
		} else {
			for n := 1; n <= 3 && at-n >= from; n++ {
				if r.named(at-n, at, f) == n && r.free(at-n, at) {
					r.mark(at-n, at, AsField, f.Name)
				}
			}
		}
	}
	return map[string]any{"field": best.field, "op": op, "value": best.value}, width
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
