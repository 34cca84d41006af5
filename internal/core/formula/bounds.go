package formula

import (
	"errors"
	"fmt"
	"reflect"
	"strings"
	"time"

	"github.com/expr-lang/expr"
	"github.com/expr-lang/expr/ast"
	"github.com/expr-lang/expr/vm/runtime"

	"dorfbote/internal/core/value"
)

// What a formula may make and do. Effort is counted, not measured, so that the same formula on the same record comes to
// the same end everywhere; a unit is about 10 ns of work, and all of it about a tenth of a second.
const (
	// MaxText is how many bytes of text a formula may make at once, and MaxItems how many items of a list.
	MaxText  = 1 << 20
	MaxItems = 100_000

	maxEffort  = 8_000_000
	maxMade    = 16 << 20  // bytes of text and lists made altogether, along the way
	maxNodes   = 1_000_000 // values within values: a list may hold one object many times
	maxDepth   = 100
	maxPattern = 1000
	// maxTime is how long a formula may take where there is a clock to tell.
	maxTime = 100 * time.Millisecond
)

var (
	errText    = fmt.Errorf("it makes a text of over %d bytes, which is more than a formula may", MaxText)
	errItems   = fmt.Errorf("it makes a list of over %d items, which is more than a formula may", MaxItems)
	errMade    = errors.New("it makes more text and lists along the way than a formula may")
	errEffort  = errors.New("it takes more steps than a formula may")
	errTime    = fmt.Errorf("it takes longer than a formula may, which is %d ms", maxTime.Milliseconds())
	errDeep    = fmt.Errorf("its values lie in one another over %d deep", maxDepth)
	errWide    = fmt.Errorf("it makes a value with over %d others inside", maxNodes)
	errPattern = fmt.Errorf("a pattern of over %d characters is too long", maxPattern)
)

// meter counts what one run of a formula does.
type meter struct {
	effort, made int64
	elapsed      func() time.Duration // nil without a clock
	began        time.Duration
	looked       int64
}

func newMeter(elapsed func() time.Duration) *meter {
	m := &meter{elapsed: elapsed}
	if elapsed != nil {
		m.began = elapsed()
	}
	return m
}

func (m *meter) spend(units int64) error {
	if m == nil {
		return nil
	}
	if m.effort += units; m.effort > maxEffort {
		return errEffort
	}
	if m.elapsed != nil && m.effort-m.looked > 20_000 {
		if m.looked = m.effort; m.elapsed()-m.began > maxTime {
			return errTime
		}
	}
	return nil
}

func (m *meter) make(bytes int64) error {
	if m == nil {
		return nil
	}
	if m.made += bytes; m.made > maxMade {
		return errMade
	}
	return nil
}

// weight is how much there is to a value, with everything inside it.
type weight struct{ nodes, text int64 }

// add looks through a value. One that holds the same many times over counts it each time, as whatever writes or compares
// it will.
func (w *weight) add(v any, depth int) error {
	if w.nodes++; w.nodes > maxNodes {
		return errWide
	}
	if depth > maxDepth {
		return errDeep
	}
	switch x := v.(type) {
	case string:
		w.text += int64(len(x))
		if w.text > maxMade {
			return errText
		}
		return nil
	case nil, bool, int, float64:
		return nil
	case []any:
		for _, e := range x {
			if err := w.add(e, depth+1); err != nil {
				return err
			}
		}
		return nil
	case map[string]any:
		for k, e := range x {
			w.text += int64(len(k))
			if err := w.add(e, depth+1); err != nil {
				return err
			}
		}
		return nil
	case Bullets:
		for _, s := range x {
			w.text += int64(len(s))
		}
		return nil
	}
	rv := reflect.ValueOf(v)
	switch rv.Kind() {
	case reflect.Slice, reflect.Array:
		for i := range rv.Len() {
			if err := w.add(rv.Index(i).Interface(), depth+1); err != nil {
				return err
			}
		}
	case reflect.Map:
		for it := rv.MapRange(); it.Next(); {
			if err := w.add(it.Key().Interface(), depth+1); err != nil {
				return err
			}
			if err := w.add(it.Value().Interface(), depth+1); err != nil {
				return err
			}
		}
	default:
	}
	return nil
}

