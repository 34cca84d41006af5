package picture

import (
	"fmt"
	"image/color"
	"math"

	"dorfbote/internal/core/message"
)

// How large a chart is, in points.
const (
	chartWidth  = 720
	chartHeight = 460
	edge        = 24.0
	lineHeight  = 30.0
)

// Chart draws a chart as PNG, on light or on dark ground.
func Chart(ch *message.Chart, onDark bool) ([]byte, error) {
	d := &drawing{ch: ch}
	height := chartHeight
	switch ch.Kind {
	case message.Bars:
		height = d.barsHeight()
	case message.Share:
		height = d.shareHeight()
	}
	var err error
	if d.canvas, err = newCanvas(chartWidth, height, onDark); err != nil {
		return nil, err
	}
	d.h = float64(height)
	d.top = edge
	if ch.Title != "" {
		for _, l := range d.big.wrap(ch.Title, chartWidth-2*edge, 2) {
			d.write(d.big, l, edge, d.top+22, left, d.ink)
			d.top += 34
		}
		d.top += 4
	}
	if len(ch.Labels) == 0 {
		d.write(d.text, "No figures", chartWidth/2, d.h/2, middle, d.faint)
		return d.png()
	}
	switch ch.Kind {
	case message.Bars:
		d.bars()
	case message.Share:
		d.share()
	default:
		d.legend()
		d.plot()
	}
	return d.png()
}

type drawing struct {
	*canvas
	ch     *message.Chart
	h, top float64
}

func (d *drawing) inkOf(i int) color.RGBA { return d.inks[i%len(d.inks)] }

// legend names the series, where there are several.
func (d *drawing) legend() {
	if len(d.ch.Series) < 2 {
		return
	}
	x := edge
	for i, s := range d.ch.Series {
		name := d.text.fit(s.Name, 200)
		w := 30 + d.text.width(name) + 22
		if x+w > chartWidth-edge && x > edge {
			x, d.top = edge, d.top+lineHeight
		}
		d.rect(x, d.top+4, x+20, d.top+20, d.inkOf(i))
		d.write(d.text, name, x+28, d.top+20, left, d.ink)
		x += w
	}
	d.top += lineHeight + 4
}

// extent is from the lowest to the highest value, with 0 in it.
func (d *drawing) extent(stacked bool) (low, high float64) {
	for i := range d.ch.Labels {
		up, down := 0.0, 0.0
		for _, s := range d.ch.Series {
			if i >= len(s.Values) || s.Values[i] == nil {
				continue
			}
			v := *s.Values[i]
			switch {
			case !stacked:
				low, high = math.Min(low, v), math.Max(high, v)
			case v >= 0:
				up += v
			default:
				down += v
			}
		}
		low, high = math.Min(low, down), math.Max(high, up)
	}
	if low == high {
		high = low + 1
	}
	return low, high
}

// ticks are round numbers from below the lowest to above the highest value.
func ticks(low, high float64) []float64 {
	span := high - low
	step := math.Pow(10, math.Floor(math.Log10(span/4)))
	for _, m := range []float64{1, 2, 2.5, 5, 10} {
		if span/(step*m) <= 5 {
			step *= m
			break
		}
	}
	var out []float64
	for i := math.Floor(low / step); ; i++ {
		v := i * step
		if math.Abs(v) < step*1e-9 {
			v = 0
		}
		if out = append(out, v); v >= high-step*1e-9 || len(out) > 12 {
			return out
		}
	}
}

