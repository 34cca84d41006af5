package webhook

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strings"

	"github.com/ohler55/ojg/jp"

	"dorfbote/internal/core/value"
)

// pick is where something stands in an answer: a JSONPath ($.id), a path of an answer in XML (/result/id), or a pattern of one that is
// text (~id=([0-9]+)), of which the first group counts. The zero pick finds nothing.
type pick struct {
	json jp.Expr
	xml  []string
	text *regexp.Regexp
}

// answered is an answer, read once for each way of reading.
type answered struct {
	raw      []byte
	json     any
	jsonErr  error
	jsonRead bool
}

func readPick(text string) (p pick, err error) {
	switch {
	case strings.HasPrefix(text, "$"):
		if p.json, err = jp.ParseString(text); err != nil {
			return p, fmt.Errorf("the JSONPath %s cannot be read: %w; write it like $.id", text, err)
		}
	case strings.HasPrefix(text, "/"):
		p.xml = strings.Split(strings.Trim(text, "/"), "/")
	case strings.HasPrefix(text, "~"):
		if p.text, err = regexp.Compile(text[1:]); err != nil {
			return p, fmt.Errorf("the pattern %s cannot be read: %w; write it like ~id=([0-9]+)", text, err)
		}
	default:
		return p, fmt.Errorf("%q is no JSONPath; write it like $.id, or /result/id for an answer in XML, or ~id=([0-9]+) for one that is text", text)
	}
	return p, nil
}

func (p pick) set() bool { return p.json != nil || p.xml != nil || p.text != nil }

// what is what it reads.
func (p pick) what() string {
	if p.xml != nil {
		return "XML"
	}
	return "JSON"
}

// get gives what stands there, nil where nothing does. readable is false where the answer is not what the pick reads.
func (p pick) get(a *answered) (found any, readable bool) {
	switch {
	case p.json != nil:
		if !a.jsonRead {
			a.json, a.jsonErr = value.ReadJSON(a.raw)
			a.jsonRead = true
		}
		if a.jsonErr != nil {
			return nil, false
		}
		if list := p.json.Get(a.json); len(list) > 0 {
			return list[0], true
		}
	case p.xml != nil:
		text, err := elementText(a.raw, p.xml)
		if err != nil {
			return nil, false
		}
		if text != nil {
			return *text, true
		}
	case p.text != nil:
		if m := p.text.FindSubmatch(a.raw); m != nil {
			return string(m[len(m)-1]), true
		}
	}
	return nil, true
}

// elementText is the text of the first element at a path of names, or of an attribute where the last begins with @; nil where there is none.
func elementText(raw []byte, path []string) (*string, error) {
	d := xml.NewDecoder(bytes.NewReader(raw))
	var at []string
	var text strings.Builder
	inside, seen := false, false
	for {
		t, err := d.Token()
		if errors.Is(err, io.EOF) {
			if !seen {
				return nil, errors.New("there is no element")
			}
			return nil, nil
		}
		if err != nil {
			return nil, err
		}
		switch t := t.(type) {
		case xml.StartElement:
			seen = true
			at = append(at, t.Name.Local)
			if n := len(path); n > 0 && strings.HasPrefix(path[n-1], "@") && strings.Join(at, "/") == strings.Join(path[:n-1], "/") {
				for _, a := range t.Attr {
					if "@"+a.Name.Local == path[n-1] {
						return &a.Value, nil
					}
				}
			}
			inside = inside || strings.Join(at, "/") == strings.Join(path, "/")
		case xml.CharData:
			if inside {
				text.Write(t)
			}
		case xml.EndElement:
			if inside && strings.Join(at, "/") == strings.Join(path, "/") {
				s := strings.TrimSpace(text.String())
				return &s, nil
			}
			at = at[:len(at)-1]
		}
	}
}
