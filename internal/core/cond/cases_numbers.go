package cond

import (
	"math"
	"slices"
	"sort"
)

// steps are the differences between a number and what it was before that tests tell apart. Empty where none do.
func (c *caser) steps() []float64 {
	var out []float64
	for _, t := range c.tests {
		switch {
		case t.looks == looksForChange:
			out = append(out, 0)
		case t.looks == looksForStep && t.lit.hasNum && t.op.Name == "fell_by":
			out = append(out, -t.lit.num.Float)
		case t.looks == looksForStep && t.lit.hasNum:
			out = append(out, t.lit.num.Float)
		}
	}
	return out
}

// moved adds numbers with what they were before. A number is looked at in every gap between those that the tests name
// and those that are a step away from one that was; what was before, in every gap between those and a step back.
func (c *caser) moved(steps []float64) {
	points := c.points()
	far := slices.Clone(points)
	for _, p := range points {
		for _, s := range steps {
			far = append(far, p+s)
		}
	}
	values := between(far, c.whole)
	if most := mostTries / (len(c.tests) * (len(points)*2 + len(steps)*2 + 3)); len(values) > most {
		c.cut, values = true, values[:max(most, 1)]
	}
	for _, v := range values {
		near := slices.Clone(points)
		for _, s := range steps {
			near = append(near, v-s)
		}
		c.add(v, nil)
		for _, b := range between(near, c.whole) {
			c.add(v, b)
		}
	}
	for _, b := range between(points, c.whole) {
		c.add(nil, b)
	}
	c.add(nil, nil)
	for _, other := range c.orForeign(nil) {
		for _, p := range between(points, c.whole) {
			c.add(other, p)
			c.add(p, other)
		}
		for _, b := range []any{nil, other, c.twin(other)} {
			c.add(other, b)
		}
		c.add(nil, other)
	}
}

func (c *caser) numbers() []any {
	var out []any
	for _, f := range between(c.points(), c.whole) {
		out = append(out, f)
	}
	return out
}

// points are the numbers that the tests name.
func (c *caser) points() []float64 {
	var points []float64
	for _, t := range c.tests {
		if t.looks == looksForStep {
			continue
		}
		for _, o := range t.operands() {
			if o.hasNum {
				points = append(points, o.num.Float)
			}
		}
	}
	return points
}

// between gives the points, and one number in every gap between and beyond them.
func between(points []float64, whole bool) []float64 {
	if len(points) == 0 {
		return []float64{1}
	}
	sort.Float64s(points)
	step := 1.0
	out := []float64{math.Floor(points[0]) - step}
	for i, p := range points {
		switch {
		case !whole:
			out = append(out, p)
		case p == math.Trunc(p):
			out = append(out, p)
		}
		next := p + 2
		if i+1 < len(points) {
			next = points[i+1]
		}
		if whole {
			if mid := math.Floor(p) + 1; mid < next {
				out = append(out, mid)
			}
			continue
		}
		if mid := roundBetween(p, next); mid > p && mid < next {
			out = append(out, mid)
		}
	}
	return out
}

// roundBetween is a number between two that reads well.
func roundBetween(a, b float64) float64 {
	for _, digits := range []float64{1, 10, 100, 1000, 1e4, 1e6} {
		if r := math.Floor(a*digits+1) / digits; r > a && r < b {
			return r
		}
	}
	return a + (b-a)/2
}
