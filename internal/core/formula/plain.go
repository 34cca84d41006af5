package formula

import (
	"strings"
	"time"

	"github.com/expr-lang/expr/ast"

	"dorfbote/internal/core/value"
)

// Plain writes moments and spans as text, as records have them.
func Plain(v any) any {
	switch x := v.(type) {
	case time.Time:
		return x.UTC().Format(time.RFC3339Nano)
	case time.Duration:
		return x.String()
	}
	return v
}

// Plain writes the formula's value as records have it, as [Plain] does; a field that is a date stays one, whatever the zone makes of its
// midnight.
func (f *Formula) Plain(v any) any {
	if t, ok := v.(time.Time); ok && f.date {
		return t.In(f.words.Workspace.Location()).Format(time.DateOnly)
	}
	return Plain(v)
}

// isDate tells whether a formula is nothing but a field that is known to be a date.
func (w *Words) isDate(n ast.Node) bool {
	root, path, ok := pathTo(n)
	if !ok || len(path) == 0 {
		return false
	}
	schema := w.schemaOf(root)
	if root == "answers" {
		schema = &value.Schema{Fields: w.Answers}
	}
	f, many, known := schema.Find(value.ParsePath(strings.Join(path, ".")))
	return known && !many && f.Type == value.Date
}
