package sheet

import (
	"fmt"
	"strings"

	"dorfbote/internal/core/cond"
	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/report"
	"dorfbote/internal/core/value"
)

// Tally is how often a field had a value.
type Tally struct {
	Value string `json:"value"`
	Count int    `json:"count"`
}

// Conditions hands on every condition of the sheet that looks at the arrival, groups and their parts, with its path.
func (s *Sheet) Conditions(each func(c *cond.Spec, path string)) {
	var walk func(c *cond.Spec, path string)
	walk = func(c *cond.Spec, path string) {
		if c == nil {
			return
		}
		each(c, path)
		for i, sub := range c.Subs {
			walk(sub, fmt.Sprintf("%s.%s[%d]", path, c.Group, i))
		}
	}
	walk(s.Watch.When, "watch.when")
	walk(s.Watch.That, "watch.lasts.that")
	walk(s.Keep, "keep")
	for i, row := range s.Route.Rows {
		walk(row.When, fmt.Sprintf("route.rows[%d].when", i))
	}
}

// Doubts warns of tests against a text that was never seen while one that is nearly the same was, and of numbers that
// are compared as text. seen gives the values that a field of the records had lately, the most frequent first; it is
// nil where that is not known.
func (s *Sheet) Doubts(words *formula.Words, seen func(field string) []Tally) []report.Problem {
	var problems report.List
	s.Conditions(func(c *cond.Spec, path string) {
		if c.Group != "" || c.Formula != nil || !contains(exactOps, c.Op.S) {
			return
		}
		if f, _, ok := words.Schema.Find(value.ParsePath(c.Field.S)); !ok || !f.Type.IsText() && !f.Type.IsList() && f.Type != value.Any || len(f.Options) > 0 {
			return
		}
		had := seen(c.Field.S)
		if len(had) == 0 {
			return
		}
		list, ok := c.Value.([]any)
		if !ok {
			list = []any{c.Value}
		}
		for _, v := range list {
			if text := formula.Show(v, words.Workspace); text != "" {
				doubt(c, path, v, text, had, words.Workspace, &problems)
			}
		}
	})
	s.doubtKeys(words, seen, &problems)
	return problems.Problems
}

// exactOps are the operators that ask for a text as a whole.
var exactOps = []string{"is", "is_not", "one_of", "none_of", "became", "was", "has_any", "has_all"}

func doubt(c *cond.Spec, path string, v any, text string, had []Tally, ws value.Workspace, problems *report.List) {
	if _, isFormula := formula.IsWhole(text); isFormula {
		return
	}
	names := make([]string, 0, len(had))
	for _, h := range had {
		if value.Fold(h.Value) == value.Fold(text) {
			return
		}
		names = append(names, h.Value)
	}
	if n, ok := value.ReadNumber(text, ws); ok {
		for _, h := range had {
			if m, ok := value.ReadNumber(h.Value, ws); ok && n.Cmp(m) == 0 {
				problems.Warn(c.ValueAt.At, path, h.Value, "%s is text, so %q is compared letter by letter, and the records write that number as %q", c.Field.S, text, h.Value)
				mendValue(c, path, v, h.Value, problems)
				return
			}
		}
		return
	}
	near := nearest(text, names)
	if near == "" {
		return
	}
	problems.Warn(c.ValueAt.At, path, near, "no recent record has %s %q; %d have %q", c.Field.S, text, countOf(near, had), near)
	mendValue(c, path, v, near, problems)
}

func mendValue(c *cond.Spec, path string, old any, near string, problems *report.List) {
	text, _ := old.(string)
	if list, ok := c.Value.([]any); ok && text == "" {
		c = &cond.Spec{Field: c.Field, Op: c.Op, Value: list}
	}
	problems.Mend(near, path, c.With(text, near))
}

// nearest finds the one that a text may have meant; "" where there is none.
func nearest(text string, among []string) string {
	if near := value.Nearest(text, among); near != "" {
		return near
	}
	return alike(text, among)
}

// countOf is how often a value came.
func countOf(v string, had []Tally) int {
	for _, h := range had {
		if h.Value == v {
			return h.Count
		}
	}
	return 0
}

// alike finds a text that has the same letters and digits, whatever stands between them.
func alike(text string, among []string) string {
	bare := func(s string) string {
		return strings.Map(func(r rune) rune {
			if strings.ContainsRune(" -_./'’", r) {
				return -1
			}
			return r
		}, value.Fold(s))
	}
	for _, s := range among {
		if bare(s) == bare(text) {
			return s
		}
	}
	return ""
}
