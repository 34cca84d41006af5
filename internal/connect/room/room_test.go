package room

import (
	"context"
	"encoding/json"
	"encoding/xml"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"mellium.im/xmlstream"
	xmppim "mellium.im/xmpp"
	"mellium.im/xmpp/jid"
	"mellium.im/xmpp/stanza"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/value"
	"dorfbote/internal/peers"
	"dorfbote/internal/practice"
	"dorfbote/internal/testdb"
)

func TestWhichMessages(t *testing.T) {
	mention := connect.SourceConfig{Settings: map[string]string{"which": "those that mention the name", "name": "Dorfbote"}}
	late := connect.SourceConfig{Settings: map[string]string{"which": "those that begin with the command", "command": "late"}}
	for _, c := range []struct {
		src  connect.SourceConfig
		m    message
		want bool
	}{
		{connect.SourceConfig{}, message{Text: "hello"}, true},
		{connect.SourceConfig{}, message{Text: "hello", Reaction: "seen"}, false},
		{mention, message{Text: "hello @dorfbote, look"}, true},
		{mention, message{Text: "@dorfboten all"}, false},
		{mention, message{Text: "Dorfbote: look"}, true},
		{mention, message{Text: "the Dorfbote is slow"}, false},
		{mention, message{Text: "look", Mentions: []string{"dorfbote"}}, true},
		{late, message{Text: "late COL-17 milk"}, true},
		{late, message{Text: "/late COL-17"}, true},
		{late, message{Text: "later"}, false},
		{late, message{Text: "it is late"}, false},
		{connect.SourceConfig{Settings: map[string]string{"which": "reactions", "reaction": "done"}}, message{Reaction: "Done"}, true},
		{connect.SourceConfig{Settings: map[string]string{"which": "reactions", "reaction": "done"}}, message{Reaction: "seen"}, false},
		{connect.SourceConfig{Settings: map[string]string{"which": "reactions"}}, message{Text: "done"}, false},
	} {
		assert.Equal(t, c.want, wanted(c.src, &c.m), "%v %+v", c.src.Settings, c.m)
	}
	r := (&message{ID: "1", Text: "/late COL-17 milk"}).item().Record
	assert.Equal(t, []any{"late", "COL-17 milk"}, []any{r["command"], r["rest"]})
}

// The square is read over its HTTP API; a private channel must let the reader in first.
func TestTheSquare(t *testing.T) {
	st := testdb.New(t)
	ctx := t.Context()
	stand, err := practice.New(ctx, st.DB, practice.DefaultOptions())
	require.NoError(t, err)
	server := httptest.NewServer(stand.Handler())
	defer server.Close()
	require.NoError(t, st.DB.Exec("INSERT INTO practice.tokens (token, sender) VALUES ('t-1', 'Dorfbote')").Error)
	require.NoError(t, st.DB.Exec("INSERT INTO practice.channels (name, private) VALUES ('#tours', false), ('#board', true)").Error)
	post := func(path, body string) {
		res, err := http.Post(server.URL+path, "application/json", strings.NewReader(body))
		require.NoError(t, err)
		res.Body.Close()
		require.Less(t, res.StatusCode, 300)
	}
	conn, err := Kind().Open(connect.Config{Settings: map[string]string{"chat": square, "address": server.URL + "/square", "token": "t-1"}, Env: testdb.Loopback(t, value.DefaultWorkspace())})
	require.NoError(t, err)
	steps := conn.Prove(ctx)
	require.True(t, connect.Proved(steps))
	assert.Equal(t, "a member of #board", steps[1].Who)
	post("/square/channels/tours/say", `{"text":"@Dorfbote the milk is late","author":"Jonas","images":["https://x.example/a.png"]}`)
	post("/square/channels/tours/say", `{"text":"hello","author":"Vera"}`)
	post("/square/posts/1/reactions", `{"name":"done","by":"Vera"}`)
	read := func(settings map[string]string, cursor json.RawMessage) ([]connect.Item, connect.Polled, error) {
		var items []connect.Item
		p, err := conn.(connect.Poller).Poll(ctx, connect.SourceConfig{Settings: settings}, cursor, func(it connect.Item) error { items = append(items, it); return nil })
		return items, p, err
	}
	items, p, err := read(map[string]string{"room": "#tours"}, nil)
	require.NoError(t, err)
	require.Len(t, items, 2)
	assert.Equal(t, []any{"https://x.example/a.png"}, items[0].Record["images"])
	items, _, err = read(map[string]string{"room": "#tours"}, p.Cursor)
	require.NoError(t, err)
	assert.Empty(t, items)
	items, _, err = read(map[string]string{"room": "#tours", "which": "those that mention the name"}, nil)
	require.NoError(t, err)
	assert.Len(t, items, 1)
	items, _, err = read(map[string]string{"room": "#tours", "which": "reactions"}, nil)
	require.NoError(t, err)
	require.Len(t, items, 1)
	assert.Equal(t, "done", items[0].Record["reaction"])
	_, _, err = read(map[string]string{"room": "#board"}, nil)
	require.ErrorContains(t, err, "a member must let it in first")
}

