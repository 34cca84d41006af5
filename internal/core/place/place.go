// Package place says what a connection takes for a place: one of its list, mail addresses, a number, or any text.
package place

import (
	"errors"
	"fmt"
	"net/mail"
	"slices"
	"strings"

	"dorfbote/internal/core/people"
	"dorfbote/internal/core/value"
)

// Form is how places of a kind of connection are written.
type Form string

// The forms.
const (
	Free   Form = ""       // any text
	Listed Form = "listed" // one of a list, compared exactly
	Mail   Form = "mail"   // one mail address or several, separated by commas
	Number Form = "number" // a telephone number, kept as E.164
	Room   Form = "room"   // an address of XMPP (RFC 7622): a room or a person
)

// Rule is what one connection takes.
type Rule struct {
	Kind   string // of the connection
	Form   Form
	Places []string // of [Listed]
	Rooms  string   // of [Room]: the server of the rooms, where a bare name is one; "" where that is not known
	Can    []string // what it can do with a post besides sending it
	// Any is true where nothing is known of the connection, so that any place is taken.
	Any bool
}

const maxPlace = 2000

// Take gives a place as it is kept, "" for an empty one. The error says why it can be none. A number without its country's code
// is read as one of the workspace's country.
func (r Rule) Take(text string, ws value.Workspace) (string, error) {
	text = strings.TrimSpace(text)
	switch {
	case strings.ContainsAny(text, "\r\n\x00"):
		return "", fmt.Errorf("%s has a line end in it, which no address has", quoted(text))
	case len(text) > maxPlace && r.Form != Mail:
		return "", errors.New("it is too long for an address")
	}
	switch {
	case r.Any:
		if list, err := addresses(text); err == nil && strings.Contains(text, ",") {
			return strings.Join(list, ", "), nil
		}
		return text, nil
	case r.Form == Mail:
		list, err := addresses(text)
		return strings.Join(list, ", "), err
	case text == "":
		return "", nil
	case r.Form == Listed && !slices.Contains(r.Places, text):
		return "", fmt.Errorf("%s is none of its places", quoted(text))
	case r.Form == Number:
		return number(text, ws)
	case r.Form == Room:
		if name := strings.TrimPrefix(text, "#"); r.Rooms != "" && name != "" && !strings.ContainsAny(name, "@/#") {
			text = name + "@" + r.Rooms
		}
		return jid(text)
	}
	return text, nil
}

func quoted(s string) string {
	if r := []rune(s); len(r) > 80 {
		s = string(r[:79]) + "…"
	}
	return fmt.Sprintf("%q", s)
}

// addresses are the mail addresses of a text, without what is empty among them and without what stands twice. One may stand with a name,
// as in mails: Marit Aven <marit@lindental.example>; the name is not kept.
func addresses(text string) ([]string, error) {
	var out []string
	for _, one := range apart(text) {
		one = strings.TrimSpace(one)
		if one == "" {
			continue
		}
		if a, err := mail.ParseAddress(one); err == nil && strings.HasSuffix(one, ">") {
			one = a.Address
		}
		if err := mailAddress(one); err != nil {
			return nil, err
		}
		if !slices.ContainsFunc(out, func(o string) bool { return strings.EqualFold(o, one) }) {
			out = append(out, one)
		}
	}
	return out, nil
}

// apart takes a list of addresses apart at its commas, except those of a quoted name.
func apart(text string) []string {
	var out []string
	quoted, escaped, from := false, false, 0
	for i := range len(text) {
		switch c := text[i]; {
		case escaped:
			escaped = false
		case c == '\\' && quoted:
			escaped = true
		case c == '"':
			quoted = !quoted
		case c == ',' && !quoted:
			out, from = append(out, text[from:i]), i+1
		}
	}
	if quoted { // a quote that is never closed quotes nothing
		return strings.Split(text, ",")
	}
	return append(out, text[from:])
}

// mailAddress refuses what is no address of RFC 5322, or, beyond ASCII, of RFC 6532. A name beside it is none of it.
func mailAddress(s string) error {
	a, err := mail.ParseAddress(s)
	if err != nil || a.Name != "" || a.Address != s || len(s) > 320 {
		return fmt.Errorf("%s is no mail address", quoted(s))
	}
	at := strings.LastIndexByte(s, '@')
	if domain := s[at+1:]; domain == "" || strings.ContainsAny(s, " \t<>()\"\\") || strings.Contains(domain, "..") || strings.HasPrefix(domain, ".") || strings.HasSuffix(domain, ".") {
		return fmt.Errorf("%s is no mail address", quoted(s))
	}
	return nil
}

// number reads a telephone number, however it was typed.
func number(text string, ws value.Workspace) (string, error) {
	e164, err := value.Phone(text, ws.Region())
	if errors.Is(err, value.ErrNoPhone) && ws.Region() == "" {
		return "", fmt.Errorf("%s %w; begin it with + and the country's code", quoted(text), err)
	}
	if errors.Is(err, value.ErrNoPhone) {
		return "", fmt.Errorf("%s %w in %s; one of elsewhere begins with +", quoted(text), err, ws.Region())
	}
	if err != nil {
		return "", fmt.Errorf("%s %w", quoted(text), err)
	}
	return e164, nil
}

// jid reads an address of XMPP without its resource.
func jid(text string) (string, error) {
	bare, _, _ := strings.Cut(text, "/")
	local, domain, ok := strings.Cut(bare, "@")
	if !ok || local == "" || domain == "" || strings.ContainsAny(bare, " \t\"&':<>") || strings.Contains(domain, "@") {
		return "", fmt.Errorf("%s is no address of a room or a person, such as tours@rooms.example", quoted(text))
	}
	return bare, nil
}

// Nobody says why a text names nobody of the people book.
func Nobody(who string, book *people.Book) string {
	if book.Several(who) {
		return "several in the people book are called " + quoted(who) + "; name one by the id"
	}
	return "nobody in the people book is called " + quoted(who)
}
