// Package report carries what is wrong with something a person wrote: what, where, and what to write
// instead.
package report

import (
	"fmt"
	"sort"
)

// Pos is a place in a text. Lines and columns count characters from 1; the zero Pos is unknown.
type Pos struct {
	Line   int `json:"line"`
	Column int `json:"column"`
}

// Text is a piece of text with its place. Within finds the place of a character inside it.
type Text struct {
	S      string
	At     Pos
	Within func(offset int) Pos
}

// In gives the place of the character at offset, or the text's own where that is not known.
func (t Text) In(offset int) Pos {
	if t.Within == nil {
		return t.At
	}
	return t.Within(offset)
}

// Problem is one thing that is wrong.
type Problem struct {
	At         Pos    `json:"at"`
	Path       string `json:"path"` // where on the sheet, such as keep.all[0]
	Message    string `json:"message"`
	Suggestion string `json:"suggestion,omitempty"`
	Warning    bool   `json:"warning,omitempty"` // worth a look, but the sheet can run
	// Unfinished is something that is still missing: the sheet can be proved and rehearsed, but not be switched on. It is a
	// warning, too.
	Unfinished bool  `json:"unfinished,omitempty"`
	Mend       *Mend `json:"mend,omitempty"`
	// Offset is where in its formula, or its text with formulas, the problem stands; nil where that is not known.
	Offset *int `json:"offset,omitempty"`
}

// Mend is what to put on a sheet, as JSON has it, so that a problem is gone.
type Mend struct {
	Words string `json:"words"` // on the button
	Path  string `json:"path"`
	Put   any    `json:"put"`
}

func (p Problem) String() string {
	s := p.Message
	if p.Suggestion != "" {
		s += "; did you mean " + p.Suggestion + "?"
	}
	if p.Warning {
		return "warning: " + s
	}
	return s
}

// List collects problems.
type List struct{ Problems []Problem }

// Add notes a problem that keeps the sheet from running.
func (l *List) Add(at Pos, path, suggestion, format string, args ...any) {
	l.Problems = append(l.Problems, Problem{At: at, Path: path, Suggestion: suggestion, Message: fmt.Sprintf(format, args...)})
}

// Warn notes something that is worth a look.
func (l *List) Warn(at Pos, path, suggestion, format string, args ...any) {
	l.Add(at, path, suggestion, format, args...)
	l.Problems[len(l.Problems)-1].Warning = true
}

// Unfinished notes something that is missing before the sheet can be switched on.
func (l *List) Unfinished(at Pos, path, format string, args ...any) {
	l.Warn(at, path, "", format, args...)
	l.Problems[len(l.Problems)-1].Unfinished = true
}

// Within says where in its text the problem noted last stands, in characters.
func (l *List) Within(offset int) {
	l.Problems[len(l.Problems)-1].Offset = &offset
}

// Mend says how to mend the problem noted last.
func (l *List) Mend(words, path string, put any) {
	l.Problems[len(l.Problems)-1].Mend = &Mend{words, path, put}
}

// Failed tells whether anything but warnings was found.
func (l *List) Failed() bool {
	for _, p := range l.Problems {
		if !p.Warning {
			return true
		}
	}
	return false
}

// Sort orders the problems by place.
func (l *List) Sort() {
	sort.SliceStable(l.Problems, func(i, j int) bool {
		a, b := l.Problems[i].At, l.Problems[j].At
		return a.Line < b.Line || a.Line == b.Line && a.Column < b.Column
	})
}
