package cond

import (
	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/value"
)

// Need is what a record has to have for a condition to hold: one of some texts in one field.
type Need struct {
	Field value.Path
	Texts []string // folded
	ws    value.Workspace
}

// NeedOf finds a need of a condition, so that the many conditions that a record cannot meet need not be looked at one by
// one. ok is false where there is none; a condition may have others.
func NeedOf(n Node) (need Need, ok bool) {
	switch x := n.(type) {
	case *group:
		if x.kind != "all" {
			return Need{}, false
		}
		for _, sub := range x.subs {
			if need, ok := NeedOf(sub); ok {
				return need, true
			}
		}
	case *test:
		if x.whole != nil || x.items != nil || x.many || x.root != "" || !x.read.t.IsText() {
			return Need{}, false
		}
		switch x.op.Name {
		case "is", "became", "one_of":
		default:
			return Need{}, false
		}
		need := Need{Field: x.field, ws: x.read.ws}
		for _, o := range x.operands() {
			if o.empty || !o.isText {
				return Need{}, false
			}
			need.Texts = append(need.Texts, o.folded)
		}
		return need, len(need.Texts) > 0
	}
	return Need{}, false
}

// Key is what a record has in the field, as needs name it; "" where it is empty.
func (n *Need) Key(record map[string]any) string {
	v, _ := n.Field.Get(record)
	if value.Empty(v) {
		return ""
	}
	if s, ok := v.(string); ok {
		return value.Fold(s)
	}
	return value.Fold(formula.Show(v, n.ws))
}