// plot draws columns or lines, with their axes.
func (d *drawing) plot() {
	n, series := len(d.ch.Labels), len(d.ch.Series)
	stacked := d.ch.Kind == message.Columns && series > 1 && (series > 4 || n*series > 40)
	low, high := d.extent(stacked)
	marks := ticks(low, high)
	low, high = math.Min(low, marks[0]), math.Max(high, marks[len(marks)-1])
	bare := *d.ch
	bare.Unit = ""
	axis := 0.0
	for _, v := range marks {
		axis = math.Max(axis, d.text.width(bare.Number(v)))
	}
	if d.ch.Unit != "" {
		d.write(d.text, d.ch.Unit, edge, d.top+16, left, d.faint)
		d.top += lineHeight
	}
	x0, x1, y0, y1 := edge+axis+12, chartWidth-edge, d.top+6, d.h-edge-lineHeight
	at := func(v float64) float64 { return y1 - (v-low)/(high-low)*(y1-y0) }
	for _, v := range marks {
		y := math.Round(at(v))
		ink := d.rule
		if v == 0 {
			ink = d.faint
		}
		d.rect(x0, y-0.5, x1, y+0.5, ink)
		d.write(d.text, bare.Number(v), x0-12, y+7, right, d.faint)
	}
	slot := (x1 - x0) / float64(n)
	if d.ch.Kind == message.Line {
		d.lines(x0, slot, at)
	} else {
		d.columns(x0, slot, at, stacked)
	}
	d.labels(x0, slot, y1)
}

// labels writes what stands below the points: as many as have room.
func (d *drawing) labels(x0, slot, y float64) {
	n := len(d.ch.Labels)
	widest := 0.0
	for _, l := range d.ch.Labels {
		widest = math.Max(widest, math.Min(d.text.width(l), 150))
	}
	step := int(math.Max(1, math.Ceil((widest+16)/slot)))
	for i := (n - 1) % step; i < n; i += step { // the last always has its label
		l := d.text.fit(d.ch.Labels[i], math.Max(150, slot*float64(step)-10))
		w := d.text.width(l) / 2
		x := math.Min(math.Max(x0+slot*(float64(i)+0.5), w+4), chartWidth-4-w)
		d.write(d.text, l, x, y+lineHeight-2, middle, d.faint)
	}
}

func (d *drawing) columns(x0, slot float64, at func(float64) float64, stacked bool) {
	series := len(d.ch.Series)
	for i := range d.ch.Labels {
		room := slot * 0.76
		if slot < 6 {
			room = slot
		}
		from := x0 + slot*float64(i) + (slot-room)/2
		up, down := 0.0, 0.0
		for j, s := range d.ch.Series {
			if i >= len(s.Values) || s.Values[i] == nil {
				continue
			}
			v := *s.Values[i]
			if stacked {
				base := &up
				if v < 0 {
					base = &down
				}
				d.rect(from, at(*base), from+room, at(*base+v), d.inkOf(j))
				*base += v
				continue
			}
			w := room / float64(series)
			d.rect(from+w*float64(j), at(0), from+w*float64(j+1)-math.Min(1, w/8), at(v), d.inkOf(j))
		}
	}
}

func (d *drawing) lines(x0, slot float64, at func(float64) float64) {
	for j, s := range d.ch.Series {
		was := false
		var px, py float64
		for i, v := range s.Values {
			if v == nil {
				was = false
				continue
			}
			x, y := x0+slot*(float64(i)+0.5), at(*v)
			if was {
				d.line(px, py, x, y, 3, d.inkOf(j))
			}
			if len(s.Values) <= 40 || !was && (i+1 >= len(s.Values) || s.Values[i+1] == nil) {
				d.dot(x, y, 4.5, d.inkOf(j))
			}
			px, py, was = x, y, true
		}
	}
}

// total is a point's value over all series.
func (d *drawing) total(i int) (float64, bool) {
	sum, some := 0.0, false
	for _, s := range d.ch.Series {
		if i < len(s.Values) && s.Values[i] != nil {
			sum += *s.Values[i]
			some = true
		}
	}
	return sum, some
}

// rowHeight is how high one lying bar is.
func (d *drawing) rowHeight() float64 {
	if n := len(d.ch.Labels); n > 40 {
		return math.Max(5, 1600/float64(n))
	}
	return 36
}

