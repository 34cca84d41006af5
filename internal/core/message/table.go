package message

import (
	"bytes"
	"cmp"
	"encoding/csv"
	"fmt"
	"strings"
	"time"
	"unicode"

	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/report"
	"dorfbote/internal/core/value"
)

// TableSpec is a table of records as written.
type TableSpec struct {
	At      report.Pos
	Of      report.Text // a formula that gives the list
	Columns []ColumnSpec
	Total   bool // a line with the sums of the columns of numbers
}

// ColumnSpec is a column: a field of the records, what it is headed by, and how dates are written.
type ColumnSpec struct{ Field, Label, Format report.Text }

type table struct {
	of      *formula.Formula
	columns []column
	total   bool
}

type column struct {
	path          value.Path
	label, format string
}

// compileTable makes a table ready. Its columns are headed by the labels of the fields.
func compileTable(s *TableSpec, words *formula.Words, path string, problems *report.List) *table {
	t := &table{total: s.Total, of: formula.Read(s.Of, s.Of.S, 0, words, path+".of", problems)}
	schema := schemaOf(words, s.Of.S)
	for i, c := range s.Columns {
		p, f := fieldIn(schema, c.Field, s.Of.S, fmt.Sprintf("%s.columns[%d]", path, i), problems)
		t.columns = append(t.columns, column{path: p, label: cmp.Or(c.Label.S, labelOf(f, p)), format: c.Format.S})
	}
	return t
}

// schemaOf is what is known of the records of a list that was gathered under a name, or of a group that a message is told for; nil for
// nothing.
func schemaOf(words *formula.Words, of string) *value.Schema {
	if strings.TrimSpace(of) == "it.records" {
		return words.Group
	}
	for _, g := range words.Gathered {
		if g.Name == strings.TrimSpace(of) {
			return g.Schema
		}
	}
	return nil
}

// fieldIn finds a field that is named by its path, in the records of what is called of. One that is not known is a problem, or a
// warning where others may come.
func fieldIn(schema *value.Schema, t report.Text, of, path string, problems *report.List) (value.Path, value.Field) {
	p := value.ParsePath(strings.TrimSpace(t.S))
	f, _, known := schema.Find(p)
	if schema != nil && !known {
		add := problems.Add
		if schema.Learnt || schema.Open {
			add = problems.Warn
		}
		add(t.At, path, schema.Near(p.String()), "there is no field %s in %s", p, of)
	}
	return p, f
}

// labelOf is what a field is headed by.
func labelOf(f value.Field, p value.Path) string {
	name := p.String()
	return cmp.Or(f.Label, value.LabelOf(name[strings.LastIndex(name, ".")+1:]))
}

// rows gives the table's values, as formulas see them.
func (t *table) rows(sc *formula.Scope, words *formula.Words) ([][]any, error) {
	list, err := t.of.List(sc)
	if err != nil {
		return nil, err
	}
	out := make([][]any, 0, len(list))
	for _, e := range list {
		record, _ := e.(map[string]any)
		row := make([]any, len(t.columns))
		for i, c := range t.columns {
			v, _ := c.path.Get(record)
			if at, ok := v.(time.Time); ok && c.format != "" {
				v = formula.FormatDate(at.In(words.Workspace.Location()), c.format, words.Workspace.Locale)
			}
			row[i] = v
		}
		out = append(out, row)
	}
	return out, nil
}

// cells gives the table for a workbook: numbers stay numbers, everything else is text, whatever it begins with.
func (t *table) cells(sc *formula.Scope, words *formula.Words) ([][]any, error) {
	rows, err := t.rows(sc, words)
	if err != nil {
		return nil, err
	}
	head := make([]any, len(t.columns))
	for i, c := range t.columns {
		head[i] = c.label
	}
	out, size := [][]any{head}, 0
	for _, row := range rows {
		cells := make([]any, len(row))
		for i, v := range row {
			switch x := v.(type) {
			case float64, bool, nil:
				cells[i] = x
			case int:
				cells[i] = float64(x)
			default:
				cells[i] = shownCell(v, words)
				size += len(cells[i].(string))
			}
			size += 8
		}
		if out = append(out, cells); size > maxFile {
			return nil, fmt.Errorf("the table is larger than %d MiB", maxFile>>20)
		}
	}
	return out, nil
}

// csv writes the table by RFC 4180, as UTF-8 with its mark. A text that a spreadsheet would take for a formula has ' before it.
func (t *table) csv(sc *formula.Scope, words *formula.Words) ([]byte, error) {
	rows, err := t.rows(sc, words)
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	b.WriteString("\uFEFF")
	w := csv.NewWriter(&b)
	w.UseCRLF = true
	head := make([]string, len(t.columns))
	for i, c := range t.columns {
		head[i] = harmless(c.label)
	}
	_ = w.Write(head)
	for _, row := range rows {
		cells := make([]string, len(row))
		for i, v := range row {
			if cells[i] = formula.Show(v, words.Workspace); isText(v) {
				cells[i] = harmless(cells[i])
			}
		}
		if _ = w.Write(cells); b.Len() > maxFile {
			return nil, fmt.Errorf("the table is larger than %d MiB", maxFile>>20)
		}
	}
	w.Flush()
	if b.Len() > maxFile {
		return nil, fmt.Errorf("the table is larger than %d MiB", maxFile>>20)
	}
	return b.Bytes(), nil
}

// maxFile is how large an attached table may be, in bytes.
const maxFile = 2 << 20

func isText(v any) bool {
	switch v.(type) {
	case float64, int, bool, nil, time.Time, time.Duration:
		return false
	}
	return true
}

func harmless(s string) string {
	// Programs that read tables leave out what they do not show before they look what a cell begins with.
	bare := strings.TrimLeftFunc(s, func(r rune) bool { return unicode.IsSpace(r) || unicode.IsControl(r) || unicode.Is(unicode.Cf, r) })
	if bare != "" && strings.ContainsRune("=+-@", rune(bare[0])) || s != "" && strings.ContainsRune("\t\r\n", rune(s[0])) {
		return "'" + s
	}
	return s
}
