// Package sentence drafts a sheet from a sentence such as "tell #lab when a sample is blocked in the Upper valley": by a
// grammar over the names, fields and values of what is connected, not by guessing. It says how it read every word, and
// asks about what it did not understand.
package sentence

import (
	"strings"

	"dorfbote/internal/core/value"
)

// World is what a sentence may speak of.
type World struct {
	Sources  []Source
	Channels []Channel
}

// Source is a source whose records can be spoken of.
type Source struct {
	Name   string // tours/collections
	Title  string
	Key    string // the field that is the key
	Fields []Field
}

// Field is one of its fields.
type Field struct {
	value.Field
	Values []string // that it had lately
}

// Channel is a destination.
type Channel struct {
	Name  string // square/#tours
	Title string // #tours
}

// How a word was read.
const (
	AsChannel  = "channel"
	AsSource   = "source"
	AsField    = "field"
	AsValue    = "value"
	AsNumber   = "number"
	AsTime     = "time"
	AsWord     = "word"     // a word of the grammar
	AsFiller   = "filler"   // a word that says nothing
	NotRead    = "not read" // a word that was not understood
	AsOperator = "operator"
)

// Word is a part of the sentence, with how it was read.
type Word struct {
	Text  string `json:"text"`
	As    string `json:"as"`
	Means string `json:"means"`
}

// Doubt is something that was not understood, or left open.
type Doubt struct {
	About   string   `json:"about" doc:"the words of the sentence that it is about; empty where something is missing"`
	Ask     string   `json:"ask"`
	Choices []string `json:"choices" doc:"words to put in the place of those; with nothing to replace, to add"`
}

// Reading is what was made of a sentence.
type Reading struct {
	Words     []Word         `json:"words"`
	Questions []Doubt        `json:"questions"`
	Sheet     map[string]any `json:"sheet" doc:"null while there is no source to watch"`
}

// Read reads a sentence.
func Read(text string, w World) Reading {
	r := &reader{world: w, tokens: tokens(text)}
	r.channels()
	r.source()
	if r.from != nil {
		r.clauses()
	}
	return r.result()
}

type reader struct {
	world  World
	tokens []token
	from   *Source
	draft  draft
}

// token is a word of the sentence. ends is true where a clause ends behind it.
type token struct {
	text, low string
	as, means string
	channel   string
	ends      bool
}

// tokens takes a sentence apart into words.
func tokens(text string) []token {
	var out []token
	for _, raw := range strings.Fields(text) {
		word := strings.TrimRight(raw, ",;.!?")
		word = strings.Trim(word, `"“”‘’'()`)
		tail := raw[len(strings.TrimRight(raw, ",;.!?")):]
		if word != "" {
			out = append(out, token{text: word, low: value.Fold(word)})
		}
		if len(out) > 0 && strings.ContainsAny(tail, ";.!?") {
			out[len(out)-1].ends = true
		}
	}
	return out
}

// mark says how some tokens were read.
func (r *reader) mark(from, to int, as, means string) {
	for i := from; i < to; i++ {
		r.tokens[i].as, r.tokens[i].means = as, means
	}
}

func (r *reader) free(from, to int) bool {
	if from < 0 || to > len(r.tokens) {
		return false
	}
	for i := from; i < to; i++ {
		if r.tokens[i].as != "" {
			return false
		}
	}
	return true
}

// phrase joins tokens.
func (r *reader) phrase(from, to int) string {
	parts := make([]string, 0, to-from)
	for i := from; i < to; i++ {
		parts = append(parts, r.tokens[i].low)
	}
	return strings.Join(parts, " ")
}

// channels finds the channels, by # or by their titles behind "to" and "tell".
func (r *reader) channels() {
	for i := range r.tokens {
		t := &r.tokens[i]
		for _, c := range r.world.Channels {
			title := value.Fold(c.Title)
			behind := i > 0 && strings.Contains(" tell to in alert notify and ", " "+r.tokens[i-1].low+" ")
			if t.low == title || t.low == value.Fold(c.Name) || behind && "#"+t.low == title {
				t.as, t.means, t.channel = AsChannel, c.Name, c.Name
				break
			}
		}
	}
}

// singular takes the ending of the plural off an English word.
func singular(s string) string {
	switch {
	case strings.HasSuffix(s, "ies"):
		return s[:len(s)-3] + "y"
	case strings.HasSuffix(s, "ches"), strings.HasSuffix(s, "xes"), strings.HasSuffix(s, "sses"):
		return s[:len(s)-2]
	case strings.HasSuffix(s, "s") && !strings.HasSuffix(s, "ss"):
		return s[:len(s)-1]
	}
	return s
}

// source finds what is watched: the first word that names the records of a source.
func (r *reader) source() {
	for i := range r.tokens {
		if r.tokens[i].as != "" {
			continue
		}
		for n := range r.world.Sources {
			s := &r.world.Sources[n]
			_, kind, _ := strings.Cut(s.Name, "/")
			for _, name := range []string{kind, s.Title, s.Name} {
				if name == "" || singular(r.tokens[i].low) != singular(value.Fold(name)) {
					continue
				}
				if r.from == nil {
					r.from = s
				}
				if r.from == s {
					r.mark(i, i+1, AsSource, s.Name)
				}
				break
			}
		}
	}
}
