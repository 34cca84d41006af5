// Package room reads the messages of a chat room: of the square, or of an XMPP multi-user room.
package room

import (
	"strings"
	"time"

	"dorfbote/internal/connect"
	dialects "dorfbote/internal/core/message"
	"dorfbote/internal/core/place"
	"dorfbote/internal/core/value"
)

const (
	square = "the square"
	xmpp   = "XMPP"
)

// Kind describes chat rooms.
func Kind() *connect.Kind {
	return &connect.Kind{
		Sends: &connect.Sends{Can: []connect.Ability{connect.CanEdit, connect.CanReply, connect.CanPicture, connect.CanMention}, Dialect: dialects.Light, Form: place.Room, Rooms: roomsOf},
		Mute: func(settings map[string]string) string {
			if settings["chat"] != xmpp {
				return "posts to the square go over a chat connection; this one only reads"
			}
			return ""
		},
		SaidIn: func(source map[string]string) string { return source["room"] },
		Hears:  hears,
		Keeps:  true,
		Reads:  connect.ReadsAsked, Listens: func(map[string]string) bool { return true },
		Name: "room", Title: "Chat room", Does: "Posts to chat rooms and persons by XMPP, and reads what people write there: all of it, or only what mentions Dorfbote, a command, or a reaction",
		Settings: []connect.Setting{
			{Name: "chat", Label: "Chat", Type: "choice", Options: []string{square, xmpp}, Default: square},
			{Name: "address", Label: "Address", Type: "address", Required: true, When: "chat=" + square},
			{Name: "token", Label: "Token", Type: "secret", Required: true, When: "chat=" + square},
			{Name: "user", Label: "Address of the account", Type: "text", Required: true, When: "chat=" + xmpp, Help: "such as dorfbote@chat.example"},
			{Name: "password", Label: "Password", Type: "secret", Required: true, When: "chat=" + xmpp},
			{Name: "host", Label: "Server", Type: "text", When: "chat=" + xmpp, More: true, Help: "with :port, where it is not the account's own host"},
			{Name: "encrypted", Label: "Encrypted", Type: "choice", Options: []string{"always", "never"}, Default: "always", When: "chat=" + xmpp, More: true},
			{Name: "rooms", Label: "Server of the rooms", Type: "text", When: "chat=" + xmpp, More: true, Help: "such as rooms.chat.example"},
			connect.AsksWhy(),
		},
		Source: []connect.Setting{
			{Name: "room", Label: "Room", Type: "text", Required: true, Help: "such as #tours, or tours@rooms.chat.example"},
			{Name: "which", Label: "Which messages", Type: "choice", Options: []string{"all", "those that mention the name", "those that begin with the command", "reactions"}, Default: "all"},
			{Name: "name", Label: "Name that is mentioned", Type: "text", Default: "Dorfbote", When: "which=those that mention the name"},
			{Name: "command", Label: "Command", Type: "text", Required: true, When: "which=those that begin with the command", Help: "the first word of the message, such as late"},
			{Name: "reaction", Label: "Reaction", Type: "text", When: "which=reactions", Help: "only this one; empty for all"},
		},
		Key: "id", TitleField: "text", Appends: true, Quickest: 2 * time.Second, Slowest: 30 * time.Second, Watched: 2 * time.Second,
		Fields: fields,
		Open: func(c connect.Config) (connect.Conn, error) {
			if c.Settings["chat"] == xmpp {
				return newXMPP(c)
			}
			return &squareRoom{c}, nil
		},
	}
}

// hears says how one speaks to Dorfbote where a source reads.
func hears(source map[string]string) (before string, ok bool) {
	src := connect.SourceConfig{Settings: source}
	switch src.Get("which", "all") {
	case "all":
		return "", true
	case "those that mention the name":
		return "@" + src.Get("name", Nick) + " ", true
	}
	return "", false
}

// fields are those of a message, or of a reaction to one.
func fields(settings map[string]string) []value.Field {
	out := []value.Field{
		connect.Field("id", value.Text), connect.Field("room", value.Text), connect.Field("author", value.Text), connect.Field("text", value.Text), connect.Field("at", value.Moment),
	}
	if settings["which"] == "reactions" {
		return append(out, connect.Field("reaction", value.Text), connect.Field("thread", value.Text))
	}
	return append(out, connect.Field("command", value.Text), connect.Field("rest", value.Text), connect.Field("spoken_to", value.YesNo), connect.Field("mentions", value.List), connect.Field("images", value.List), connect.Field("thread", value.Text), connect.Field(dialects.TextMarks, value.Text))
}

