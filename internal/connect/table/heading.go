package table

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"dorfbote/internal/connect"
	"dorfbote/internal/connect/table/workbook"
	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/value"
)

// table is a file's rows below the heading.
type table struct {
	rows
	names []string
}

func openTable(open opener, settings map[string]string) (*table, error) {
	var r rows
	var err error
	if isWorkbook(open) {
		f, openErr := open()
		if openErr != nil {
			return nil, damaged(openErr)
		}
		w, openErr := workbook.Open(f)
		if openErr != nil {
			return nil, damaged(openErr)
		}
		if r, err = w.Sheet(settings["sheet"]); err != nil {
			_ = w.Close()
		}
	} else {
		r, err = openCSV(open)
	}
	if err != nil {
		return nil, &fault.Fault{Tried: "opening the table", Said: plainError(err)}
	}
	heading, _ := strconv.Atoi(settings["heading"])
	for {
		cells, err := r.Next()
		if err != nil {
			_ = r.Close()
			if errors.Is(err, io.EOF) {
				return nil, &fault.Fault{Tried: "reading the columns' names", Said: "the table is empty", Do: "the first row must hold the names of the columns", Wait: settled}
			}
			return nil, damaged(err)
		}
		if r.Line() >= heading {
			return &table{rows: r, names: columnNames(cells)}, nil
		}
	}
}

// columnNames makes names of the heading: each its own, none empty but those at the end.
func columnNames(cells []any) []string {
	var names []string
	seen := map[string]int{}
	for i, v := range cells {
		s, ok := v.(string)
		if !ok && v != nil {
			s = fmt.Sprint(v)
			if n, ok := v.(float64); ok {
				s = value.NumberText(n)
			}
		}
		s = strings.Join(strings.Fields(s), " ")
		if s == "" {
			s = fmt.Sprintf("column %d", i+1)
		}
		if seen[s]++; seen[s] > 1 {
			s = fmt.Sprintf("%s %d", s, seen[s])
		}
		names = append(names, s)
	}
	return names
}

// likelyKey is the column that names a row, as far as the name of the column tells; else the first.
func (t *table) likelyKey() string {
	return cmp.Or(connect.LikelyKey(t.names), t.names[0])
}
