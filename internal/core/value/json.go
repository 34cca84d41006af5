package value

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"

	"github.com/go-json-experiment/json/jsontext"
)

// What is read may nest objects and arrays so deeply, and hold so many values: a small text of "{}" again and again would
// take very much memory.
const (
	MaxDepth  = 100
	MaxValues = 2_000_000
)

// JSONError says what is wrong with foreign JSON, and where.
type JSONError struct {
	Line, Column int    // from 1
	Pointer      string // RFC 6901, of the innermost value that was being read
	Problem      string
}

func (e *JSONError) Error() string {
	at := fmt.Sprintf("line %d, column %d", e.Line, e.Column)
	if e.Pointer != "" {
		at += " (at " + e.Pointer + ")"
	}
	return at + ": " + e.Problem
}

// ReadJSON reads exactly one JSON value (RFC 8259).
//
// A name that stands twice in one object, broken UTF-8, nesting deeper than [MaxDepth], more than [MaxValues] values and
// anything behind the value are refused with a [*JSONError]. A number that a double cannot hold exactly comes
// back as a string of its digits. U+0000, which no database column takes, becomes U+FFFD.
func ReadJSON(data []byte) (any, error) {
	dec := jsontext.NewDecoder(bytes.NewBuffer(data))
	left := MaxValues
	v, err := readValue(dec, &left)
	if err == nil {
		if _, err = dec.ReadToken(); errors.Is(err, io.EOF) {
			return v, nil
		} else if err == nil {
			err = errors.New("there is more behind the end of the value")
		}
	}
	return nil, place(data, dec, err)
}

func place(data []byte, dec *jsontext.Decoder, err error) error {
	at, pointer := dec.InputOffset(), string(dec.StackPointer())
	var problem string
	var syn *jsontext.SyntacticError
	switch {
	case errors.As(err, &syn):
		at, pointer = syn.ByteOffset, string(syn.JSONPointer)
		problem = syn.Err.Error()
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		problem = "the text ends before the value does"
		if len(bytes.TrimSpace(data)) == 0 {
			problem = "there is nothing here; a JSON value was expected"
		}
	default:
		problem = err.Error()
	}
	at = min(at, int64(len(data)))
	head := data[:at]
	return &JSONError{
		Line:    1 + bytes.Count(head, []byte{'\n'}),
		Column:  int(at) - bytes.LastIndexByte(head, '\n'),
		Pointer: pointer,
		Problem: problem,
	}
}

func readValue(dec *jsontext.Decoder, left *int) (any, error) {
	tok, err := dec.ReadToken()
	if err != nil {
		return nil, err
	}
	if *left--; *left < 0 {
		return nil, fmt.Errorf("it holds more than %d values", MaxValues)
	}
	switch tok.Kind() {
	case 'n':
		return nil, nil
	case 't':
		return true, nil
	case 'f':
		return false, nil
	case '"':
		return cleanText(tok.String()), nil
	case '0':
		return readNumber(tok.String()), nil
	}
	if dec.StackDepth() > MaxDepth {
		return nil, fmt.Errorf("nested deeper than %d levels", MaxDepth)
	}
	if tok.Kind() == '[' {
		list := []any{}
		for dec.PeekKind() != ']' {
			v, err := readValue(dec, left)
			if err != nil {
				return nil, err
			}
			list = append(list, v)
		}
		_, err := dec.ReadToken()
		return list, err
	}
	obj := map[string]any{}
	for dec.PeekKind() != '}' {
		name, err := dec.ReadToken()
		if err != nil {
			return nil, err
		}
		key := cleanText(name.String())
		v, err := readValue(dec, left)
		if err != nil {
			return nil, err
		}
		obj[key] = v
	}
	_, err = dec.ReadToken()
	return obj, err
}

func cleanText(s string) string {
	if strings.IndexByte(s, 0) < 0 {
		return s
	}
	return strings.ReplaceAll(s, "\x00", "\uFFFD")
}

// readNumber keeps a literal as a float64 where its shortest decimal form is the literal's own
// value, and as its digits otherwise.
func readNumber(lit string) any {
	f, err := strconv.ParseFloat(lit, 64)
	if err != nil {
		return lit
	}
	if len(lit) <= 15 && !strings.ContainsAny(lit, "eE") {
		return f // 15 significant digits always survive a double
	}
	if decimalOf(lit) == decimalOf(strconv.FormatFloat(f, 'e', -1, 64)) {
		return f
	}
	return lit
}

// decimal is a decimal number in one normal form: 0.digits * 10^exp.
type decimal struct {
	neg    bool
	digits string
	exp    int
}

func decimalOf(lit string) decimal {
	d := decimal{}
	if d.neg = strings.HasPrefix(lit, "-"); d.neg {
		lit = lit[1:]
	}
	lit = strings.TrimPrefix(lit, "+")
	mant, exp := lit, 0
	if i := strings.IndexAny(lit, "eE"); i >= 0 {
		mant = lit[:i]
		exp, _ = strconv.Atoi(lit[i+1:])
	}
	whole, frac, _ := strings.Cut(mant, ".")
	digits := whole + frac
	exp += len(whole)
	trimmed := strings.TrimLeft(digits, "0")
	exp -= len(digits) - len(trimmed)
	d.digits = strings.TrimRight(trimmed, "0")
	if d.digits == "" {
		return decimal{}
	}
	d.exp = exp
	return d
}

// AppendJSON writes v as compact JSON with sorted names, the form in which Dorfbote stores and
// exports values.
func AppendJSON(b []byte, v any) []byte {
	switch x := v.(type) {
	case nil:
		return append(b, "null"...)
	case bool:
		return strconv.AppendBool(b, x)
	case float64:
		return appendNumber(b, x)
	case int:
		return strconv.AppendInt(b, int64(x), 10)
	case string:
		out, err := jsontext.AppendQuote(b, x)
		if err != nil { // broken UTF-8: AppendQuote has put U+FFFD in its place
			return out
		}
		return out
	case []any:
		b = append(b, '[')
		for i, e := range x {
			if i > 0 {
				b = append(b, ',')
			}
			b = AppendJSON(b, e)
		}
		return append(b, ']')
	case map[string]any:
		b = append(b, '{')
		for i, k := range SortedKeys(x) {
			if i > 0 {
				b = append(b, ',')
			}
			b, _ = jsontext.AppendQuote(b, k)
			b = append(b, ':')
			b = AppendJSON(b, x[k])
		}
		return append(b, '}')
	}
	return append(b, fmt.Sprintf("%q", fmt.Sprint(v))...)
}

func appendNumber(b []byte, f float64) []byte {
	if f == float64(int64(f)) && f < 1e15 && f > -1e15 {
		return strconv.AppendInt(b, int64(f), 10)
	}
	return strconv.AppendFloat(b, f, 'g', -1, 64)
}

// NumberLiteral reads a JSON number literal as ReadJSON does: as a float64 where a double holds it
// exactly, and as its digits otherwise.
func NumberLiteral(lit string) any { return readNumber(lit) }
