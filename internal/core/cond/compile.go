package cond

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/report"
	"dorfbote/internal/core/value"
)

// Compile makes a condition ready to run. Problems go to the list; the node is usable only if none
// of them is an error.
func Compile(s *Spec, words *formula.Words, path string, problems *report.List) Node {
	return CompileFor(s, words, words, path, problems)
}

// CompileFor makes a condition ready to run whose fields belong to other records than its formulas speak of: those that
// a look-up judges, while the formulas speak of the arrival.
func CompileFor(s *Spec, fields, formulas *formula.Words, path string, problems *report.List) Node {
	c := compiler{words: fields, formulas: formulas, problems: problems}
	return c.node(s, path)
}

type compiler struct {
	words    *formula.Words // of the fields
	formulas *formula.Words
	problems *report.List
}

func (c compiler) node(s *Spec, path string) Node {
	switch {
	case s.Group != "":
		g := &group{path: path, kind: s.Group}
		for i, sub := range s.Subs {
			g.subs = append(g.subs, c.node(sub, fmt.Sprintf("%s.%s[%d]", path, s.Group, i)))
		}
		return g
	case s.Formula != nil:
		return &formulaNode{path: path, words: c.formulas, formula: c.formula(*s.Formula, s.Formula.S, 0, path)}
	}
	if s.Happened != "" {
		want, _ := s.Value.(bool)
		return &happened{path: path, what: s.Happened, want: want}
	}
	return c.test(s, path)
}

func (c compiler) formula(at report.Text, src string, skip int, path string) *formula.Formula {
	return formula.Read(at, src, skip, c.formulas, path, c.problems)
}

func (c compiler) test(s *Spec, path string) Node {
	t := &test{path: path, read: reader{ws: c.words.Workspace}}
	op, ok := OpNamed(s.Op.S)
	if !ok {
		near := value.Nearest(s.Op.S, OpNames())
		c.problems.Add(s.Op.At, path, near, "there is no operator %s", s.Op.S)
		c.mend(near, path, testJSON(s.Field.S, near, s.Value))
		return t
	}
	t.op, t.looks = op, looks[op.Name]
	field := c.field(t, s, path)
	if t.integer = field.Whole; c.words.Schema != nil && t.root == "" && !c.words.Schema.Learnt && !c.words.Schema.Open {
		t.options, t.closed = field.Options, true
	}
	if !op.FitsType(t.read.t) {
		c.problems.Add(s.Op.At, path, "", "%s does not fit %s, which is a %s field; it fits %s", op.Name, s.Field.S, t.read.t, fitsWords[op.Fits])
		return t
	}
	t.text = inWords(s.Field.S, op, s.Value)
	if days := c.days(s, op, path); op.Takes == "days" {
		t.judge = t.read.predicate(op, days, nil)
		return t
	}
	c.operand(t, s, field, path)
	return t
}

var fitsWords = map[string]string{
	"text": "text", "text-list": "text and lists", "order": "numbers, money, dates, moments and spans",
	"time": "dates and moments", "list": "lists", "number": "numbers and money",
}

// field finds what the test looks at: a field of the record, or of something gathered.
func (c compiler) field(t *test, s *Spec, path string) value.Field {
	t.field = value.ParsePath(s.Field.S)
	f, many, known := c.words.Schema.Find(t.field)
	if known {
		t.read.t, t.many = f.Type, many
		return f
	}
	first, rest, _ := strings.Cut(s.Field.S, ".")
	for _, g := range c.words.Gathered {
		if g.Name != first {
			continue
		}
		t.root, t.field, t.many = first, value.ParsePath(rest), g.Many && rest != ""
		f, many, known := g.Schema.Find(t.field)
		if g.Schema != nil && rest != "" && !known {
			near := prefixed(first, g.Schema.Near(rest))
			switch {
			case !g.Schema.Learnt:
				c.problems.Add(s.Field.At, path, near, "%s has no field %s", first, rest)
				c.mend(near, path, testJSON(near, s.Op.S, s.Value))
			case len(g.Schema.Fields) > 0:
				c.problems.Warn(s.Field.At, path, near, "%s", formula.NeverSeen(s.Field.S))
				c.mend(near, path, testJSON(near, s.Op.S, s.Value))
			}
		}
		t.many = t.many || many
		t.read.t = f.Type
		return f
	}
	if k := c.words.Schema; k != nil {
		near := k.Near(s.Field.S)
		if near == "" {
			near = value.Nearest(s.Field.S, c.gathered())
		}
		switch {
		case !k.Learnt && (!k.Open || near != ""):
			c.problems.Add(s.Field.At, path, near, "the records have no field %s", s.Field.S)
			c.mend(near, path, testJSON(near, s.Op.S, s.Value))
		case k.Learnt && len(k.Fields) > 0:
			c.problems.Warn(s.Field.At, path, near, "%s", formula.NeverSeen(s.Field.S))
			c.mend(near, path, testJSON(near, s.Op.S, s.Value))
		}
	}
	return value.Field{}
}

