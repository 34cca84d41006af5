package message

import (
	"fmt"
	"strings"
	"time"

	"dorfbote/internal/core/formula"
)

// Grid is a table to be drawn as a picture: what stands in its cells, and how.
type Grid struct {
	Title  string     `json:"title,omitempty"`
	Heads  []string   `json:"heads"`
	Right  []bool     `json:"right"` // the columns of numbers, which are aligned to the right
	Rows   [][]string `json:"rows"`
	More   int        `json:"more,omitempty"` // how many rows there are beyond those
	Totals []string   `json:"totals,omitempty"`
	Locale string     `json:"locale,omitempty"`
}

// MostRows is how many rows a picture of a table has where the sheet does not say, and at most.
const (
	DefaultRows = 30
	MostRows    = 100
)

// grid makes the picture of a table: its first rows and, of columns of numbers, their total over all rows where the sheet asks.
func (t *table) grid(sc *formula.Scope, words *formula.Words, most int, title string) (*Grid, error) {
	rows, err := t.rows(sc, words)
	if err != nil {
		return nil, err
	}
	if most == 0 {
		most = DefaultRows
	}
	g := &Grid{Title: title, Right: make([]bool, len(t.columns)), Rows: [][]string{}, Locale: words.Workspace.Locale}
	for i, c := range t.columns {
		g.Heads = append(g.Heads, c.label)
		numbers, others := 0, 0
		for _, row := range rows {
			switch row[i].(type) {
			case float64, int:
				numbers++
			case nil:
			default:
				others++
			}
		}
		g.Right[i] = numbers > 0 && others == 0
	}
	for n, row := range rows {
		if n == most {
			g.More = len(rows) - most
			break
		}
		cells := make([]string, len(row))
		for i, v := range row {
			cells[i] = shownCell(v, words)
		}
		g.Rows = append(g.Rows, cells)
	}
	if t.total {
		g.Totals = make([]string, len(t.columns))
		for i := range t.columns {
			if !g.Right[i] {
				continue
			}
			sum := 0.0
			for _, row := range rows {
				switch x := row[i].(type) {
				case float64:
					sum += x
				case int:
					sum += float64(x)
				}
			}
			g.Totals[i] = words.Show(sum)
		}
	}
	return g, nil
}

func shownCell(v any, words *formula.Words) string {
	if at, ok := v.(time.Time); ok {
		return formula.FormatDate(at.In(words.Workspace.Location()), "d MMM yyyy HH:mm", words.Workspace.Locale)
	}
	return strings.TrimSpace(strings.Join(strings.Fields(words.Show(v)), " "))
}

// Words is what a table says without its picture: its first rows.
func (g *Grid) Words() string {
	const most = 8
	if len(g.Rows) == 0 {
		return strings.TrimPrefix(g.Title+": no rows", ": ")
	}
	var lines []string
	for i, row := range g.Rows {
		if i == most {
			break
		}
		lines = append(lines, strings.Join(row, ", "))
	}
	if more := len(g.Rows) + g.More - len(lines); more > 0 {
		lines = append(lines, fmt.Sprintf("and %d more", more))
	}
	return strings.TrimPrefix(g.Title+": "+strings.Join(lines, "; "), ": ")
}
