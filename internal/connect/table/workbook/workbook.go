// Package workbook reads the sheets of workbooks (ECMA-376) row by row.
package workbook

import (
	"archive/zip"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"strconv"
	"strings"
	"time"

	"dorfbote/internal/connect/table/bounds"
)

// Workbooks are read as a stream, row by row: libraries that give the type of a cell hold the whole sheet. What is
// kept are the shared texts and the formats.

// What a Workbook may unpack to, and how long reading it may take: a small file can hold a great deal of the same.
const (
	maxPart   = 512 << 20 // bytes of one part, which are read as a stream
	maxShared = 48 << 20  // bytes of shared texts, which are kept
	maxTexts  = 1_000_000 // shared texts
	maxRow    = 4 << 20   // bytes of text in one row
)

// xmlReader reads a part token by token.
type xmlReader struct {
	*xml.Decoder
	bounds *bounds.Reader
}

func (w *Workbook) xml(r io.Reader) *xmlReader {
	b := &bounds.Reader{R: r, Left: maxPart, Ends: w.ends}
	return &xmlReader{xml.NewDecoder(b), b}
}

// Token gives the next token.
func (x *xmlReader) Token() (xml.Token, error) {
	x.bounds.Token = 0
	return x.Decoder.Token()
}

// Workbook is an open workbook.
type Workbook struct {
	ends   time.Time // by when it must have been read
	file   *os.File
	zip    *zip.Reader
	sheets []sheetPart
	shared []string
	dates  []bool // by cell format: its numbers are moments
	from04 bool   // days count from 1904
}

type sheetPart struct{ name, path string }

// Open reads what a workbook has besides its rows. It takes the file over, and closes it where it cannot be read.
func Open(f *os.File) (*Workbook, error) {
	st, err := f.Stat()
	if err != nil {
		f.Close()
		return nil, err
	}
	z, err := zip.NewReader(f, st.Size())
	if err != nil {
		f.Close()
		return nil, fmt.Errorf("it is no workbook, or not written to its end: %w", err)
	}
	w := &Workbook{file: f, zip: z, ends: time.Now().Add(bounds.MaxTime)}
	for _, read := range []func() error{w.readSheets, w.readShared, w.readStyles} {
		if err := read(); err != nil {
			f.Close()
			return nil, err
		}
	}
	return w, nil
}

func (w *Workbook) part(name string) (io.ReadCloser, error) {
	for _, f := range w.zip.File {
		if f.Name == name {
			if f.UncompressedSize64 > maxPart {
				return nil, fmt.Errorf("%s is larger than %d MiB", name, maxPart>>20)
			}
			return f.Open()
		}
	}
	return nil, nil
}

// elements walks through a part and hands over each element's beginning.
func (w *Workbook) elements(name string, each func(d *xmlReader, e xml.StartElement) error) error {
	p, err := w.part(name)
	if err != nil || p == nil {
		return err
	}
	defer p.Close()
	d := w.xml(p)
	for {
		t, err := d.Token()
		if errors.Is(err, io.EOF) {
			return nil
		} else if err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
		if e, ok := t.(xml.StartElement); ok {
			if err := each(d, e); err != nil {
				return err
			}
		}
	}
}

func attr(e xml.StartElement, name string) string {
	for _, a := range e.Attr {
		if a.Name.Local == name {
			return a.Value
		}
	}
	return ""
}

func (w *Workbook) readSheets() error {
	targets := map[string]string{}
	err := w.elements("xl/_rels/workbook.xml.rels", func(_ *xmlReader, e xml.StartElement) error {
		if e.Name.Local == "Relationship" {
			to := attr(e, "Target")
			if strings.HasPrefix(to, "/") {
				to = to[1:]
			} else {
				to = path.Join("xl", to)
			}
			targets[attr(e, "Id")] = to
		}
		return nil
	})
	if err != nil {
		return err
	}
	err = w.elements("xl/workbook.xml", func(_ *xmlReader, e xml.StartElement) error {
		switch e.Name.Local {
		case "workbookPr":
			w.from04 = attr(e, "date1904") == "1" || attr(e, "date1904") == "true"
		case "sheet":
			w.sheets = append(w.sheets, sheetPart{attr(e, "name"), targets[attr(e, "id")]})
		}
		return nil
	})
	if err == nil && len(w.sheets) == 0 {
		return errors.New("it is no workbook: it has no sheets")
	}
	return err
}

