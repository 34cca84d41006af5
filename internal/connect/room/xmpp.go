package room

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"net"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/singleflight"
	"mellium.im/sasl"
	"mellium.im/xmlstream"
	xmppim "mellium.im/xmpp"
	"mellium.im/xmpp/disco"
	"mellium.im/xmpp/disco/items"
	"mellium.im/xmpp/jid"
	"mellium.im/xmpp/stanza"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/fault"
	dialects "dorfbote/internal/core/message"
	"dorfbote/internal/core/place"
)

// xmppRooms reads rooms of an XMPP server (XEP-0045). What is said comes by itself; after a break, what was said
// meanwhile is asked for from the room's history.
type xmppRooms struct {
	config connect.Config
	user   jid.JID

	opening singleflight.Group // the session that is being opened to send over
	mu      sync.Mutex
	speaker *speaker // to send over; nil until something is sent
	closed  int      // how often this was closed
}

func newXMPP(c connect.Config) (connect.Conn, error) {
	j, err := jid.Parse(c.Settings["user"])
	if err != nil || j.Localpart() == "" {
		return nil, &fault.Fault{Tried: "reading the address of the account", Said: fmt.Sprintf("%q is no address of an account", c.Settings["user"]), Do: "write it like dorfbote@chat.example"}
	}
	return &xmppRooms{config: c, user: j}, nil
}

func (x *xmppRooms) session(ctx context.Context) (*xmppim.Session, error) {
	address := x.config.Settings["host"]
	if address == "" {
		address = x.user.Domainpart()
	}
	if _, _, err := net.SplitHostPort(address); err != nil {
		address = net.JoinHostPort(address, "5222")
	}
	conn, err := x.config.Env.Dial(ctx, "tcp", address)
	if err != nil {
		if t, ok := errors.AsType[*fault.Fault](err); ok {
			return nil, t
		}
		return nil, &fault.Fault{Tried: "calling " + address, Said: "no answer: " + err.Error(), Do: "check the server's address"}
	}
	config := &tls.Config{MinVersion: tls.VersionTLS12}
	if x.config.Env.TLS != nil {
		config = x.config.Env.TLS.Clone()
	}
	config.ServerName = x.user.Domainpart()
	features := []xmppim.StreamFeature{xmppim.SASL("", x.config.Settings["password"], sasl.ScramSha256, sasl.ScramSha1, sasl.Plain), xmppim.BindResource()}
	if x.config.Get("encrypted", "always") == "always" {
		features = append([]xmppim.StreamFeature{xmppim.StartTLS(config)}, features...)
	} else {
		features[0] = insecure(xmppim.SASL("", x.config.Settings["password"], sasl.ScramSha256, sasl.ScramSha1))
	}
	// What negotiates reads without a deadline: when ctx ends, so does the connection.
	stop := context.AfterFunc(ctx, func() { _ = conn.Close() })
	s, err := xmppim.NewClientSession(ctx, x.user, conn, features...)
	if !stop() {
		return nil, &fault.Fault{Tried: "signing in as " + x.user.String(), Said: "the server does not answer"}
	}
	if err != nil {
		conn.Close()
		return nil, &fault.Fault{Tried: "signing in as " + x.user.String(), Said: connect.NoAnswer(err), Do: "check the account and the password", Who: "whoever runs the chat server"}
	}
	return s, nil
}

// insecure lets a feature be used without encryption. Passwords themselves are never sent so: only proofs of them.
func insecure(f xmppim.StreamFeature) xmppim.StreamFeature {
	f.Necessary &^= xmppim.Secure
	return f
}

func end(s *xmppim.Session) {
	_ = s.Close()
	_ = s.Conn().Close()
}

func (x *xmppRooms) rooms() string { return roomsOf(x.config.Settings) }

// roomsOf is the server of the rooms: as it is set, or as it usually is called.
func roomsOf(settings map[string]string) string {
	if at := settings["rooms"]; at != "" {
		return at
	}
	_, domain, _ := strings.Cut(settings["user"], "@")
	domain, _, _ = strings.Cut(domain, "/")
	if domain == "" {
		return ""
	}
	return "conference." + domain
}

