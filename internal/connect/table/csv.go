package table

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"dorfbote/internal/connect/table/bounds"

	"golang.org/x/text/encoding"
	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"
)

// rows walks through a table's rows of text. A cell that a format knows to be a number or a moment is given as
// such.
type rows interface {
	// Next gives the next row, or io.EOF. The slice is good until the next call.
	Next() ([]any, error)
	Line() int // of the row last given, from 1
	Close() error
}

// openCSV opens a file of separated values, in whatever encoding and with whatever separator it is written.
func openCSV(open opener) (rows, error) {
	f, err := open()
	if err != nil {
		return nil, err
	}
	enc, err := encodingOf(f)
	if err != nil {
		f.Close()
		return nil, err
	}
	within := &bounds.Reader{Left: math.MaxInt64, Ends: time.Now().Add(bounds.MaxTime)}
	text := func() (*bufio.Reader, error) {
		if _, err := f.Seek(0, io.SeekStart); err != nil {
			return nil, err
		}
		within.R = transform.NewReader(f, unicode.BOMOverride(enc.NewDecoder()))
		return bufio.NewReaderSize(within, 1<<16), nil
	}
	r, err := text()
	if err != nil {
		f.Close()
		return nil, err
	}
	head, _ := r.Peek(1 << 15)
	c := csv.NewReader(r)
	c.Comma, c.FieldsPerRecord, c.ReuseRecord = separator(head), -1, true
	return &csvRows{file: f, csv: c, bounds: within}, nil
}

type csvRows struct {
	file   *os.File
	csv    *csv.Reader
	bounds *bounds.Reader
	cells  []any
	line   int
}

func (r *csvRows) Line() int    { return r.line }
func (r *csvRows) Close() error { return r.file.Close() }

func (r *csvRows) Next() ([]any, error) {
	for {
		r.bounds.Token = 0 // a quote that is left open would take the rest of the file
		list, err := r.csv.Read()
		if err != nil {
			if pe, ok := errors.AsType[*csv.ParseError](err); ok {
				return nil, fmt.Errorf("line %d, column %d: %w", pe.Line, pe.Column, pe.Err)
			}
			return nil, err
		}
		r.line, _ = r.csv.FieldPos(0)
		r.cells = r.cells[:0]
		empty := true
		for _, s := range list {
			empty = empty && strings.TrimSpace(s) == ""
			r.cells = append(r.cells, s)
		}
		if !empty {
			return r.cells, nil
		}
	}
}

// encodingOf tells the encoding by the mark at the beginning, or else by whether the whole file is UTF-8; what is
// not, is taken as Windows-1252.
func encodingOf(f *os.File) (encoding.Encoding, error) {
	r := bufio.NewReaderSize(f, 1<<16)
	head, _ := r.Peek(4)
	switch {
	case bytes.HasPrefix(head, []byte{0xEF, 0xBB, 0xBF}):
		return unicode.UTF8BOM, nil
	case bytes.HasPrefix(head, []byte{0xFF, 0xFE}):
		return unicode.UTF16(unicode.LittleEndian, unicode.UseBOM), nil
	case bytes.HasPrefix(head, []byte{0xFE, 0xFF}):
		return unicode.UTF16(unicode.BigEndian, unicode.UseBOM), nil
	}
	var rest []byte
	buf := make([]byte, 1<<16)
	for {
		n, err := r.Read(buf)
		chunk := slices.Concat(rest, buf[:n])
		whole := len(chunk)
		if err == nil { // a character may be cut at the end of a chunk
			for whole > 0 && len(chunk)-whole < utf8.UTFMax && !utf8.RuneStart(chunk[whole-1]) {
				whole--
			}
			whole = max(0, whole-1)
		}
		if !utf8.Valid(chunk[:whole]) {
			return charmap.Windows1252, nil
		}
		rest = append([]byte(nil), chunk[whole:]...)
		if err == io.EOF {
			return unicode.UTF8, nil
		} else if err != nil {
			return nil, err
		}
	}
}

// separator finds the character that splits the first lines most evenly.
func separator(head []byte) rune {
	best, bestScore := ',', 0
	for _, sep := range []rune{',', ';', '\t', '|'} {
		c := csv.NewReader(bytes.NewReader(head))
		c.Comma, c.FieldsPerRecord, c.LazyQuotes = sep, -1, true
		width, same, lines := 0, 0, 0
		for range 20 {
			rec, err := c.Read()
			if err != nil {
				break
			}
			if lines++; width == 0 {
				width = len(rec)
			}
			if len(rec) == width {
				same++
			}
		}
		if width < 2 || lines == 0 {
			continue
		}
		if score := 1000*same/lines + width; score > bestScore {
			best, bestScore = sep, score
		}
	}
	return best
}
