// Package sentence drafts a sheet from a sentence such as "tell #lab when a sample is blocked in the Upper valley": by a
// grammar over the names, fields and values of what is connected, not by guessing. It says how it read every word, and
// asks about what it did not understand.
package sentence

import (
	"strings"
	"time"

	"dorfbote/internal/core/people"
	"dorfbote/internal/core/place"
	"dorfbote/internal/core/value"
)

// World is what a sentence may speak of.
type World struct {
	Sources  []KnownSource
	Channels []Channel
	Senders  []Sender     // connections that reach addresses
	People   *people.Book // nil: nobody
	// Workspace says how telephone numbers are read.
	Workspace value.Workspace
	Now       time.Time // in the workspace's zone; a rhythm such as every second Tuesday begins at the next one
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

// Sender is a connection that posts to addresses: by mail, or as text messages.
type Sender struct {
	Name string
	Form place.Form
}

// How a word was read.
const (
	AsChannel  = "channel"
	AsPerson   = "person"
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
	Says      []string       `json:"says" doc:"the drafted sheet read back in words; empty without one"`
}

// Read reads a sentence. waived are the questions that are to be left unanswered, by the words that they are about, or by
// their own where they are about what is missing.
func Read(text string, w World, waived ...string) Reading {
	return read(text, w, waived, false)
}

// read reads a sentence. Where it is only tried, which answers a question could have is not looked for.
func read(text string, w World, waived []string, tried bool) Reading {
	r := &reader{world: w, g: english, said: text, tokens: tokens(text), waived: waived, tried: tried}
	r.channels()
	r.recipients()
	r.persons()
	r.source()
	if r.from != nil {
		r.addresses()
		r.attached()
		r.asksFirst()
		r.ifNobody()
		r.clauses()
	}
	return r.result()
}

type reader struct {
	world  World
	g      *grammar
	said   string
	tried  bool
	tokens []token
	from   *KnownSource
	draft  draft
	whom   []whom
	doubts []Doubt // met while reading
	waived []string
}

// token is a word of the sentence. ends is true where a clause ends behind it, comma where a comma stands there.
type token struct {
	text, low   string
	as, means   string
	channel     string
	ends, comma bool
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
		if len(out) > 0 && strings.Contains(tail, ",") {
			out[len(out)-1].comma = true
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
			behind := i > 0 && contains(r.g.ToldBehind, r.tokens[i-1].low) ||
				i > 1 && contains(r.g.The, r.tokens[i-1].low) && contains(r.g.ToldBehindThe, r.tokens[i-2].low)
			if t.low == title || t.low == value.Fold(c.Name) || behind && "#"+t.low == title {
				t.as, t.means, t.channel = AsChannel, c.Name, c.Name
				break
			}
		}
	}
}

// source finds what is watched: the first words that name the records of a source, or one word of the only source that is
// called by it.
func (r *reader) source() {
	for i := 0; i < len(r.tokens); i++ {
		s, width := r.sourceAt(i)
		if s == nil {
			continue
		}
		if r.from == nil {
			r.from = s
			r.sameName(i, width)
		}
		if r.from == s {
			r.watched(i, width)
		}
		i += width - 1
	}
	for i := 0; i < len(r.tokens) && r.from == nil; i++ {
		if r.tokens[i].as != "" || len(r.tokens[i].low) < 4 || contains(r.g.Words, r.tokens[i].low) || contains(r.g.Opening, r.tokens[i].low) {
			continue
		}
		called := r.calledBy(r.tokens[i].low)
		if len(called) == 1 {
			r.from = called[0]
			r.watched(i, 1)
		}
	}
}

// calledBy lists the sources that have a word in the name of their records.
func (r *reader) calledBy(word string) (out []*KnownSource) {
	for n := range r.world.Sources {
		for w := range strings.FieldsFuncSeq(value.Fold(inWords(r.world.Sources[n].Name)), func(c rune) bool { return c == ' ' || c == '-' }) {
			if r.g.singular(w) == r.g.singular(word) {
				out = append(out, &r.world.Sources[n])
				break
			}
		}
	}
	return out
}

// watched marks words that name what is watched, and one behind them such as "row".
func (r *reader) watched(at, width int) {
	r.mark(at, at+width, AsSource, r.from.Name)
	if behind := at + width; behind < len(r.tokens) && r.tokens[behind].as == "" && contains(r.g.Row, r.g.singular(r.tokens[behind].low)) {
		r.mark(behind, behind+1, AsFiller, "")
	}
}

// inWords is what the records of a source are called, in words.
func inWords(source string) string {
	_, kind, _ := strings.Cut(source, "/")
	return strings.ReplaceAll(kind, "_", " ")
}

// sourceAt finds the source whose records are named by the words from here on: of several, by the most words.
func (r *reader) sourceAt(at int) (source *KnownSource, width int) {
	for n := range r.world.Sources {
		if w := r.names(at, &r.world.Sources[n]); w > width {
			source, width = &r.world.Sources[n], w
		}
	}
	return source, width
}

// names tells how many words from here on name the records of a source: batches, cellar batches, cellar/batches.
func (r *reader) names(at int, s *KnownSource) (width int) {
	connection, _, _ := strings.Cut(s.Name, "/")
	for _, name := range []string{inWords(s.Name), s.Title, s.Name, connection + " " + inWords(s.Name)} {
		w := len(strings.Fields(name))
		if w > width && at+w <= len(r.tokens) && (r.free(at, at+w) || r.tokens[at].as == AsSource) && r.g.singular(r.phrase(at, at+w)) == r.g.singular(value.Fold(name)) {
			width = w
		}
	}
	return width
}

// sameName asks which source is meant where several have records that are called so.
func (r *reader) sameName(at, width int) {
	about := r.text(at, at+width)
	var choices []string
	for n := range r.world.Sources {
		s := &r.world.Sources[n]
		if connection, _, _ := strings.Cut(s.Name, "/"); r.names(at, s) == width {
			choices = append(choices, connection+" "+about)
		}
	}
	if len(choices) > 1 && about != "" && !strings.Contains(about, "/") {
		r.doubts = append(r.doubts, Doubt{About: about, Ask: "Several sources have records called " + about + ". Which are meant?", Choices: choices})
	}
}
