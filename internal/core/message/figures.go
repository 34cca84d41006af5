package message

import (
	"cmp"
	"fmt"
	"math"
	"sort"
	"strings"
	"time"

	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/value"
)

// cell collects the values of one point of one series.
type cell struct {
	n        int
	sum      value.Sum
	min, max float64
}

func (c *cell) add(n value.Number) {
	v := n.Float
	if c.n == 0 || v < c.min {
		c.min = v
	}
	if c.n == 0 || v > c.max {
		c.max = v
	}
	c.n++
	c.sum.Add(n)
}

// merge takes in the values of another cell, which may be nil.
func (c *cell) merge(x *cell) {
	if x == nil || x.n == 0 {
		return
	}
	if c.n == 0 || x.min < c.min {
		c.min = x.min
	}
	if c.n == 0 || x.max > c.max {
		c.max = x.max
	}
	c.n += x.n
	c.sum.Merge(&x.sum)
}

func (c *cell) fold(how string) *float64 {
	var v float64
	switch {
	case how == "count":
		if c != nil {
			v = float64(c.n)
		}
	case how == "sum":
		if c != nil {
			v = c.sum.Float()
		}
	case c == nil || c.n == 0:
		return nil
	case how == "avg":
		v = c.sum.Over(c.n)
	case how == "min":
		v = c.min
	default:
		v = c.max
	}
	return &v
}

// groupOf is the group a record belongs to, and of a chart over time the moment its span begins; false for a record
// without the moment.
func (c *chartTemplate) groupOf(record map[string]any, ws value.Workspace, zone *time.Location) (string, time.Time, bool) {
	if !c.timed {
		raw, _ := c.group.Get(record)
		return strings.TrimSpace(formula.Show(raw, ws)), time.Time{}, true
	}
	raw, _ := c.at.Get(record)
	at, ok := momentOf(raw, ws)
	if !ok {
		return "", time.Time{}, false
	}
	at = begin(at.In(zone), c.by)
	return at.Format(time.DateOnly), at, true
}

// figureOf is what a record adds, with its currency where that has to be the same for all; false for a record without the
// figure.
func (c *chartTemplate) figureOf(record map[string]any, ws value.Workspace) (value.Number, string, bool) {
	one := value.Number{Float: 1}
	if c.fold == "count" {
		if c.field.String() == "" {
			return one, "", true
		}
		raw, _ := c.field.Get(record)
		return one, "", !value.Empty(raw)
	}
	raw, _ := c.field.Get(record)
	num, ok := value.ReadNumber(raw, ws)
	if !ok {
		return one, "", false
	}
	if c.split != nil && strings.HasSuffix(c.split.String(), "currency") {
		return num, "", true
	}
	return num, c.currencyOf(record, raw), true
}

// currencyOf is the currency of an amount: the one that stands with it, the one that its field always has, or the one that the record has
// beside it.
func (c *chartTemplate) currencyOf(record map[string]any, raw any) string {
	if own := cmp.Or(value.CurrencyOf(raw), formula.CurrencyIn(record, c.field), c.unit); own != "" || !c.money {
		return own
	}
	beside, _ := c.field.Beside("currency").Get(record)
	text, _ := beside.(string)
	return strings.ToUpper(strings.TrimSpace(text))
}

// figures works out the chart's figures.
func (c *chartTemplate) figures(sc *formula.Scope, words *formula.Words, title string) (*Chart, error) {
	list, err := c.of.List(sc)
	if err != nil {
		return nil, err
	}
	ws, zone := words.Workspace, words.Workspace.Location()
	out := &Chart{Kind: c.kind, Title: title, Unit: c.unit, Labels: []string{}, Series: []Series{}, Locale: ws.Locale}
	type point struct{ series, group string }
	cells := map[point]*cell{}
	totals, series := map[string]*value.Sum{}, map[string]*value.Sum{}
	moments := map[string]time.Time{}
	var order, names []string
	currency := ""
	for _, e := range list {
		record, _ := e.(map[string]any)
		group, moment, ok := c.groupOf(record, ws, zone)
		if !ok {
			continue
		}
		n, own, ok := c.figureOf(record, ws)
		if !ok {
			continue
		}
		if own != "" {
			if currency != "" && currency != own {
				return nil, fmt.Errorf("the amounts are in several currencies, %s and %s among them, which have no sum; split the chart by the currency", currency, own)
			}
			currency = own
		}
		name := ""
		if c.split != nil {
			raw, _ := c.split.Get(record)
			name = strings.TrimSpace(formula.Show(raw, ws))
		}
		if c.timed {
			moments[group] = moment
		}
		if totals[group] == nil {
			order, totals[group] = append(order, group), &value.Sum{}
		}
		if series[name] == nil {
			names, series[name] = append(names, name), &value.Sum{}
		}
		totals[group].Add(n)
		series[name].Add(n)
		p := point{name, group}
		if cells[p] == nil {
			cells[p] = &cell{}
		}
		cells[p].add(n)
	}
	if out.Unit == "" {
		out.Unit = currency
	}
	if c.timed {
		order = spans(moments, c.by)
	} else {
		sort.SliceStable(order, func(i, j int) bool {
			if a, b := totals[order[i]].Float(), totals[order[j]].Float(); a != b {
				return a > b
			}
			return order[i] < order[j]
		})
	}
	if len(order) > MostPoints {
		return nil, fmt.Errorf("the chart would have %d points; %d are the most. Group it by a longer span, or by another field", len(order), MostPoints)
	}
	sort.SliceStable(names, func(i, j int) bool {
		if a, b := math.Abs(series[names[i]].Float()), math.Abs(series[names[j]].Float()); a != b {
			return a > b
		}
		return names[i] < names[j]
	})
	kept := names
	if len(names) > MostSplit {
		kept = names[:MostSplit]
	}
	for _, g := range order {
		out.Labels = append(out.Labels, c.label(g, moments, words))
	}
	for _, name := range kept {
		s := Series{Name: name}
		for _, g := range order {
			s.Values = append(s.Values, cells[point{name, g}].fold(c.fold))
		}
		if c.split != nil && name == "" {
			s.Name = "(empty)"
		}
		out.Series = append(out.Series, s)
	}
	if rest := names[len(kept):]; len(rest) > 0 {
		s := Series{Name: "others"}
		for _, g := range order {
			all := &cell{}
			for _, name := range rest {
				all.merge(cells[point{name, g}])
			}
			s.Values = append(s.Values, all.fold(c.fold))
		}
		out.Series = append(out.Series, s)
	}
	return out, nil
}

