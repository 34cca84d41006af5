package sheet

import (
	"fmt"

	"go.yaml.in/yaml/v3"

	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/report"
)

// Table is a small table that a sheet carries, such as from which room to which others. Each row is found by what stands in From.
type Table struct {
	At   report.Pos
	Name string
	Rows []map[string]any
}

// TableKey is the column by which the rows of a table are found.
const TableKey = "from"

// mostTables and mostRows bound what a sheet carries.
const (
	mostTables = 20
	mostRows   = 2000
)

func outcomeField() formula.Name { return formula.Name{Name: OutcomeName} }

func (r *reader) tables(n *yaml.Node, s *Sheet) {
	for i, e := range r.object(n, "tables", "tables") {
		path := "tables." + e.name
		t := Table{At: at(e.key), Name: e.name}
		switch {
		case i >= mostTables:
			r.problems.Add(t.At, path, "", "a sheet has at most %d tables", mostTables)
			return
		case !isName(e.name):
			r.problems.Add(t.At, path, "", "%q cannot be a name; use letters, digits and _", e.name)
		case contains(reserved, e.name) || contains(formula.FunctionNames(), e.name):
			r.problems.Add(t.At, path, "", "%s has a meaning of its own in formulas; choose another name", e.name)
		}
		rows := r.list(e.node, path, "a table")
		if len(rows) > mostRows {
			r.problems.Add(t.At, path, "", "a table has at most %d rows", mostRows)
			rows = rows[:mostRows]
		}
		for j, row := range rows {
			at := fmt.Sprintf("%s[%d]", path, j)
			values := map[string]any{}
			for _, c := range r.parts(row, at, "a row", []string{TableKey}, nil...) {
				values[c.name] = r.value(c.node)
			}
			t.Rows = append(t.Rows, values)
		}
		s.Tables = append(s.Tables, t)
	}
}

// tabled makes the tables known to formulas.
func (s *Sheet) tabled(p *Plan, problems *report.List) {
	taken := map[string]bool{}
	for _, g := range s.Gather {
		taken[g.Name.S] = true
	}
	for _, a := range s.Asks {
		taken[a.Name.S] = true
	}
	for _, t := range s.Tables {
		if taken[t.Name] {
			problems.Add(t.At, "tables."+t.Name, "", "two things are called %s", t.Name)
		}
		if p.Terms.Tables == nil {
			p.Terms.Tables = map[string]any{}
		}
		p.Terms.Tables[t.Name] = formula.NewTable(t.Rows, TableKey, p.Terms.Workspace)
		p.Terms.Gathered = append(p.Terms.Gathered, formula.Name{Name: t.Name})
	}
}
