package room

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/xml"
	"errors"
	"io"
	"strconv"
	"strings"
	"sync"
	"time"

	"mellium.im/xmlstream"
	xmppim "mellium.im/xmpp"
	"mellium.im/xmpp/jid"
	"mellium.im/xmpp/ping"
	"mellium.im/xmpp/stanza"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/fault"
	dialects "dorfbote/internal/core/message"
)

// Nick is what Dorfbote is called in rooms.
const Nick = "Dorfbote"

// How long joining a room may take, and how long a room may take to show what was said in it.
const (
	joining = 10 * time.Second
	showing = 15 * time.Second
)

// speaker is a session that is kept to send over: rooms are joined once, and nothing of their history is read.
type speaker struct {
	session *xmppim.Session
	ended   chan struct{}

	mu     sync.Mutex
	joined map[string]chan error      // by room, while it is being joined and after
	waits  map[string]chan shownOrNot // by the id of what was said
}

// shownOrNot is what came of saying something: the id that the room gave it, or why it was refused.
type shownOrNot struct {
	id  string
	err error
}

// speak gives the session that is kept, and opens one where there is none or it has ended.
func (x *xmppRooms) speak(ctx context.Context) (*speaker, error) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.speaker != nil {
		select {
		case <-x.speaker.ended:
		default:
			return x.speaker, nil
		}
	}
	s, err := x.session(ctx)
	if err != nil {
		return nil, err
	}
	sp := &speaker{session: s, ended: make(chan struct{}), joined: map[string]chan error{}, waits: map[string]chan shownOrNot{}}
	go func() {
		defer close(sp.ended)
		_ = s.Serve(xmppim.HandlerFunc(sp.hear))
	}()
	if err := s.Send(ctx, stanza.Presence{}.Wrap(nil)); err != nil {
		end(s)
		return nil, err
	}
	x.speaker = sp
	return sp, nil
}

// Close ends the session that is kept. What is sent after it opens another.
func (x *xmppRooms) Close() error {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.speaker != nil {
		end(x.speaker.session)
		x.speaker = nil
	}
	return nil
}

// hear takes what comes in: answers to joining, and what the rooms show of what was said.
func (sp *speaker) hear(t xmlstream.TokenReadEncoder, start *xml.StartElement) error {
	d := xml.NewTokenDecoder(xmlstream.MultiReader(xmlstream.Token(*start), t))
	switch start.Name.Local {
	case "presence":
		var p struct {
			stanza.Presence
			Error stanza.Error `xml:"error"`
			Muc   struct {
				Status []struct {
					Code int `xml:"code,attr"`
				} `xml:"status"`
			} `xml:"http://jabber.org/protocol/muc#user x"`
		}
		if err := d.Decode(&p); err != nil && !errors.Is(err, io.EOF) {
			return nil
		}
		room := p.From.Bare().String()
		if p.Type == stanza.ErrorPresence {
			sp.entered(room, refusedBy(p.Error, &fault.Fault{Tried: "joining " + room, Do: "let the account into the room", Who: "the owner of the room"}))
			return nil
		}
		for _, s := range p.Muc.Status {
			switch s.Code {
			case 201: // it was not there, and has been made by joining it
				sp.entered(room, &refusal{Fault: &fault.Fault{Tried: "joining " + room, Said: "there is no such room", Do: "check the room's address"}})
				return nil
			case 110:
				if p.Type != stanza.UnavailablePresence {
					sp.entered(room, nil)
				} else {
					sp.left(room)
				}
			}
		}
	case "message":
		var h heard
		if err := d.Decode(&h); err != nil && !errors.Is(err, io.EOF) {
			return nil
		}
		if h.Type == stanza.ErrorMessage {
			sp.shown(h.ID, shownOrNot{err: refusedBy(h.Error, &fault.Fault{})})
			return nil
		}
		if h.Type == stanza.GroupChatMessage && h.From.Resourcepart() == Nick {
			given := ""
			for _, s := range h.StanzaID {
				if s.By == h.From.Bare().String() {
					given = s.ID
				}
			}
			sp.shown(h.ID, shownOrNot{id: given})
		}
	}
	return nil
}

// refusal is what the server or a room will not take at any time.
type refusal struct {
	*fault.Fault
	own bool // it is about what was said, and would not meet what is said next
}

// Unwrap gives the refusal in words.
func (r *refusal) Unwrap() error { return r.Fault }

// refusedBy makes an error of a stanza's (RFC 6120, 8.3): what waits, and what is wrong with a server for now, may heal; the rest is
// a [refusal].
func refusedBy(e stanza.Error, f *fault.Fault) error {
	f.Said = strings.ReplaceAll(string(e.Condition), "-", " ")
	for _, t := range e.Text {
		if t != "" {
			f.Said += ": " + t
		}
	}
	if e.Type == stanza.Wait || e.Condition == stanza.InternalServerError || e.Condition == stanza.RemoteServerNotFound {
		return f
	}
	own := f.Tried == "" && (e.Condition == stanza.BadRequest || e.Condition == stanza.NotAcceptable || e.Condition == stanza.PolicyViolation)
	return &refusal{f, own}
}

