package sentence

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/value"
)

// draft is what the sentence has said so far.
type draft struct {
	becomes []map[string]any // of the change that starts it
	keep    []map[string]any
	rows    []route
	rest    []string // channels of otherwise
	tell    []string // channels of the first clause
	lasts   string
	due     *dueAt
	created bool      // only new records start it
	every   *schedule // it is told at set times, of all the records there are then
	pace    map[string]any
	urgent  bool
	theirs  []string     // words of the sentence for those whose address a record gives
	attach  *KnownSource // its records go with the message as a table
	asks    []string     // who is asked first
	unless  []unless     // who is told where nobody takes it in time
	changes bool         // it says itself that each change is meant
	overdue bool         // what is done already is not overdue
}

type dueAt struct{ field, offset string }

type route struct {
	name string
	when map[string]any
	tell []string
	many int // more than so many in a day
}

// clauses reads the sentence clause by clause.
func (r *reader) clauses() {
	from := 0
	for i := range r.tokens {
		if r.tokens[i].ends || i == len(r.tokens)-1 {
			r.clause(from, i+1, from == 0)
			from = i + 1
		}
	}
	for i := range r.tokens {
		t := &r.tokens[i]
		switch {
		case t.as != "":
		case contains(r.g.Telltale, t.low):
			t.as = NotRead
		case contains(r.g.Words, t.low):
			t.as = AsWord
		case contains(r.g.Fillers, t.low):
			t.as = AsFiller
		default:
			t.as = NotRead
		}
	}
}

func contains(list []string, s string) bool {
	return slices.Contains(list, s)
}

// clause reads one: the first says what starts it; a later one is a row of its own, or says how often.
func (r *reader) clause(from, to int, first bool) {
	var tell []string
	for i := from; i < to; i++ {
		if c := r.tokens[i].channel; c != "" {
			tell = append(tell, c)
		}
	}
	r.times(from, to)
	if first {
		r.due(from, to)
		r.new(from, to)
	}
	conditions, many := r.conditions(from, to, first)
	for _, p := range r.g.AsLongAs {
		for i := from; i+len(strings.Fields(p)) <= to; i++ {
			if n := len(strings.Fields(p)); r.free(i, i+n) && r.phrase(i, i+n) == p {
				r.mark(i, i+n, AsWord, "")
			}
		}
	}
	if first && r.says(from, to, r.g.New...) {
		r.draft.created = true
	}
	if at, width := r.restAt(from, to); width > 0 {
		var rest []string
		if tell, rest = r.restOf(from, to, at, at+width, tell, len(conditions) > 0 || many > 0); len(rest) == 0 {
			r.doubts = append(r.doubts, Doubt{About: r.text(at, at+width), Ask: fmt.Sprintf("Who hears of %q?", r.text(at, at+width)), Choices: r.toThe(r.text(at, at+width))})
		}
		r.draft.rest = append(r.draft.rest, rest...)
		if len(tell) == 0 && len(conditions) == 0 && many == 0 {
			return
		}
		if first && len(conditions) > 0 { // what is told of some, and of the rest to others, is no condition for all
			row := route{name: rowName(conditions, many), tell: tell, many: many, when: conditions[0]}
			if len(conditions) > 1 {
				row.when = map[string]any{"all": anys(conditions)}
			}
			r.draft.rows = append(r.draft.rows, row)
			return
		}
	}
	switch {
	case first:
		r.draft.tell = tell
		r.draft.keep = append(r.draft.keep, conditions...)
		if many > 0 {
			r.draft.rows = append(r.draft.rows, route{name: "Many", tell: tell, many: many})
		}
	case len(tell) > 0 && (len(conditions) > 0 || many > 0):
		row := route{name: rowName(conditions, many), tell: tell, many: many}
		switch len(conditions) {
		case 0:
		case 1:
			row.when = conditions[0]
		default:
			row.when = map[string]any{"all": anys(conditions)}
		}
		r.draft.rows = append(r.draft.rows, row)
	default:
		r.draft.keep = append(r.draft.keep, conditions...)
		if len(tell) > 0 {
			r.draft.tell = append(r.draft.tell, tell...)
		}
	}
}

func anys(list []map[string]any) []any {
	out := make([]any, len(list))
	for i, e := range list {
		out[i] = e
	}
	return out
}

func rowName(conditions []map[string]any, many int) string {
	if many > 0 {
		return fmt.Sprintf("Over %d a day", many)
	}
	for _, c := range conditions {
		for op, v := range c {
			if op != "field" {
				return strings.TrimSpace(fmt.Sprint(value.LabelOf(fmt.Sprint(c["field"])), " ", strings.ReplaceAll(op, "_", " "), " ", v))
			}
		}
	}
	return "Row"
}

