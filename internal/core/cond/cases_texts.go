package cond

import (
	"fmt"
	"slices"
	"strings"

	"dorfbote/internal/core/value"
)

func (c *caser) texts() []any {
	var out []any
	closed := len(c.options) > 0
	for _, o := range c.options {
		out = append(out, o)
	}
	for _, t := range c.tests {
		for _, o := range t.operands() {
			if !closed && o.isText && !o.empty && t.op.Takes != "pattern" {
				out = append(out, o.raw)
			}
		}
	}
	if closed {
		return out
	}
	return append(append(out, c.unknown()), c.mixtures()...)
}

// unknown is a text that no test names.
func (c *caser) unknown() string {
	known := map[string]bool{}
	for _, t := range c.tests {
		for _, o := range t.operands() {
			known[o.folded] = true
		}
	}
	other := "something else"
	for known[other] {
		other += " again"
	}
	return other
}

// mixtures are texts in which several of the patterns are found.
func (c *caser) mixtures() []any {
	var start, end string
	var inside, out []any
	for _, t := range c.tests {
		text, _ := t.lit.raw.(string)
		switch t.op.Name {
		case "matches":
			if s, ok := sample(text); ok {
				out = append(out, s)
			}
		case "starts_with":
			start = text
		case "ends_with":
			end = text
		case "contains", "lacks":
			inside = append(inside, text)
		}
	}
	if len(inside) > mostPatterns {
		inside = inside[:mostPatterns]
	}
	for mask := range 1 << len(inside) {
		text := ""
		for i, s := range inside {
			if mask&(1<<i) != 0 {
				text += fmt.Sprint(s, " ")
			}
		}
		for _, s := range []string{text, start + " " + text, text + " " + end, start + " " + text + end} {
			if strings.TrimSpace(s) != "" {
				out = append(out, strings.TrimSpace(s))
			}
		}
	}
	return out
}

// patterns adds the ways in which tests of text patterns might come out for which no text was found. Tests of the same
// pattern come out alike.
func (c *caser) patterns(before []any) {
	if len(c.options) > 0 || !c.t.IsText() && c.t != value.Any {
		return // every text there can be has been tried
	}
	groups := map[string][]int{}
	for i, t := range c.tests {
		switch {
		case t.op.Name == "contains" || t.op.Name == "lacks":
			if !t.read.t.IsList() {
				groups["contains "+t.lit.folded] = append(groups["contains "+t.lit.folded], i)
			}
		case t.op.Fits == "text":
			key := fmt.Sprint(t.op.Name, " ", t.lit.raw)
			groups[key] = append(groups[key], i)
		}
	}
	if len(groups) == 0 {
		return
	}
	keys := value.SortedKeys(groups)
	if len(keys) > mostPatterns {
		c.cut = true
		keys = keys[:mostPatterns]
	}
	// On a text that no other test knows, whatever was before.
	c.mix(c.unknown(), before, keys, groups)
	// A text that is named is so however it is written, but a pattern looks at how it is.
	exact := slices.DeleteFunc(keys, func(k string) bool { return !strings.HasPrefix(k, "matches ") })
	if len(exact) == 0 {
		return
	}
	for _, t := range c.tests {
		for _, o := range t.operands() {
			if text, ok := o.raw.(string); ok && t.op.Takes != "pattern" && !o.empty {
				c.mix(text, before, exact, groups)
			}
		}
	}
}

// mix adds every way in which the patterns of some groups might come out on a text.
func (c *caser) mix(text string, before []any, keys []string, groups map[string][]int) {
	var v any = text
	if c.many {
		v = []any{text}
	}
	for _, b := range before {
		base := c.judge(v, b)
		for mask := range 1 << len(keys) {
			holds := append([]bool(nil), base...)
			for g, key := range keys {
				for _, i := range groups[key] {
					holds[i] = (mask&(1<<g) != 0) != (c.tests[i].op.Name == "lacks")
				}
			}
			c.keep(Case{Now: v, Before: b, Holds: holds, Unsure: true})
		}
	}
}
