package message

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/report"
	"dorfbote/internal/core/value"
)

func said(s string) *report.Text { return &report.Text{S: s} }

// charted gives the figures of a chart over records as "label: name value, …; …".
func charted(t *testing.T, spec ChartSpec, records []map[string]any) (string, error) {
	t.Helper()
	zurich, err := time.LoadLocation("Europe/Zurich")
	require.NoError(t, err)
	words := &formula.Words{Workspace: value.Workspace{Zone: zurich, Locale: "en"}, Gathered: []formula.Name{{Name: "sales", Many: true}}}
	var problems report.List
	spec.Of = *said("sales")
	m := Compile(&Spec{Name: "m", Title: said("x"), PartsSpec: PartsSpec{Picture: &PictureSpec{Chart: &spec}}}, words, "messages.m", &problems)
	require.False(t, problems.Failed(), "%v", problems.Problems)
	list := make([]any, len(records))
	for i, r := range records {
		list[i] = r
	}
	sc := &formula.Scope{Now: time.Now()}
	sc.Gather("sales", list, list)
	doc, err := m.Fill(sc)
	if err != nil {
		return "", err
	}
	c := doc.Picture.Chart
	var out []string
	for i, l := range c.Labels {
		var values []string
		for _, s := range c.Series {
			v := "gap"
			if s.Values[i] != nil {
				v = value.NumberText(*s.Values[i])
			}
			values = append(values, strings.TrimSpace(s.Name+" "+v))
		}
		out = append(out, l+": "+strings.Join(values, ", "))
	}
	return strings.TrimSpace(strings.Join(out, "; ") + " " + c.Unit), nil
}