func (m *meter) weigh(v any) (weight, error) {
	var w weight
	if err := w.add(v, 0); err != nil {
		return w, err
	}
	return w, m.spend(w.nodes + w.text/4)
}

// whole checks a formula's result, which others will write out.
func (m *meter) whole(v any) error {
	switch x := v.(type) {
	case nil, bool, int, float64, time.Time, time.Duration:
		return nil
	case string:
		if len(x) > MaxText && m.made > 0 { // what a record brings may be longer
			return errText
		}
		return nil
	}
	_, err := m.weigh(v)
	return err
}

func lengthOf(v any) int64 {
	switch x := v.(type) {
	case nil:
		return 0
	case string:
		return int64(len(x))
	case []any:
		return int64(len(x))
	case map[string]any:
		return int64(len(x))
	}
	switch rv := reflect.ValueOf(v); rv.Kind() {
	case reflect.Slice, reflect.Array, reflect.Map, reflect.String:
		return int64(rv.Len())
	default:
		return 0
	}
}

// The functions that a running formula is interspersed with. Nobody can type their names, nor that of the meter.
const (
	meterName = "·meter"
	inName    = "·in"     // of a value that is looked through as a whole
	sideName  = "·side"   // of a value that is compared
	loopName  = "·loop"   // of a list that is gone through
	outName   = "·out"    // of what was made
	joinName  = "·join"   // of what is to be joined, and the text between
	timesName = "·times"  // of what is to be repeated, and how often
	swapName  = "·swap"   // of a text in which one is to be put in the place of another
	matchName = "·match"  // of a text and a pattern
	rangeName = "·range"  // of the bounds of a range
	manyName  = "·concat" // of lists that are to be put behind one another
	pairsName = "·pairs"  // of a list whose elements are compared with one another
	plusName  = "·plus"   // in the place of the operators, for decimals
	minusName = "·minus"
	multName  = "·mult"
	tidyName  = "·tidy" // of a sum
)

