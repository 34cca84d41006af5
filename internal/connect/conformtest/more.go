package conformtest

import (
	"context"
	"encoding/json"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"
	"github.com/stretchr/testify/require"
	"mellium.im/sasl"
	"mellium.im/xmlstream"
	xmppim "mellium.im/xmpp"
	"mellium.im/xmpp/jid"
	"mellium.im/xmpp/stanza"

	"dorfbote/internal/connect"
	"dorfbote/internal/peers"
	"dorfbote/internal/practice"
	"dorfbote/internal/store"
	"dorfbote/internal/testdb"
)

// taker is a side over HTTP that keeps what it is told once by its key.
type taker struct {
	fails  atomic.Pointer[failing]
	mu     sync.Mutex
	titles []string
	seen   map[string]bool
}

// serve starts the side. read gives a call's title, or the error that it is refused with.
func (k *taker) serve(t testing.TB, answer string, read func(r *http.Request) (string, error)) string {
	k.seen = map[string]bool{}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method != http.MethodPost {
			w.WriteHeader(http.StatusMethodNotAllowed)
			return
		}
		if f := k.fails.Load(); f != nil {
			f.answer(w)
			return
		}
		title, err := read(r)
		if err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		k.mu.Lock()
		defer k.mu.Unlock()
		if key := r.Header.Get(connect.IdempotencyHeader); !k.seen[key] {
			k.seen[key] = true
			k.titles = append(k.titles, title)
		}
		_, _ = w.Write([]byte(answer))
	}))
	t.Cleanup(server.Close)
	return strings.TrimPrefix(server.URL, "http://")
}

func (k *taker) rig(s *Sending) *Sending {
	s.Titles = func(testing.TB) []string {
		k.mu.Lock()
		defer k.mu.Unlock()
		return append([]string(nil), k.titles...)
	}
	s.Fail = func(status int, header http.Header) {
		if k.fails.Store(nil); status != 0 {
			k.fails.Store(&failing{status, header})
		}
	}
	return s
}

// text is the text message kind, with a gateway that refuses what is no number.
func text() *Sending {
	k := &taker{}
	return k.rig(&Sending{Kind: "text", Place: "+41791234567", Secret: "t-9",
		Upstream: func(t testing.TB) string {
			return k.serve(t, `{"message":{"id":"m-1"}}`, func(r *http.Request) (string, error) {
				var in struct{ To, Text, From string }
				if err := json.NewDecoder(r.Body).Decode(&in); err != nil {
					return "", err
				}
				if in.To != "+41791234567" || in.From != "Lindental" {
					return "", fmt.Errorf("%+v", in)
				}
				return in.Text, nil
			})
		},
		Settings: func(a string) map[string]string {
			return map[string]string{"address": "http://" + a + "/messages", "id": "$.message.id", "auth": "bearer token", "token": "t-9", "sender_id": "Lindental"}
		},
	})
}

// event is the event kind, with a side that takes only CloudEvents that are signed.
func event() *Sending {
	const secret = "whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw"
	k := &taker{}
	return k.rig(&Sending{Kind: "event", Place: "alerts", Secret: secret,
		Upstream: func(t testing.TB) string {
			wh, err := standardwebhooks.NewWebhook(secret)
			require.NoError(t, err)
			return k.serve(t, `{}`, func(r *http.Request) (string, error) {
				raw, err := io.ReadAll(r.Body)
				if err != nil {
					return "", err
				}
				if err := wh.Verify(raw, r.Header); err != nil {
					return "", err
				}
				var in struct {
					SpecVersion, ID, Source, Type, Time string
					Data                                struct{ Title string }
				}
				if err := json.Unmarshal(raw, &in); err != nil {
					return "", err
				}
				if in.SpecVersion != "1.0" || in.ID == "" || in.Source == "" || in.Type != "dorfbote.post" || in.Time == "" {
					return "", fmt.Errorf("this is no event of a post: %s", raw)
				}
				return in.Data.Title, nil
			})
		},
		Settings: func(a string) map[string]string {
			return map[string]string{"address": "http://" + a + "/in", "signing": secret}
		},
	})
}

// push is the push feed, which calls nobody.
func push() *Sending {
	return &Sending{Kind: "push", Place: "board", Local: true, Settings: func(string) map[string]string { return map[string]string{} }}
}

// mailbox is the mail kind, sending to the stand-in mailbox, in which a mail that comes again stands once.
func mailbox() *Sending {
	s := &Sending{Kind: "mail", Place: "ann@farm.example", Shut: "nobody@farm.example", Secret: "letters-1"}
	var st *store.Store
	s.Upstream = func(t testing.TB) string {
		st = testdb.New(t)
		ctx, cancel := context.WithCancel(context.Background())
		t.Cleanup(cancel)
		stand, err := practice.New(ctx, st.DB, practice.DefaultOptions())
		require.NoError(t, err)
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		require.NoError(t, st.DB.Exec("INSERT INTO practice.tokens (token, sender) VALUES ('letters-1', 'Dorfbote')").Error)
		go func() { _ = stand.ServeMail(ctx, l) }()
		return l.Addr().String()
	}
	s.Settings = func(a string) map[string]string {
		return map[string]string{"smtp": a, "smtp_security": "not at all", "user": "desk", "password": "letters-1", "from": "desk@lindental.example"}
	}
	s.Titles = func(t testing.TB) []string {
		out := []string{}
		require.NoError(t, st.DB.Raw("SELECT subject FROM practice.letters WHERE under = '' ORDER BY id").Scan(&out).Error)
		return out
	}
	return s
}

