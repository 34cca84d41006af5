package decide

import (
	"dorfbote/internal/core/cond"
	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/sheet"
)

// Counted is for how many of the arrivals that got as far as a condition it held.
type Counted struct {
	Yes int `json:"yes"`
	Of  int `json:"of"`
}

// Counts counts, over many arrivals, what each line of a sheet lets through.
type Counts struct {
	ByPath           map[string]*Counted
	when, keep, rows []countedNode
}

type countedNode struct {
	cond.Node
	*Counted
}

// NewCounts begins to count for a plan.
func NewCounts(p *sheet.Plan) *Counts {
	c := &Counts{ByPath: map[string]*Counted{}}
	list := func(n cond.Node) (out []countedNode) {
		cond.Walk(n, func(n cond.Node) {
			at := &Counted{}
			c.ByPath[n.Path()] = at
			out = append(out, countedNode{n, at})
		})
		return out
	}
	c.when, c.keep = list(p.When), list(p.Keep)
	for i := range p.Rows {
		c.rows = append(c.rows, list(p.Rows[i].When)...)
	}
	return c
}

// See counts an arrival that has been decided on a scope.
func (c *Counts) See(p *sheet.Plan, sc *formula.Scope) {
	if ignoredAt(p, sc) != "" {
		return
	}
	count(c.when, sc)
	if p.When != nil && p.When.Eval(sc) != cond.True {
		return
	}
	count(c.keep, sc)
	if p.Keep != nil && p.Keep.Eval(sc) != cond.True || len(sc.Gathered) < len(p.Gather) {
		return
	}
	count(c.rows, sc)
}

func count(list []countedNode, sc *formula.Scope) {
	for _, n := range list {
		n.Of++
		if n.Eval(sc) == cond.True {
			n.Yes++
		}
	}
}