// message is one thing that was said, or a reaction to one.
type message struct {
	ID, Room, Author, Text string
	At                     time.Time
	Mentions, Images       []string
	Thread                 string
	Marks                  string // by which its text is marked; "" for CommonMark
	Reaction               string // for a reaction; Text is then what it is a reaction to
	Changed                bool   // it was said before, and is said anew now
	Gone                   bool   // it was taken away
}

// wanted tells whether a source takes a message.
func wanted(src connect.SourceConfig, m *message) bool {
	switch src.Get("which", "all") {
	case "those that mention the name":
		return m.Reaction == "" && mentions(m, src.Get("name", Nick))
	case "those that begin with the command":
		word, _ := command(m.Text)
		want, _ := command(src.Settings["command"])
		return m.Reaction == "" && word != "" && strings.EqualFold(word, want)
	case "reactions":
		want := src.Settings["reaction"]
		return m.Reaction != "" && (want == "" || strings.EqualFold(want, m.Reaction))
	}
	return m.Reaction == ""
}

// mentions tells whether a message speaks to a name: with an @ before it, at its beginning with a colon or comma
// behind it, or by the chat's own account of whom it mentions.
func mentions(m *message, name string) bool {
	for _, n := range m.Mentions {
		if strings.EqualFold(n, name) {
			return true
		}
	}
	text, name := strings.ToLower(m.Text), strings.ToLower(name)
	for rest := text; name != ""; {
		i := strings.Index(rest, "@"+name)
		if i < 0 {
			break
		}
		rest = rest[i+1+len(name):]
		if rest == "" || !wordByte(rest[0]) {
			return true
		}
	}
	after, ok := strings.CutPrefix(strings.TrimSpace(text), name)
	return ok && name != "" && after != "" && (after[0] == ':' || after[0] == ',')
}

func wordByte(b byte) bool {
	return b >= 'a' && b <= 'z' || b >= '0' && b <= '9' || b == '_' || b >= 0x80
}

// command splits a message into its first word, without what commands are marked by, and the rest.
func command(text string) (word, rest string) {
	word, rest, _ = strings.Cut(strings.TrimSpace(text), " ")
	return strings.TrimLeft(word, "/!"), strings.TrimSpace(rest)
}

// item is the message as a record of a source.
func (m *message) item(src connect.SourceConfig) connect.Item {
	if m.Gone {
		return connect.Item{Key: m.ID, Removed: true, By: m.Author}
	}
	word, rest := command(m.Text)
	r := map[string]any{"id": m.ID, "room": m.Room, "author": m.Author, "text": clean(m.Text), "at": m.At.UTC().Format(time.RFC3339)}
	if m.Reaction != "" {
		r["reaction"] = clean(m.Reaction)
	} else {
		r["command"], r["rest"] = clean(word), clean(rest)
		r["spoken_to"] = mentions(m, src.Get("name", Nick))
	}
	if m.Marks != "" {
		r[dialects.TextMarks] = m.Marks
	}
	if len(m.Images) > 0 {
		r["images"] = list(m.Images)
	}
	if len(m.Mentions) > 0 {
		r["mentions"] = list(m.Mentions)
	}
	if m.Thread != "" {
		r["thread"] = m.Thread
	}
	return connect.Item{Key: m.ID, Record: r, At: m.At, By: m.Author, Old: m.Changed}
}

func list(s []string) []any {
	out := make([]any, len(s))
	for i, e := range s {
		out[i] = clean(e)
	}
	return out
}

func clean(s string) string {
	return strings.ReplaceAll(strings.ToValidUTF8(s, "\uFFFD"), "\x00", "\uFFFD")
}

// choice offers a room as a choice.
func choice(name, title, detail string) connect.Choice {
	return connect.Choice{Kind: connect.KindName(title, "room"), Title: title, Detail: detail, Key: "id", Settings: map[string]string{"room": name}}
}
