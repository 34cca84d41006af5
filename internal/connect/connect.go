// Package connect holds what every kind of connection has in common: how it is described, opened, proved,
// browsed and read. A package below it is one kind; it touches nothing but its own folder and one line in
// internal/connect/kinds.
package connect

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/value"
)

// Kind describes one kind of connection.
type Kind struct {
	Name  string // as in the table of connections
	Title string
	Does  string // in one sentence, for whoever chooses
	// Settings are asked for once a connection, Source once for each thing that is read from it.
	Settings []Setting
	Source   []Setting
	// Single kinds have one source that needs no choosing.
	Single string
	// Key is the field that names a record, where the kind itself knows; Title and Link likewise.
	Key, TitleField, LinkField string
	// Appends is true where records only ever come, such as messages: the beginning is then always "from now".
	Appends bool
	// Quickest and Slowest bound how often such a source is asked, where the person sets nothing.
	Quickest, Slowest time.Duration
	// Watched is how often at least a source is asked while a workflow that is on watches it, where nobody has said how
	// often; 0 leaves it to the rhythm.
	Watched time.Duration
	// Fields are those that the kind's records have by its nature, whatever has come so far; nil where that depends.
	Fields func(settings map[string]string) []value.Field
	// Reads says how records come from it.
	Reads Reads
	// Sends says how posts are sent to it; nil where none are. What Open gives is a [Sender] then.
	Sends *Sends
	// Mute says why nothing can be sent over a connection with these settings, and what to do; "" where it can. nil is never.
	Mute func(settings map[string]string) string
	// Able says what a connection with these settings can do with a post besides sending it; nil is what its kind can.
	Able func(settings map[string]string) []Ability
	// SaidIn gives the place, of those that posts go to, in which the messages that a source reads are said; nil where it reads none.
	SaidIn func(source map[string]string) string
	// Hears gives what whoever speaks to Dorfbote says first, where a source reads what is said; ok is false where it takes no free words.
	Hears func(source map[string]string) (before string, ok bool)
	// Reports is true where what Open gives is a [Reporter].
	Reports bool
	// ReadReport reads what the other side tells at [DoorReports] of a post that it took: the report, and all that was told as a
	// record, nil where it is none. The error is a [*fault.Fault]. nil where nothing is told there.
	ReadReport func(settings map[string]string, contentType string, body []byte) (r Report, record map[string]any, err error)
	// Signs is true where what comes in may be signed, by a secret that Dorfbote makes.
	Signs bool
	// Door is the first part of the address below Dorfbote's own that calls to such a connection come in by, such as "in".
	Door string
	// Keeps is true where an open connection is kept between posts: it may be used by many goroutines, and one that was closed
	// opens again.
	Keeps bool
	// Keyed is true where the door's address has a key in it, which is made with the connection: the setting "door".
	Keyed bool
	// Makes is true where a signing secret is made with the connection, unless one is given: the setting "signing".
	Makes bool
	// Schema makes the JSON Schema of a source's records of its settings; nil where fields are learnt.
	Schema func(title string, settings map[string]string) (string, error)
	// Listens tells whether a source with these settings says when something is new, or brings it: what Open gives is a
	// [Waiter] or a [Listener] then. nil is never.
	Listens func(settings map[string]string) bool
	// Check says what is wrong with settings, secret ones among them, beyond what each of them asks for: a [*fault.Fault] whose
	// place is the setting. nil finds nothing wrong.
	Check func(settings map[string]string) error
	// Open makes a connection ready. It makes no calls.
	Open func(Config) (Conn, error)
	// Write adds a record to a source or changes one; nil where that cannot be done. Of a write that failed, the error
	// says why and [Written] whether trying again may help.
	Write func(ctx context.Context, c Config, src SourceConfig, w Write) (Written, error)
	// Writable says, without writing anything, why a record cannot be added or changed; nil where nothing is known to be in
	// the way.
	Writable func(c Config, src SourceConfig, change bool) error
}

// Reads is how records come from a kind of connection.
type Reads string

// How records come.
const (
	ReadsNothing Reads = ""
	ReadsAsked   Reads = "asked"  // it is asked for them: what Open gives is a [Poller] or a [Listener]
	ReadsCalled  Reads = "called" // it calls by itself, at its door
)