func (w *Workbook) readShared() error {
	kept := int64(0)
	return w.elements("xl/sharedStrings.xml", func(d *xmlReader, e xml.StartElement) error {
		if e.Name.Local != "si" {
			return nil
		}
		s, err := richText(d)
		if err != nil {
			return err
		}
		if kept += int64(len(s)); kept > maxShared || len(w.shared) >= maxTexts {
			return fmt.Errorf("it holds more than %d MiB of texts, or more than %d of them", maxShared>>20, maxTexts)
		}
		w.shared = append(w.shared, s)
		return nil
	})
}

// richText reads the text of the element that has just begun, without what says how it is pronounced.
func richText(d *xmlReader) (string, error) {
	var b strings.Builder
	depth, take, phonetic := 1, 0, 0
	for depth > 0 {
		t, err := d.Token()
		if err != nil {
			return "", err
		}
		switch x := t.(type) {
		case xml.StartElement:
			depth++
			if x.Name.Local == "t" {
				take++
			}
			if x.Name.Local == "rPh" {
				phonetic++
			}
		case xml.EndElement:
			depth--
			if x.Name.Local == "t" {
				take--
			}
			if x.Name.Local == "rPh" {
				phonetic--
			}
		case xml.CharData:
			if take > 0 && phonetic == 0 {
				if b.Write(x); b.Len() > bounds.MaxToken {
					return "", fmt.Errorf("it holds a text of more than %d MiB", bounds.MaxToken>>20)
				}
			}
		}
	}
	return b.String(), nil
}

func (w *Workbook) readStyles() error {
	formats := map[string]string{}
	inCells := false
	return w.elements("xl/styles.xml", func(_ *xmlReader, e xml.StartElement) error {
		switch e.Name.Local {
		case "numFmt":
			formats[attr(e, "numFmtId")] = attr(e, "formatCode")
		case "cellXfs":
			inCells = true
		case "cellStyles", "dxfs", "cellStyleXfs":
			inCells = false
		case "xf":
			if inCells {
				id := attr(e, "numFmtId")
				w.dates = append(w.dates, isDateFormat(id, formats[id]))
			}
		}
		return nil
	})
}

// isDateFormat tells whether numbers of a format are shown as moments (ECMA-376, 18.8.30 and 18.8.31).
func isDateFormat(id, code string) bool {
	if code == "" {
		n, _ := strconv.Atoi(id)
		return n >= 14 && n <= 22 || n >= 27 && n <= 36 || n >= 45 && n <= 47 || n >= 50 && n <= 58
	}
	quoted, bracket := false, false
	for i := 0; i < len(code); i++ {
		switch c := code[i]; {
		case c == '\\' || c == '_' || c == '*':
			i++
		case c == '"':
			quoted = !quoted
		case quoted:
		case c == '[':
			bracket = true
		case c == ']':
			bracket = false
		case bracket:
		case strings.IndexByte("yYmMdDhHsS", c) >= 0:
			return true
		}
	}
	return false
}

// Close closes the file.
func (w *Workbook) Close() error { return w.file.Close() }

// Sheets names the sheets, in their order.
func (w *Workbook) Sheets() []string {
	names := make([]string, len(w.sheets))
	for i, s := range w.sheets {
		names[i] = s.name
	}
	return names
}

// Sheet opens one sheet's rows; "" takes the first. Closing them closes the workbook.
func (w *Workbook) Sheet(name string) (*Rows, error) {
	s, err := w.sheet(name)
	if err != nil {
		return nil, err
	}
	p, err := w.part(s.path)
	if err == nil && p == nil {
		err = fmt.Errorf("the sheet %q is missing from the workbook", s.name)
	}
	if err != nil {
		return nil, err
	}
	return &Rows{book: w, part: p, xml: w.xml(p)}, nil
}

// sheet finds a sheet by its name; "" is the first.
func (w *Workbook) sheet(name string) (sheetPart, error) {
	for _, s := range w.sheets {
		if name == "" || strings.EqualFold(s.name, name) {
			return s, nil
		}
	}
	return sheetPart{}, fmt.Errorf("the workbook has no sheet %q; it has %s", name, strings.Join(w.Sheets(), ", "))
}