// restAt finds where a clause speaks of the rest, and marks it.
func (r *reader) restAt(from, to int) (at, width int) {
	for _, p := range r.g.Rest {
		n := len(strings.Fields(p))
		for i := from; i+n <= to; i++ {
			if r.free(i, i+n) && r.phrase(i, i+n) == p {
				r.mark(i, i+n, AsTime, "what nothing else was said of")
				if i+n < to && r.tokens[i+n].as == AsSource || i+n < to && contains(r.g.Goes, r.tokens[i+n].low) && r.tokens[i+n].as == "" {
					r.mark(i+n, i+n+1, r.tokens[i+n].as, r.tokens[i+n].means)
				}
				return i, n
			}
		}
	}
	return 0, 0
}

// restOf takes apart who in a clause hears of the rest: those behind its words or, where there are none, the one right before them.
// others are all the other channels of the clause.
func (r *reader) restOf(from, to, at, end int, tell []string, some bool) (others, rest []string) {
	for i := from; i < at; i++ {
		if c := r.tokens[i].channel; c != "" {
			others = append(others, c)
		}
	}
	for i := end; i < to; i++ {
		if c := r.tokens[i].channel; c != "" {
			rest = append(rest, c)
		}
	}
	switch {
	case len(rest) > 0 && (some || len(others) == 0):
		return others, rest
	case len(rest) > 0: // tell #a and #b the rest to #c has no condition of its own
		return others, rest
	case !some:
		return nil, tell
	case len(others) > 1 && at > from && (r.tokens[at-1].channel != "" || at > from+1 && r.tokens[at-2].channel != "" && r.tokens[at-1].as == ""):
		return others[:len(others)-1], others[len(others)-1:]
	}
	return others, nil
}

// toThe are the ways to say who hears of the rest.
func (r *reader) toThe(rest string) (out []string) {
	for _, c := range r.world.Channels {
		out = append(out, rest+" to "+c.Title)
	}
	return out
}

// says marks a phrase where it stands in the clause.
func (r *reader) says(from, to int, phrases ...string) bool {
	for _, p := range phrases {
		n := len(strings.Fields(p))
		for i := from; i+n <= to; i++ {
			if r.free(i, i+n) && r.phrase(i, i+n) == p {
				r.mark(i, i+n, AsTime, p)
				return true
			}
		}
	}
	return false
}

// times reads how often, how long and when something is told.
func (r *reader) times(from, to int) {
	r.schedule(from, to)
	pace := func(part string, v any) {
		if r.draft.pace == nil {
			r.draft.pace = map[string]any{}
		}
		r.draft.pace[part] = v
	}
	if r.says(from, to, r.g.AtOnce...) {
		r.draft.urgent = true
	}
	if r.says(from, to, r.g.EachChange...) {
		r.draft.changes = true
	}
	if r.listWord(from, to) && r.says(from, to, slices.Concat(r.g.Mornings, r.g.Daily)...) {
		r.draft.every = &schedule{days: append([]time.Weekday{time.Sunday}, append(slices.Clone(weekdays), time.Saturday)...), weeks: 1, at: "07:00"}
		r.clock(from, to)
	} else if r.says(from, to, r.g.Mornings...) {
		pace("digest", map[string]any{"at": []any{"07:00"}})
	}
	if r.says(from, to, r.g.Daily...) {
		pace("digest", map[string]any{"at": []any{"07:00"}})
	}
	if r.says(from, to, r.g.OnlyOnce...) {
		pace("repeat", map[string]any{"key": "${record" + formula.Into(r.key()) + "}", "within": "1d"})
	}
	if r.says(from, to, r.g.OfficeHours...) {
		pace("quiet", map[string]any{"open": []any{map[string]any{"days": []any{"mon", "tue", "wed", "thu", "fri"}, "from": "07:00", "to": "18:00"}}, "urgent": "pass"})
	}
	for i := from; i < to; i++ {
		n, unit, width := r.span(i, to)
		if width == 0 {
			continue
		}
		before, after := "", ""
		if i > from {
			before = r.tokens[i-1].low
		}
		if i+width < to {
			after = r.tokens[i+width].low
		}
		text := n + unit
		switch {
		case r.dueWithin(i, width, from, text), r.overdueBy(i, width, from, to, text):
		case contains(r.g.Lasting, before) || i > from+1 && contains(r.g.LongerThan, r.phrase(i-2, i)):
			r.draft.lasts = text
			r.mark(i, i+width, AsTime, "lasts "+text)
			if i > from+1 && contains(r.g.LongerThan, r.phrase(i-2, i)) {
				r.mark(i-2, i, AsWord, "")
			}
		case contains(r.g.Before, after) || contains(r.g.After, after):
			sign := ""
			if contains(r.g.Before, after) {
				sign = "-"
			}
			if field, skip, w := r.timeField(i+width+1, to); field != "" {
				r.draft.due = &dueAt{field, sign + text}
				r.mark(i, i+width+1, AsTime, after+" "+field)
				r.mark(i+width+1+skip, i+width+1+skip+w, AsField, field)
			}
		}
	}
}