func (d *drawing) barsHeight() int {
	lines := 0
	if len(d.ch.Series) > 1 {
		lines = 1 + len(d.ch.Series)/3
	}
	return int(2*edge+80) + lines*int(lineHeight) + int(d.rowHeight()*float64(max(len(d.ch.Labels), 3)))
}

// bars draws lying bars: their labels to the left, their figures behind them.
func (d *drawing) bars() {
	d.legend()
	row := d.rowHeight()
	low, high := d.extent(true)
	names, figures := 0.0, 0.0
	for i, l := range d.ch.Labels {
		names = math.Max(names, d.text.width(l))
		v, _ := d.total(i)
		figures = math.Max(figures, d.text.width(d.ch.Number(v)))
	}
	names = math.Min(names, 240)
	written := row >= 24
	if !written {
		names, figures = 150, 0
	}
	x0, x1 := edge+names+14, chartWidth-edge-figures-10
	at := func(v float64) float64 { return x0 + (v-low)/(high-low)*(x1-x0) }
	every := int(math.Ceil(26 / row))
	for i, l := range d.ch.Labels {
		y := d.top + row*float64(i)
		if written || i%every == 0 {
			d.write(d.text, d.text.fit(l, names), x0-14, y+math.Min(row, 26)/2+8, right, d.ink)
		}
		up, down := 0.0, 0.0
		for j, s := range d.ch.Series {
			if i >= len(s.Values) || s.Values[i] == nil {
				continue
			}
			v, base := *s.Values[i], &up
			if v < 0 {
				base = &down
			}
			d.rect(at(*base), y+row*0.14, at(*base+v), y+row*0.78, d.inkOf(j))
			*base += v
		}
		if v, some := d.total(i); written && some {
			d.write(d.text, d.ch.Number(v), at(math.Max(up, 0))+8, y+row/2+6, left, d.faint)
		}
	}
	d.rect(at(0)-0.5, d.top, at(0)+0.5, d.top+row*float64(len(d.ch.Labels)), d.faint)
}

func (d *drawing) shareHeight() int { return int(2*edge+150) + int(lineHeight*1.1)*len(d.parts()) }

// part is one part of a whole.
type part struct {
	name  string
	value float64
}

// parts are those of a chart of shares: its points, the small ones together. What is below nothing has no share.
func (d *drawing) parts() []part {
	var out []part
	for i, l := range d.ch.Labels {
		v, _ := d.total(i)
		if v = math.Max(v, 0); len(out) == message.MostSplit {
			out = append(out, part{"others", v})
		} else if len(out) > message.MostSplit {
			out[message.MostSplit].value += v
		} else {
			out = append(out, part{l, v})
		}
	}
	return out
}

// share draws the parts of a whole: a strip, and a line for each with its figure.
func (d *drawing) share() {
	parts := d.parts()
	whole := 0.0
	for _, p := range parts {
		whole += p.value
	}
	x := edge
	for i, p := range parts {
		if whole == 0 {
			break
		}
		w := p.value / whole * (chartWidth - 2*edge)
		d.rect(x, d.top+8, x+w-math.Min(1.5, w/3), d.top+56, d.inkOf(i))
		x += w
	}
	y := d.top + 92
	for i, p := range parts {
		d.rect(edge, y-15, edge+20, y+1, d.inkOf(i))
		percent := "–"
		if whole > 0 {
			percent = fmt.Sprintf("%.1f %%", p.value/whole*100)
		}
		figure := d.ch.Number(p.value)
		d.write(d.text, percent, chartWidth-edge, y, right, d.faint)
		d.write(d.text, figure, chartWidth-edge-110, y, right, d.ink)
		d.write(d.text, d.text.fit(p.name, chartWidth-2*edge-160-d.text.width(figure)), edge+32, y, left, d.ink)
		y += math.Trunc(lineHeight * 1.1)
	}
}
