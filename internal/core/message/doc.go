// Package message turns a message's template and a record into a document, and a document into what
// a channel takes.
//
// A body is CommonMark with formulas in "${ … }". The markup is read before any formula is filled in,
// so that a record's text is only ever text: it cannot become markup, a link, a mention or a line
// of its own kind.
package message

import (
	"encoding/json"

	"dorfbote/internal/core/people"
)

// Document is one finished message, without the dialect of any channel.
type Document struct {
	Title string  `json:"title"`
	Body  []Block `json:"body"`
	Facts []Fact  `json:"facts"`
	Tone  string  `json:"tone"`
	Link  *Link   `json:"link,omitempty"`

	Links    []Link      `json:"links,omitempty"` // besides Link
	Sender   *Sender     `json:"sender,omitempty"`
	Picture  *Picture    `json:"picture,omitempty"`
	Mentions []Mentioned `json:"mentions,omitempty"`
	Attach   []File      `json:"attach,omitempty"`
	Buttons  []Button    `json:"buttons,omitempty"`
	Talk     *Talk       `json:"talk,omitempty"`
	// Withdrawn is true of what stands in the place of a copy whose original was taken back; see [TakenBack].
	Withdrawn bool `json:"withdrawn,omitempty"`
}

// Talk says of a copy of a chat message what the message answered, so that the copy stands in the thread that its like stands in:
// another message of the same room, by its key; or a post in a room that another source reads, by that source and the key there.
type Talk struct {
	Thread string `json:"thread,omitempty"`
	Source string `json:"source,omitempty"`
	Key    string `json:"key,omitempty"`
}

// Fact is a label with its value.
type Fact struct {
	Label string `json:"label"`
	Value string `json:"value"`
}

// Link is the message's own link.
type Link struct {
	Text string `json:"text"`
	To   string `json:"to"`
	// Share is what the link shows of the record to people without an account; To is given when the message is sent.
	Share *Shared `json:"share,omitempty"`
}

// BlockKind says what a block is.
type BlockKind string

// The kinds of block.
const (
	Paragraph BlockKind = "paragraph"
	Heading   BlockKind = "heading"
	ListBlock BlockKind = "list"
	Quote     BlockKind = "quote"
	CodeBlock BlockKind = "code"
	Rule      BlockKind = "rule"
)

// Block is one block of a body.
type Block struct {
	Kind    BlockKind `json:"kind"`
	Level   int       `json:"level,omitempty"` // of a heading
	Ordered bool      `json:"ordered,omitempty"`
	Start   int       `json:"start,omitempty"`
	Inlines []Inline  `json:"inlines,omitempty"` // of a paragraph or heading
	Items   [][]Block `json:"items,omitempty"`   // of a list
	Blocks  []Block   `json:"blocks,omitempty"`  // of a quote
	Code    string    `json:"code,omitempty"`
}

// InlineKind says what a piece of a line is.
type InlineKind string

// The kinds of inline.
const (
	Text   InlineKind = "text"
	Strong InlineKind = "strong"
	Emph   InlineKind = "emph"
	Code   InlineKind = "code"
	Anchor InlineKind = "link"
	Break  InlineKind = "break"
	// MentionInline is a person: Text is the name, and To the address on the connection that the message goes over, if there is one.
	// Text is there whatever the destination makes of it.
	MentionInline InlineKind = "mention"
)

// Inline is a piece of a line.
type Inline struct {
	Kind InlineKind `json:"kind"`
	Text string     `json:"text,omitempty"` // of text, code and a mention
	To   string     `json:"to,omitempty"`   // of a link and a mention
	Subs []Inline   `json:"subs,omitempty"`

	person *people.Person // of a mention, until it is known where the message goes
}

// Tones a message may have.
var Tones = []string{"plain", "good", "warning", "urgent"}

// Saying is a message that says some words, and nothing else.
func Saying(words string) *Document {
	return &Document{Tone: "plain", Facts: []Fact{}, Body: []Block{TextBlock(words)}}
}

// TextBlock is a paragraph of plain text.
func TextBlock(text string) Block {
	return Block{Kind: Paragraph, Inlines: []Inline{{Kind: Text, Text: text}}}
}

// JSON writes a document as it is kept with a post.
func (d *Document) JSON() (json.RawMessage, error) { return json.Marshal(d) }

// Stored reads a document as it is kept with a post, which is as JSON.
func Stored(raw []byte) (*Document, error) {
	var d Document
	err := json.Unmarshal(raw, &d)
	return &d, err
}