func (sp *speaker) entered(room string, err error) {
	sp.mu.Lock()
	defer sp.mu.Unlock()
	if ch := sp.joined[room]; ch != nil {
		select {
		case ch <- err:
		default:
		}
		if err != nil {
			delete(sp.joined, room)
		}
	}
}

// left has a room joined anew before something is said in it.
func (sp *speaker) left(room string) {
	sp.mu.Lock()
	delete(sp.joined, room)
	sp.mu.Unlock()
}

func (sp *speaker) shown(id string, s shownOrNot) {
	sp.mu.Lock()
	defer sp.mu.Unlock()
	if ch := sp.waits[id]; ch != nil {
		select {
		case ch <- s:
		default:
		}
	}
}

// enter joins a room, unless it has been joined.
func (sp *speaker) enter(ctx context.Context, room jid.JID) error {
	name := room.String()
	sp.mu.Lock()
	ch, there := sp.joined[name]
	if !there {
		ch = make(chan error, 1)
		sp.joined[name] = ch
	}
	sp.mu.Unlock()
	if !there {
		to, err := room.WithResource(Nick)
		if err != nil {
			return err
		}
		none := xml.StartElement{Name: xml.Name{Local: "history"}, Attr: []xml.Attr{{Name: xml.Name{Local: "maxstanzas"}, Value: "0"}}}
		p := stanza.Presence{To: to}
		if err := sp.session.Send(ctx, p.Wrap(xmlstream.Wrap(xmlstream.Wrap(nil, none), xml.StartElement{Name: xml.Name{Space: "http://jabber.org/protocol/muc", Local: "x"}}))); err != nil {
			sp.left(name)
			return err
		}
	}
	late := time.NewTimer(joining)
	defer late.Stop()
	select {
	case err := <-ch:
		ch <- err // for whoever comes next
		return err
	case <-sp.ended:
		return errors.New("the server ended the connection")
	case <-ctx.Done():
		return ctx.Err()
	case <-late.C:
		sp.left(name)
		return &fault.Fault{Tried: "joining " + name, Said: "the room does not answer", Do: "check the room's address"}
	}
}

// Send says a post in a room, or to a person.
func (x *xmppRooms) Send(ctx context.Context, p connect.Post) connect.Delivery {
	return x.say(ctx, p, nil, nil)
}

// Reply says a post as the answer to an earlier one (XEP-0461).
func (x *xmppRooms) Reply(ctx context.Context, id string, p connect.Post) connect.Delivery {
	own, given, _ := strings.Cut(id, " ")
	if given == "" {
		given = own
	}
	to, err := jid.Parse(p.Place)
	if err != nil {
		return connect.Unreachable("this is no address of a room or a person")
	}
	from := x.user.Bare().String()
	if x.isRoom(to) {
		from = to.Bare().String() + "/" + Nick
	}
	return x.say(ctx, p, element("urn:xmpp:reply:0", "reply", "to", from, "id", given), element("", "thread"), given)
}

// Edit puts a post in the place of an earlier one (XEP-0308). One that stands for a copy whose original was taken back takes the
// copy back (XEP-0424), which in a room is named by the room's id of it; its words are for clients that do not know that.
func (x *xmppRooms) Edit(ctx context.Context, id string, p connect.Post) connect.Delivery {
	own, given, _ := strings.Cut(id, " ")
	if p.Doc.Withdrawn {
		if given == "" {
			given = own
		}
		const retract = "urn:xmpp:message-retract:1"
		return x.say(ctx, p, xmlstream.MultiReader(element(retract, "retract", "id", given), element("urn:xmpp:fallback:0", "fallback", "for", retract)), nil)
	}
	return x.say(ctx, p, element("urn:xmpp:message-correct:0", "replace", "id", own), nil)
}

// element makes an element of a stanza.
func element(space, name string, attrs ...string) xml.TokenReader {
	start := xml.StartElement{Name: xml.Name{Space: space, Local: name}}
	for i := 0; i+1 < len(attrs); i += 2 {
		start.Attr = append(start.Attr, xml.Attr{Name: xml.Name{Local: attrs[i]}, Value: attrs[i+1]})
	}
	return xmlstream.Wrap(nil, start)
}

func text(space, name, s string) xml.TokenReader {
	return xmlstream.Wrap(xmlstream.Token(xml.CharData(s)), xml.StartElement{Name: xml.Name{Space: space, Local: name}})
}

// isRoom tells whether an address is one of a room: it stands at the server of the rooms.
func (x *xmppRooms) isRoom(j jid.JID) bool { return strings.EqualFold(j.Domainpart(), x.rooms()) }

