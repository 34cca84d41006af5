package formula

import (
	"errors"
	"regexp"
	"time"

	"github.com/expr-lang/expr/ast"
	"github.com/expr-lang/expr/file"

	"dorfbote/internal/core/value"
)

// The parts of a group, as formulas see them.
const (
	groupKey     = "key"
	groupRecords = "records"
)

// groupOf gives a list's records by the values of one field: {key, records} for each value, in order of first appearance. Records
// without a value are a group of their own, whose key is empty; one with several values stands in the group of each.
func groupOf(p params, ws value.Workspace) (any, error) {
	list, ok := p[0].([]any)
	if !ok && !value.Empty(p[0]) {
		return nil, errors.New(`group() takes a list first, such as group(open, "valley")`)
	}
	field, ok := p[1].(string)
	if !ok || field == "" {
		return nil, errors.New(`group() takes a field's name second, such as group(open, "valley")`)
	}
	path := value.ParsePath(field)
	groups, order := map[string]int{}, []any{}
	add := func(key, record any) {
		text := sameAs(key, ws)
		i, known := groups[text]
		if !known {
			i, groups[text] = len(order), len(order)
			order = append(order, map[string]any{groupKey: key, groupRecords: []any{}})
		}
		g, _ := order[i].(map[string]any)
		records, _ := g[groupRecords].([]any)
		g[groupRecords] = append(records, record)
	}
	for _, e := range list {
		record, ok := e.(map[string]any)
		if !ok {
			return nil, errors.New("group() takes a list of records; this one holds something else")
		}
		v, _ := path.Get(record)
		if value.Empty(v) {
			add(nil, e)
			continue
		}
		several, ok := v.([]any)
		if !ok {
			several = []any{v}
		}
		seen := map[string]bool{}
		for _, one := range several {
			if text := sameAs(one, ws); !seen[text] {
				seen[text] = true
				add(one, e)
			}
		}
	}
	return order, nil
}

// sameAs is a text that is the same for values that are one.
func sameAs(v any, ws value.Workspace) string {
	switch x := v.(type) {
	case time.Time:
		return x.UTC().Format(time.RFC3339Nano)
	case time.Duration:
		return x.String()
	case map[string]any:
		return string(value.AppendJSON(nil, x))
	}
	return Show(v, ws)
}

var grouping = regexp.MustCompile(`^\s*group\(\s*(\w+)\s*,`)

// GroupedBy is the name of the list that a formula groups, "" where it groups none.
func GroupedBy(text string) string {
	if m := grouping.FindStringSubmatch(text); m != nil {
		return m[1]
	}
	return ""
}

// grouped looks in a formula for groups by fields that the records of a list have not.
type grouped struct {
	words  *Words
	doubts *doubter
	wrong  *file.Error
	near   string
}

// Visit implements ast.Visitor.
func (g *grouped) Visit(node *ast.Node) {
	n, ok := (*node).(*ast.CallNode)
	if !ok || g.wrong != nil || len(n.Arguments) != 2 {
		return
	}
	id, ok := n.Callee.(*ast.IdentifierNode)
	list, named := n.Arguments[0].(*ast.IdentifierNode)
	field, fixed := n.Arguments[1].(*ast.StringNode)
	if !ok || id.Value != "group" || !named || !fixed {
		return
	}
	for _, known := range g.words.Gathered {
		k := known.Schema
		if known.Name != list.Value || !known.Many || k == nil {
			continue
		}
		if _, _, has := k.Find(value.ParsePath(field.Value)); has {
			return
		}
		at := field.Location()
		at.From++ // its quote stands before it
		if k.Learnt {
			g.doubts.field(k, "", field.Value, at.From)
			return
		}
		if near := k.Near(field.Value); !k.Open || near != "" {
			g.wrong, g.near = &file.Error{Location: at, Message: "there is no field " + field.Value + " in " + known.Name}, near
		}
	}
}
