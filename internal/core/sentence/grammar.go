package sentence

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

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
}

type dueAt struct{ field, offset string }

type route struct {
	name string
	when map[string]any
	tell []string
	many int // more than so many in a day
}

var operators = []struct{ words, op string }{
	{"is more than", "above"}, {"more than", "above"}, {"is over", "above"}, {"over", "above"}, {"is above", "above"}, {"above", "above"}, {"exceeds", "above"},
	{"is at least", "at_least"}, {"at least", "at_least"}, {"or more", "at_least"},
	{"is less than", "below"}, {"less than", "below"}, {"is under", "below"}, {"under", "below"}, {"is below", "below"}, {"below", "below"},
	{"is at most", "at_most"}, {"at most", "at_most"}, {"up to", "at_most"},
}

var turning = []string{"becomes", "turns", "gets", "is marked", "goes to", "changes to", "is", "are", "was", "has become"}

var units = map[string]string{"second": "s", "minute": "m", "min": "m", "hour": "h", "day": "d", "week": "w"}

var fillers = strings.Fields("a an the me us please and of any every each with has have that which who for on by from its it there then also than so")

var grammarWords = strings.Fields("tell alert notify post send when whenever if once as soon in to at is are was has becomes turns not")

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
		case contains(grammarWords, t.low):
			t.as = AsWord
		case contains(fillers, t.low):
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
	if first && r.says(from, to, "new") {
		r.draft.created = true
	}
	if r.says(from, to, "otherwise", "the rest", "everything else", "all others", "anything else") {
		r.draft.rest = append(r.draft.rest, tell...)
		return
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
	if r.says(from, to, "at once", "immediately", "right away", "straight away") {
		r.draft.urgent = true
	}
	if r.says(from, to, "every morning", "each morning", "in the morning") {
		pace("digest", map[string]any{"at": []any{"07:00"}})
	}
	if r.says(from, to, "once a day", "daily", "every day", "each day") {
		pace("digest", map[string]any{"at": []any{"07:00"}})
	}
	if r.says(from, to, "only once", "not again", "without repeats") {
		pace("repeat", map[string]any{"key": "${record." + r.key() + "}", "within": "1d"})
	}
	if r.says(from, to, "in office hours", "during office hours", "in working hours", "during the day") {
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
		case i > from+1 && r.phrase(i-2, i) == "due in":
			if field := r.dueField(i-2, i-1); field != "" {
				r.draft.due = &dueAt{field, "-" + text}
				r.mark(i-2, i+width, AsTime, text+" before "+field)
			}
		case before == "for" || before == "longer" || i > from+1 && r.phrase(i-2, i) == "longer than" || i > from+1 && r.phrase(i-2, i) == "more than" && unit != "":
			r.draft.lasts = text
			r.mark(i, i+width, AsTime, "lasts "+text)
			if i > from+1 && strings.HasSuffix(r.phrase(i-2, i), "than") {
				r.mark(i-2, i, AsWord, "")
			}
		case after == "before" || after == "after":
			sign := ""
			if after == "before" {
				sign = "-"
			}
			if field, w := r.timeField(i+width+1, to); field != "" {
				r.draft.due = &dueAt{field, sign + text}
				r.mark(i, i+width+1, AsTime, after+" "+field)
				r.mark(i+width+1, i+width+1+w, AsField, field)
			}
		}
	}
}

// span reads a number with a unit of time.
func (r *reader) span(at, to int) (n, unit string, width int) {
	if at+1 >= to || !r.free(at, at+2) {
		return "", "", 0
	}
	n = r.tokens[at].low
	if words := map[string]string{"an": "1", "one": "1", "two": "2", "three": "3"}; words[n] != "" {
		n = words[n]
	}
	unit = units[singular(r.tokens[at+1].low)]
	if _, err := strconv.Atoi(n); err != nil || unit == "" {
		return "", "", 0
	}
	return n, unit, 2
}

// timeField finds a field of time by its name.
func (r *reader) timeField(at, to int) (name string, width int) {
	for ; at < to && contains([]string{"it", "its", "is", "the"}, r.tokens[at].low); at++ {
		width++
	}
	for _, f := range r.from.Fields {
		if !f.Type.IsTime() {
			continue
		}
		if n := r.named(at, to, f); n > 0 {
			return f.Name, width + n
		}
	}
	return "", 0
}

// named tells how many tokens from here on name a field.
func (r *reader) named(at, to int, f Field) int {
	for _, name := range []string{f.Label, f.Name, strings.ReplaceAll(f.Name, "_", " ")} {
		n := len(strings.Fields(name))
		if n > 0 && at+n <= to && (r.phrase(at, at+n) == value.Fold(name) || n == 1 && singular(r.tokens[at].low) == singular(value.Fold(name))) {
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