// body is what a post says as text, with whom it speaks to before it, and where they stand in it.
func body(d *dialects.Document) (said string, mentions []xml.TokenReader) {
	var names []string
	at := 0
	for _, m := range d.Mentions {
		if m.To != "" {
			mentions = append(mentions, element("urn:xmpp:reference:0", "reference", "type", "mention", "begin", strconv.Itoa(at), "end", strconv.Itoa(at+len([]rune(m.Name))), "uri", "xmpp:"+m.To))
		}
		names = append(names, m.Name)
		at += len([]rune(m.Name)) + 2
	}
	said = dialects.Render(d, dialects.Plain).Text
	if len(names) > 0 {
		said = strings.Join(names, ", ") + ": " + said
	}
	if d.Picture != nil {
		said += "\n\n" + d.Picture.Text + "\n" + d.Picture.From
	}
	return clean(said), mentions
}

// idPrefix is how the ids of what Dorfbote says begin.
const idPrefix = "dorfbote-"

// stanzaID names what is said by its post's key, so that a client knows a repeated one.
func stanzaID(key string) string {
	sum := sha256.Sum256([]byte(key))
	return idPrefix + hex.EncodeToString(sum[:10])
}

// Draft gives what would be said.
func (x *xmppRooms) Draft(_ context.Context, p connect.Post) (call, sent string, err error) {
	said, _ := body(p.Doc)
	return "XMPP message to " + p.Place, said, nil
}

// say says a post, and waits until it is seen to be said: in a room, until the room shows it; to a person, until the server has
// taken it and sent no error.
func (x *xmppRooms) say(ctx context.Context, p connect.Post, more, thread xml.TokenReader, threadOf ...string) connect.Delivery {
	ctx, cancel := context.WithTimeout(ctx, sendingTimeout)
	defer cancel()
	out := connect.Delivery{Address: "XMPP message to " + p.Place}
	to, err := jid.Parse(p.Place)
	if err != nil || to.Localpart() == "" {
		return connect.Unreachable("this is no address of a room or a person")
	}
	out.Sent, _ = body(p.Doc)
	sp, err := x.speak(ctx)
	if err != nil {
		return unsaid(out, err)
	}
	m := stanza.Message{ID: stanzaID(p.Key), To: to.Bare(), Type: stanza.ChatMessage}
	if x.isRoom(to) {
		if err := sp.enter(ctx, to.Bare()); err != nil {
			return unsaid(out, err)
		}
		m.Type = stanza.GroupChatMessage
	}
	heard := make(chan shownOrNot, 1)
	sp.mu.Lock()
	sp.waits[m.ID] = heard
	sp.mu.Unlock()
	defer func() {
		sp.mu.Lock()
		delete(sp.waits, m.ID)
		sp.mu.Unlock()
	}()
	if err := sp.session.Send(ctx, m.Wrap(parts(p.Doc, more, thread, threadOf))); err != nil {
		return unsaid(out, err)
	}
	if m.Type == stanza.ChatMessage {
		return sp.toPerson(ctx, out, m.ID, heard)
	}
	select {
	case s := <-heard:
		if s.err != nil {
			return unsaid(out, s.err)
		}
		out.Taken, out.ID, out.Answer = true, strings.TrimSpace(m.ID+" "+s.id), "the room shows it"
		return out
	case <-sp.ended:
		return unsaid(out, errors.New("the server ended the connection before the room showed it"))
	case <-ctx.Done():
		return unsaid(out, errors.New("the room did not show it"))
	}
}

// sendingTimeout bounds saying one post.
const sendingTimeout = joining + showing

// parts are what a message is made of.
func parts(d *dialects.Document, more, thread xml.TokenReader, threadOf []string) xml.TokenReader {
	said, mentions := body(d)
	list := []xml.TokenReader{text("", "body", said), element("urn:dorfbote:mark:0", "posted")}
	if more != nil {
		list = append(list, more)
	}
	if thread != nil && len(threadOf) > 0 {
		list = append(list, text("", "thread", threadOf[0]))
	}
	if d.Picture != nil {
		list = append(list, xmlstream.Wrap(text("", "url", d.Picture.From), xml.StartElement{Name: xml.Name{Space: "jabber:x:oob", Local: "x"}}))
	}
	return xmlstream.MultiReader(append(list, mentions...)...)
}

// toPerson asks the server for a sign of life: what it had to say of the message has come before that.
func (sp *speaker) toPerson(ctx context.Context, out connect.Delivery, id string, heard chan shownOrNot) connect.Delivery {
	if err := ping.Send(ctx, sp.session, sp.session.RemoteAddr().Domain()); err != nil && ctx.Err() != nil {
		return unsaid(out, err)
	}
	select {
	case s := <-heard:
		if s.err != nil {
			return unsaid(out, s.err)
		}
	case <-sp.ended:
		return unsaid(out, errors.New("the server ended the connection"))
	default:
	}
	out.Taken, out.ID, out.Answer = true, id, "the server has it"
	return out
}

// unsaid makes a delivery of an error.
func unsaid(out connect.Delivery, err error) connect.Delivery {
	if r, ok := errors.AsType[*refusal](err); ok {
		out.Final, out.Place = true, !r.own
	}
	if f, ok := fault.Of(err); ok {
		out.Answer = strings.TrimPrefix(f.Tried+": "+fault.Plainly(f), ": ")
	} else {
		out.Answer = "no answer: " + connect.NoAnswer(err)
	}
	return out
}
