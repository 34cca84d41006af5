package room

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/xml"
	"errors"
	"strconv"
	"strings"
	"time"

	"mellium.im/xmlstream"
	"mellium.im/xmpp/jid"
	"mellium.im/xmpp/stanza"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/fault"
	dialects "dorfbote/internal/core/message"
)

// Nick is what Dorfbote is called in rooms.
const Nick = "Dorfbote"

// How long each phase may take: signing in, joining a room, a room's showing what was said in it, and a sign of life. While nothing is
// heard, the server is asked for one every so often.
const (
	signingIn  = 12 * time.Second
	joining    = 8 * time.Second
	showing    = 10 * time.Second
	lifeWithin = 5 * time.Second
	askedEvery = time.Minute
)

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
	said = dialects.Render(d, dialects.Light).Text
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
	if err := sp.send(ctx, m.Wrap(parts(p.Doc, more, thread, threadOf))); err != nil {
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
		sp.doubt()
		return unsaid(out, errors.New("the room did not show it"))
	}
}

// sendingTimeout bounds saying one post.
const sendingTimeout = signingIn + joining + showing

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
	if !answers(ctx, sp.session) {
		_ = sp.session.Conn().Close()
		return unsaid(out, errors.New("the server stopped answering"))
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
