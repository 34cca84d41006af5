package formula

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/expr-lang/expr"
	"github.com/expr-lang/expr/ast"
	"github.com/expr-lang/expr/conf"
	"github.com/expr-lang/expr/file"
	"github.com/expr-lang/expr/parser"
	"github.com/expr-lang/expr/parser/lexer"
	"github.com/expr-lang/expr/vm"

	"dorfbote/internal/core/value"
)

// Error says what is wrong with a formula. Offset counts characters from the formula's start; Length is how many of
// them the suggestion takes the place of, 0 where that is not known.
type Error struct {
	Offset     int
	Length     int
	Message    string
	Suggestion string
}

func (e *Error) Error() string {
	if e.Suggestion != "" {
		return e.Message + "; did you mean " + e.Suggestion + "?"
	}
	return e.Message
}

// Formula is a compiled formula. It may be run by many goroutines at once.
type Formula struct {
	text    string
	program *vm.Program
	words   *Words
	doubts  []*Error
	usesIt  bool
	reads   []string
	date    bool // it is nothing but a field that is a date
}

// ownDates reads formulas without the language's own functions for dates, in whose place others stand.
var ownDates = func() *conf.Config {
	c := conf.CreateNew()
	c.Disabled["date"], c.Disabled["now"] = true, true
	return c
}()

// Compile checks a formula against the words it may use and makes it ready to run. The error is
// always an [*Error].
func Compile(text string, words *Words) (*Formula, error) {
	if strings.TrimSpace(text) == "" {
		return nil, &Error{Message: "the formula is empty"}
	}
	src, err := prefixOr(text)
	if err != nil {
		return nil, words.explain(err)
	}
	tree, err := parser.ParseWithConfig(src, ownDates)
	if err != nil {
		return nil, words.explain(err)
	}
	var count counter
	if ast.Walk(&tree.Node, &count); count.wrong != nil {
		return nil, words.explain(count.wrong)
	}
	if _, err := expr.Compile(src, words.options(strict)...); err != nil {
		slip := words.explain(err)
		_, looseErr := expr.Compile(src, words.options(loosely)...)
		if looseErr != nil || slip.Suggestion != "" {
			return nil, slip
		}
	}
	program, err := expr.Compile(src, words.options(running)...)
	if err != nil {
		return nil, words.explain(err)
	}
	doubts, uses := doubter{words: words}, user{words: words}
	ast.Walk(&tree.Node, &doubts)
	groups := grouped{words: words, doubts: &doubts}
	if ast.Walk(&tree.Node, &groups); groups.wrong != nil {
		slip := words.explain(groups.wrong)
		slip.Suggestion = groups.near
		return nil, slip
	}
	if ast.Walk(&tree.Node, &uses); uses.wrong != nil {
		return nil, uses.wrong
	}
	if words.Sources != nil {
		words.Sources.Names = append(words.Sources.Names, uses.sources...)
		words.Sources.Became = append(words.Sources.Became, uses.became...)
	}
	return &Formula{text: text, program: program, words: words, doubts: doubts.doubts, usesIt: uses.it, reads: uses.reads, date: words.isDate(tree.Node)}, nil
}

func (f *Formula) String() string { return f.text }

// Run gives the formula's value: nil, bool, float64, int, string, time.Time, time.Duration, a list,
// an object, or a [Rich] piece of a message.
func (f *Formula) Run(sc *Scope) (any, error) { return f.run(f.words.env(sc)) }

// List runs a formula that is to give a list; what is empty is an empty one.
func (f *Formula) List(sc *Scope) ([]any, error) {
	v, err := f.Run(sc)
	if err != nil {
		return nil, err
	}
	list, ok := v.([]any)
	if !ok && !value.Empty(v) {
		return nil, fmt.Errorf("%s gave %s where a list was needed", f, Shorten(Show(v, f.words.Workspace), 80))
	}
	return list, nil
}

func (f *Formula) run(env map[string]any) (any, error) {
	m, nested := env[meterName].(*meter)
	if !nested {
		elapsed, _ := env[clockName].(func() time.Duration)
		m = newMeter(elapsed)
		env[meterName] = m
		defer delete(env, meterName)
	}
	v, err := expr.Run(f.program, env)
	if err == nil {
		err = m.whole(v)
	}
	if err != nil {
		msg := err.Error()
		if fe, ok := errors.AsType[*file.Error](err); ok {
			msg = fe.Message
		}
		return nil, fmt.Errorf("%s: %s", f.text, runtimeWords(msg))
	}
	return v, nil
}

func (w *Words) options(how typing) []expr.Option {
	opts := []expr.Option{
		expr.Env(w.envTypes(how)), expr.Patch(patcher{w.Tables}),
		expr.DisableBuiltin("now"), expr.DisableBuiltin("date"), expr.MaxNodes(2000),
	}
	opts = append(opts, functions(w)...)
	opts = append(opts, expr.Function(sinceName, since))
	opts = append(opts, expr.Function(asTextName, func(p ...any) (any, error) { return Show(p[0], w.Workspace), nil }, new(func(any) string)))
	if how == running {
		opts = append(append(opts, bounded()...), expr.Patch(bounder{}))
	}
	return opts
}

