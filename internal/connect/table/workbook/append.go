package workbook

import (
	"archive/zip"
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strconv"
	"time"
)

// maxCell is how many characters a cell holds at most.
const maxCell = 32767

// Append writes the workbook with one row more behind the last of a sheet ("" is the first), and gives the number of that row. Cells
// are texts, float64, bool or nil for none. Each takes the format of the cell above it, and a table that ended in the row above is
// longer by it. All else is copied byte for byte, and read as a stream. With again, a last row that is the very one is not added once more: the error is [ErrThere] then, and nothing has been
// written.
func (w *Workbook) Append(out io.Writer, sheet string, cells []any, again bool) (row int, err error) {
	s, err := w.sheet(sheet)
	if err != nil {
		return 0, err
	}
	at, err := w.endOf(s.path)
	if err != nil {
		return 0, err
	}
	if again {
		switch there, err := w.isLast(at, s.path, cells); {
		case err != nil:
			return 0, err
		case there:
			return at.last, ErrThere
		}
	}
	added, err := at.row(cells, w, at.last+1)
	if err != nil {
		return 0, err
	}
	tables, err := w.tablesOf(s.path)
	if err != nil {
		return 0, err
	}
	z := zip.NewWriter(out)
	for _, f := range w.zip.File {
		if tables[f.Name] {
			if err := longer(z, f, at.last); err != nil {
				return 0, err
			}
			continue
		}
		if f.Name != s.path {
			if err := z.Copy(f); err != nil {
				return 0, err
			}
			continue
		}
		to, err := z.CreateHeader(&zip.FileHeader{Name: f.Name, Method: zip.Deflate, Modified: f.Modified})
		if err != nil {
			return 0, err
		}
		from, err := f.Open()
		if err != nil {
			return 0, err
		}
		err = at.write(to, io.LimitReader(from, maxPart), added, len(cells))
		_ = from.Close()
		if err != nil {
			return 0, err
		}
	}
	return at.last + 1, z.Close()
}

// ending is where a sheet's rows end, in bytes of its part.
type ending struct {
	from, to int64  // what is replaced there: nothing, or a sheetData that holds none
	prefix   string // of the names of elements, with its colon
	last     int    // the number of the last row
	lastFrom int64  // where that stands
	lastTo   int64
	styles   map[int]string // the formats of the cells of the last row, by columns
	// The dimension, where the sheet says how large it is: from where to where it stands, and what it says.
	sizeFrom, sizeTo int64
	size             string
}

// endOf looks for where a sheet's rows end.
func (w *Workbook) endOf(name string) (*ending, error) {
	p, err := w.part(name)
	if err == nil && p == nil {
		err = errors.New("the sheet is missing from the workbook")
	}
	if err != nil {
		return nil, err
	}
	defer p.Close()
	d := w.xml(p)
	out := &ending{styles: map[int]string{}}
	var began int64
	next := 0
	for {
		before := d.InputOffset()
		d.bounds.Token = 0
		t, err := d.RawToken()
		if err != nil {
			return nil, fmt.Errorf("the workbook is damaged, or not written to its end: %w", err)
		}
		switch x := t.(type) {
		case xml.StartElement:
			switch x.Name.Local {
			case "dimension":
				out.sizeFrom, out.sizeTo, out.size = before, d.InputOffset(), attr(x, "ref")
			case "sheetData":
				if out.from, began = before, d.InputOffset(); x.Name.Space != "" {
					out.prefix = x.Name.Space + ":"
				}
			case "row":
				out.last++
				if n, err := strconv.Atoi(attr(x, "r")); err == nil && n > 0 {
					out.last = n
				}
				clear(out.styles)
				next, out.lastFrom = 0, before
			case "c":
				at := column(attr(x, "r"), next)
				if s := attr(x, "s"); s != "" && at < maxColumns {
					out.styles[at] = s
				}
				next = at + 1
			}
		case xml.EndElement:
			switch x.Name.Local {
			case "dimension":
				out.sizeTo = d.InputOffset()
			case "row":
				out.lastTo = d.InputOffset()
			}
			if x.Name.Local != "sheetData" {
				continue
			}
			if out.to = d.InputOffset(); out.to > began { // it has an end of its own: the row goes before that
				out.from, out.to = before, before
			}
			return out, nil
		}
	}
}

// ErrThere is given where the row that was to be added is the last one already.
var ErrThere = errors.New("the row was there already")

// isLast tells whether the last row of a sheet is what would be added.
func (w *Workbook) isLast(at *ending, name string, cells []any) (bool, error) {
	row, err := at.row(cells, w, at.last)
	if err != nil || at.lastTo-at.lastFrom != int64(len(row)) {
		return false, err
	}
	p, err := w.part(name)
	if err != nil || p == nil {
		return false, err
	}
	defer p.Close()
	if _, err := io.CopyN(io.Discard, p, at.lastFrom); err != nil {
		return false, err
	}
	last := make([]byte, len(row))
	_, err = io.ReadFull(p, last)
	return bytes.Equal(last, row), err
}

