package room

import (
	"context"
	"encoding/xml"
	"errors"
	"io"
	"sync"
	"time"

	"mellium.im/xmlstream"
	xmppim "mellium.im/xmpp"
	"mellium.im/xmpp/jid"
	"mellium.im/xmpp/ping"
	"mellium.im/xmpp/stanza"

	"dorfbote/internal/core/fault"
)

// speaker is a session that is kept to send over: rooms are joined once, and nothing of their history is read.
type speaker struct {
	session *xmppim.Session
	ended   chan struct{}

	mu     sync.Mutex
	joined map[string]*entry          // by room, while it is being joined and after
	waits  map[string]chan shownOrNot // by the id of what was said
}

// entry is the joining of a room: done is closed once the room has answered, and err is set before that.
type entry struct {
	done chan struct{}
	err  error
}

// shownOrNot is what came of saying something: the id that the room gave it, or why it was refused.
type shownOrNot struct {
	id  string
	err error
}

// speak gives the session that is kept, and opens one where there is none or it has ended. All who wait for it wait for the same, and
// none longer than it may.
func (x *xmppRooms) speak(ctx context.Context) (*speaker, error) {
	if sp := x.speaking(); sp != nil {
		return sp, nil
	}
	opened := x.opening.DoChan("", func() (any, error) {
		if sp := x.speaking(); sp != nil {
			return sp, nil
		}
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), signingIn)
		defer cancel()
		return x.open(ctx)
	})
	select {
	case o := <-opened:
		if o.Err != nil {
			return nil, o.Err
		}
		return o.Val.(*speaker), nil
	case <-ctx.Done():
		return nil, &fault.Fault{Tried: "signing in as " + x.user.String(), Said: "the server does not answer"}
	}
}

// speaking gives the session that is kept, nil where there is none that lives.
func (x *xmppRooms) speaking() *speaker {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.speaker != nil {
		select {
		case <-x.speaker.ended:
		default:
			return x.speaker
		}
	}
	return nil
}

// open signs in and keeps the session, unless this was closed meanwhile.
func (x *xmppRooms) open(ctx context.Context) (*speaker, error) {
	x.mu.Lock()
	closed := x.closed
	x.mu.Unlock()
	s, err := x.session(ctx)
	if err != nil {
		return nil, err
	}
	sp := &speaker{session: s, ended: make(chan struct{}), joined: map[string]*entry{}, waits: map[string]chan shownOrNot{}}
	go func() {
		defer close(sp.ended)
		_ = s.Serve(xmppim.HandlerFunc(sp.hear))
	}()
	if err := sp.send(ctx, stanza.Presence{}.Wrap(nil)); err != nil {
		end(s)
		return nil, err
	}
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.closed != closed {
		end(s)
		return nil, &fault.Fault{Tried: "signing in as " + x.user.String(), Said: "the connection was closed meanwhile"}
	}
	x.speaker = sp
	return sp, nil
}

// send writes a stanza. A server that does not even take it in time has ended the session by that.
func (sp *speaker) send(ctx context.Context, r xml.TokenReader) error {
	stop := context.AfterFunc(ctx, func() { _ = sp.session.Conn().Close() })
	defer stop()
	return sp.session.Send(ctx, r)
}

// answers asks the server for a sign of life (XEP-0199). One that knows no such question has answered, too.
func answers(ctx context.Context, s *xmppim.Session) bool {
	ctx, cancel := context.WithTimeout(ctx, lifeWithin)
	defer cancel()
	stop := context.AfterFunc(ctx, func() { _ = s.Conn().Close() })
	defer stop()
	err := ping.Send(ctx, s, s.RemoteAddr().Domain())
	_, said := errors.AsType[stanza.Error](err)
	return err == nil || said
}

// doubt ends a session whose server gives no sign of life after something was not answered, so that what is sent next opens another.
// It does not hold up who asks.
func (sp *speaker) doubt() {
	go func() {
		if !answers(context.Background(), sp.session) {
			_ = sp.session.Conn().Close()
		}
	}()
}

// Close ends the session that is kept. What is sent after it opens another.
func (x *xmppRooms) Close() error {
	x.mu.Lock()
	defer x.mu.Unlock()
	x.closed++
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

func (sp *speaker) entered(room string, err error) {
	sp.mu.Lock()
	defer sp.mu.Unlock()
	e := sp.joined[room]
	if e == nil {
		return
	}
	select {
	case <-e.done: // a room may say more than once who is in it
	default:
		e.err = err
		close(e.done)
	}
	if err != nil {
		delete(sp.joined, room)
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
	e, there := sp.joined[name]
	if !there {
		e = &entry{done: make(chan struct{})}
		sp.joined[name] = e
	}
	sp.mu.Unlock()
	if !there {
		r, err := joins(room, Nick, time.Time{})
		if err != nil {
			sp.left(name)
			return err
		}
		if err := sp.send(ctx, r); err != nil {
			sp.left(name)
			return err
		}
	}
	late := time.NewTimer(joining)
	defer late.Stop()
	select {
	case <-e.done:
		return e.err
	case <-sp.ended:
		return errors.New("the server ended the connection")
	case <-ctx.Done():
		sp.left(name)
		return &fault.Fault{Tried: "joining " + name, Said: "the room does not answer"}
	case <-late.C:
		sp.left(name)
		sp.doubt()
		return &fault.Fault{Tried: "joining " + name, Said: "the room does not answer", Do: "check the room's address"}
	}
}
