// Package fault is the one idea of an error that a person reads: where, what was tried, what came back, what to do about it
// and who can.
package fault

import (
	"errors"
	"fmt"
	"strings"
	"time"
)

// Fault is an error for the person who reads it. Every part may be missing but Said, or Err in its place.
type Fault struct {
	Place string // where it is wrong: a field, a question, a part of a rule or of a message, a header, a JSON pointer, a line
	Tried string // such as "listing the rooms"
	Said  string // what came back, or what is wrong
	Do    string // what to do about it
	Who   string // who can do it
	Err   error  // what is wrong, where that is an error of its own
	// Status is of HTTP: what an answer had, or what a request that is refused is answered; 0 where there is none.
	Status int
	Wait   time.Duration // the other side asked to be left alone for so long
}

// At makes a fault with a place.
func At(place, format string, args ...any) *Fault {
	return &Fault{Place: place, Said: fmt.Sprintf(format, args...)}
}

// In gives an error a place.
func In(place string, err error) *Fault { return &Fault{Place: place, Err: err} }

// Of finds the fault in an error.
func Of(err error) (*Fault, bool) { return errors.AsType[*Fault](err) }

func (f *Fault) said() string {
	if f.Said == "" && f.Err != nil {
		return f.Err.Error()
	}
	return f.Said
}

// Error is the whole of it in one line.
func (f *Fault) Error() string {
	s := f.said()
	if f.Tried != "" {
		s = f.Tried + ": " + s
	}
	if f.Place != "" {
		s = f.Place + ": " + s
	}
	if f.Do != "" {
		s = Sentence(s) + " " + f.Do
	}
	if f.Who != "" {
		s += " (" + f.Who + " can grant it)"
	}
	return s
}

// Unwrap gives the error that it was made of.
func (f *Fault) Unwrap() error { return f.Err }

// Plainly gives what an error says and what to do, without its place and what was tried.
func Plainly(err error) string {
	f, ok := Of(err)
	switch {
	case !ok:
		return err.Error()
	case f.Do == "":
		return f.said()
	}
	return strings.TrimRight(f.said(), ".") + "; " + f.Do
}

// Sentence ends words with one full stop.
func Sentence(words string) string {
	words = strings.TrimSpace(words)
	if words == "" || strings.HasSuffix(words, "!") || strings.HasSuffix(words, "?") || strings.HasSuffix(words, "…") {
		return words
	}
	return strings.TrimRight(words, ".") + "."
}
