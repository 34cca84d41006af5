package proof

import (
	"context"
	"net/http"

	"dorfbote/internal/api/kit"
	"dorfbote/internal/core/message"
	"dorfbote/internal/engine/outbox"
)

type drawInput struct {
	Body struct {
		Chart *message.Chart `json:"chart,omitempty"`
		Grid  *message.Grid  `json:"grid,omitempty"`
		Dark  bool           `json:"dark,omitempty" doc:"on dark ground"`
	}
}

type drawOutput struct {
	Body struct {
		PNG []byte `json:"png"`
	}
}

func (s *Proof) drawingRoutes() {
	kit.Register(s.Kit, kit.Op("draw", http.MethodPost, "/api/pictures", "Draw the picture of a message from its figures", "Workflows"), kit.Anyone, s.draw)
}

// Bounds of what is drawn for whoever asks: of a table in both directions, and of all texts together in bytes.
const (
	mostRows    = 100
	mostColumns = 40
	mostTexts   = 256 << 10
)

// textsOf is how long all texts of a picture are together.
func textsOf(c *message.Chart, g *message.Grid) int {
	n := 0
	add := func(list ...string) {
		for _, s := range list {
			n += len(s)
		}
	}
	if c != nil {
		add(c.Title)
		add(c.Labels...)
		for _, s := range c.Series {
			add(s.Name)
		}
	}
	if g != nil {
		add(g.Title)
		add(g.Heads...)
		add(g.Totals...)
		for _, row := range g.Rows {
			add(row...)
		}
	}
	return n
}

func (s *Proof) draw(_ context.Context, _ *kit.Person, in *drawInput) (*drawOutput, error) {
	switch c, g := in.Body.Chart, in.Body.Grid; {
	case (c == nil) == (g == nil):
		return nil, kit.Invalid("body", "give either chart or grid")
	case c != nil && (len(c.Labels) > message.MostPoints || len(c.Series) > message.MostSplit+1):
		return nil, kit.Invalid("body.chart", "a chart has at most %d points and %d series", message.MostPoints, message.MostSplit+1)
	case g != nil && (len(g.Rows) > mostRows || len(g.Heads) > mostColumns):
		return nil, kit.Invalid("body.grid", "a table that is drawn has at most %d rows and %d columns", mostRows, mostColumns)
	case g != nil && (len(g.Heads) == 0 || len(g.Right) != len(g.Heads)):
		return nil, kit.Invalid("body.grid", "the table has no columns, or its parts do not fit each other")
	case textsOf(c, g) > mostTexts:
		return nil, kit.Invalid("body", "the texts of a picture are at most %d kB together", mostTexts>>10)
	case g != nil:
		for _, row := range append(g.Rows, g.Totals) {
			if len(row) != len(g.Heads) && len(row) != 0 {
				return nil, kit.Invalid("body.grid.rows", "each row has a cell for each head")
			}
		}
	}
	out := &drawOutput{}
	var err error
	out.Body.PNG, err = outbox.Draw(&message.Picture{Chart: in.Body.Chart, Grid: in.Body.Grid}, in.Body.Dark)
	return out, err
}