func TestFiguresOfCharts(t *testing.T) {
	sale := func(at, valley string, amount any) map[string]any {
		return map[string]any{"placed": at, "valley": valley, "amount": amount}
	}
	sales := []map[string]any{
		sale("2026-11-01T23:30:00Z", "Mill", 100.0), // Monday, 2 November, in the workspace's zone
		sale("2026-11-08T12:00:00Z", "Mill", "50"),
		sale("2026-11-17T08:00:00Z", "Upper", -20.0),
		sale("2026-11-17T09:00:00Z", "Upper", 30.5),
		sale("", "Upper", 7.0),
		sale("2026-11-23", "", nil),
	}
	money := func(n float64, c string) map[string]any { return map[string]any{"amount": n, "currency": c} }
	var lots []map[string]any
	for i := range 15 {
		lots = append(lots, sale("2026-11-17", fmt.Sprint("v", i), float64(100-i)))
	}
	// Thirteen series of one and two: the last two are the rest.
	few := func(one, two float64) (out []map[string]any) {
		for i := range 11 {
			out = append(out, sale("2026-11-17", fmt.Sprint("v", i), float64(100-i)))
		}
		return append(out, sale("2026-11-17", "lost", -200.0), sale("2026-11-17", "w", one), sale("2026-11-17", "x", two))
	}
	const twelve = "Nov 2026: lost -200, v0 100, v1 99, v2 98, v3 97, v4 96, v5 95, v6 94, v7 93, v8 92, v9 91, v10 90, others "
	split := func(figure string) ChartSpec {
		return ChartSpec{Kind: *said(Columns), Field: said("placed"), By: *said("month"), Value: *said(figure), Split: said("valley")}
	}
	for name, c := range map[string]struct {
		spec    ChartSpec
		records []map[string]any
		want    string
	}{
		"a great loss is a great series":              {split("sum(amount)"), few(3, 4), twelve + "7"},
		"the least of the rest":                       {split("min(amount)"), few(3, 4), twelve + "3"},
		"the most of the rest, below nothing":         {split("max(amount)"), few(-3, -4), twelve + "-3"},
		"weeks from Monday, empty ones 0":             {ChartSpec{Kind: *said(Columns), Field: said("placed"), By: *said("week"), Value: *said("sum(amount)")}, sales, "2 Nov: 150; 9 Nov: 0; 16 Nov: 10.5"},
		"counted, with what has no amount":            {ChartSpec{Kind: *said(Columns), Field: said("placed"), By: *said("week"), Value: *said("count()")}, sales, "2 Nov: 2; 9 Nov: 0; 16 Nov: 2; 23 Nov: 1"},
		"a gap where there is no mean":                {ChartSpec{Kind: *said(Line), Field: said("placed"), By: *said("week"), Value: *said("avg(amount)")}, sales, "2 Nov: 75; 9 Nov: gap; 16 Nov: 5.25"},
		"least and most":                              {ChartSpec{Kind: *said(Line), Field: said("placed"), By: *said("month"), Value: *said(" min( amount ) ")}, sales, "Nov 2026: -20"},
		"by day, split":                               {ChartSpec{Kind: *said(Columns), Field: said("placed"), By: *said("day"), Value: *said("max(amount)"), Split: said("valley")}, sales[2:4], "17 Nov: Upper 30.5"},
		"split, the largest first":                    {ChartSpec{Kind: *said(Columns), Field: said("placed"), By: *said("month"), Value: *said("sum(amount)"), Split: said("valley")}, sales, "Nov 2026: Mill 150, Upper 10.5"},
		"by a field, the largest first":               {ChartSpec{Kind: *said(Bars), By: *said("valley"), Value: *said("sum(amount)")}, sales, "Mill: 150; Upper: 17.5"},
		"of a field that is there":                    {ChartSpec{Kind: *said(Share), By: *said("valley"), Value: *said("count(amount)")}, sales, "Upper: 3; Mill: 2"},
		"nothing":                                     {ChartSpec{Kind: *said(Share), By: *said("valley"), Value: *said("count()")}, nil, ""},
		"at most twelve, the rest is one":             {ChartSpec{Kind: *said(Columns), Field: said("placed"), By: *said("month"), Value: *said("sum(amount)"), Split: said("valley")}, lots, "Nov 2026: v0 100, v1 99, v2 98, v3 97, v4 96, v5 95, v6 94, v7 93, v8 92, v9 91, v10 90, v11 89, others 261"},
		"money of one currency":                       {ChartSpec{Kind: *said(Bars), By: *said("valley"), Value: *said("sum(amount)")}, []map[string]any{sale("", "Mill", money(5, "EUR")), sale("", "Mill", money(6, "EUR"))}, "Mill: 11 EUR"},
		"money of several, split by them":             {ChartSpec{Kind: *said(Bars), By: *said("valley"), Value: *said("sum(amount)"), Split: said("amount.currency")}, []map[string]any{sale("", "Mill", money(5, "EUR")), sale("", "Mill", money(6, "CHF"))}, "Mill: CHF 6, EUR 5"},
		"money of several has no sum":                 {ChartSpec{Kind: *said(Bars), By: *said("valley"), Value: *said("sum(amount)")}, []map[string]any{sale("", "Mill", money(5, "EUR")), sale("", "Mill", money(6, "CHF"))}, "picture.chart: the amounts are in several currencies, EUR and CHF among them, which have no sum; split the chart by the currency"},
		"decimals are exact, whatever their order":    {ChartSpec{Kind: *said(Bars), By: *said("valley"), Value: *said("sum(amount)")}, []map[string]any{sale("", "Mill", 0.1), sale("", "Mill", 0.2), sale("", "Mill", -0.3), sale("", "Upper", 0.01), sale("", "Upper", "0.075")}, "Upper: 0.085; Mill: 0"},
		"a mean that a double halves wrongly":         {ChartSpec{Kind: *said(Bars), By: *said("valley"), Value: *said("avg(amount)")}, []map[string]any{sale("", "Mill", 33.86), sale("", "Mill", 33.87)}, "Mill: 33.865"},
		"money as text of several":                    {ChartSpec{Kind: *said(Bars), By: *said("valley"), Value: *said("sum(amount)")}, []map[string]any{sale("", "Mill", "CHF 8"), sale("", "Mill", "5 EUR")}, "picture.chart: the amounts are in several currencies, CHF and EUR among them, which have no sum; split the chart by the currency"},
		"money as text of one":                        {ChartSpec{Kind: *said(Bars), By: *said("valley"), Value: *said("sum(amount)")}, []map[string]any{sale("", "Mill", "CHF 8"), sale("", "Mill", "CHF 1.5")}, "Mill: 9.5 CHF"},
		"too many points":                             {ChartSpec{Kind: *said(Columns), Field: said("placed"), By: *said("day"), Value: *said("count()")}, []map[string]any{sale("2020-01-01", "", 1.0), sale("2026-01-01", "", 1.0)}, "picture.chart: the chart would have 401 points; 400 are the most. Group it by a longer span, or by another field"},
		"over the change of the clocks, no day twice": {ChartSpec{Kind: *said(Columns), Field: said("placed"), By: *said("day"), Value: *said("count()")}, []map[string]any{sale("2026-10-24T12:00:00Z", "", 1.0), sale("2026-10-26T12:00:00Z", "", 1.0)}, "24 Oct: 1; 25 Oct: 0; 26 Oct: 1"},
	} {
		t.Run(name, func(t *testing.T) {
			got, err := charted(t, c.spec, c.records)
			if err != nil {
				got = err.Error()
			}
			assert.Equal(t, c.want, got)
		})
	}
}

func TestWordsOfPictures(t *testing.T) {
	one, two := 5.0, 1234.5
	c := &Chart{Title: "Orders", Unit: "EUR", Locale: "en", Labels: []string{"2 Nov", "9 Nov"}, Series: []Series{{Name: "Mill", Values: []*float64{&one, nil}}, {Name: "Upper", Values: []*float64{&two, &one}}}}
	assert.Equal(t, "Orders: 2 Nov Mill 5 EUR, Upper 1,234.50 EUR; 9 Nov Upper 5 EUR", c.Words())
	assert.Equal(t, "no figures", (&Chart{}).Words())
	g := &Grid{Heads: []string{"a"}, Rows: [][]string{{"x"}, {"y"}}, More: 3}
	assert.Equal(t, "x; y; and 3 more", g.Words())
}