// letters names a column, such as AB.
func letters(column int) string {
	out := ""
	for n := column + 1; n > 0; n = (n - 1) / 26 {
		out = string(rune('A'+(n-1)%26)) + out
	}
	return out
}

// row writes the row that is added.
func (e *ending) row(cells []any, w *Workbook, n int) ([]byte, error) {
	var b bytes.Buffer
	fmt.Fprintf(&b, `<%srow r="%d">`, e.prefix, n)
	for i, v := range cells {
		style := e.styles[i]
		if v == nil && style == "" {
			continue
		}
		fmt.Fprintf(&b, `<%sc r="%s%d"`, e.prefix, letters(i), n)
		if style != "" {
			fmt.Fprintf(&b, ` s="%s"`, style)
		}
		if text, ok := v.(string); ok {
			if at, is := w.dated(style, text); is {
				v = at
			}
		}
		switch x := v.(type) {
		case nil:
			b.WriteString("/>")
		case float64:
			fmt.Fprintf(&b, `><%[1]sv>%[2]s</%[1]sv></%[1]sc>`, e.prefix, strconv.FormatFloat(x, 'f', -1, 64))
		case bool:
			one := 0
			if x {
				one = 1
			}
			fmt.Fprintf(&b, ` t="b"><%[1]sv>%[2]d</%[1]sv></%[1]sc>`, e.prefix, one)
		case string:
			if len([]rune(x)) > maxCell {
				return nil, fmt.Errorf("a text of %d characters is longer than a cell of a workbook, which holds %d", len([]rune(x)), maxCell)
			}
			fmt.Fprintf(&b, ` t="inlineStr"><%[1]sis><%[1]st xml:space="preserve">`, e.prefix)
			if err := xml.EscapeText(&b, []byte(x)); err != nil {
				return nil, err
			}
			fmt.Fprintf(&b, `</%[1]st></%[1]sis></%[1]sc>`, e.prefix)
		default:
			return nil, fmt.Errorf("a cell of a workbook holds no %T", v)
		}
	}
	fmt.Fprintf(&b, `</%srow>`, e.prefix)
	return b.Bytes(), nil
}

// dated gives a moment as a workbook counts it, where the cells above are moments.
func (w *Workbook) dated(style, text string) (float64, bool) {
	n, err := strconv.Atoi(style)
	if err != nil || n < 0 || n >= len(w.dates) || !w.dates[n] {
		return 0, false
	}
	for _, form := range []string{time.DateOnly, time.RFC3339, "2006-01-02T15:04:05", "2006-01-02T15:04", "2006-01-02 15:04:05"} {
		t, err := time.Parse(form, text)
		if err != nil {
			continue
		}
		epoch := time.Date(1899, 12, 30, 0, 0, 0, 0, time.UTC)
		if w.from04 {
			epoch = time.Date(1904, 1, 1, 0, 0, 0, 0, time.UTC)
		}
		there := time.Date(t.Year(), t.Month(), t.Day(), t.Hour(), t.Minute(), t.Second(), 0, time.UTC) // as it was written, without a zone
		if days := there.Sub(epoch).Hours() / 24; days > 61 {
			return days, true
		}
	}
	return 0, false
}

var corner = regexp.MustCompile(`^([A-Z]+)(\d+)(?::([A-Z]+)(\d+))?$`)

// grown is what a sheet says of its size, with the row that is added; "" where it says nothing that can be read.
func (e *ending) grown(columns int) string {
	m := corner.FindStringSubmatch(e.size)
	if m == nil {
		return ""
	}
	right := m[1]
	if m[3] != "" {
		right = m[3]
	}
	if column(right, 0) < columns-1 {
		right = letters(columns - 1)
	}
	return fmt.Sprintf("%s%s:%s%d", m[1], m[2], right, e.last+1)
}

// write copies the sheet with the row put in.
func (e *ending) write(to io.Writer, from io.Reader, row []byte, columns int) error {
	at := int64(0)
	upTo := func(end int64) error {
		n, err := io.CopyN(to, from, end-at)
		at += n
		return err
	}
	skipTo := func(end int64) error {
		n, err := io.CopyN(io.Discard, from, end-at)
		at += n
		return err
	}
	put := func(text string) error {
		_, err := io.WriteString(to, text)
		return err
	}
	if size := e.grown(columns); size != "" && e.sizeTo > e.sizeFrom && e.sizeTo <= e.from {
		if err := errors.Join(upTo(e.sizeFrom), put(fmt.Sprintf(`<%sdimension ref="%s"/>`, e.prefix, size)), skipTo(e.sizeTo)); err != nil {
			return err
		}
	}
	open, end := "", ""
	if e.to > e.from {
		open, end = "<"+e.prefix+"sheetData>", "</"+e.prefix+"sheetData>"
	}
	if err := errors.Join(upTo(e.from), put(open+string(row)+end), skipTo(e.to)); err != nil {
		return err
	}
	_, err := io.Copy(to, from)
	return err
}