// mend offers what the last problem suggests.
func (c compiler) mend(suggestion, path string, put map[string]any) {
	if suggestion != "" {
		c.problems.Mend(suggestion, path, put)
	}
}

func prefixed(name, rest string) string {
	if rest == "" {
		return ""
	}
	return name + "." + rest
}

func (c compiler) gathered() []string {
	names := make([]string, len(c.words.Gathered))
	for i, g := range c.words.Gathered {
		names[i] = g.Name
	}
	return names
}

var weekdays = map[string]time.Weekday{
	"sun": time.Sunday, "mon": time.Monday, "tue": time.Tuesday, "wed": time.Wednesday,
	"thu": time.Thursday, "fri": time.Friday, "sat": time.Saturday,
}

// Weekday reads mon, tue, … or a full English name.
func Weekday(s string) (time.Weekday, bool) {
	s = value.Fold(s)
	if len(s) < 3 {
		return 0, false
	}
	d, ok := weekdays[s[:3]]
	return d, ok && strings.HasPrefix(strings.ToLower(d.String()), s)
}

func (c compiler) days(s *Spec, op Op, path string) map[time.Weekday]bool {
	if op.Takes != "days" {
		return nil
	}
	list, ok := s.Value.([]any)
	if !ok {
		list = []any{s.Value}
	}
	days := map[time.Weekday]bool{}
	for _, e := range list {
		name, _ := e.(string)
		d, ok := Weekday(name)
		if !ok {
			c.problems.Add(s.ValueAt.At, path, value.Nearest(name, value.SortedKeys(weekdays)), "%s is not a day of the week; write mon, tue, wed, thu, fri, sat or sun", quote(e))
		}
		days[d] = true
	}
	return days
}

// operand reads and checks the test's value.
func (c compiler) operand(t *test, s *Spec, field value.Field, path string) {
	bad := func(suggestion, format string, args ...any) {
		c.problems.Add(s.ValueAt.At, path, suggestion, format, args...)
	}
	list, isList := s.Value.([]any)
	text, _ := s.Value.(string)
	if src, ok := formula.IsWhole(text); ok && t.op.Takes != "bool" {
		t.whole = c.formula(s.ValueAt, src, strings.Index(text, "${")+2, path)
		t.judge = t.read.predicate(t.op, nil, nil)
		return
	}
	var pattern *regexp.Regexp
	switch t.op.Takes {
	case "bool":
		b, ok := s.Value.(bool)
		if !ok {
			bad("", "%s takes true or false, not %s", t.op.Name, quote(s.Value))
		}
		t.whenE = b
		return
	case "list":
		if !isList {
			bad("", "%s takes a list, such as [%s]", t.op.Name, plain(s.Value))
			return
		}
	case "pair":
		if !isList || len(list) != 2 {
			bad("", "between takes the lowest and the highest value, such as [2, 8]")
			return
		}
	case "pattern":
		re, err := regexp.Compile(text)
		if err != nil || text == "" {
			bad("", "%s is not a pattern (RE2): %v", quote(s.Value), err)
			return
		}
		pattern = re
	case "value":
		if isList && !t.read.t.IsList() && t.read.t != value.Any {
			bad("one_of", "%s takes one value, not a list", t.op.Name)
			return
		}
	}
	if m, ok := s.Value.(map[string]any); ok && t.read.t != value.Object && t.read.t != value.Any && m["amount"] == nil {
		bad("", "%s takes a value, not an object", t.op.Name)
		return
	}
	c.unfinished(t, s, path)
	lit, err := newOperand(literals(s.Value), t.operandType(), c.words.Workspace)
	if err != nil {
		bad("", "%s is a %s field: %v", s.Field.S, t.read.t, err)
		return
	}
	c.itemFormulas(t, s, list, path)
	t.lit = lit
	t.judge = t.read.predicate(t.op, nil, pattern)
	if p := t.op.Takes; p == "pair" && t.items == nil {
		if n, ok := t.read.compareOperands(lit); ok && n > 0 {
			c.problems.Warn(s.ValueAt.At, path, "", "between %s never holds: the lower value comes first", plain(s.Value))
			c.problems.Mend("Turn them round", path, testJSON(s.Field.S, s.Op.S, []any{list[1], list[0]}))
		}
	}
	c.options(s, field, path)
}

