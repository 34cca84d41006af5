package formula

import (
	"errors"
	"strings"
	"unicode/utf8"

	"github.com/expr-lang/expr/ast"

	"dorfbote/internal/core/report"
	"dorfbote/internal/core/value"
)

// doubter looks in a formula for fields that no record has had so far, where the fields are known from the records
// alone: such a formula is no error, but a slip of the pen would be empty for good.
type doubter struct {
	words  *Words
	doubts []*Error
}

func (d *doubter) Visit(node *ast.Node) {
	switch n := (*node).(type) {
	case *ast.MemberNode:
		d.member(n)
	case *ast.BinaryNode: // "status" in changed
		name, isText := n.Left.(*ast.StringNode)
		if of, ok := n.Right.(*ast.IdentifierNode); ok && isText && n.Operator == "in" && of.Value == "changed" {
			d.field(d.words.Schema, "", name.Value, name.Location().From)
		}
	}
}

func (d *doubter) member(n *ast.MemberNode) {
	last, ok := n.Property.(*ast.StringNode)
	if !ok || n.Method {
		return
	}
	root, path, ok := pathTo(n.Node)
	if !ok {
		return
	}
	d.field(d.words.schemaOf(root), strings.Join(path, "."), last.Value, n.Property.Location().From)
}

// field doubts one name in an object of a kind. Where the object itself is not known, or its fields are not, nothing is
// said: that has been doubted already, or cannot be.
func (d *doubter) field(k *value.Schema, within, name string, offset int) {
	if k == nil || !k.Learnt || len(k.Fields) == 0 {
		return
	}
	fields, path := k.Fields, name
	if within != "" {
		f, _, ok := k.Find(value.ParsePath(within))
		if !ok || len(f.Fields) == 0 || f.Type.IsList() {
			return
		}
		fields, path = f.Fields, within+"."+name
	}
	if _, _, ok := k.Find(value.ParsePath(path)); ok {
		return
	}
	names := make([]string, len(fields))
	for i, f := range fields {
		names[i] = f.Name
	}
	d.doubts = append(d.doubts, &Error{Offset: offset, Length: utf8.RuneCountInString(name), Message: NeverSeen(path), Suggestion: value.Nearest(name, names)})
}

// NeverSeen says that no record has had a field so far.
func NeverSeen(field string) string { return "no record seen so far has a field " + field }

// kindOf is what is known of the record that a name stands for, nil where it stands for none.
func (w *Words) schemaOf(name string) *value.Schema {
	if name == "record" || name == "before" {
		return w.Schema
	}
	for _, g := range w.Gathered {
		if g.Name == name && !g.Many {
			return g.Schema
		}
	}
	return nil
}

// pathTo reads a path of plain names, such as record.user.login.
func pathTo(n ast.Node) (root string, path []string, ok bool) {
	switch x := n.(type) {
	case *ast.IdentifierNode:
		return x.Value, nil, true
	case *ast.ChainNode:
		return pathTo(x.Node)
	case *ast.MemberNode:
		last, isName := x.Property.(*ast.StringNode)
		if !isName || x.Method {
			return "", nil, false
		}
		root, path, ok = pathTo(x.Node)
		return root, append(path, last.Value), ok
	}
	return "", nil, false
}

// Read compiles a formula of a sheet, and notes what is wrong or doubtful in it at its place. skip is how many characters
// of the text stand before the formula. The formula is nil where it is wrong.
func Read(t report.Text, src string, skip int, words *Words, path string, problems *report.List) *Formula {
	f, err := Compile(src, words)
	if err != nil {
		note(func() *Error {
			target := &Error{}
			_ = errors.As(err, &target)
			return target
		}(), t, skip, path, problems, false)
		return nil
	}
	for _, doubt := range f.doubts {
		note(doubt, t, skip, path, problems, true)
	}
	return f
}

// ReadTemplate is [Read] for a text with formulas. The template is nil where one of them is wrong.
func ReadTemplate(t report.Text, words *Words, path string, problems *report.List) *Template {
	out, wrong := ParseTemplate(t.S, words)
	for _, e := range wrong {
		note(e, t, 0, path, problems, false)
	}
	if len(wrong) > 0 {
		return nil
	}
	for _, p := range out.parts {
		if p.Formula == nil {
			continue
		}
		for _, doubt := range p.Formula.doubts {
			if note(doubt, t, p.at, path, problems, true); doubt.Suggestion != "" {
				text := []rune(t.S)
				at := p.at + doubt.Offset
				problems.Mend(doubt.Suggestion, path, string(text[:at])+doubt.Suggestion+string(text[at+doubt.Length:]))
			}
		}
	}
	return out
}

func note(e *Error, t report.Text, skip int, path string, problems *report.List, warning bool) {
	add := problems.Add
	if warning {
		add = problems.Warn
	}
	add(t.In(skip+e.Offset), path, e.Suggestion, "%s", e.Message)
	problems.Within(skip + e.Offset)
}