// bounded gives the functions that keep a formula within its bounds. Each is given the meter first.
func bounded() []expr.Option {
	def := func(name string, fn func(m *meter, p params) (any, error)) expr.Option {
		return expr.Function(name, func(p ...any) (any, error) {
			m, _ := p[0].(*meter)
			return fn(m, p[1:])
		})
	}
	reckon := func(name string, decimals func(a, b float64) float64, others func(a, b any) any) expr.Option {
		return def(name, func(_ *meter, p params) (any, error) {
			_, whole := p[0].(int)
			if _, other := p[1].(int); !whole || !other {
				a, okA := double(p[0])
				b, okB := double(p[1])
				if okA && okB {
					return decimals(a, b), nil
				}
			}
			return others(p[0], p[1]), nil
		})
	}
	return []expr.Option{
		reckon(plusName, value.AddDecimals, runtime.Add), reckon(minusName, value.SubDecimals, runtime.Subtract), reckon(multName, value.MulDecimals, runtime.Multiply),
		def(tidyName, func(_ *meter, p params) (any, error) {
			if f, ok := p[0].(float64); ok {
				return value.Tidy(f), nil
			}
			return p[0], nil
		}),
		def(inName, func(m *meter, p params) (any, error) {
			_, err := m.weigh(p[0])
			return p[0], err
		}),
		def(sideName, func(m *meter, p params) (any, error) {
			switch x := p[0].(type) {
			case nil, bool, int, float64, time.Time, time.Duration:
				return x, nil
			case string:
				return x, m.spend(int64(len(x)) / 32)
			}
			_, err := m.weigh(p[0])
			return p[0], err
		}),
		def(loopName, func(m *meter, p params) (any, error) {
			each, _ := p[1].(int)
			return p[0], m.spend(1 + lengthOf(p[0])*int64(each))
		}),
		def(outName, func(m *meter, p params) (any, error) {
			n := lengthOf(p[0])
			switch p[0].(type) {
			case nil, bool, int, float64:
				return p[0], nil
			case string:
				if n > MaxText {
					return nil, errText
				}
				if err := m.spend(n / 32); err != nil {
					return nil, err
				}
				return p[0], m.make(n)
			}
			if n > MaxItems {
				return nil, errItems
			}
			return p[0], m.make(16 * n)
		}),
		def(joinName, func(m *meter, p params) (any, error) {
			w, err := m.weigh(p[0])
			if err == nil && len(p) > 1 {
				w.text += lengthOf(p[1]) * lengthOf(p[0])
			}
			if err == nil && w.text > MaxText {
				err = errText
			}
			if err == nil {
				err = m.spend(6*w.nodes + w.text) // writing takes longer than looking through
			}
			return p[0], err
		}),
		def(timesName, func(m *meter, p params) (any, error) {
			text, ok := p[0].(string)
			if !ok {
				return p[0], nil
			}
			n, err := times(p[1])
			if err == nil && n > 0 && int64(len(text)) > MaxText/n {
				err = errText
			}
			return p[0], err
		}),
		def(swapName, func(m *meter, p params) (any, error) {
			text, ok := p[0].(string)
			old, okOld := p[1].(string)
			new, okNew := p[2].(string)
			if !ok || !okOld || !okNew {
				return p[0], nil
			}
			if err := m.spend(int64(len(text)) / 4); err != nil {
				return nil, err
			}
			if n := int64(strings.Count(text, old)); n*int64(len(new)) > MaxText {
				return nil, errText
			}
			return text, nil
		}),
		def(matchName, func(m *meter, p params) (any, error) {
			pattern, ok := p[1].(string)
			if ok && len(pattern) > maxPattern {
				return nil, errPattern
			}
			return p[0], m.spend(100 + int64(len(pattern))*50 + lengthOf(p[0])*int64(4+len(pattern)/2))
		}),
		def(rangeName, func(m *meter, p params) (any, error) {
			from, errFrom := times(p[0])
			to, errTo := times(p[1])
			if errFrom != nil || errTo != nil {
				return p[0], nil // the language says what is wrong
			}
			n := to - from + 1
			if n > MaxItems {
				return nil, errItems
			}
			return p[0], errors.Join(m.spend(max(n, 0)), m.make(16*max(n, 0)))
		}),
		def(manyName, func(m *meter, p params) (any, error) {
			n := int64(0)
			for _, e := range p {
				n += lengthOf(e)
			}
			if n > MaxItems {
				return nil, errItems
			}
			return p[0], m.spend(n)
		}),
		def(pairsName, func(m *meter, p params) (any, error) {
			w, err := m.weigh(p[0])
			if n := lengthOf(p[0]); err == nil {
				err = m.spend(n * n / 2 * (1 + (w.nodes+w.text/32)/max(n, 1)) / 2)
			}
			return p[0], err
		}),
	}
}

// double reads a number.
func double(v any) (float64, bool) {
	switch x := v.(type) {
	case float64:
		return x, true
	case int:
		return float64(x), x > -1<<53 && x < 1<<53
	}
	return 0, false
}

// times reads a whole number as the language does.
func times(v any) (n int64, err error) {
	defer func() {
		if recover() != nil {
			err = errors.New("no number")
		}
	}()
	return int64(runtime.ToInt(v)), nil
}

// bounder puts the functions that count into a formula before it runs.
type bounder struct{}

func call(name string, args ...ast.Node) ast.Node {
	return &ast.CallNode{Callee: &ast.IdentifierNode{Value: name}, Arguments: append([]ast.Node{&ast.IdentifierNode{Value: meterName}}, args...)}
}

// constant tells whether a value stands in the formula as it is: such are small.
func constant(n ast.Node) bool {
	switch n.(type) {
	case *ast.NilNode, *ast.IntegerNode, *ast.FloatNode, *ast.BoolNode, *ast.StringNode, *ast.ConstantNode:
		return true
	}
	return false
}

// Visit implements ast.Visitor.
func (bounder) Visit(node *ast.Node) {
	switch n := (*node).(type) {
	case *ast.BinaryNode:
		boundOperator(node, n)
	case *ast.BuiltinNode:
		boundBuiltin(node, n)
	case *ast.CallNode:
		id, ok := n.Callee.(*ast.IdentifierNode)
		if !ok || strings.HasPrefix(id.Value, "·") {
			return
		}
		for i, a := range n.Arguments {
			if other, ok := a.(*ast.IdentifierNode); constant(a) || ok && other.Value == "$env" {
				continue
			}
			n.Arguments[i] = call(inName, a)
		}
		*node = call(outName, n)
	case *ast.SliceNode, *ast.ArrayNode, *ast.MapNode:
		*node = call(outName, n)
	}
}

