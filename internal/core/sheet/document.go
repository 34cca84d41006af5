package sheet

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"reflect"
	"regexp"
	"strconv"
	"strings"
	"unicode/utf8"

	"go.yaml.in/yaml/v3"

	"dorfbote/internal/core/report"
)

// unread is why a text is no sheet, with its place.
type unread struct {
	at    report.Pos
	words string
}

func (u *unread) Error() string {
	return fmt.Sprintf("line %d, column %d: %s", u.at.Line, u.at.Column, u.words)
}

// document reads the one document of a text. A text that begins as JSON does is told what is wrong with it as JSON.
func document(src []byte) (*yaml.Node, *unread) {
	var doc, more yaml.Node
	read := yaml.NewDecoder(bytes.NewReader(src))
	err := read.Decode(&doc)
	if err == nil {
		if err = read.Decode(&more); err == nil {
			return nil, &unread{report.Pos{Line: more.Line, Column: max(more.Column, 1)}, "a second sheet begins here; a text holds one"}
		}
	}
	switch {
	case errors.Is(err, io.EOF):
		return &doc, nil
	case jsonStart.Match(src):
		if u := asJSON(src); u != nil {
			return nil, u
		}
	}
	return nil, asYAML(src, err)
}

var jsonStart = regexp.MustCompile(`^(\x{FEFF})?\s*(\{\s*["}]|\[)`)

// asJSON is what is wrong with a text as JSON; nil for nothing.
func asJSON(src []byte) *unread {
	var syntax *json.SyntaxError
	if err := json.Unmarshal(src, new(any)); !errors.As(err, &syntax) {
		return nil
	}
	offset := int(syntax.Offset) // of the byte behind the one that was read last
	if !strings.HasPrefix(syntax.Error(), "unexpected end") {
		offset--
	}
	return &unread{placeOf(src, offset), "this is not JSON: " + syntax.Error()}
}

func placeOf(src []byte, offset int) report.Pos {
	before := src[:max(0, min(offset, len(src)))]
	return report.Pos{Line: 1 + bytes.Count(before, []byte("\n")), Column: 1 + utf8.RuneCount(before[bytes.LastIndexByte(before, '\n')+1:])}
}

var yamlLine = regexp.MustCompile(`^yaml: (?:line (\d+): )?(.*)$`)

// asYAML says where a text stops being YAML. The reader's own errors name the line where the part begins that breaks,
// and no column.
func asYAML(src []byte, err error) *unread {
	u := &unread{report.Pos{Line: 1, Column: 1}, "this is not YAML: " + err.Error()}
	m := yamlLine.FindStringSubmatch(err.Error())
	if m == nil {
		return u
	}
	u.words = "this is not YAML: " + m[2]
	if strings.HasPrefix(m[2], "unknown anchor") { // found when all is read
		if name := strings.Split(m[2], "'"); len(name) > 1 {
			u.at = placeOf(src, bytes.Index(src, []byte("*"+name[1])))
		}
		return u
	}
	if m[2] == "control characters are not allowed" { // which the reader says of the whole
		at := bytes.IndexFunc(src, isControl)
		r, _ := utf8.DecodeRune(src[max(at, 0):])
		u.at, u.words = placeOf(src, at), fmt.Sprintf("this is not YAML: the control character U+%04X is not allowed; write it as \\x%02X between double quotes, or take it out", r, r)
		return u
	}
	read := yaml.NewDecoder(bytes.NewReader(src))
	for read.Decode(new(yaml.Node)) == nil {
		continue // sheets before the broken one
	}
	mark := "problem_mark"
	if strings.HasPrefix(m[2], "could not find expected ':'") || strings.HasPrefix(m[2], "found unexpected end of stream") {
		mark = "context_mark" // what has no end is told at its beginning
	}
	if at, ok := markOf(read, mark); ok {
		u.at = at
	} else if n, err := strconv.Atoi(m[1]); err == nil {
		u.at.Line = n
	}
	return u
}

// isControl tells whether YAML allows no such character as it is (YAML 1.2.2, 5.1).
func isControl(r rune) bool {
	return r < ' ' && r != '\t' && r != '\n' && r != '\r' || r == 0x7f || r > 0x7f && r < 0xa0 && r != 0x85 || r == 0xfffe || r == 0xffff
}

// markOf is a place that the reader has noted of its error. It keeps that to itself, so it is read out of it; another
// version of the library may have none.
func markOf(read *yaml.Decoder, name string) (report.Pos, bool) {
	outer := reflect.ValueOf(read).Elem().FieldByName("parser")
	if !outer.IsValid() || outer.Kind() != reflect.Pointer || outer.IsNil() {
		return report.Pos{}, false
	}
	v := outer.Elem()
	for _, field := range []string{"parser", name} {
		if v = v.FieldByName(field); !v.IsValid() || v.Kind() != reflect.Struct {
			return report.Pos{}, false
		}
	}
	line, column := v.FieldByName("line"), v.FieldByName("column")
	if !line.IsValid() || !column.IsValid() || !line.CanInt() || !column.CanInt() {
		return report.Pos{}, false
	}
	return report.Pos{Line: int(line.Int()) + 1, Column: int(column.Int()) + 1}, true
}
