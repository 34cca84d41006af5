package picture

import (
	"bytes"
	"fmt"
	"image/png"
	"math"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/core/message"
)

func at(values ...float64) []*float64 {
	out := make([]*float64, len(values))
	for i, v := range values {
		if !math.IsNaN(v) {
			out[i] = &v
		}
	}
	return out
}

var gap = math.NaN()

func many(n int) (labels []string, values []*float64) {
	for i := range n {
		v := 900 + 700*math.Sin(float64(i)/17) + float64(i%7)*40
		labels, values = append(labels, fmt.Sprintf("%d Nov", i+1)), append(values, &v)
	}
	return labels, values
}

// samples are what the golden files show.
func samples() map[string]func(dark bool) ([]byte, error) {
	labels, values := many(400)
	charts := map[string]*message.Chart{
		"columns": {Kind: message.Columns, Title: "Orders by week", Unit: "EUR", Labels: []string{"26 Oct", "2 Nov", "9 Nov", "16 Nov", "23 Nov"}, Series: []message.Series{
			{Name: "Upper valley", Values: at(12400, 9800.5, 0, 15200, 11020)}, {Name: "Mill valley", Values: at(-2100, 4100, 3900, -800, 6050)}, {Name: "Middle valley", Values: at(5100, 5200, 4800, 6100, 7000)}}},
		"line":  {Kind: message.Line, Title: "Mean temperature of the milk by day", Unit: "°C", Labels: labels[:14], Series: []message.Series{{Name: "Łódź and Käserei", Values: at(4.1, 4.3, gap, 4.0, 3.9, 4.6, gap, gap, 5.1, 4.8, 4.4, 4.2, 4.1, 4.0)}, {Name: "Αθήνα, Юг", Values: at(3.1, 3.3, 3.2, 3.0, gap, 3.6, 3.7, 3.9, 4.1, 3.8, 3.4, 3.2, 3.1, 3.0)}}},
		"400":   {Kind: message.Columns, Title: "Litres a day", Unit: "l", Labels: labels, Series: []message.Series{{Values: values}}},
		"bars":  {Kind: message.Bars, Title: "Litres by farm", Unit: "l", Labels: []string{"Sonnleiten", "A farm with a very long name that nobody could ever write on a door", "Wildenegg", "Hof 3"}, Series: []message.Series{{Values: at(1240, 980, 720.5, -100)}}},
		"share": {Kind: message.Share, Title: "Verdicts of the samples", Labels: []string{"clear", "watch", "blocked", "pending"}, Series: []message.Series{{Values: at(310, 42, 9, 3)}}},
		"empty": {Kind: message.Columns, Title: "Nothing yet", Labels: []string{}, Series: []message.Series{}},
	}
	out := map[string]func(bool) ([]byte, error){}
	for name, c := range charts {
		out["chart-"+name] = func(dark bool) ([]byte, error) { return Chart(c, dark) }
	}
	grid := &message.Grid{Heads: []string{"Collection", "Farm", "Litres", "What is wrong"}, Right: []bool{false, false, true, false}, More: 12, Totals: []string{"", "", "3,310", ""}, Rows: [][]string{
		{"COL-2031", "Sonnleiten", "1,240", "The hose is cracked, and the driver waits for a new one that somebody has to bring from the workshop in the lower village before noon"}, {"COL-2032", "Wildenegg", "720", ""}, {"COL-2033", "Łąka 日本", "1,350", "late"}}}
	out["table"] = func(dark bool) ([]byte, error) { return Table(grid, dark) }
	return out
}

// The same figures are the same bytes; what they look like stands in golden files, which are looked at when they change:
// GOLDEN=1 go test ./internal/picture writes them anew.
func TestPicturesAreAsTheyWere(t *testing.T) {
	for name, draw := range samples() {
		for _, dark := range []bool{false, true} {
			file := filepath.Join("testdata", name+".png")
			if dark {
				if name != "chart-columns" && name != "table" {
					continue
				}
				file = filepath.Join("testdata", name+"-dark.png")
			}
			got, err := draw(dark)
			require.NoError(t, err, name)
			again, err := draw(dark)
			require.NoError(t, err)
			require.True(t, bytes.Equal(got, again), "%s: drawn twice, the bytes differ", name)
			if os.Getenv("GOLDEN") != "" {
				require.NoError(t, os.MkdirAll("testdata", 0o755))
				require.NoError(t, os.WriteFile(file, got, 0o644))
				continue
			}
			want, err := os.ReadFile(file)
			require.NoError(t, err)
			a, err := png.Decode(bytes.NewReader(got))
			require.NoError(t, err)
			b, err := png.Decode(bytes.NewReader(want))
			require.NoError(t, err)
			require.Equal(t, b.Bounds(), a.Bounds(), name)
			assert.Equal(t, b, a, "%s looks otherwise than %s", name, file)
		}
	}
}

// Whatever the figures and words are, there is a picture, and it stays within bounds.
func FuzzChart(f *testing.F) {
	f.Add("columns", "Orders", "a,b,c", 1.0, -5.5, 3)
	f.Add("share", "", "\u202e,👨‍👩‍👧,", math.Inf(1), math.NaN(), 14)
	f.Add("bars", strings.Repeat("long ", 100), "x", 1e300, -1e300, 1)
	f.Fuzz(func(t *testing.T, kind, title, labels string, a, b float64, series int) {
		c := &message.Chart{Kind: kind, Title: title, Unit: labels, Labels: strings.Split(labels, ",")}
		if len(c.Labels) > message.MostPoints {
			c.Labels = c.Labels[:message.MostPoints]
		}
		for i := range min(max(series, 0), 13) {
			s := message.Series{Name: title}
			for j := range c.Labels {
				v := a
				if (i+j)%2 == 1 {
					v = b
				}
				if math.IsNaN(v) || math.IsInf(v, 0) { // figures are of numbers that JSON knows
					s.Values = append(s.Values, nil)
				} else {
					s.Values = append(s.Values, &v)
				}
			}
			c.Series = append(c.Series, s)
		}
		raw, err := Chart(c, false)
		if err != nil {
			t.Fatal(err)
		}
		size, err := png.DecodeConfig(bytes.NewReader(raw))
		if err != nil || size.Width > 2000 || size.Height > 4000 {
			t.Fatal(size.Width, size.Height, err)
		}
	})
}

func BenchmarkChartOf400(b *testing.B) {
	labels, values := many(400)
	c := &message.Chart{Kind: message.Line, Title: "Litres a day", Labels: labels, Series: []message.Series{{Name: "a", Values: values}, {Name: "b", Values: values}}}
	b.ReportAllocs()
	for range b.N {
		if _, err := Chart(c, false); err != nil {
			b.Fatal(err)
		}
	}
}

func BenchmarkTableOf30(b *testing.B) {
	g := &message.Grid{Heads: []string{"Collection", "Farm", "Litres", "Note"}, Right: []bool{false, false, true, false}}
	for i := range 30 {
		g.Rows = append(g.Rows, []string{fmt.Sprint("COL-", i), "Sonnleiten", fmt.Sprint(1000 + i), "The hose is cracked, and the driver waits for a new one that somebody has to bring"})
	}
	b.ReportAllocs()
	for range b.N {
		if _, err := Table(g, false); err != nil {
			b.Fatal(err)
		}
	}
}