// Prove signs in and lists the rooms.
func (x *xmppRooms) Prove(ctx context.Context) []connect.ProofStep {
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	s, err := x.session(ctx)
	if err != nil {
		return []connect.ProofStep{connect.Failed("signing in", err)}
	}
	steps := []connect.ProofStep{connect.Passed("signing in as "+x.user.String(), "signed in")}
	list, err := x.list(ctx, s)
	end(s)
	if err != nil {
		return append(steps, connect.Failed("listing the rooms at "+x.rooms(), err))
	}
	return append(steps, connect.Passed("listing the rooms at "+x.rooms(), "%s", connect.Counted(len(list), "room")))
}

// Browse lists the rooms that are public.
func (x *xmppRooms) Browse(ctx context.Context) ([]connect.Choice, error) {
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	s, err := x.session(ctx)
	if err != nil {
		return nil, err
	}
	defer end(s)
	return x.list(ctx, s)
}

func (x *xmppRooms) list(ctx context.Context, s *xmppim.Session) ([]connect.Choice, error) {
	to, err := jid.Parse(x.rooms())
	if err != nil {
		return nil, &fault.Fault{Tried: "reading the rooms' server", Said: fmt.Sprintf("%q is no address", x.rooms())}
	}
	go func() { _ = s.Serve(nil) }()
	iter := disco.FetchItems(ctx, items.Item{JID: to}, s)
	defer func() { _ = iter.Close() }()
	var out []connect.Choice
	for iter.Next() && len(out) < 1000 {
		i := iter.Item()
		out = append(out, choice(i.JID.Bare().String(), i.JID.Localpart(), i.Name))
	}
	if err := iter.Err(); err != nil {
		return out, &fault.Fault{Tried: "listing the rooms at " + x.rooms(), Said: err.Error(), Do: "name the rooms' server in the settings"}
	}
	return out, nil
}

// heard is a message as it stands in the stream.
type heard struct {
	stanza.Message
	Body  string `xml:"body"`
	Delay struct {
		Stamp string `xml:"stamp,attr"`
	} `xml:"urn:xmpp:delay delay"`
	StanzaID []struct {
		ID string `xml:"id,attr"`
		By string `xml:"by,attr"`
	} `xml:"urn:xmpp:sid:0 stanza-id"`
	Reactions struct {
		ID   string   `xml:"id,attr"`
		List []string `xml:"reaction"`
	} `xml:"urn:xmpp:reactions:0 reactions"`
	Reference []struct {
		Type string `xml:"type,attr"`
		URI  string `xml:"uri,attr"`
	} `xml:"urn:xmpp:reference:0 reference"`
	OOB []struct {
		URL string `xml:"url"`
	} `xml:"jabber:x:oob x"`
	Thread string `xml:"thread"`
	Reply  struct {
		ID string `xml:"id,attr"`
	} `xml:"urn:xmpp:reply:0 reply"`
	Replace struct {
		ID string `xml:"id,attr"`
	} `xml:"urn:xmpp:message-correct:0 replace"`
	Retract struct {
		ID        string    `xml:"id,attr"`
		Moderated *struct{} `xml:"urn:xmpp:message-moderate:1 moderated"`
	} `xml:"urn:xmpp:message-retract:1 retract"`
	Unstyled *struct{}    `xml:"urn:xmpp:styling:0 unstyled"`
	Mark     *struct{}    `xml:"urn:dorfbote:mark:0 posted"`
	Error    stanza.Error `xml:"error"`
}

// since is when the last message that was delivered was said.
type since struct {
	At   time.Time `json:"at"`
	Said []saying  `json:"said,omitempty"` // the last messages, the newest last, for what corrects them
}