// listWord tells whether a clause speaks of a list of records, and marks the word.
func (r *reader) listWord(from, to int) bool {
	for i := from; i < to; i++ {
		if r.free(i, i+1) && contains(r.g.List, r.tokens[i].low) {
			r.mark(i, i+1, AsWord, "a list")
			return true
		}
	}
	return false
}

// dueWithin reads "due in 30 minutes" and "due within an hour".
func (r *reader) dueWithin(i, width, from int, text string) bool {
	for _, p := range r.g.DueIn {
		n := len(strings.Fields(p))
		if i-n < from || r.phrase(i-n, i) != p || !r.free(i-n, i) {
			continue
		}
		if field := r.dueField(i-n, i-n+1); field != "" {
			r.draft.due = &dueAt{field, "-" + text}
			r.mark(i-n, i+width, AsTime, text+" before "+field)
		}
		return true
	}
	return false
}

// overdueBy reads "overdue by 3 days", "past due for 2 hours" and "3 days overdue".
func (r *reader) overdueBy(i, width, from, to int, text string) bool {
	for _, p := range slices.Concat(r.g.Overdue, r.g.Late) {
		n := len(strings.Fields(p))
		at, end := -1, i+width
		switch {
		case i-n-1 >= from && r.free(i-n-1, i) && r.phrase(i-n-1, i-1) == p && contains(r.g.By, r.tokens[i-1].low):
			at = i - n - 1
		case i-n-3 >= from && r.free(i-n-3, i) && r.phrase(i-n-3, i-3) == p && contains(r.g.ByMore, r.phrase(i-3, i)):
			at = i - n - 3
		case end+n <= to && r.free(end, end+n) && r.phrase(end, end+n) == p:
			at, end = i, end+n
		}
		if at < 0 || r.inValue(at, at+n) || contains(r.g.Late, p) && at == i && r.inValue(i+width, end) {
			continue
		}
		field := r.dueField(at, end)
		if field == "" {
			return true
		}
		offset := text
		if r.passed(field) != "" { // a date is its whole day
			offset = r.dayAnd(text)
		}
		r.draft.due, r.draft.overdue = &dueAt{field, offset}, true
		r.mark(at, end, AsTime, text+" after "+field)
		return true
	}
	return false
}

// dayAnd is a day and a span.
func (r *reader) dayAnd(span string) string {
	if days, ok := strings.CutSuffix(span, "d"); ok {
		if n, err := strconv.Atoi(days); err == nil {
			return strconv.Itoa(n+1) + "d"
		}
	}
	return "1d" + span
}

// span reads a number with a unit of time.
func (r *reader) span(at, to int) (n, unit string, width int) {
	for _, p := range r.g.Spans {
		if w := len(strings.Fields(p.Words)); at+w <= to && r.free(at, at+w) && r.phrase(at, at+w) == p.Words {
			return p.N, p.Unit, w
		}
	}
	if at+2 < to && contains(r.g.One, r.phrase(at, at+1)) && r.free(at, at+2) && r.g.Units[r.g.singular(r.tokens[at+1].low)] != "" {
		return "1", r.g.Units[r.g.singular(r.tokens[at+1].low)], 2
	}
	if at+1 == to-0 {
		return "", "", 0
	}
	if at+1 >= to || !r.free(at, at+2) {
		return "", "", 0
	}
	n = r.tokens[at].low
	if number := r.g.Numbers[n]; number != "" {
		n = number
	}
	unit = r.g.Units[r.g.singular(r.tokens[at+1].low)]
	if _, err := strconv.Atoi(n); err != nil || unit == "" {
		return "", "", 0
	}
	return n, unit, 2
}

// timeField finds a field of time by its name, behind words such as "a collection is".
func (r *reader) timeField(at, to int) (name string, skip, width int) {
	for ; at < to && (r.tokens[at].as == AsSource || contains(r.g.Around, r.tokens[at].low)); at++ {
		skip++
	}
	for _, f := range r.from.Fields {
		if !f.Type.IsTime() {
			continue
		}
		if n := r.named(at, to, f); n > 0 {
			return f.Name, skip, n
		}
	}
	if at < to && contains(r.g.Due, r.tokens[at].low) && r.free(at, at+1) {
		if field := r.dueField(at, at+1); field != "" {
			return field, skip, 1
		}
	}
	return "", 0, 0
}

// named tells how many tokens from here on name a field.
func (r *reader) named(at, to int, f Field) int {
	for _, name := range []string{f.Label, f.Name, strings.ReplaceAll(f.Name, "_", " ")} {
		n := len(strings.Fields(name))
		if n > 0 && at+n <= to && (r.phrase(at, at+n) == value.Fold(name) || n == 1 && r.g.singular(r.tokens[at].low) == r.g.singular(value.Fold(name))) {
			return n
		}
	}
	return 0
}

func (r *reader) key() string {
	if r.from.Key != "" {
		return r.from.Key
	}
	return "id"
}
