package cond

import (
	"fmt"
	"sort"
	"time"

	"dorfbote/internal/core/value"
)

func (c *caser) moments() []any {
	var points []time.Time
	week := false
	for _, t := range c.tests {
		if t.op.Takes == "days" {
			week = true
			continue
		}
		if t.op.Takes == "span" {
			points = append(points, c.Now, c.Now.Add(t.lit.dur), c.Now.Add(-t.lit.dur))
			continue
		}
		for _, o := range t.operands() {
			if o.hasAt {
				points = append(points, o.at.At(c.Now, c.zone()))
			}
		}
	}
	if len(points) == 0 {
		points = []time.Time{c.Now}
	}
	sort.Slice(points, func(i, j int) bool { return points[i].Before(points[j]) })
	var at []time.Time
	for i, p := range points {
		at = append(at, p.Add(-time.Second), p, p.Add(time.Second), p.AddDate(0, 0, -1), p.AddDate(0, 0, 1))
		if i+1 < len(points) {
			at = append(at, p.Add(points[i+1].Sub(p)/2))
		}
	}
	if week {
		for _, p := range append([]time.Time(nil), at...) {
			for d := 1; d < 7; d++ {
				at = append(at, p.AddDate(0, 0, d), p.AddDate(0, 0, -d))
			}
		}
	}
	out := make([]any, len(at))
	for i, p := range at {
		out[i] = c.moment(p)
	}
	return out
}

func (c *caser) moment(at time.Time) string {
	if c.t == value.Date {
		return at.In(c.zone()).Format(time.DateOnly)
	}
	return at.UTC().Format(time.RFC3339Nano)
}

func (c *caser) spans() []any {
	var points []float64
	for _, t := range c.tests {
		for _, o := range t.operands() {
			if o.hasDur {
				points = append(points, o.dur.Seconds())
			}
		}
	}
	var out []any
	for _, s := range between(points, true) {
		out = append(out, fmt.Sprintf("%ds", int64(s)))
	}
	return out
}