// saying names a message: its author's id of it, by which a correction names it (XEP-0308), and the room's, by which it is known here
// and by which it is retracted (XEP-0424). Only who said it may do either.
type saying struct {
	ID     string `json:"i"`
	Key    string `json:"k"`
	Author string `json:"a"`
}

// mostSaid is how many messages can still be corrected. They are kept with the cursor, so that a break changes nothing.
const mostSaid = 50

// remember notes a message, so that it can be corrected.
func (s *since) remember(one saying) {
	if s.Said = append(s.Said, one); len(s.Said) > mostSaid {
		s.Said = s.Said[len(s.Said)-mostSaid:]
	}
}

// said finds a message of an author by its id or its key.
func (s *since) said(author, id string) (key string, ok bool) {
	for _, one := range slices.Backward(s.Said) {
		if one.Author == author && (one.ID == id || one.Key == id) {
			return one.Key, true
		}
	}
	return "", false
}

// Listen joins the room and hands over what is said there.
func (x *xmppRooms) Listen(ctx context.Context, src connect.SourceConfig, raw json.RawMessage, deliver func([]connect.Item, json.RawMessage) error) error {
	dial, cancel := context.WithTimeout(ctx, 20*time.Second)
	s, err := x.session(dial)
	cancel()
	if err != nil {
		return err
	}
	stop := context.AfterFunc(ctx, func() { end(s) })
	defer stop()
	defer end(s)
	var silent atomic.Bool
	alive, done := context.WithCancel(ctx)
	defer done()
	go func() {
		for alive.Err() == nil {
			select {
			case <-alive.Done():
			case <-time.After(askedEvery):
				if !answers(alive, s) && alive.Err() == nil {
					silent.Store(true)
					end(s)
					return
				}
			}
		}
	}()
	name, err := place.Rule{Form: place.Room, Rooms: x.rooms()}.Take(src.Settings["room"], x.config.Env.Workspace)
	if err != nil {
		return &fault.Fault{Tried: "joining " + src.Settings["room"], Said: err.Error(), Do: "name the room as the chat does, such as #tours"}
	}
	room, err := jid.Parse(name)
	if err != nil {
		return &fault.Fault{Tried: "joining " + name, Said: "this is no address of a room"}
	}
	nick := src.Get("name", Nick)
	var last since
	if len(raw) > 0 {
		_ = json.Unmarshal(raw, &last)
	}
	if err := x.join(ctx, s, room, nick, last.At); err != nil {
		return err
	}
	var refused error
	err = s.Serve(xmppim.HandlerFunc(func(t xmlstream.TokenReadEncoder, start *xml.StartElement) error {
		d := xml.NewTokenDecoder(xmlstream.MultiReader(xmlstream.Token(*start), t))
		switch start.Name.Local {
		case "presence":
			var p struct {
				stanza.Presence
				Error stanza.Error `xml:"error"`
			}
			if err := d.Decode(&p); err == nil && p.Type == stanza.ErrorPresence {
				refused = &fault.Fault{Tried: "joining " + room.String(), Said: string(p.Error.Condition), Do: "let the account into the room", Who: "the owner of the room"}
				return refused
			}
		case "message":
			var h heard
			if err := d.Decode(&h); err != nil && !errors.Is(err, io.EOF) {
				return nil
			}
			for _, m := range h.messages(room, nick, &last) {
				if m.At.After(last.At) {
					last.At = m.At
				}
				cursor, _ := json.Marshal(last)
				var list []connect.Item
				if m.Gone || wanted(src, &m) {
					list = []connect.Item{m.item(src)}
				}
				if err := deliver(list, cursor); err != nil {
					refused = err
					return err
				}
			}
		}
		return nil
	}))
	switch {
	case refused != nil:
		return refused
	case ctx.Err() != nil:
		return nil
	case silent.Load():
		return &fault.Fault{Tried: "listening in " + room.String(), Said: "the server does not answer any more"}
	case err == nil:
		return &fault.Fault{Tried: "listening in " + room.String(), Said: "the server ended the connection"}
	}
	return &fault.Fault{Tried: "listening in " + room.String(), Said: err.Error()}
}

