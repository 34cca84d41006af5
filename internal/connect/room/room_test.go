package room

import (
	"context"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"mellium.im/xmpp/jid"

	"dorfbote/internal/connect"
	dialects "dorfbote/internal/core/message"
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
	r := (&message{ID: "1", Text: "/late COL-17 milk"}).item(connect.SourceConfig{}).Record
	assert.Equal(t, []any{"late", "COL-17 milk", false}, []any{r["command"], r["rest"], r["spoken_to"]})
	desk := connect.SourceConfig{Settings: map[string]string{"name": "Desk"}}
	assert.Equal(t, true, (&message{Text: "@desk: late COL-17"}).item(desk).Record["spoken_to"])
	assert.Equal(t, false, (&message{Text: "@dorfbote late COL-17"}).item(desk).Record["spoken_to"])
}

// A question says by which words it can be answered only where they are read.
func TestHowDorfboteIsSpokenTo(t *testing.T) {
	for which, want := range map[string]string{"": "|true", "all": "|true", "those that mention the name": "@Desk |true", "those that begin with the command": "|false", "reactions": "|false"} {
		before, ok := hears(map[string]string{"which": which, "name": "Desk"})
		assert.Equal(t, want, fmt.Sprintf("%s|%v", before, ok), which)
		if ok && which != "" {
			src := connect.SourceConfig{Settings: map[string]string{"which": which, "name": "Desk"}}
			assert.True(t, wanted(src, &message{Text: before + "approve"}), "it is read there")
		}
	}
}

// The square is read over its HTTP API; a private channel must let the reader in first.
// A reference mentions somebody only where it says that it does (XEP-0372).
func TestWhomAReferenceMentions(t *testing.T) {
	room := jid.MustParse("tours@rooms.example")
	for inside, want := range map[string][]string{
		`<reference xmlns="urn:xmpp:reference:0" type="mention" uri="xmpp:tours@rooms.example/Dorfbote"/>`: {"Dorfbote", "tours"},
		`<reference xmlns="urn:xmpp:reference:0" type="mention" uri="xmpp:dorfbote@chat.example"/>`:        {"", "dorfbote"},
		`<reference xmlns="urn:xmpp:reference:0" type="data" uri="xmpp:dorfbote@chat.example"/>`:           nil,
		`<reference xmlns="urn:xmpp:reference:0" uri="xmpp:dorfbote@chat.example"/>`:                       nil,
		`<reference xmlns="urn:xmpp:reference:1" type="mention" uri="xmpp:dorfbote@chat.example"/>`:        nil,
		`<reference xmlns="urn:xmpp:reference:0" type="mention" uri="xmpp:@"/>`:                            nil,
		``: nil,
	} {
		h := &heard{}
		require.NoError(t, xml.Unmarshal([]byte(`<message xmlns="jabber:client" type="groupchat" from="tours@rooms.example/Ann" id="7"><body>look</body>`+inside+`</message>`), h))
		said := h.messages(room, "other", &since{})
		require.Len(t, said, 1, inside)
		assert.Equal(t, want, said[0].Mentions, inside)
	}
}

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

	// What somebody says anew, or takes away, is that person's own alone; what bears the mark of a Dorfbote is its own.
	change := func(method, by, body string) int {
		req, err := http.NewRequest(method, server.URL+"/square/posts/2/said?author="+by, strings.NewReader(body))
		require.NoError(t, err)
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		res.Body.Close()
		return res.StatusCode
	}
	assert.Equal(t, 404, change(http.MethodDelete, "Jonas", ""))
	assert.Equal(t, 404, change(http.MethodPut, "", `{"author":"Jonas","text":"not mine"}`))
	assert.Equal(t, 400, change(http.MethodPut, "", `{"author":"Vera","text":" "}`))
	assert.Equal(t, 204, change(http.MethodPut, "", `{"author":"Vera","text":"hello all"}`))
	items, p, err = read(map[string]string{"room": "#tours"}, p.Cursor)
	require.NoError(t, err)
	require.Len(t, items, 1)
	assert.Equal(t, []any{"2", "hello all", true}, []any{items[0].Key, items[0].Record["text"], items[0].Old})
	assert.Equal(t, 204, change(http.MethodDelete, "Vera", ""))
	require.NoError(t, st.DB.Exec("INSERT INTO practice.posts (channel, sender, text, mark) VALUES ('#tours', 'Another', 'told by another', ?)", connect.Mark).Error)
	items, _, err = read(map[string]string{"room": "#tours"}, p.Cursor)
	require.NoError(t, err)
	require.Len(t, items, 1)
	assert.Equal(t, []any{"2", true}, []any{items[0].Key, items[0].Removed})
	_, _, err = read(map[string]string{"room": "#board"}, nil)
	require.ErrorContains(t, err, "a member must let it in first")
}

