package formula

import (
	"errors"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/expr-lang/expr"
	"github.com/expr-lang/expr/ast"

	"dorfbote/internal/core/people"
	"dorfbote/internal/core/value"
)

// Names that formulas have the people book and the look-up under, where there are such.
const (
	bookName = "·people"
	findName = "·find"
)

// itName is what an element of a list is called.
const itName = "it"

// Mention is a person who is spoken to, made by mention(x): where the destination knows such, more than the name.
type Mention struct {
	Text   string
	Person *people.Person // nil where nobody was found: the text is plain then
}

// Plain gives the person's name, or what was written.
func (m Mention) Plain() string { return m.Text }

// MentionOf makes a mention of a person, or of what person() takes.
func (w *Words) MentionOf(v any, book *people.Book) Mention {
	if m, ok := v.(Mention); ok {
		return m
	}
	if p := find(v, book, w.Workspace); p != nil {
		return Mention{Text: p.Called(), Person: p}
	}
	return Mention{Text: Show(v, w.Workspace)}
}

// find finds the person that a value names: a person of the book, a record that says who it is, or a text.
func find(v any, book *people.Book, ws value.Workspace) *people.Person {
	if m, ok := v.(map[string]any); ok {
		for _, name := range []string{"id", "mail", "email", "name"} {
			if p := book.Find(Show(m[name], ws)); p != nil {
				return p
			}
		}
		return nil
	}
	return book.Find(Show(v, ws))
}

// onDuty is whom a calendar names at a moment: the summary of the event going on then; of several, of the one that began last,
// and of those, of the one whose id is first.
func onDuty(events []map[string]any, now time.Time, ws value.Workspace) string {
	var began time.Time
	name, id := "", ""
	for _, e := range events {
		from, day, ok := value.ReadMoment(Show(e["start"], ws), ws.Location())
		if !ok || from.After(now) {
			continue
		}
		to, _, ok := value.ReadMoment(Show(e["end"], ws), ws.Location())
		if !ok && (day || e["all_day"] == true) {
			to, ok = from.AddDate(0, 0, 1), true
		}
		if !ok || !now.Before(to) {
			continue
		}
		key := Show(e["id"], ws)
		if began.IsZero() || from.After(began) || from.Equal(began) && key < id {
			began, id = from, key
			name = Show(orElse(e["summary"], e["title"]), ws)
		}
	}
	return name
}

func orElse(v, other any) any {
	if value.Empty(v) {
		return other
	}
	return v
}

// personFunctions are those that look into the people book. Each is handed the whole environment last.
func personFunctions(w *Words) []expr.Option {
	env := func(p params) (map[string]any, *people.Book) {
		all, _ := p[len(p)-1].(map[string]any)
		book, _ := all[bookName].(*people.Book)
		return all, book
	}
	person := func(p *people.Person) (any, error) {
		if p == nil {
			return nil, nil
		}
		return p.Value(), nil
	}
	return []expr.Option{
		expr.Function("person", func(p ...any) (any, error) {
			_, book := env(p)
			return person(find(p[0], book, w.Workspace))
		}),
		expr.Function("mention", func(p ...any) (any, error) {
			if value.Empty(p[0]) {
				return nil, nil
			}
			_, book := env(p)
			return w.MentionOf(p[0], book), nil
		}),
		expr.Function("on_duty", func(p ...any) (any, error) {
			all, book := env(p)
			look, _ := all[findName].(func(string) []map[string]any)
			now, _ := all["now"].(time.Time)
			source, ok := p[0].(string)
			if !ok {
				return nil, errors.New(`on_duty() takes a calendar's source, such as on_duty("rota/events")`)
			}
			if look == nil {
				return nil, nil
			}
			return person(book.Find(onDuty(look(source), now, w.Workspace)))
		}),
	}
}

// Sources collects the sources that formulas look into by themselves, and the fields of the record whose past they ask for. It is filled
// while a sheet is compiled.
type Sources struct{ Names, Became []string }

// user finds out what a formula uses beyond the fields of records.
type user struct {
	it      bool
	sources []string
	became  []string // fields whose past is asked for
	words   *Words
	reads   []string // names with their paths, such as record.farm.name
	wrong   *Error
}

func (u *user) Visit(node *ast.Node) {
	switch n := (*node).(type) {
	case *ast.IdentifierNode:
		u.it = u.it || n.Value == itName
		u.read(n.Value, nil)
	case *ast.MemberNode:
		if last, ok := n.Property.(*ast.StringNode); ok {
			if root, path, ok := pathTo(n.Node); ok {
				u.read(root, append(path, last.Value))
			}
		}
	case *ast.CallNode:
		id, ok := n.Callee.(*ast.IdentifierNode)
		if ok && id.Value == becameName {
			u.becameIn(n)
		}
		if !ok || id.Value != "on_duty" || len(n.Arguments) == 0 {
			return
		}
		s, ok := n.Arguments[0].(*ast.StringNode)
		if !ok || !strings.Contains(s.Value, "/") {
			u.wrong = &Error{Offset: n.Arguments[0].Location().From, Message: `on_duty() takes a calendar's source as it is called, such as on_duty("rota/events")`}
			return
		}
		u.sources = append(u.sources, s.Value)
	}
}

// read notes a name and a path within it, in the place of what of it was noted before.
func (u *user) read(root string, path []string) {
	if root == orName || slices.Contains(functionNames, root) {
		return
	}
	all := strings.Join(append([]string{root}, path...), ".")
	u.reads = slices.DeleteFunc(u.reads, func(have string) bool { return strings.HasPrefix(all+".", have+".") })
	u.reads = append(u.reads, all)
}

// Reads lists what the template's formulas read: names with their paths, such as record.farm.name.
func (t *Template) Reads() []string {
	if t == nil {
		return nil
	}
	var out []string
	for _, p := range t.parts {
		if p.Formula != nil {
			out = append(out, p.Formula.reads...)
		}
	}
	return out
}

// UsesIt tells whether the formula speaks of the element of a list.
func (f *Formula) UsesIt() bool { return f.usesIt }

// UsesIt tells whether a formula of the template speaks of the element of a list.
func (t *Template) UsesIt() bool {
	if t == nil {
		return false
	}
	for _, p := range t.parts {
		if p.Formula != nil && p.Formula.usesIt {
			return true
		}
	}
	return false
}

// With makes a scope in which formulas see an element of a list as "it".
func (w *Words) With(sc *Scope, it any) *Scope {
	own := *sc
	env := w.env(sc)
	own.env = make(map[string]any, len(env)+1)
	maps.Copy(own.env, env)
	own.env[itName] = it
	return &own
}