// patcher makes every step of a path optional, and hands functions that need it the moment or the
// whole environment.
type patcher struct{ tables map[string]any }

// byText has a table of the sheet be looked into by text, whatever it is looked up by: rooms[17] is the row of "17".
func (p patcher) byText(n *ast.MemberNode) {
	id, ok := n.Node.(*ast.IdentifierNode)
	if !ok || p.tables[id.Value] == nil {
		return
	}
	if _, plain := n.Property.(*ast.StringNode); !plain {
		n.Property = &ast.CallNode{Callee: &ast.IdentifierNode{Value: asTextName}, Arguments: []ast.Node{n.Property}}
	}
}

// asTextName is the function that writes a value as text; nobody can type it.
const asTextName = "·text"

func (p patcher) Visit(node *ast.Node) {
	switch n := (*node).(type) {
	case *ast.MemberNode:
		if n.Optional {
			return
		}
		p.byText(n)
		if id, ok := n.Node.(*ast.IdentifierNode); ok && id.Value == "$env" {
			return
		}
		n.Optional = true
		ast.Patch(node, &ast.ChainNode{Node: n})
	case *ast.BinaryNode:
		if n.Operator == "-" && (calls(n.Left, becameName) || calls(n.Right, becameName)) {
			ast.Patch(node, &ast.CallNode{Callee: &ast.IdentifierNode{Value: sinceName}, Arguments: []ast.Node{n.Left, n.Right}})
		}
	case *ast.CallNode:
		id, ok := n.Callee.(*ast.IdentifierNode)
		if !ok {
			return
		}
		switch {
		case id.Value == "ago" && len(n.Arguments) == 1:
			n.Arguments = append(n.Arguments, &ast.IdentifierNode{Value: "now"})
		case (id.Value == "bullets" || id.Value == becameName) && len(n.Arguments) == 2, slices.Contains(withPeople, id.Value) && len(n.Arguments) == 1:
			n.Arguments = append(n.Arguments, &ast.IdentifierNode{Value: "$env"})
		}
	}
}

// withPeople are the functions that look into the people book.
var withPeople = []string{"person", "mention", "on_duty"}

// orName is how the function or(value, fallback) is spelt for the parser, to which "or" is an
// operator. It has the same length, so that places in errors stay right.
const orName = "oR"

func prefixOr(text string) (string, error) {
	if !strings.Contains(text, "or") {
		return text, nil
	}
	tokens, err := lexer.Lex(file.NewSource(text))
	if err != nil {
		if fe, ok := errors.AsType[*file.Error](err); ok {
			return "", fe.Bind(file.NewSource(text))
		}
		return "", err
	}
	runes := []rune(text)
	for i, tok := range tokens {
		if !tok.Is(lexer.Operator, "or") || i+1 >= len(tokens) || !tokens[i+1].Is(lexer.Bracket, "(") {
			continue
		}
		prefix := i == 0
		if i > 0 {
			before := tokens[i-1]
			prefix = before.Kind == lexer.Operator || before.Is(lexer.Bracket, "(", "[", "{")
		}
		if prefix {
			copy(runes[tok.From:], []rune(orName))
		}
	}
	return string(runes), nil
}

var (
	unknownName  = regexp.MustCompile(`^unknown name (\S+)`)
	unknownField = regexp.MustCompile(`(?:unknown field|has no field) (\S+)`)
	mismatched   = regexp.MustCompile(`mismatched types (.+) and (.+)$`)
)

// explain turns the language's error into plain words with a suggestion.
func (w *Words) explain(err error) *Error {
	var fe *file.Error
	if !errors.As(err, &fe) {
		return &Error{Message: err.Error()}
	}
	out := &Error{Offset: fe.From, Message: strings.ReplaceAll(fe.Message, orName, "or")}
	switch {
	case unknownName.MatchString(fe.Message):
		name := unknownName.FindStringSubmatch(fe.Message)[1]
		out.Message = "there is no name " + name + " here"
		known := []string{"record", "before", "changed", "arrival", "answers", "now"}
		for _, g := range w.Gathered {
			known = append(known, g.Name)
		}
		known = append(known, functionNames...)
		out.Suggestion = value.Nearest(name, known)
		if _, _, ok := w.Schema.Find(value.ParsePath(name)); ok {
			out.Suggestion = "record." + name
		}
	case unknownField.MatchString(fe.Message):
		name := strings.Trim(unknownField.FindStringSubmatch(fe.Message)[1], `"`)
		out.Message = "there is no field " + name
		if out.Suggestion = value.Nearest(name, w.fieldNames()); out.Suggestion == name {
			out.Suggestion = "" // it is a field of something else
		}
		if near := w.labelled(name); near != "" {
			out.Suggestion = near
		}
	case mismatched.MatchString(fe.Message):
		m := mismatched.FindStringSubmatch(fe.Message)
		op, _, _ := strings.Cut(strings.TrimPrefix(fe.Message, "invalid operation: "), " ")
		out.Message = fmt.Sprintf("%s cannot be used between %s and %s", op, plainType(m[1]), plainType(m[2]))
	}
	return out
}