func momentOf(raw any, ws value.Workspace) (time.Time, bool) {
	if at, ok := raw.(time.Time); ok {
		return at, true
	}
	text, _ := raw.(string)
	at, _, ok := value.ReadMoment(text, ws.Location())
	return at, ok
}

// begin is the beginning of the day, week (from Monday) or month that a moment lies in, as the clock of its zone shows it.
func begin(at time.Time, by string) time.Time {
	y, m, d := at.Date()
	switch by {
	case ByMonth:
		d = 1
	case ByWeek:
		d -= (int(at.Weekday()) + 6) % 7
	}
	return time.Date(y, m, d, 0, 0, 0, 0, time.UTC)
}

// spans lists the spans from the first to the last that has data, with none left out.
func spans(moments map[string]time.Time, by string) []string {
	var first, last time.Time
	for _, at := range moments {
		if first.IsZero() || at.Before(first) {
			first = at
		}
		if at.After(last) {
			last = at
		}
	}
	var out []string
	for at := first; !at.After(last) && !first.IsZero(); {
		if out = append(out, at.Format(time.DateOnly)); len(out) > MostPoints {
			return out
		}
		switch by {
		case ByMonth:
			at = at.AddDate(0, 1, 0)
		case ByWeek:
			at = at.AddDate(0, 0, 7)
		default:
			at = at.AddDate(0, 0, 1)
		}
	}
	return out
}

func (c *chartTemplate) label(group string, moments map[string]time.Time, words *formula.Words) string {
	if !c.timed {
		if group == "" {
			return "(empty)"
		}
		return group
	}
	at, ok := moments[group]
	if !ok {
		at, _ = time.Parse(time.DateOnly, group)
	}
	pattern := "d MMM"
	if c.by == ByMonth {
		pattern = "MMM yyyy"
	}
	return formula.FormatDate(at, pattern, words.Workspace.Locale)
}

// Words is what a chart says, without its picture: its figures, as many as fit.
func (c *Chart) Words() string {
	const most = 12
	if len(c.Labels) == 0 {
		return strings.TrimPrefix(c.Title+": no figures", ": ")
	}
	var parts []string
	from := max(0, len(c.Labels)-most)
	for i := from; i < len(c.Labels); i++ {
		var values []string
		for _, s := range c.Series {
			if i >= len(s.Values) || s.Values[i] == nil {
				continue
			}
			text := c.Number(*s.Values[i])
			if s.Name != "" {
				text = s.Name + " " + text
			}
			values = append(values, text)
		}
		if len(values) > 4 {
			values = append(values[:4], fmt.Sprintf("and %d more", len(values)-4))
		}
		if len(values) == 0 {
			values = []string{"–"}
		}
		parts = append(parts, c.Labels[i]+" "+strings.Join(values, ", "))
	}
	head := c.Title
	if from > 0 {
		head = strings.TrimSpace(head + fmt.Sprintf(" (the last %d of %d)", len(c.Labels)-from, len(c.Labels)))
	}
	return strings.TrimPrefix(head+": "+strings.Join(parts, "; "), ": ")
}

// Number writes one of the chart's figures, with its unit.
func (c *Chart) Number(v float64) string {
	decimals := 0
	if v != math.Trunc(v) {
		decimals = 2
	}
	text := formula.GroupNumber(v, decimals, c.Locale)
	if c.Unit != "" {
		text += " " + c.Unit
	}
	return text
}
