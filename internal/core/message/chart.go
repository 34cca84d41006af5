package message

import (
	"regexp"
	"slices"
	"strings"

	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/report"
	"dorfbote/internal/core/value"
)

// The kinds of chart.
const (
	Bars    = "bars"    // lying, one for each value of a field
	Columns = "columns" // standing
	Line    = "line"
	Share   = "share" // parts of a whole
)

// ChartKinds lists them in the order in which they are offered.
var ChartKinds = []string{Columns, Bars, Line, Share}

// Spans of time that figures are grouped by.
const (
	ByDay   = "day"
	ByWeek  = "week"
	ByMonth = "month"
)

// MostSplit is how many series a chart has; the rest is one of others. MostPoints bounds its points.
const (
	MostSplit  = 12
	MostPoints = 400
)

// ChartSpec is a chart as written.
type ChartSpec struct {
	At              report.Pos
	Of              report.Text // a formula that gives the list
	Kind, By, Value report.Text
	Field           *report.Text // at: the moment that is grouped by day, week or month
	Split, Title    *report.Text
}

// Chart is the figures of a chart. What is drawn of it is made of these alone: the same figures are the same picture.
type Chart struct {
	Kind   string   `json:"kind"`
	Title  string   `json:"title,omitempty"`
	Unit   string   `json:"unit,omitempty"`
	Labels []string `json:"labels"` // of the points
	Series []Series `json:"series"`
	Locale string   `json:"locale,omitempty"`
}

// Series is one series of a chart; a nil value is a gap.
type Series struct {
	Name   string     `json:"name,omitempty"`
	Values []*float64 `json:"values"`
}

type chartTemplate struct {
	path  string
	of    *formula.Formula
	kind  string
	at    value.Path // of moments; by is a span then
	timed bool
	by    string
	group value.Path
	fold  string // sum, count, avg, min, max
	field value.Path
	split *value.Path
	title *formula.Template
	unit  string // where the field's currency is known
	money bool
}

var aggregate = regexp.MustCompile(`^\s*(sum|count|avg|min|max)\(\s*([^()]*?)\s*\)\s*$`)

func compileChart(s *ChartSpec, words *formula.Words, path string, problems *report.List) *chartTemplate {
	c := &chartTemplate{path: path, of: formula.Read(s.Of, s.Of.S, 0, words, path+".of", problems), kind: s.Kind.S, by: s.By.S}
	schema := schemaOf(words, s.Of.S)
	if !slices.Contains(ChartKinds, s.Kind.S) {
		problems.Add(s.Kind.At, path+".kind", value.Nearest(s.Kind.S, ChartKinds), "kind is one of %s, not %q", strings.Join(ChartKinds, ", "), s.Kind.S)
	}
	look := func(t report.Text, part string) (value.Path, value.Field) {
		t.S = strings.TrimPrefix(strings.TrimSpace(t.S), "it.")
		return fieldIn(schema, t, s.Of.S, path+"."+part, problems)
	}
	if s.Field != nil {
		var f value.Field
		c.timed = true
		if c.at, f = look(*s.Field, "at"); f.Type != value.Any && !f.Type.IsTime() {
			problems.Add(s.Field.At, path+".at", "", "%s is a %s field; at needs a date or a moment", s.Field.S, f.Type)
		}
		if !slices.Contains([]string{ByDay, ByWeek, ByMonth}, s.By.S) {
			problems.Add(s.By.At, path+".by", value.Nearest(s.By.S, []string{ByDay, ByWeek, ByMonth}), "by is day, week or month where the chart goes by time, not %q", s.By.S)
		}
	} else {
		c.group, _ = look(s.By, "by")
	}
	m := aggregate.FindStringSubmatch(s.Value.S)
	switch {
	case m == nil:
		problems.Add(s.Value.At, path+".value", "count()", "value is count(), or sum, avg, min or max of a field, such as sum(amount), not %q", s.Value.S)
	case m[1] != "count" && m[2] == "":
		problems.Add(s.Value.At, path+".value", "", "%s needs a field, such as %s(amount)", m[1], m[1])
	default:
		if c.fold = m[1]; m[2] != "" {
			t := s.Value
			t.S = m[2]
			var f value.Field
			c.field, f = look(t, "value")
			c.unit, c.money = f.Currency, f.Type == value.Money
			if c.fold != "count" && f.Type != value.Any && !f.Type.IsNumber() {
				problems.Add(s.Value.At, path+".value", "", "%s is a %s field, of which there is no %s", m[2], f.Type, m[1])
			}
			if c.fold == "count" {
				c.unit, c.money = "", false
			}
		}
	}
	if s.Split != nil {
		p := value.ParsePath(strings.TrimPrefix(strings.TrimSpace(s.Split.S), "it."))
		if !strings.HasSuffix(s.Split.S, "currency") {
			p, _ = look(*s.Split, "split")
		}
		c.split = &p
	}
	if s.Title != nil {
		c.title = parse(*s.Title, words, path+".title", problems)
	}
	return c
}