// labelled is the name of the field that has a label.
func (w *Words) labelled(label string) string {
	schemas := []*value.Schema{w.Schema}
	for _, g := range w.Gathered {
		schemas = append(schemas, g.Schema)
	}
	for _, k := range schemas {
		if near := k.Near(label); near != "" {
			if f, _, _ := k.Find(value.ParsePath(near)); value.EqualFolded(f.Label, value.Fold(label)) {
				return near[strings.LastIndex(near, ".")+1:]
			}
		}
	}
	return ""
}

func (w *Words) fieldNames() []string {
	var names []string
	schemas := []*value.Schema{w.Schema}
	for _, g := range w.Gathered {
		schemas = append(schemas, g.Schema)
	}
	for _, k := range schemas {
		for _, n := range k.Names() {
			names = append(names, n[strings.LastIndex(n, ".")+1:])
		}
	}
	return append(names, "id", "at", "kind", "source", "by")
}

var plainTypes = strings.NewReplacer(
	"float64", "a number", "int", "a number", "string", "text", "bool", "yes/no", "time.Time", "a moment",
	"time.Duration", "a span", "<nil>", "an empty value", "[]interface {}", "a list", "map[string]interface {}", "an object",
	"nil", "an empty value", "unknown", "something unknown",
)

func plainType(t string) string { return plainTypes.Replace(t) }

func runtimeWords(msg string) string {
	if i := strings.Index(msg, "\n"); i > 0 {
		msg = msg[:i]
	}
	if strings.Contains(msg, "memory budget exceeded") {
		return errItems.Error()
	}
	if rest, ok := strings.CutPrefix(msg, "invalid operation: "); ok {
		return "cannot calculate " + plainType(rest)
	}
	if m := beyond.FindStringSubmatch(msg); m != nil {
		return fmt.Sprintf("there is no element [%s] in a list of %s, counted from 0; get(list, %s) is empty there", m[1], m[2], m[1])
	}
	return strings.ReplaceAll(msg, orName, "or")
}

// beyond is what the language says of an element that a list does not have.
var beyond = regexp.MustCompile(`^index out of range: (-?\d+) \(array length is (\d+)\)`)

// Bool runs a formula that must say yes or no.
func (f *Formula) Bool(sc *Scope) (bool, error) {
	v, err := f.Run(sc)
	if err != nil {
		return false, err
	}
	switch b := v.(type) {
	case bool:
		return b, nil
	case nil:
		return false, fmt.Errorf("%s: gave an empty value where yes or no was needed", f.text)
	}
	return false, fmt.Errorf("%s: gave %s where yes or no was needed", f.text, Show(v, f.words.Workspace))
}

// Show writes a formula's value as text for a person: numbers without grouping, moments in the
// workspace's zone, spans in words, lists joined by commas, nothing for an empty value.
func Show(v any, ws value.Workspace) string {
	switch x := v.(type) {
	case nil:
		return ""
	case string:
		return x
	case bool:
		if x {
			return "yes"
		}
		return "no"
	case float64:
		return value.NumberText(x)
	case int:
		return value.NumberText(float64(x))
	case time.Time:
		t := x.In(ws.Location())
		if t.Hour() == 0 && t.Minute() == 0 && t.Second() == 0 {
			return FormatDate(t, "d MMM yyyy", ws.Locale)
		}
		return FormatDate(t, DefaultDatePattern, ws.Locale)
	case time.Duration:
		return value.Words(x)
	case []any:
		parts := make([]string, 0, len(x))
		for _, e := range x {
			if s := Show(e, ws); s != "" {
				parts = append(parts, s)
			}
		}
		return strings.Join(parts, ", ")
	case map[string]any:
		return showObject(x, ws)
	case Rich:
		return x.Plain()
	}
	return fmt.Sprint(v)
}

func showObject(m map[string]any, ws value.Workspace) string {
	if amount, ok := m["amount"]; ok {
		if cur, ok := m["currency"].(string); ok {
			if n, ok := value.ReadNumber(amount, ws); ok {
				return formatMoney(n.Float, cur, ws.Locale)
			}
		}
	}
	for _, name := range []string{"name", "title", "label", "id"} {
		if s, ok := m[name].(string); ok && s != "" {
			return s
		}
	}
	// Of what is called nothing, its values are told: a person reads no JSON.
	var parts []string
	for _, name := range value.SortedKeys(m) {
		switch v := m[name].(type) {
		case map[string]any, []any:
			continue
		default:
			if s := Show(v, ws); s != "" && !strings.HasPrefix(name, currencyMark) {
				parts = append(parts, s)
			}
		}
	}
	if len(parts) > 0 {
		return strings.Join(parts, " ")
	}
	return string(value.AppendJSON(nil, m))
}