// The doors that calls to connections come in by: the first part of their addresses below Dorfbote's own.
const (
	DoorEvents  = "in"      // records and events
	DoorForm    = "form"    // a page that is filled in
	DoorReports = "reports" // what became of posts
	DoorFeed    = "feed"    // what was told, to be read
)

// BothFor is for how long a signing secret holds beside the one that it was renewed by.
const BothFor = 24 * time.Hour

// Setting is one thing that a form asks for.
type Setting struct {
	Name     string   `json:"name"`
	Label    string   `json:"label"`
	Help     string   `json:"help,omitempty"`
	Type     string   `json:"type" enum:"text,address,addresses,secret,choice,number,yes/no,long,questions,shape,marks"`
	Required bool     `json:"required,omitempty"`
	Options  []string `json:"options,omitempty"`
	Default  string   `json:"default,omitempty"`
	// When names another setting and the values of it for which this one is asked, as name=a,b.
	When string `json:"when,omitempty"`
	// Needed is like When: the values of another setting for which this one has to be given.
	Needed string `json:"needed,omitempty"`
	// More settings are rarely needed, and stand behind a fold.
	More bool `json:"more,omitempty"`
}

// WhySetting is the setting of connections that put the link to the page which says why a post was told into the message.
const WhySetting = "why"

// WhyWords is what that link says.
const WhyWords = "Why am I told?"

// AsksWhy is that setting.
func AsksWhy() Setting {
	return Setting{
		Name: WhySetting, Label: "Why am I told?", Type: "yes/no", Default: "no", More: true,
		Help: "a quiet link under each message, to a page that says which workflow told it and why, and where one can say whether it was useful",
	}
}

// Config is what a connection is opened with.
type Config struct {
	ID       string
	Settings map[string]string // the secret ones among them
	Env      Env
}

// Get gives a setting, or its fallback where it is empty.
func (c Config) Get(name, fallback string) string {
	if v := c.Settings[name]; v != "" {
		return v
	}
	return fallback
}

// SourceConfig is one thing that is read from a connection.
type SourceConfig struct {
	Name     string // connection/kind
	Settings map[string]string
	Key      string // the field that names a record
	// Look is true where the records are only looked at: one without a key is numbered, and no failure.
	Look bool
}

// Item makes an item of the nth record, which has a key, or the failure that it has none.
func (s SourceConfig) Item(record map[string]any, key string, n int) (Item, error) {
	switch {
	case key != "":
		return Item{Key: key, Record: record}, nil
	case s.Look:
		return Item{Key: fmt.Sprintf("record %d", n), Record: record, Keyless: true}, nil
	}
	return Item{}, Missing(s.Key, n)
}

// Get gives a setting, or its fallback where it is empty.
func (s SourceConfig) Get(name, fallback string) string {
	if v := s.Settings[name]; v != "" {
		return v
	}
	return fallback
}

// Conn is an open connection.
type Conn interface {
	// Prove makes real calls and says what came back.
	Prove(ctx context.Context) []ProofStep
	// Browse lists what can be read.
	Browse(ctx context.Context) ([]Choice, error)
	Close() error
}

// Choice is one thing that can be read from a connection.
type Choice struct {
	Kind     string            `json:"kind"` // a name fit for a source
	Title    string            `json:"title"`
	Detail   string            `json:"detail,omitempty"`
	Key      string            `json:"key,omitempty"`
	Settings map[string]string `json:"settings"`
	// Of a channel: only its members see it; and why it would take no post at the moment, with what to do.
	Private bool   `json:"private,omitempty"`
	Shut    string `json:"shut,omitempty"`
}

// Poller is a connection that is asked from time to time.
type Poller interface {
	Conn
	// Poll reads a source. cursor is what the last whole poll returned; nil asks for the beginning. An error of emit
	// ends the poll and is its error, [ErrEnough] among them.
	Poll(ctx context.Context, src SourceConfig, cursor json.RawMessage, emit func(Item) error) (Polled, error)
}

// Waiter is a connection that can say when asking is worth while.
type Waiter interface {
	// Wait blocks until ctx ends or the connection is lost, and calls changed whenever the source should be
	// polled.
	Wait(ctx context.Context, src SourceConfig, changed func()) error
}

