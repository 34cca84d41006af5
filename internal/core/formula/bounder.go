package formula

import (
	"strings"

	"github.com/expr-lang/expr/ast"
)

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