// Messages of a real chat server come by themselves; what was said during a break is made up for.
func TestXMPP(t *testing.T) {
	chat := peers.Prosody(t)
	room := "tours@" + chat.Rooms
	jonas := chat.Jonas(t, room)
	say := func(text string) { jonas.Say(t, "m-"+text[:2], text) }
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
		go func() {
			done <- conn.(connect.Listener).Listen(ctx, connect.SourceConfig{Settings: choices[0].Settings}, cursor, func(items []connect.Item, c json.RawMessage) error {
				cursor = c
				for _, it := range items {
					heard <- it
				}
				return nil
			})
		}()
		jonas.Until(t, Nick, true)
		return func() {
			cancel()
			if err := <-done; err != nil {
				slog.Debug("ended", "error", err)
			}
			jonas.Until(t, Nick, false)
		}
	}
	// item gives what is heard next. After a break, what was said last may come again, under the same id.
	known := map[string]bool{}
	item := func() connect.Item {
		t.Helper()
		for late := time.After(15 * time.Second); ; {
			select {
			case it := <-heard:
				if again := known[it.Key] && !it.Old && !it.Removed; !again {
					known[it.Key] = true
					return it
				}
			case <-late:
				t.Fatal("nothing was heard")
			}
		}
	}
	next := func() string { t.Helper(); return item().Record["text"].(string) }
	stop := listen()
	say("one <b>&amp; only</b>")
	assert.Equal(t, "one <b>&amp; only</b>", next())
	stop()
	say("two, said meanwhile")
	for jonas.Next(t).Body != "two, said meanwhile" { // the room has it
	}
	stop = listen()
	assert.Equal(t, "two, said meanwhile", next())
	// What is said anew, or taken away, is the same message: but only by who said it, and after a break as well. What bears the
	// mark of a Dorfbote, of this one or another, is not heard.
	jonas.Say(t, "three", "three litres")
	three := item()
	stop()
	stop = listen()
	jonas.Say(t, "x1", "of another", peers.Element("urn:xmpp:message-correct:0", "replace", "id", "nobody-said-this"))
	jonas.Say(t, "x2", "marked", peers.Element("urn:dorfbote:mark:0", "posted"))
	jonas.Say(t, "dorfbote-0123", "by its id")
	jonas.Say(t, "x3", "four litres", peers.Element("urn:xmpp:message-correct:0", "replace", "id", "three"))
	four := item()
	assert.Equal(t, []any{three.Key, "four litres", true}, []any{four.Key, four.Record["text"], four.Old})
	jonas.Say(t, "x4", "This person attempted to retract a previous message", peers.Element("urn:xmpp:message-retract:1", "retract", "id", three.Key))
	gone := item()
	assert.Equal(t, []any{three.Key, true}, []any{gone.Key, gone.Removed})
	stop()

	settings["password"] = "wrong"
	wrong, err := Kind().Open(connect.Config{Settings: settings, Env: env})
	require.NoError(t, err)
	assert.Contains(t, wrong.Prove(context.Background())[0].Do, "password")
}

// A copy whose original was taken back is taken back in the room, by the room's id of it (XEP-0424); a room is named as people write it.
func TestACopyIsTakenBackInTheRoom(t *testing.T) {
	chat := peers.Prosody(t)
	jonas := chat.Jonas(t, "tours@"+chat.Rooms)
	env := testdb.Loopback(t, value.DefaultWorkspace())
	env.TLS = chat.TLS
	settings := map[string]string{"chat": xmpp, "user": "dorfbote@" + chat.Domain, "password": "dorfbote-1", "host": chat.Address, "rooms": chat.Rooms}
	conn, err := Kind().Open(connect.Config{Settings: settings, Env: env})
	require.NoError(t, err)
	defer conn.Close()
	place, err := Kind().Rule(settings, nil).Take("#tours", value.DefaultWorkspace())
	require.NoError(t, err)
	d := conn.(connect.Sender).Send(t.Context(), connect.Post{Place: place, Key: "k-1", Doc: &dialects.Document{Title: "the hose is cracked"}})
	require.True(t, d.Taken, "%+v", d)
	said := jonas.Next(t)
	assert.Contains(t, said.Body, "the hose is cracked")
	d = conn.(connect.Editor).Edit(t.Context(), d.ID, connect.Post{Place: place, Key: "k-2", Doc: dialects.TakenBack()})
	require.True(t, d.Taken, "%+v", d)
	back := jonas.Next(t)
	assert.Equal(t, said.Key(), back.Retract.ID)
	assert.Contains(t, back.Body, "taken back", "for clients that do not know it")
}