// unfinished notes a value that has not been filled in. A field that is empty is asked for by empty: true.
func (c compiler) unfinished(t *test, s *Spec, path string) {
	list, isList := s.Value.([]any)
	switch {
	case !isList && value.Empty(s.Value):
		c.problems.Unfinished(s.ValueAt.At, path, "%s has no value to compare with yet; fill it in, or ask whether the field is empty", s.Field.S)
		if t.op.Name == "is" || t.op.Name == "is_not" {
			c.problems.Mend("Whether it is empty", path, testJSON(s.Field.S, "empty", t.op.Name == "is"))
		}
	case isList && len(list) == 0, slices.ContainsFunc(list, value.Empty):
		c.problems.Unfinished(s.ValueAt.At, path, "%s has no value to compare with yet; fill in what is missing in the list", s.Field.S)
	}
}

// compareOperands orders the two ends of a between, where both are fixed.
func (r reader) compareOperands(o operand) (int, bool) {
	a, b := &o.list[0], &o.list[1]
	if a.hasNum && b.hasNum && !r.t.IsTime() && r.t != value.Span {
		return a.num.Cmp(b.num), true
	}
	if a.hasAt && b.hasAt && !a.at.Moves() && !b.at.Moves() {
		return a.at.At(time.Time{}, time.UTC).Compare(b.at.At(time.Time{}, time.UTC)), true
	}
	if a.hasDur && b.hasDur {
		return int(a.dur/time.Second - b.dur/time.Second), true
	}
	return 0, false
}

// literals is a value without the formulas in its list; these are filled in when the test runs.
func literals(v any) any {
	list, ok := v.([]any)
	if !ok {
		return v
	}
	out := make([]any, len(list))
	for i, e := range list {
		text, _ := e.(string)
		if _, isFormula := formula.IsWhole(text); !isFormula {
			out[i] = e
		}
	}
	return out
}

func (c compiler) itemFormulas(t *test, s *Spec, list []any, path string) {
	for i, e := range list {
		text, _ := e.(string)
		src, ok := formula.IsWhole(text)
		if !ok {
			continue
		}
		if t.items == nil {
			t.items = make([]*formula.Formula, len(list))
		}
		t.items[i] = c.formula(report.Text{At: s.ValueAt.At}, src, 0, path)
	}
}

// options warns where a choice is compared with a value it never has.
func (c compiler) options(s *Spec, field value.Field, path string) {
	if len(field.Options) == 0 || !strings.Contains("is is_not one_of none_of became was has_any has_all contains lacks", s.Op.S) {
		return
	}
	values, ok := s.Value.([]any)
	if !ok {
		values = []any{s.Value}
	}
	for _, v := range values {
		text, ok := v.(string)
		if _, isFormula := formula.IsWhole(text); !ok || text == "" || isFormula {
			continue
		}
		known := false
		for _, o := range field.Options {
			known = known || value.Fold(o) == value.Fold(text)
		}
		if !known {
			near := value.Nearest(text, field.Options)
			c.problems.Warn(s.ValueAt.At, path, near, "%s is never %q; it is one of %s", s.Field.S, text, strings.Join(field.Options, ", "))
			c.mend(near, path, s.With(text, near))
		}
	}
}