// person is somebody else in the room.
func person(t *testing.T, chat *peers.Chat, room string) (say func(string)) {
	env := testdb.Loopback(t, value.DefaultWorkspace())
	env.TLS = chat.TLS
	conn, err := newXMPP(connect.Config{Settings: map[string]string{"user": "jonas@" + chat.Domain, "password": "jonas-1", "host": chat.Address, "rooms": chat.Rooms}, Env: env})
	require.NoError(t, err)
	x := conn.(*xmppRooms)
	s, err := x.session(context.Background())
	require.NoError(t, err)
	t.Cleanup(func() { end(s) })
	to := jid.MustParse(room)
	joined := make(chan struct{}, 20)
	go func() {
		_ = s.Serve(xmppim.HandlerFunc(func(_ xmlstream.TokenReadEncoder, start *xml.StartElement) error {
			if start.Name.Local == "message" { // the room's subject comes last
				joined <- struct{}{}
			}
			return nil
		}))
	}()
	require.NoError(t, x.join(context.Background(), s, to, "Jonas", time.Time{}))
	<-joined
	// A new room is locked until its owner has accepted how it is set up (XEP-0045, 10.1.2).
	iq := stanza.IQ{Type: stanza.SetIQ, To: to}
	form := xmlstream.Wrap(nil, xml.StartElement{Name: xml.Name{Space: "jabber:x:data", Local: "x"}, Attr: []xml.Attr{{Name: xml.Name{Local: "type"}, Value: "submit"}}})
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	res, err := s.SendIQ(ctx, iq.Wrap(xmlstream.Wrap(form, xml.StartElement{Name: xml.Name{Space: "http://jabber.org/protocol/muc#owner", Local: "query"}})))
	require.NoError(t, err)
	_ = res.Close()
	return func(text string) {
		m := stanza.Message{To: to, Type: stanza.GroupChatMessage, ID: "m-" + text[:2]}
		body := xmlstream.Wrap(xmlstream.Token(xml.CharData(text)), xml.StartElement{Name: xml.Name{Local: "body"}})
		require.NoError(t, s.Send(context.Background(), m.Wrap(body)))
	}
}

// Messages of a real chat server come by themselves; what was said during a break is made up for.
func TestXMPP(t *testing.T) {
	chat := peers.Prosody(t)
	room := "tours@" + chat.Rooms
	say := person(t, chat, room)
	env := testdb.Loopback(t, value.DefaultWorkspace())
	env.TLS = chat.TLS
	settings := map[string]string{"chat": xmpp, "user": "dorfbote@" + chat.Domain, "password": "dorfbote-1", "host": chat.Address, "rooms": chat.Rooms}
	conn, err := Kind().Open(connect.Config{Settings: settings, Env: env})
	require.NoError(t, err)
	steps := conn.Prove(context.Background())
	require.True(t, connect.Proved(steps), "%+v", steps)
	choices, err := conn.Browse(context.Background())
	require.NoError(t, err)
	require.Len(t, choices, 1)
	assert.Equal(t, room, choices[0].Settings["room"])

	heard := make(chan connect.Item, 20)
	var cursor json.RawMessage
	listen := func() (stop func()) {
		ctx, cancel := context.WithCancel(context.Background())
		done := make(chan error, 1)
		ready := make(chan struct{}, 100)
		go func() {
			done <- conn.(connect.Listener).Listen(ctx, connect.SourceConfig{Settings: choices[0].Settings}, cursor, func(items []connect.Item, c json.RawMessage) error {
				cursor = c
				for _, it := range items {
					heard <- it
				}
				ready <- struct{}{}
				return nil
			})
		}()
		return func() {
			cancel()
			if err := <-done; err != nil {
				slog.Debug("ended", "error", err)
			}
		}
	}
	next := func() string {
		select {
		case it := <-heard:
			return it.Record["text"].(string)
		case <-time.After(10 * time.Second):
			t.Fatal("nothing was heard")
			return ""
		}
	}
	stop := listen()
	time.Sleep(500 * time.Millisecond) // until it has joined
	say("one <b>&amp; only</b>")
	assert.Equal(t, "one <b>&amp; only</b>", next())
	stop()
	time.Sleep(1100 * time.Millisecond) // the history counts in seconds
	say("two, said meanwhile")
	time.Sleep(200 * time.Millisecond)
	stop = listen()
	got := map[string]bool{next(): true}
	if !got["two, said meanwhile"] { // the first may come again, under the same id
		got[next()] = true
	}
	assert.True(t, got["two, said meanwhile"])
	stop()

	settings["password"] = "wrong"
	wrong, err := Kind().Open(connect.Config{Settings: settings, Env: env})
	require.NoError(t, err)
	assert.Contains(t, wrong.Prove(context.Background())[0].Do, "password")
}
