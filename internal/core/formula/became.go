package formula

import (
	"errors"
	"time"

	"github.com/expr-lang/expr/ast"
	"github.com/expr-lang/expr/vm/runtime"

	"dorfbote/internal/core/value"
)

// tookName is what formulas have the past of their record under, where there is one.
const tookName = "·took"

// becameName is the function that gives the moment at which a field took a value; sinceName the difference of two moments of which one comes
// of it, and which is empty where that moment is not known.
const (
	becameName = "when_became"
	sinceName  = "·since"
)

func since(p ...any) (any, error) {
	if p[0] == nil || p[1] == nil {
		return nil, nil
	}
	return runtime.Subtract(p[0], p[1]), nil
}

// calls tells whether a node calls a function.
func calls(n ast.Node, name string) bool {
	c, ok := n.(*ast.CallNode)
	if !ok {
		return false
	}
	id, ok := c.Callee.(*ast.IdentifierNode)
	return ok && id.Value == name
}

// Took is when a record's field last took a value.
type Took struct {
	Value any // as it came
	At    time.Time
}

// TookNow adds to what a field took so far what it takes as something comes in: was and is are its values before and then.
func TookNow(list []Took, was, is any, at time.Time, t value.Type, ws value.Workspace) []Took {
	if alike(was, is, t, ws) {
		return list
	}
	for i := range list {
		if alike(list[i].Value, is, t, ws) {
			list[i].At = at
			return list
		}
	}
	return append(list, Took{is, at})
}

// alike compares values as conditions do: texts however they are cased.
func alike(a, b any, t value.Type, ws value.Workspace) bool {
	x, text := a.(string)
	y, both := b.(string)
	return text && both && value.EqualFolded(x, value.Fold(y)) || value.SameMeaning(a, b, t, ws)
}

// whenBecame is the moment at which a field of the record last took a value; empty where that is not known, or no longer.
func (w *Words) whenBecame(p params) (any, error) {
	field, ok := p[0].(string)
	if !ok {
		return nil, errors.New(`when_became() takes a field's name first, such as when_became("status", "confirmed")`)
	}
	env, _ := p[len(p)-1].(map[string]any)
	look, _ := env[tookName].(func(field string) ([]Took, error))
	if look == nil {
		return nil, nil
	}
	list, err := look(field)
	if err != nil {
		return nil, err
	}
	t := w.typeOf(field)
	for _, one := range list {
		if alike(one.Value, Plain(p[1]), t, w.Workspace) {
			return one.At.In(w.Workspace.Location()), nil
		}
	}
	return nil, nil
}

// typeOf is the type of a field of the record, Any where it is not known.
func (w *Words) typeOf(field string) value.Type {
	if f, _, ok := w.Schema.Find(value.ParsePath(field)); ok {
		return f.Type
	}
	return value.Any
}

// becameIn checks a call of when_became(): the field stands there as it is called, so that its past can be kept, and the record has it.
func (u *user) becameIn(n *ast.CallNode) {
	if len(n.Arguments) == 0 {
		return
	}
	s, ok := n.Arguments[0].(*ast.StringNode)
	if !ok {
		u.wrong = &Error{Offset: n.Arguments[0].Location().From, Message: `when_became() takes a field's name as it is called, such as when_became("status", "confirmed")`}
		return
	}
	u.became = append(u.became, s.Value)
	if k := u.words.Schema; k != nil {
		if _, _, known := k.Find(value.ParsePath(s.Value)); known || k.Learnt {
			return
		}
		if near := k.Near(s.Value); !k.Open || near != "" {
			u.wrong = &Error{Offset: s.Location().From + 1, Message: "the record has no field " + s.Value, Suggestion: near}
		}
	}
}
