package message

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/report"
	"dorfbote/internal/core/value"
)

// A table that is drawn has its columns headed by labels, numbers to the right, dates as the sheet wants them, a total over all rows, and
// says how many rows there are beyond those it shows.
func TestTablesAsPictures(t *testing.T) {
	ws := value.Workspace{Zone: time.FixedZone("CET", 3600), Locale: "en"}
	words := &formula.Words{Workspace: ws, Gathered: []formula.Name{{Name: "open", Many: true, Schema: &value.Schema{Fields: []value.Field{
		{Name: "id", Label: "Collection", Type: value.Text}, {Name: "litres", Label: "Litres", Type: value.Num}, {Name: "due", Label: "Due", Type: value.Moment},
		{Name: "farm", Label: "Farm", Type: value.Object, Fields: []value.Field{{Name: "name", Label: "Name", Type: value.Text}}}, {Name: "mixed", Label: "Mixed", Type: value.Any}, {Name: "cooled", Label: "Cooled", Type: value.YesNo},
	}}}}}
	column := func(field, label, format string) ColumnSpec {
		return ColumnSpec{Field: *str(field), Label: *str(label), Format: *str(format)}
	}
	spec := func(most int, total bool, columns ...ColumnSpec) *Spec {
		return &Spec{Title: str("x"), PartsSpec: PartsSpec{Picture: &PictureSpec{Most: most, Table: &TableSpec{Of: *str("open"), Columns: columns, Total: total}}}}
	}
	var rows []any
	for i := range 4 {
		rows = append(rows, map[string]any{
			"id": fmt.Sprintf("COL-%d\n ", i), "litres": float64(1000 * i), "due": time.Date(2026, 11, 24, 8+i, 30, 0, 0, time.UTC), "farm": map[string]any{"name": "Ob dem **Holz**"}, "cooled": i%2 == 0,
		})
	}
	rows[1].(map[string]any)["litres"] = nil
	rows[2].(map[string]any)["mixed"], rows[3].(map[string]any)["mixed"] = 4.0, "many"
	filled := func(s *Spec, list any) (*Document, error) {
		var problems report.List
		m := Compile(s, words, "messages.m", &problems)
		require.False(t, problems.Failed(), "%v", problems.Problems)
		sc := &formula.Scope{Now: time.Now()}
		sc.Gather("open", list, list)
		return m.Fill(sc)
	}
	d, err := filled(spec(3, true, column("id", "", ""), column("litres", "", ""), column("due", "When", "d MMM HH:mm"), column("farm.name", "", ""), column("mixed", "", ""), column("cooled", "", "")), rows)
	require.NoError(t, err)
	assert.Equal(t, &Grid{
		Heads: []string{"Collection", "Litres", "When", "Name", "Mixed", "Cooled"}, Right: []bool{false, true, false, false, false, false}, More: 1, Locale: "en",
		Rows: [][]string{
			{"COL-0", "0", "24 Nov 09:30", "Ob dem **Holz**", "", "yes"}, {"COL-1", "", "24 Nov 10:30", "Ob dem **Holz**", "", "no"}, {"COL-2", "2000", "24 Nov 11:30", "Ob dem **Holz**", "4", "yes"},
		},
		Totals: []string{"", "5000", "", "", "", ""},
	}, d.Picture.Grid)
	assert.Contains(t, d.Picture.Text, "COL-0, 0, 24 Nov 09:30, Ob dem **Holz**")
	assert.Contains(t, d.Picture.Text, "and 1 more")
	d, err = filled(spec(0, false, column("due", "", "")), rows[:1])
	require.NoError(t, err)
	assert.Equal(t, [][]string{{"24 Nov 2026 09:30"}}, d.Picture.Grid.Rows)
	assert.Nil(t, d.Picture.Grid.Totals)
	d, err = filled(spec(0, true, column("id", "", "")), []any{})
	require.NoError(t, err)
	assert.Equal(t, "no rows", d.Picture.Text)
	many := make([]any, 40)
	for i := range many {
		many[i] = map[string]any{"id": "x"}
	}
	d, err = filled(spec(0, false, column("id", "", "")), many)
	require.NoError(t, err)
	assert.Len(t, d.Picture.Grid.Rows, DefaultRows)
	assert.Equal(t, 10, d.Picture.Grid.More)
	_, err = filled(spec(0, false, column("id", "", "")), "no list")
	assert.ErrorContains(t, err, "where a list was needed")
}