// join enters the room, and asks for what was said since the last message. The history's moments are whole
// seconds, so some of it may come again; it is known by its id.
func (x *xmppRooms) join(ctx context.Context, s *xmppim.Session, room jid.JID, nick string, after time.Time) error {
	r, err := joins(room, nick, after)
	if err != nil {
		return err
	}
	return s.Send(ctx, r)
}

// joins makes the stanza by which a room is entered under a name, with what was said there after a moment; of no moment, with nothing.
func joins(room jid.JID, nick string, after time.Time) (xml.TokenReader, error) {
	to, err := room.WithResource(nick)
	if err != nil {
		return nil, err
	}
	history := xml.StartElement{Name: xml.Name{Local: "history"}, Attr: []xml.Attr{{Name: xml.Name{Local: "maxstanzas"}, Value: "0"}}}
	if !after.IsZero() {
		history.Attr = []xml.Attr{{Name: xml.Name{Local: "since"}, Value: after.Add(-time.Second).UTC().Format("2006-01-02T15:04:05Z")}}
	}
	p := stanza.Presence{To: to}
	return p.Wrap(xmlstream.Wrap(xmlstream.Wrap(nil, history), xml.StartElement{Name: xml.Name{Space: "http://jabber.org/protocol/muc", Local: "x"}})), nil
}

// messages makes of a stanza what was said, said anew or taken away, or the reactions in it. What Dorfbote has said is passed over:
// its own, known by its name or its id, and another's, known by its mark.
func (h *heard) messages(room jid.JID, nick string, last *since) []message {
	author := h.From.Resourcepart()
	if h.Type == stanza.GroupChatMessage && author == "" && h.Retract.ID != "" && h.Retract.Moderated != nil { // the room itself says so (XEP-0425)
		return []message{{ID: h.Retract.ID, Gone: true, At: time.Now().UTC()}}
	}
	if h.Type != stanza.GroupChatMessage || author == "" || author == nick || h.Mark != nil || strings.HasPrefix(h.ID, idPrefix) {
		return nil
	}
	at := time.Now().UTC()
	if t, err := time.Parse(time.RFC3339, h.Delay.Stamp); err == nil {
		at = t
	}
	if h.Retract.ID != "" {
		key, ok := last.said(author, h.Retract.ID)
		if !ok {
			return nil
		}
		return []message{{ID: key, Author: author, Gone: true, At: at}}
	}
	id := h.ID
	for _, s := range h.StanzaID {
		if s.By == room.String() {
			id = s.ID
		}
	}
	if id == "" {
		id = fmt.Sprintf("%s-%d", author, at.UnixMilli())
	}
	m := message{ID: id, Room: room.Localpart(), Author: author, Text: h.Body, At: at, Thread: h.Reply.ID, Marks: dialects.Styling}
	if h.Unstyled != nil {
		m.Marks = dialects.Unmarked
	}
	if h.Replace.ID != "" {
		key, ok := last.said(author, h.Replace.ID)
		if !ok {
			return nil
		}
		m.ID, m.Changed = key, true
	}
	for _, r := range h.Reference {
		if j, err := jid.Parse(strings.TrimPrefix(r.URI, "xmpp:")); err == nil && r.Type == "mention" {
			m.Mentions = append(m.Mentions, j.Resourcepart(), j.Localpart())
		}
	}
	for _, o := range h.OOB {
		m.Images = append(m.Images, o.URL)
	}
	if len(h.Reactions.List) > 0 {
		var out []message
		for i, r := range h.Reactions.List {
			one := m
			one.ID, one.Reaction, one.Thread = fmt.Sprintf("%s-%d", id, i), r, h.Reactions.ID
			out = append(out, one)
		}
		return out
	}
	if h.Body == "" {
		return nil
	}
	if !m.Changed {
		last.remember(saying{h.ID, m.ID, author})
	}
	return []message{m}
}
