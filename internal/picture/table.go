package picture

import (
	"fmt"
	"math"

	"dorfbote/internal/core/message"
)

// How a table is set, in points.
const (
	cellGap   = 20.0
	cellLine  = 27.0
	cellPad   = 7.0
	mostWide  = 1080.0
	leastWide = 480.0
	cellLines = 3
)

// Table draws a table as PNG, on light or on dark ground: cells are wrapped, numbers stand to the right.
func Table(g *message.Grid, onDark bool) ([]byte, error) {
	measure, err := newCanvas(1, 1, onDark)
	if err != nil {
		return nil, err
	}
	widths := columnWidths(measure, g)
	wide := 2 * edge
	for _, w := range widths {
		wide += w + cellGap
	}
	wide = math.Max(wide-cellGap, leastWide)
	rows := make([][][]string, len(g.Rows))
	height := 2*edge + cellLine + 2*cellPad
	if g.Title != "" {
		height += 42
	}
	for i, row := range g.Rows {
		rows[i] = make([][]string, len(widths))
		lines := 1
		for j, cell := range row {
			rows[i][j] = measure.text.wrap(cell, widths[j], cellLines)
			lines = max(lines, len(rows[i][j]))
		}
		height += cellLine*float64(lines) + cellPad
	}
	if len(g.Totals) > 0 {
		height += cellLine + 2*cellPad
	}
	if g.More > 0 || len(g.Rows) == 0 {
		height += cellLine + cellPad
	}
	c, err := newCanvas(int(math.Ceil(wide)), int(math.Ceil(height)), onDark)
	if err != nil {
		return nil, err
	}
	y := edge
	if g.Title != "" {
		c.write(c.big, c.big.fit(g.Title, wide-2*edge), edge, y+22, left, c.ink)
		y += 42
	}
	line := func(cells []string, f *faces, y float64) {
		x := edge
		for j, cell := range cells {
			if g.Right[j] {
				c.write(f, f.fit(cell, widths[j]), x+widths[j], y, right, c.ink)
			} else {
				c.write(f, f.fit(cell, widths[j]), x, y, left, c.ink)
			}
			x += widths[j] + cellGap
		}
	}
	line(g.Heads, c.strong, y+20)
	y += cellLine + cellPad
	c.rect(edge, y-0.75, wide-edge, y+0.75, c.ink)
	y += cellPad
	for _, row := range rows {
		lines, x := 1, edge
		for j, cell := range row {
			for k, l := range cell {
				at := y + 18 + cellLine*float64(k)
				if g.Right[j] {
					c.write(c.text, l, x+widths[j], at, right, c.ink)
				} else {
					c.write(c.text, l, x, at, left, c.ink)
				}
			}
			lines = max(lines, len(cell))
			x += widths[j] + cellGap
		}
		y += cellLine * float64(lines)
		c.rect(edge, y-0.5, wide-edge, y+0.5, c.rule)
		y += cellPad
	}
	if len(g.Totals) > 0 {
		c.rect(edge, y-cellPad-1, wide-edge, y-cellPad+1, c.ink)
		line(g.Totals, c.strong, y+20)
		y += cellLine + 2*cellPad
	}
	switch {
	case g.More > 0:
		c.write(c.text, fmt.Sprintf("and %d more", g.More), edge, y+20, left, c.faint)
	case len(g.Rows) == 0:
		c.write(c.text, "No rows", edge, y+20, left, c.faint)
	}
	return c.png()
}

// columnWidths gives each column the room that its cells need; where that is too much, the widest give way.
func columnWidths(c *canvas, g *message.Grid) []float64 {
	widths := make([]float64, len(g.Heads))
	for j, h := range g.Heads {
		widths[j] = c.strong.width(h)
		for _, row := range g.Rows {
			widths[j] = math.Max(widths[j], c.text.width(row[j]))
		}
		if j < len(g.Totals) {
			widths[j] = math.Max(widths[j], c.strong.width(g.Totals[j]))
		}
		widths[j] = math.Ceil(math.Max(widths[j], 24))
	}
	room := mostWide - 2*edge - cellGap*float64(len(widths)-1)
	for {
		sum, widest := 0.0, 0
		for j, w := range widths {
			if sum += w; w > widths[widest] {
				widest = j
			}
		}
		if sum <= room || widths[widest] <= 60 {
			return widths
		}
		widths[widest] = math.Max(60, widths[widest]-math.Max(8, (sum-room)/4))
	}
}