// Field makes the description of a field that a kind's records have by nature.
func Field(name string, t value.Type) value.Field {
	f := value.Field{Name: name, Label: value.LabelOf(name), Type: t}
	if t == value.List {
		f.Of = value.Text
	}
	return f
}

// Listener is a connection that things come in by without being asked for.
type Listener interface {
	Conn
	// Listen hands over what comes in until ctx ends or the connection is lost. since is the cursor of what was
	// delivered last. What deliver has taken is durable.
	Listen(ctx context.Context, src SourceConfig, since json.RawMessage, deliver func(items []Item, cursor json.RawMessage) error) error
}

// Item is a record as it was read.
type Item struct {
	Key    string
	Record map[string]any
	At     time.Time // when it was made or changed, where the source says; zero otherwise
	By     string
	// Removed is true where the source says outright that the record is gone.
	Removed bool
	// Old is true where a record that has not been seen before is not new all the same: it is remembered, and
	// makes no arrival.
	Old bool
	// Keyless is true where the record has no key, and was only looked at.
	Keyless bool
}

// Polled says what a poll found out besides its items.
type Polled struct {
	Cursor json.RawMessage
	// Whole is true where every record there is was handed over, so that one that is missing is gone.
	Whole bool
	// Forget tells of a record that is missing from a whole poll that it is not gone but out of sight: it is
	// dropped without an arrival. nil forgets none.
	Forget func(record map[string]any) bool
	// Same is true where the source said that nothing has changed, and nothing was handed over.
	Same bool
	// Calls is how many calls it took.
	Calls int
	// Said is what could not be read, in a sentence; "" where all was.
	Said string
	// Wait is how long the other side asked to be left alone.
	Wait time.Duration
}

// ErrEnough is returned by an emit function that needs no more items.
var ErrEnough = errors.New("enough")

// ProofStep is one thing that was tried when a connection was proved.
type ProofStep struct {
	OK    bool   `json:"ok"`
	Open  bool   `json:"open,omitempty"` // whether it works is not known yet: it neither worked nor failed
	Tried string `json:"tried"`
	Said  string `json:"said"`          // what came back
	Do    string `json:"do,omitempty"`  // what to do
	Who   string `json:"who,omitempty"` // who can grant it
}

// Failed makes a step of an error.
func Failed(tried string, err error) ProofStep {
	if t, ok := errors.AsType[*fault.Fault](err); ok {
		if t.Tried != "" {
			tried = t.Tried
		}
		return ProofStep{Tried: tried, Said: t.Said, Do: t.Do, Who: t.Who}
	}
	return ProofStep{Tried: tried, Said: err.Error()}
}

// Passed makes a step of something that worked.
func Passed(tried, format string, args ...any) ProofStep {
	return ProofStep{OK: true, Tried: tried, Said: fmt.Sprintf(format, args...)}
}

// Proved tells whether every step worked.
func Proved(steps []ProofStep) bool {
	for _, s := range steps {
		if !s.OK {
			return false
		}
	}
	return len(steps) > 0
}

// KeyOf gives the text of a record's key, "" where it has none.
func KeyOf(record map[string]any, field string) string {
	v, _ := value.ParsePath(field).Get(record)
	switch k := v.(type) {
	case string:
		return k
	case float64:
		return value.NumberText(k)
	case bool:
		return strconv.FormatBool(k)
	}
	return ""
}

// Missing makes the error for a record without a key.
func Missing(field string, n int) error {
	return &fault.Fault{
		Tried: fmt.Sprintf("reading record %d", n), Said: fmt.Sprintf("it has no %q, the field that names a record", field),
		Do: "choose another field as the key",
	}
}

// KindName makes a name fit for a source of what something is called elsewhere.
func KindName(title, fallback string) string {
	s := strings.Trim(strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= '0' && r <= '9', r == '_', r == '-':
			return r
		case r >= 'A' && r <= 'Z':
			return r + 'a' - 'A'
		}
		return '-'
	}, title), "-_")
	if s == "" {
		return fallback
	}
	return s[:min(len(s), 60)]
}
