// Package sentence drafts a sheet from a sentence such as "tell #lab when a sample is blocked in the Upper valley": by a
// grammar over the names, fields and values of what is connected, not by guessing. It says how it read every word, and
// asks about what it did not understand.
package sentence

import (
	"slices"
	"strings"
	"time"

	"dorfbote/internal/core/value"
)

// World is what a sentence may speak of.
type World struct {
	Sources  []KnownSource
	Channels []Channel
	Now      time.Time // in the workspace's zone; a rhythm such as every second Tuesday begins at the next one
}

// KnownSource is a source whose records can be spoken of.
type KnownSource struct {
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
	Waives  bool     `json:"waives" doc:"it can be waived: what it is about is then left out of the draft"`
}

// waiver is what a question is waived by: its words, or itself where it is about what is missing.
func (d Doubt) waiver() string {
	if d.About != "" {
		return d.About
	}
	return d.Ask
}

// Reading is what was made of a sentence.
type Reading struct {
	Words     []Word         `json:"words"`
	Questions []Doubt        `json:"questions"`
	Sheet     map[string]any `json:"sheet" doc:"null until every question is answered or waived"`
}

// Read reads a sentence. waived are the questions that are to be left unanswered, by the words that they are about, or by
// their own where they are about what is missing.
func Read(text string, w World, waived ...string) Reading {
	r := &reader{world: w, tokens: tokens(text), waived: waived}
	r.channels()
	r.mail()
	r.source()
	if r.from != nil {
		r.clauses()
	}
	return r.result()
}

type reader struct {
	world  World
	tokens []token
	from   *KnownSource
	draft  draft
	doubts []Doubt // met while reading
	waived []string
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
	for raw := range strings.FieldsSeq(text) {
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

// mail reads "mail somebody": nothing that sends mail is connected, so it is asked whom to tell instead.
func (r *reader) mail() {
	for i := range r.tokens {
		starts := i == 0 || r.tokens[i-1].ends || slices.Contains([]string{"and", "please", "then", "also"}, r.tokens[i-1].low)
		if !starts || r.tokens[i].as != "" || !slices.Contains([]string{"mail", "email", "e-mail"}, r.tokens[i].low) {
			continue
		}
		end := i + 1
		for end < len(r.tokens) && !r.tokens[end-1].ends && r.tokens[end].as == "" && !slices.Contains(opening, r.tokens[end].low) {
			end++
		}
		words := make([]string, 0, end-i)
		for _, t := range r.tokens[i:end] {
			words = append(words, t.text)
		}
		var instead []string
		for _, c := range r.world.Channels {
			instead = append(instead, "tell "+c.Title)
		}
		about := strings.Join(words, " ")
		r.mark(i, end, AsWord, "mail")
		r.doubts = append(r.doubts, Doubt{About: about, Ask: "Nothing that sends mail is connected. Which channel is told instead of " + about + "?", Choices: instead})
	}
}

// opening are words that what starts it begins with.
var opening = []string{"when", "whenever", "if", "once", "as", "every", "each", "on", "at", "before", "after"}

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
					if i+1 < len(r.tokens) && r.tokens[i+1].as == "" && slices.Contains([]string{"row", "record", "entry", "entrie", "item"}, singular(r.tokens[i+1].low)) {
						r.mark(i+1, i+2, AsFiller, "")
					}
				}
				break
			}
		}
	}
}
