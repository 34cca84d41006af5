package peers

import (
	"context"
	"encoding/xml"
	"errors"
	"io"
	"net"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"mellium.im/sasl"
	"mellium.im/xmlstream"
	xmppim "mellium.im/xmpp"
	"mellium.im/xmpp/jid"
	"mellium.im/xmpp/stanza"
)

// Said is what somebody in a room sees.
type Said struct {
	stanza.Message
	Body     string `xml:"body"`
	StanzaID []struct {
		ID string `xml:"id,attr"`
	} `xml:"urn:xmpp:sid:0 stanza-id"`
	Replace struct {
		ID string `xml:"id,attr"`
	} `xml:"urn:xmpp:message-correct:0 replace"`
	Reply struct {
		ID string `xml:"id,attr"`
	} `xml:"urn:xmpp:reply:0 reply"`
	Retract struct {
		ID string `xml:"id,attr"`
	} `xml:"urn:xmpp:message-retract:1 retract"`
	Picture struct {
		URL string `xml:"url"`
	} `xml:"jabber:x:oob x"`
}

// Key is what the room calls it.
func (s *Said) Key() string {
	if len(s.StanzaID) > 0 {
		return s.StanzaID[0].ID
	}
	return s.ID
}

// Talker is a person in a room of an XMPP server.
type Talker struct {
	Heard   chan Said
	session *xmppim.Session
	room    jid.JID

	mu    sync.Mutex
	there map[string]bool // who is in the room
}

// Until waits until somebody is in the room, or is not.
func (p *Talker) Until(t testing.TB, nick string, there bool) {
	t.Helper()
	require.Eventually(t, func() bool {
		p.mu.Lock()
		defer p.mu.Unlock()
		return p.there[nick] == there
	}, 15*time.Second, 5*time.Millisecond, "%s in the room: %v", nick, there)
}

// Jonas enters a room, which is made where there is none.
func (c *Chat) Jonas(t testing.TB, room string) *Talker {
	t.Helper()
	conn, err := net.Dial("tcp", c.Address)
	require.NoError(t, err)
	trusts := c.TLS.Clone()
	trusts.ServerName = c.Domain
	ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
	defer cancel()
	s, err := xmppim.NewClientSession(ctx, jid.MustParse("jonas@"+c.Domain), conn, xmppim.StartTLS(trusts), xmppim.SASL("", "jonas-1", sasl.ScramSha1), xmppim.BindResource())
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close(); _ = conn.Close() })
	p := &Talker{Heard: make(chan Said, 200), session: s, room: jid.MustParse(room), there: map[string]bool{}}
	joined := make(chan struct{}, 200)
	go func() {
		_ = s.Serve(xmppim.HandlerFunc(func(r xmlstream.TokenReadEncoder, start *xml.StartElement) error {
			if start.Name.Local == "presence" {
				seen, err := stanza.NewPresence(*start)
				if err == nil {
					p.mu.Lock()
					p.there[seen.From.Resourcepart()] = seen.Type == stanza.AvailablePresence
					p.mu.Unlock()
				}
				return nil
			}
			if start.Name.Local != "message" {
				return nil
			}
			var m Said
			if err := xml.NewTokenDecoder(xmlstream.MultiReader(xmlstream.Token(*start), r)).Decode(&m); err != nil && !errors.Is(err, io.EOF) {
				return nil
			}
			joined <- struct{}{} // the room's subject comes last
			if m.Body != "" {
				p.Heard <- m
			}
			return nil
		}))
	}()
	none := xmlstream.Wrap(nil, xml.StartElement{Name: xml.Name{Local: "history"}, Attr: []xml.Attr{{Name: xml.Name{Local: "maxstanzas"}, Value: "0"}}})
	to, err := p.room.WithResource("Jonas")
	require.NoError(t, err)
	require.NoError(t, s.Send(ctx, stanza.Presence{To: to}.Wrap(xmlstream.Wrap(none, xml.StartElement{Name: xml.Name{Space: "http://jabber.org/protocol/muc", Local: "x"}}))))
	select {
	case <-joined:
	case <-ctx.Done():
		t.Fatal("the room does not let Jonas in")
	}
	// A new room is locked until its owner has accepted how it is set up (XEP-0045, 10.1.2).
	form := xmlstream.Wrap(nil, xml.StartElement{Name: xml.Name{Space: "jabber:x:data", Local: "x"}, Attr: []xml.Attr{{Name: xml.Name{Local: "type"}, Value: "submit"}}})
	res, err := s.SendIQ(ctx, stanza.IQ{Type: stanza.SetIQ, To: p.room}.Wrap(xmlstream.Wrap(form, xml.StartElement{Name: xml.Name{Space: "http://jabber.org/protocol/muc#owner", Local: "query"}})))
	require.NoError(t, err)
	_ = res.Close()
	return p
}

// Element makes an element of a stanza.
func Element(space, name string, attrs ...string) xml.TokenReader {
	start := xml.StartElement{Name: xml.Name{Space: space, Local: name}}
	for i := 0; i+1 < len(attrs); i += 2 {
		start.Attr = append(start.Attr, xml.Attr{Name: xml.Name{Local: attrs[i]}, Value: attrs[i+1]})
	}
	return xmlstream.Wrap(nil, start)
}

// Say says something in the room under an id, with more elements in the stanza.
func (p *Talker) Say(t testing.TB, id, text string, more ...xml.TokenReader) {
	t.Helper()
	body := xmlstream.Wrap(xmlstream.Token(xml.CharData(text)), xml.StartElement{Name: xml.Name{Local: "body"}})
	m := stanza.Message{To: p.room, Type: stanza.GroupChatMessage, ID: id}
	require.NoError(t, p.session.Send(context.Background(), m.Wrap(xmlstream.MultiReader(append([]xml.TokenReader{body}, more...)...))))
}

// Next waits for what is said next.
func (p *Talker) Next(t testing.TB) Said {
	t.Helper()
	select {
	case s := <-p.Heard:
		return s
	case <-time.After(15 * time.Second):
		t.Fatal("nothing was heard in the room")
		return Said{}
	}
}
