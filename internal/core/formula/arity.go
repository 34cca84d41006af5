package formula

import (
	"fmt"

	"github.com/expr-lang/expr/ast"
	"github.com/expr-lang/expr/file"
)

// takes says what each function takes: how many arguments at least and at most, and how it is called.
var takes = map[string]struct {
	least, most int
	call        string
}{
	"words": {1, 1, "words(span)"}, "ago": {1, 1, "ago(moment)"}, "date": {1, 2, `date(moment, "d MMM yyyy HH:mm"), or date(moment)`}, "money": {2, 2, `money(number, "EUR")`},
	"number": {1, 2, "number(number, decimals), or number(number)"}, "percent": {1, 1, "percent(number)"}, "plural": {3, 3, `plural(number, "farm", "farms")`},
	"bullets": {2, 2, "bullets(list, template)"}, "link": {2, 2, "link(text, address)"}, orName: {2, 2, "or(value, fallback)"}, "shorten": {2, 2, "shorten(text, length)"},
	"phone": {2, 2, `phone(text, "CH")`}, "mask": {1, 1, "mask(text)"}, "slug": {1, 1, "slug(text)"},
	"person": {1, 1, "person(who)"}, "mention": {1, 1, "mention(who)"}, "on_duty": {1, 1, `on_duty("rota/events")`},
	"rows": {2, 2, "rows(table, key)"}, "group": {2, 2, `group(open, "valley")`}, "when_became": {2, 2, `when_became("status", "confirmed")`},
}

// counter finds calls with too few or too many arguments. It looks before anything is added to them.
type counter struct {
	wrong *file.Error
}

// Visit implements ast.Visitor.
func (c *counter) Visit(node *ast.Node) {
	n, ok := (*node).(*ast.CallNode)
	if !ok || c.wrong != nil {
		return
	}
	id, ok := n.Callee.(*ast.IdentifierNode)
	if !ok {
		return
	}
	t, known := takes[id.Value]
	if got := len(n.Arguments); known && (got < t.least || got > t.most) {
		c.wrong = &file.Error{Location: n.Location(), Message: fmt.Sprintf("%s is called as %s; here it has %s", id.Value, t.call, arguments(got))}
	}
}

func arguments(n int) string {
	if n == 1 {
		return "1 argument"
	}
	return fmt.Sprintf("%d arguments", n)
}
