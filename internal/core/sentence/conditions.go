package sentence

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
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

// Words by which something is said not to be so, and those that may stand between them and what they deny.
var (
	deny      = strings.Fields("not never isn't aren't wasn't weren't hasn't haven't doesn't don't isn’t aren’t wasn’t weren’t hasn’t haven’t doesn’t don’t neither nor")
	exempt    = strings.Fields("except unless excluding without")
	exemptTwo = []string{"apart from", "other than", "anywhere but", "everywhere but", "all but", "anything but"}
	pass      = strings.Fields("in from at of the a an is are was were been be being has have had yet any by on it its they them those that which for with to as if when one ones come comes coming lie lies")
)

// polarity finds out whether what is said is denied, or excepted: by the words before it, up to what something else was said with.
func (r *reader) polarity(f *found, from int) {
	for i := f.at - 1; i >= from; i-- {
		t := &r.tokens[i]
		switch {
		case contains(deny, t.low) && (t.as == "" || t.as == AsOperator):
			t.as, t.means = AsOperator, "not"
			f.not = !f.not
			if i > from && r.tokens[i-1].low == "but" && r.tokens[i-1].as == "" {
				r.mark(i-1, i, AsWord, "")
			}
			return
		case t.low == "longer" && i > from && r.tokens[i-1].low == "no" && t.as == "":
			r.mark(i-1, i+1, AsOperator, "no longer")
			if f.op == "is" || f.op == "became" {
				f.gone = true
			} else {
				f.not = true
			}
			return
		case contains(exempt, t.low) && t.as == "" || i > from && t.as == "" && r.tokens[i-1].as == "" && contains(exemptTwo, r.phrase(i-1, i+1)):
			r.mark(i, i+1, AsOperator, "except")
			if !contains(exempt, t.low) {
				r.mark(i-1, i, AsOperator, "except")
			}
			f.except, f.not = !contains([]string{"than", "but"}, t.low), !f.not
			return
		case t.as == AsField && t.means == f.field || t.as == AsOperator && t.means == "becomes" || t.as == "" && contains(pass, t.low):
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
		switch t.low {
		case "or", "nor":
			r.mark(i, i+1, AsWord, "or")
			return "or"
		case "and", "but":
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
			about := r.text(before.at, list[i].end)
			r.doubts = append(r.doubts, Doubt{About: about, Ask: fmt.Sprintf("Is the second of %q excepted too, or does it have to hold? Say what has to hold first, and the exception last.", about)})
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
	if len(g) == 1 {
		if !starts && g[0].op == "became" && !g[0].not {
			g[0].op = "is"
		}
		return g[0].test()
	}
	same := !slices.ContainsFunc(g, func(f found) bool { return f.field != g[0].field || !isOne(f) || f.not != g[0].not })
	values := make([]any, len(g))
	for i, f := range g {
		values[i] = f.value
	}
	switch {
	case same && g[0].not:
		return map[string]any{"field": g[0].field, "none_of": values}
	case same && !starts:
		return map[string]any{"field": g[0].field, "one_of": values}
	}
	if !slices.ContainsFunc(g, func(f found) bool { return !f.not || f.gone }) { // none of them: each is denied
		all := make([]any, len(g))
		for i, f := range g {
			all[i] = f.test()
		}
		return map[string]any{"all": all}
	}
	either := make([]any, len(g))
	for i, f := range g {
		if starts && f.op == "is" && !f.not {
			f.op = "became"
		}
		either[i] = f.test()
	}
	return map[string]any{"any": either}
}

// comparison reads "over 500 litres", "litres over 500", "between 5 and 9 litres", "500 litres or more" and "over 10 samples a day".
func (r *reader) comparison(at, from, to int) (f found, ok bool) {
	if f, ok := r.spanned(at, from, to); ok {
		return f, true
	}
	if f, ok := r.orMore(at, from, to); ok {
		return f, true
	}
	for _, o := range operators {
		n := len(strings.Fields(o.words))
		if at+n >= to || !r.free(at, at+n) || r.phrase(at, at+n) != o.words {
			continue
		}
		number, width, ok := r.number(at+n, to)
		if !ok {
			if r.asked(at + n) {
				r.mark(at, at+n, AsOperator, o.words)
			}
			continue
		}
		end := at + n + width
		// So many of the records a day.
		if end < to && r.tokens[end].as == AsSource {
			per := end + 1
			if number >= 1 && per+1 < to && (r.phrase(per, per+2) == "a day" || r.phrase(per, per+2) == "per day") {
				r.mark(at, end, AsOperator, "more than so many in a day")
				r.mark(per, per+2, AsTime, "in a day")
				return found{at: at, end: per + 2, many: int(number)}, true
			}
		}
		field, before, after := r.fieldBy(at, end, from, to)
		if field == "" {
			continue
		}
		r.mark(at, end, AsOperator, field+" "+strings.ReplaceAll(o.op, "_", " ")+" "+r.text(at+n, end))
		r.mark(at-before, at, AsField, field)
		r.mark(end, end+after, AsField, field)
		return found{at: at - before, end: end + after, field: field, op: o.op, value: number}, true
	}
	return found{}, false
}

// spanned reads "between 500 and 1000 litres".
func (r *reader) spanned(at, from, to int) (f found, ok bool) {
	if r.tokens[at].low != "between" || !r.free(at, at+1) {
		return f, false
	}
	low, w, ok := r.number(at+1, to)
	if !ok || at+1+w >= to || r.tokens[at+1+w].low != "and" {
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
	op := map[string]string{"or more": "at_least", "and more": "at_least", "or less": "at_most", "or fewer": "at_most"}[r.phrase(end, end+2)]
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
		if skip > 0 && !contains(deny, r.tokens[at-skip].low) && !contains(pass, r.tokens[at-skip].low) {
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

// Numbers as people write them. What is written in another way than the workspace writes numbers is asked about.
var (
	unitEnd  = regexp.MustCompile(`^(.*[0-9])(%|°|l|kg|g|km|cm)$`)
	digits   = regexp.MustCompile(`^[0-9]+$`)
	someNum  = regexp.MustCompile(`^[0-9][0-9.,'’]*[0-9]?(k|m)?$`)
	thousand = regexp.MustCompile(`^[0-9]{1,3}([.,'’][0-9]{3})+$`)
)

// number reads a number at a token: as the workspace writes it. One that could mean two things is a question, and no number.
func (r *reader) number(at, to int) (n float64, width int, ok bool) {
	if at >= to || !r.free(at, at+1) {
		return 0, 0, false
	}
	text := r.tokens[at].low
	if m := unitEnd.FindStringSubmatch(text); m != nil {
		text = m[1]
	}
	if digits.MatchString(text) {
		f, err := strconv.ParseFloat(text, 64)
		if at+1 < to && r.free(at+1, at+2) && contains([]string{"thousand", "million"}, r.tokens[at+1].low) {
			return f * map[string]float64{"thousand": 1e3, "million": 1e6}[r.tokens[at+1].low], 2, err == nil
		}
		return f, 1, err == nil
	}
	if !someNum.MatchString(text) {
		return 0, 0, false
	}
	sep := value.SeparatorsOf(r.world.Workspace.Locale)
	var plain string
	switch group := sep.Group; {
	case group != "" && thousand.MatchString(text) && !strings.ContainsAny(strings.ReplaceAll(text, group, ""), ".,'’"):
		plain = strings.ReplaceAll(text, group, "")
	case strings.Count(text, sep.Decimal) == 1 && !strings.ContainsAny(strings.Replace(text, sep.Decimal, "", 1), ".,'’km") && !thousand.MatchString(text):
		plain = strings.Replace(text, sep.Decimal, ".", 1)
	default:
		r.unsure(at, text)
		return 0, 0, false
	}
	f, err := strconv.ParseFloat(plain, 64)
	return f, 1, err == nil
}

// asked tells whether it is asked which number is meant by a token.
func (r *reader) asked(at int) bool {
	return at < len(r.tokens) && r.tokens[at].as == AsWord && slices.ContainsFunc(r.doubts, func(d Doubt) bool { return d.About == r.tokens[at].text })
}

// unsure asks which number is meant.
func (r *reader) unsure(at int, text string) {
	if slices.ContainsFunc(r.doubts, func(d Doubt) bool { return d.About == r.tokens[at].text }) {
		return
	}
	bare := strings.NewReplacer(".", "", ",", "", "'", "", "’", "", "k", "", "m", "").Replace(text)
	var choices []string
	switch {
	case strings.HasSuffix(text, "k") && !strings.ContainsAny(text, ".,"):
		choices = []string{bare + "000", bare}
	case strings.HasSuffix(text, "m") && !strings.ContainsAny(text, ".,"):
		choices = []string{bare + "000000", bare}
	case thousand.MatchString(text):
		choices = []string{bare}
		if i := strings.LastIndexAny(text, ".,"); i > 0 && strings.Count(text, ".")+strings.Count(text, ",") == 1 {
			choices = append(choices, strings.TrimLeft(text[:i], "0"))
		}
	default:
		choices = []string{bare}
	}
	r.doubts = append(r.doubts, Doubt{About: r.tokens[at].text, Ask: fmt.Sprintf("Which number is %q?", r.tokens[at].text), Choices: choices})
	r.mark(at, at+1, AsWord, "")
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
	if verb > from && r.tokens[verb-1].low == "either" {
		verb--
	}
	for _, word := range turning {
		n := len(strings.Fields(word))
		if verb-n >= from && r.phrase(verb-n, verb) == word {
			r.mark(verb-n, verb, AsOperator, "becomes")
			out.op = "became"
			out.soft = contains([]string{"is", "are", "was"}, word)
			out.at = verb - n
			break
		}
	}
	if (contains([]string{"or", "and"}, r.tokens[max(at-1, 0)].low) || at > from && r.tokens[at-1].comma) && out.op == "is" && r.continues(at, from) {
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
		if t.as != AsSource && (t.as != "" || !contains(deny, t.low) && !contains(pass, t.low) && !contains([]string{"other", "than", "either"}, t.low)) {
			return
		}
	}
}

// continues tells whether a value stands in a list behind one that something becomes.
func (r *reader) continues(at, from int) bool {
	i := at - 1
	if i >= from && contains([]string{"or", "and"}, r.tokens[i].low) {
		i--
	}
	if i < from || r.tokens[i].as != AsValue {
		return false
	}
	for i >= from && r.tokens[i].as == AsValue {
		i--
	}
	if i > from && r.tokens[i].low == "either" {
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
