package formula

import (
	"errors"
	"net/url"
	"strings"
	"unicode/utf8"
)

// Template is text with formulas in "${" and "}".
type Template struct {
	parts []Part
}

// Part is a piece of a template: text, or a formula.
type Part struct {
	Text    string
	Formula *Formula
	at      int // of a formula: how many characters of the template stand before it
}

// ParseTemplate reads text with formulas. "$${" stands for "${" itself. Every formula that is wrong gives
// an error, whose offset counts from the template's start.
func ParseTemplate(text string, words *Words) (*Template, []*Error) {
	t := &Template{}
	var wrong []*Error
	var lit strings.Builder
	for i := 0; i < len(text); {
		switch {
		case strings.HasPrefix(text[i:], "$${"):
			lit.WriteString("${")
			i += 3
		case strings.HasPrefix(text[i:], "${"):
			end := closing(text, i+2)
			if end < 0 {
				return nil, append(wrong, &Error{Offset: utf8.RuneCountInString(text[:i]), Message: `"${" is not closed by "}"`})
			}
			src := text[i+2 : end]
			f, err := Compile(src, words)
			if err != nil {
				fe := func() *Error {
					target := &Error{}
					_ = errors.As(err, &target)
					return target
				}()
				fe.Offset += utf8.RuneCountInString(text[:i+2])
				wrong = append(wrong, fe)
			}
			t.literal(&lit)
			t.parts = append(t.parts, Part{Formula: f, at: utf8.RuneCountInString(text[:i+2])})
			i = end + 1
		default:
			lit.WriteByte(text[i])
			i++
		}
	}
	t.literal(&lit)
	return t, wrong
}

func (t *Template) literal(b *strings.Builder) {
	if b.Len() > 0 {
		t.parts = append(t.parts, Part{Text: b.String()})
		b.Reset()
	}
}

// closing finds the "}" that ends a formula begun at i: quoted text and inner braces are passed over.
func closing(text string, i int) int {
	depth := 0
	for i < len(text) {
		switch c := text[i]; c {
		case '"', '\'', '`':
			for i++; i < len(text) && text[i] != c; i++ {
				if text[i] == '\\' && c != '`' {
					i++
				}
			}
		case '{':
			depth++
		case '}':
			if depth == 0 {
				return i
			}
			depth--
		}
		i++
	}
	return -1
}

// Parts lists the pieces in order.
func (t *Template) Parts() []Part { return t.parts }

// Whole returns the formula when the template is one formula and nothing else.
func (t *Template) Whole() *Formula {
	if len(t.parts) == 1 {
		return t.parts[0].Formula
	}
	return nil
}

// Constant tells whether the template holds no formula.
func (t *Template) Constant() bool {
	for _, p := range t.parts {
		if p.Formula != nil {
			return false
		}
	}
	return true
}

// Written is the template's text where it holds no formula.
func (t *Template) Written() (text string, fixed bool) {
	if t == nil || !t.Constant() {
		return "", false
	}
	text, _ = t.text(nil)
	return text, true
}

// Text fills the template in as plain text.
func (t *Template) Text(sc *Scope, words *Words) (string, error) {
	if t.Constant() {
		return t.text(nil)
	}
	return t.text(words.env(sc))
}

// Address fills the template in as a web address: a value that the address begins with stands as it is, each behind it is escaped for
// its place, so that it can lead nowhere else and add no parameter.
func (t *Template) Address(sc *Scope, words *Words) (string, error) {
	if t.Constant() {
		return t.text(nil)
	}
	return t.filled(words.env(sc), EscapeIn)
}

// EscapeIn escapes a value for the place in a web address that it stands in, behind what stands before it (RFC 3986).
func EscapeIn(before, v string) string {
	switch {
	case before == "":
		return v
	case strings.Contains(before, "#"), !strings.Contains(before, "?"):
		return url.PathEscape(v)
	}
	return strings.ReplaceAll(url.QueryEscape(v), "+", "%20")
}

func (t *Template) text(env map[string]any) (string, error) {
	return t.filled(env, nil)
}

// filled fills the template in, each value by what is before it where escape is given.
func (t *Template) filled(env map[string]any, escape func(before, v string) string) (string, error) {
	var b strings.Builder
	for _, p := range t.parts {
		if p.Formula == nil {
			b.WriteString(p.Text)
			continue
		}
		v, err := p.Formula.run(env)
		if err != nil {
			return "", err
		}
		shown := Show(v, p.Formula.words.Workspace)
		if escape != nil {
			shown = escape(b.String(), shown)
		}
		if b.WriteString(shown); b.Len() > maxMade {
			return "", errMade
		}
	}
	return b.String(), nil
}

// line fills the template in, in its pieces.
func (t *Template) line(env map[string]any) (Line, error) {
	out := make(Line, 0, len(t.parts))
	size := 0
	for _, p := range t.parts {
		piece := Piece{Text: p.Text}
		if p.Formula != nil {
			v, err := p.Formula.run(env)
			if err != nil {
				return nil, err
			}
			piece = Piece{Text: Show(v, p.Formula.words.Workspace), Value: v, Filled: true}
		}
		if size += len(piece.Text); size > maxMade {
			return nil, errMade
		}
		out = append(out, piece)
	}
	return out, nil
}

// IsWhole tells whether text is "${ … }" as a whole, and gives the formula inside.
func IsWhole(text string) (src string, ok bool) {
	s := strings.TrimSpace(text)
	if !strings.HasPrefix(s, "${") {
		return "", false
	}
	if end := closing(s, 2); end != len(s)-1 {
		return "", false
	}
	return s[2 : len(s)-1], true
}

// Show writes a value with these words' workspace.
func (w *Words) Show(v any) string { return Show(v, w.Workspace) }
