package people

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"dorfbote/internal/core/fault"
)

// Fixed are the columns that every people book has; the others are connections.
var Fixed = []string{"id", "name", "prefers"}

// MaxPeople is how many persons a people book holds.
const MaxPeople = 100_000

// ReadCSV reads a people book: a table by RFC 4180 in UTF-8, headed id,name,prefers and a column for each connection. Which
// columns come first does not matter, and id alone must be there; a name is made the id where a line has none. The error is a
// [*fault.Fault] whose place is the line.
func ReadCSV(text string) ([]Person, error) {
	r := csv.NewReader(strings.NewReader(strings.TrimPrefix(text, "\uFEFF")))
	r.FieldsPerRecord = -1
	if head, _, _ := strings.Cut(text, "\n"); strings.Count(head, ";") > strings.Count(head, ",") {
		r.Comma = ';'
	}
	head, err := r.Read()
	if err != nil {
		return nil, fault.At("line 1", "a people book begins with its heading, such as id,name,prefers,mail")
	}
	for i := range head {
		head[i] = strings.TrimSpace(head[i])
		for _, f := range Fixed {
			if strings.EqualFold(head[i], f) {
				head[i] = f
			}
		}
		switch {
		case head[i] == "":
			return nil, fault.At("line 1", "column %d has no heading; each but id, name and prefers is called as a connection is", i+1)
		case slices.Contains(head[:i], head[i]):
			return nil, fault.At("line 1", "two columns are called %s", head[i])
		}
	}
	if !slices.Contains(head, "id") && !slices.Contains(head, "name") {
		return nil, fault.At("line 1", "no column is called id; a people book is headed id,name,prefers and a column for each connection")
	}
	var out []Person
	for {
		row, err := r.Read()
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		line, _ := r.FieldPos(0)
		at := fmt.Sprintf("line %d", line)
		if pe := (*csv.ParseError)(nil); errors.As(err, &pe) {
			return nil, fault.At(fmt.Sprintf("line %d", pe.Line), "%v", pe.Err)
		}
		if len(row) > len(head) {
			return nil, fault.At(at, "there are %d columns, and %d headings", len(row), len(head))
		}
		if len(out) == MaxPeople {
			return nil, fault.At(at, "a people book holds at most %d persons", MaxPeople)
		}
		p, empty := personOf(head, row)
		if empty {
			continue
		}
		if p.ID == "" {
			p.ID = p.Name
		}
		if p.ID == "" {
			return nil, fault.At(at, "the person has no id")
		}
		if strings.ContainsAny(p.ID+p.Name, "\r\n") {
			return nil, fault.At(at, "an id or a name has a line end in it")
		}
		if p.Prefers != "" && !slices.Contains(head, p.Prefers) {
			return nil, fault.At(at, "%s prefers %s, which is none of the columns", p.Called(), p.Prefers)
		}
		out = append(out, p)
	}
}

func personOf(head, row []string) (p Person, empty bool) {
	empty = true
	p.Addresses = []Address{}
	for i, cell := range row {
		cell = strings.TrimSpace(cell)
		if cell == "" {
			continue
		}
		empty = false
		switch head[i] {
		case "id":
			p.ID = cell
		case "name":
			p.Name = cell
		case "prefers":
			p.Prefers = cell
		default:
			p.Addresses = append(p.Addresses, Address{head[i], cell})
		}
	}
	return p, empty
}

// Same tells whether another entry says the same of a person.
func (p *Person) Same(q *Person) bool { return WriteCSV([]*Person{p}) == WriteCSV([]*Person{q}) }

// WriteCSV writes a people book as [ReadCSV] reads it, with a column for every connection on which somebody has an address, in
// the order of their names.
func WriteCSV(list []*Person) string {
	var columns []string
	for _, p := range list {
		for _, a := range p.Addresses {
			if !slices.Contains(columns, a.Connection) {
				columns = append(columns, a.Connection)
			}
		}
	}
	slices.Sort(columns)
	var b strings.Builder
	w := csv.NewWriter(&b)
	_ = w.Write(append(slices.Clone(Fixed), columns...))
	for _, p := range list {
		row := []string{p.ID, p.Name, p.Prefers}
		for _, c := range columns {
			row = append(row, p.On(c))
		}
		_ = w.Write(row)
	}
	w.Flush()
	return b.String()
}