func boundOperator(node *ast.Node, n *ast.BinaryNode) {
	switch n.Operator {
	case "+":
		*node = call(outName, call(plusName, n.Left, n.Right))
	case "-":
		*node = call(minusName, n.Left, n.Right)
	case "*":
		*node = call(multName, n.Left, n.Right)
	case "..":
		n.Left = call(rangeName, n.Left, n.Right)
	case "matches":
		n.Left = call(matchName, n.Left, n.Right)
	case "==", "!=", "<", "<=", ">", ">=":
		if !constant(n.Left) && !constant(n.Right) {
			n.Left, n.Right = call(sideName, n.Left), call(sideName, n.Right)
		}
	case "contains", "startsWith", "endsWith", "in", "not in":
		if _, list := n.Right.(*ast.ArrayNode); !list && !constant(n.Right) {
			n.Right = call(sideName, n.Right)
		}
		if !constant(n.Left) {
			n.Left = call(sideName, n.Left)
		}
	}
}

// scalar builtins make nothing large of what they are given.
var scalar = map[string]bool{
	"len": true, "type": true, "abs": true, "ceil": true, "floor": true, "round": true, "int": true, "float": true, "first": true, "last": true, "get": true,
	"all": true, "none": true, "any": true, "one": true, "find": true, "findIndex": true, "findLast": true, "findLastIndex": true, "count": true,
	"bitnot": true, "duration": true, "timezone": true,
}

func boundBuiltin(node *ast.Node, n *ast.BuiltinNode) {
	looped := false
	for _, a := range n.Arguments {
		if p, ok := a.(*ast.PredicateNode); ok && len(n.Arguments) > 0 {
			n.Arguments[0] = call(loopName, n.Arguments[0], &ast.IntegerNode{Value: costOf(p, n.Name)})
			looped = true
		}
	}
	if !looped {
		boundArguments(n)
	}
	switch {
	case n.Name == "sum" || n.Name == "mean":
		*node = call(tidyName, n)
	case !scalar[n.Name]:
		*node = call(outName, n)
	}
}

func boundArguments(n *ast.BuiltinNode) {
	args := n.Arguments
	if len(args) == 0 {
		return
	}
	switch n.Name {
	case "len", "type", "first", "last", "get", "take", "reverse", "keys", "values":
		if !scalar[n.Name] {
			args[0] = call(loopName, args[0], &ast.IntegerNode{Value: 2})
		}
	case "join", "toJSON":
		args[0] = call(joinName, args...)
	case "repeat":
		if len(args) > 1 {
			args[0] = call(timesName, args[0], args[1])
		}
	case "replace":
		if len(args) > 2 {
			args[0] = call(swapName, args[0], args[1], args[2])
		}
	case "concat":
		args[0] = call(manyName, args...)
	case "uniq":
		args[0] = call(pairsName, args[0])
	default:
		for i, a := range args {
			if !constant(a) {
				args[i] = call(inName, a)
			}
		}
	}
}

// costs counts the work of going through a predicate once.
type costs struct{ units int }

func (c *costs) Visit(node *ast.Node) {
	switch n := (*node).(type) {
	case *ast.CallNode:
		c.units += 15
		if id, ok := n.Callee.(*ast.IdentifierNode); ok && !strings.HasPrefix(id.Value, "·") {
			if c.units += 300; id.Value == "bullets" {
				c.units += 10_000 // it reads its template each time
			}
		}
	case *ast.BuiltinNode:
		c.units += 30
	case *ast.MemberNode, *ast.BinaryNode:
		c.units += 4
	default:
		c.units++
	}
}

func costOf(p *ast.PredicateNode, name string) int {
	c := costs{units: 4}
	var n ast.Node = p
	ast.Walk(&n, &c)
	if name == "sortBy" || name == "groupBy" {
		c.units += 30
	}
	return c.units
}