// xmppRoom is the room kind, speaking in a room of a real server, in which somebody else listens.
func xmppRoom() *Sending {
	s := &Sending{Kind: "room", Blind: true, Secret: "dorfbote-1"}
	var chat *peers.Chat
	ears := &listening{}
	s.Upstream = func(t testing.TB) string {
		chat = peers.Prosody(t)
		s.Place = "tours@" + chat.Rooms
		ears.sit(t, chat, s.Place)
		return chat.Address
	}
	s.Needs = func(_ testing.TB, env *connect.Env) { env.TLS = chat.TLS }
	s.Settings = func(a string) map[string]string {
		return map[string]string{"chat": "XMPP", "user": "dorfbote@" + chat.Domain, "password": "dorfbote-1", "host": a, "rooms": chat.Rooms}
	}
	s.Titles = func(testing.TB) []string { return ears.titles() }
	return s
}

// listening is somebody in a room, whose client shows a message that comes again once, and an edit in the place of what it edits.
type listening struct {
	mu    sync.Mutex
	order []string
	texts map[string]string
}

func (l *listening) titles() []string {
	time.Sleep(100 * time.Millisecond) // what the room has shown the sender is on its way to everybody
	l.mu.Lock()
	defer l.mu.Unlock()
	var out []string
	for _, id := range l.order {
		out = append(out, l.texts[id])
	}
	return out
}

func (l *listening) sit(t testing.TB, chat *peers.Chat, room string) {
	l.texts = map[string]string{}
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	conn, err := net.Dial("tcp", chat.Address)
	require.NoError(t, err)
	config := chat.TLS.Clone()
	config.ServerName = chat.Domain
	me := jid.MustParse("jonas@" + chat.Domain)
	session, err := xmppim.NewClientSession(ctx, me, conn, xmppim.StartTLS(config), xmppim.SASL("", "jonas-1", sasl.ScramSha256, sasl.ScramSha1, sasl.Plain), xmppim.BindResource())
	require.NoError(t, err)
	t.Cleanup(func() { _ = session.Close(); _ = conn.Close() })
	entered := make(chan struct{}, 10)
	go func() {
		_ = session.Serve(xmppim.HandlerFunc(func(r xmlstream.TokenReadEncoder, start *xml.StartElement) error { return l.hear(r, start, entered) }))
	}()
	to := jid.MustParse(room)
	as, err := to.WithResource("Jonas")
	require.NoError(t, err)
	p := stanza.Presence{To: as}
	require.NoError(t, session.Send(ctx, p.Wrap(xmlstream.Wrap(nil, xml.StartElement{Name: xml.Name{Space: "http://jabber.org/protocol/muc", Local: "x"}}))))
	<-entered
	// A new room is locked until its owner has accepted how it is set up (XEP-0045, 10.1.2).
	form := xmlstream.Wrap(nil, xml.StartElement{Name: xml.Name{Space: "jabber:x:data", Local: "x"}, Attr: []xml.Attr{{Name: xml.Name{Local: "type"}, Value: "submit"}}})
	iq := stanza.IQ{Type: stanza.SetIQ, To: to}
	res, err := session.SendIQ(ctx, iq.Wrap(xmlstream.Wrap(form, xml.StartElement{Name: xml.Name{Space: "http://jabber.org/protocol/muc#owner", Local: "query"}})))
	require.NoError(t, err)
	_ = res.Close()
}

func (l *listening) hear(r xmlstream.TokenReadEncoder, start *xml.StartElement, entered chan struct{}) error {
	d := xml.NewTokenDecoder(xmlstream.MultiReader(xmlstream.Token(*start), r))
	switch start.Name.Local {
	case "presence":
		select {
		case entered <- struct{}{}:
		default:
		}
	case "message":
		var m struct {
			stanza.Message
			Body    string `xml:"body"`
			Replace struct {
				ID string `xml:"id,attr"`
			} `xml:"urn:xmpp:message-correct:0 replace"`
			Reply struct {
				ID string `xml:"id,attr"`
			} `xml:"urn:xmpp:reply:0 reply"`
		}
		if err := d.Decode(&m); err != nil && !errors.Is(err, io.EOF) || m.Body == "" || m.Reply.ID != "" {
			return nil
		}
		l.mu.Lock()
		defer l.mu.Unlock()
		id := m.ID
		if _, known := l.texts[m.Replace.ID]; known {
			id = m.Replace.ID
		}
		if _, known := l.texts[id]; !known {
			l.order = append(l.order, id)
		}
		l.texts[id] = m.Body
	}
	return nil
}
