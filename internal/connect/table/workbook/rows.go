package workbook

import (
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"
)

// Rows walks through the rows of one sheet. A cell that is known to be a number or a moment is given as such.
type Rows struct {
	book  *Workbook
	part  io.ReadCloser
	xml   *xmlReader
	cells []any
	line  int
}

// Line is the number of the row given last, from 1.
func (r *Rows) Line() int { return r.line }

// Close closes the workbook.
func (r *Rows) Close() error {
	err := r.part.Close()
	if e := r.book.file.Close(); err == nil {
		err = e
	}
	return err
}

// Next gives the next row that is not empty, or io.EOF. The slice is good until the next call.
func (r *Rows) Next() ([]any, error) {
	for {
		t, err := r.xml.Token()
		if err != nil {
			if errors.Is(err, io.EOF) {
				return nil, io.EOF
			}
			return nil, fmt.Errorf("the workbook is damaged, or not written to its end: %w", err)
		}
		e, ok := t.(xml.StartElement)
		if !ok || e.Name.Local != "row" {
			continue
		}
		r.line++
		if n, err := strconv.Atoi(attr(e, "r")); err == nil && n > 0 {
			r.line = n
		}
		empty, err := r.row()
		if err != nil {
			return nil, err
		}
		if !empty {
			return r.cells, nil
		}
	}
}

// maxColumns is the most columns a workbook's sheet can have.
const maxColumns = 16384

func (r *Rows) row() (empty bool, err error) {
	r.cells = r.cells[:0]
	empty = true
	size := 0
	for {
		t, err := r.xml.Token()
		if err != nil {
			return empty, fmt.Errorf("the workbook is damaged, or not written to its end: %w", err)
		}
		switch x := t.(type) {
		case xml.EndElement:
			if x.Name.Local == "row" {
				return empty, nil
			}
		case xml.StartElement:
			if x.Name.Local != "c" {
				continue
			}
			at := column(attr(x, "r"), len(r.cells))
			if at >= maxColumns {
				return empty, fmt.Errorf("row %d has a cell beyond the last column", r.line)
			}
			v, err := r.cell(x)
			if err != nil {
				return empty, err
			}
			if text, ok := v.(string); ok {
				if size += len(text); size > maxRow {
					return empty, fmt.Errorf("row %d holds more than %d MiB of text", r.line, maxRow>>20)
				}
			}
			for len(r.cells) <= at {
				r.cells = append(r.cells, nil)
			}
			r.cells[at] = v
			if s, ok := v.(string); v != nil && (!ok || strings.TrimSpace(s) != "") {
				empty = false
			}
		}
	}
}

// column reads the letters of a cell's name, such as AB12.
func column(name string, next int) int {
	n := 0
	for _, c := range name {
		if c < 'A' || c > 'Z' {
			break
		}
		if n = n*26 + int(c-'A') + 1; n > maxColumns+1 {
			break
		}
	}
	if n == 0 {
		return next
	}
	return n - 1
}

func (r *Rows) cell(e xml.StartElement) (any, error) {
	kind, text := attr(e, "t"), ""
	style, _ := strconv.Atoi(attr(e, "s"))
	for depth := 1; depth > 0; {
		t, err := r.xml.Token()
		if err != nil {
			return nil, fmt.Errorf("the workbook is damaged, or not written to its end: %w", err)
		}
		switch x := t.(type) {
		case xml.StartElement:
			switch x.Name.Local {
			case "v":
				if err := r.xml.DecodeElement(&text, &x); err != nil {
					return nil, err
				}
			case "is":
				if text, err = richText(r.xml); err != nil {
					return nil, err
				}
			default:
				depth++
			}
		case xml.EndElement:
			depth--
		}
	}
	switch kind {
	case "s":
		i, err := strconv.Atoi(text)
		if err != nil || i < 0 || i >= len(r.book.shared) {
			return nil, fmt.Errorf("row %d names a text that is not in the workbook", r.line)
		}
		return r.book.shared[i], nil
	case "b":
		return text == "1", nil
	case "e":
		return nil, nil // an error of calculation is no value
	case "str", "inlineStr", "d":
		return text, nil
	}
	if text == "" {
		return nil, nil
	}
	n, err := strconv.ParseFloat(text, 64)
	if err != nil {
		return text, nil
	}
	if style < len(r.book.dates) && r.book.dates[style] {
		return serial(n, r.book.from04), nil
	}
	return n, nil
}

// serial writes a count of days as a date or a moment without an offset, as the workbook shows it.
func serial(n float64, from04 bool) any {
	epoch := time.Date(1899, 12, 30, 0, 0, 0, 0, time.UTC)
	if from04 {
		epoch = time.Date(1904, 1, 1, 0, 0, 0, 0, time.UTC)
	} else if n < 61 && n >= 1 {
		n++ // the 29th of February 1900, which never was
	}
	if n < 0 || n > 2958466 {
		return n
	}
	t := epoch.Add(time.Duration(n*86400+0.5) * time.Second)
	switch {
	case n < 1:
		return t.Format("15:04:05")
	case t.Hour() == 0 && t.Minute() == 0 && t.Second() == 0:
		return t.Format("2006-01-02")
	}
	return t.Format("2006-01-02T15:04:05")
}
