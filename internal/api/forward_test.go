package api_test

import (
	"encoding/json"
	"fmt"
	"image"
	"image/png"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/api"
	"dorfbote/internal/peers"
	"dorfbote/internal/practice"
)

// forwarding is a square, a chat server, a mail server and a chat of another make, joined by tables.
type forwarding struct {
	*client
	square string // where the square is
	jonas  *peers.Talker
	mail   *peers.Mail
	mu     sync.Mutex
	calls  []string // what the other chat was sent
}

func forwardingHouse(t *testing.T) *forwarding {
	t.Helper()
	chat, mail := peers.Prosody(t), peers.Dovecot(t)
	if mail.SMTP == "" {
		t.Skip("postfix is not installed")
	}
	f := &forwarding{mail: mail}
	f.client = startWith(t, func(o *api.Options) {
		o.Engine.Env.TLS, o.Engine.Env.Base = chat.TLS, "https://dorfbote.example"
	})
	stand, err := practice.New(t.Context(), f.st.DB, practice.DefaultOptions())
	require.NoError(t, err)
	square := httptest.NewServer(stand.Handler())
	t.Cleanup(func() { square.CloseClientConnections(); square.Close() })
	f.square = square.URL + "/square"
	other := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		raw, _ := io.ReadAll(r.Body)
		f.mu.Lock()
		defer f.mu.Unlock()
		f.calls = append(f.calls, string(raw))
		_, _ = fmt.Fprintf(w, `{"ok":true,"id":"c%d"}`, len(f.calls))
	}))
	t.Cleanup(other.Close)
	do := func(sql string, args ...any) { require.NoError(t, f.st.DB.Exec(sql, args...).Error) }
	do("INSERT INTO practice.tokens (token, sender) VALUES ('t-1', 'Dorfbote')")
	do("INSERT INTO practice.channels (name) VALUES ('#tours'), ('#lab')")
	f.signIn()
	f.ok("PATCH", "/api/connections/square", fmt.Sprintf(`{"settings":{"address":%q,"token":"t-1"}}`, f.square))
	f.ok("POST", "/api/connections", fmt.Sprintf(`{"id":"talk","kind":"room","title":"Talk","settings":{"chat":"the square","address":%q,"token":"t-1"}}`, f.square))
	f.ok("POST", "/api/connections", fmt.Sprintf(`{"id":"far","kind":"room","title":"Far","settings":{"chat":"XMPP","user":"dorfbote@%s","password":"dorfbote-1","host":%q,"rooms":%q}}`, chat.Domain, chat.Address, chat.Rooms))
	f.ok("POST", "/api/connections", fmt.Sprintf(`{"id":"desk","kind":"mail","title":"Desk","settings":{"smtp":%q,"smtp_security":"not at all","host":%q,"security":"not at all","user":"marit","password":"marit-1","from":"marit@localhost"}}`, mail.SMTP, mail.IMAP))
	f.ok("POST", "/api/connections", fmt.Sprintf(`{"id":"other","kind":"webhook","title":"Other","settings":{"places":"tours %s/in","shape":"my own","body":"{\"t\":\"${post.text}\",\"pic\":\"${post.picture}\"}","id":"$.id"}}`, other.URL))
	room := "tours@" + chat.Rooms
	f.jonas = chat.Jonas(t, room)
	source := func(connection, body string) {
		t.Helper()
		f.ok("POST", "/api/connections/"+connection+"/sources", body)
	}
	source("talk", `{"kind":"tours","key_field":"id","settings":{"room":"#tours"},"begin":{"how":"now"}}`)
	source("far", fmt.Sprintf(`{"kind":"tours","key_field":"id","settings":{"room":%q,"name":"Reader"},"begin":{"how":"now"}}`, room))
	source("desk", `{"kind":"inbox","key_field":"id","settings":{"mailbox":"INBOX"},"begin":{"how":"now"}}`)
	const tables = `tables: {rooms: [{from: "#tours", far: "tours@rooms.chat.example", desk: "marit@localhost", other: tours}, {from: tours, square: "#tours"}]}` + "\n"
	never := "keep_up: {until: {field: text, is: the end of the world}}"
	f.turnedOn("dorfbote: 1\nname: Out\nwatch: {source: talk/tours}\n" + tables +
		"messages: {copy: {like: {of: \"${record}\", author: true, footer: \"from ${record.room}\"}}, letter: {title: \"${record.author} in ${record.room}\", like: {of: \"${record}\"}}}\n" +
		"route: {otherwise: {tell: [{to: \"far/${rooms[record.room].far}\", message: copy, " + never + "}, {to: \"other/${rooms[record.room].other}\", message: copy}, {to: \"desk/${rooms[record.room].desk}\", message: letter}]}}\n")
	f.turnedOn("dorfbote: 1\nname: In\nwatch: {source: far/tours}\n" + tables +
		"messages: {copy: {like: {of: \"${record}\", author: true}}}\n" +
		"route: {otherwise: {tell: [{to: \"square/${rooms[record.room].square}\", message: copy, " + never + "}]}}\n")
	f.turnedOn("dorfbote: 1\nname: Mailed\nwatch: {source: desk/inbox}\n" +
		"messages: {copy: {like: {of: \"${record}\", author: true}}}\n" +
		"route: {otherwise: {tell: [{to: \"square/#tours\", message: copy}]}}\n")
	return f
}

type squareSaid struct {
	ID      int64
	Under   *int64
	Text    string
	Sender  string
	Picture *struct{ ID string }
}

func (f *forwarding) inSquare() (out []squareSaid) {
	f.t.Helper()
	res, err := http.Get(f.square + "/channels/tours/posts?limit=100")
	require.NoError(f.t, err)
	defer res.Body.Close()
	require.NoError(f.t, json.NewDecoder(res.Body).Decode(&out))
	return out
}

func (f *forwarding) until(what string, holds func() bool) {
	f.t.Helper()
	require.Eventually(f.t, holds, 30*time.Second, 50*time.Millisecond, what)
}

func (f *forwarding) ask(method, path, body string) {
	f.t.Helper()
	req, err := http.NewRequest(method, f.square+path, strings.NewReader(body))
	require.NoError(f.t, err)
	res, err := http.DefaultClient.Do(req)
	require.NoError(f.t, err)
	res.Body.Close()
	require.Less(f.t, res.StatusCode, 300)
}

// What is said in the square is said in a room of a chat server, in a chat of another make and by mail, with its marks and its
// picture; what is changed there is changed; answers come back into the thread that they belong to; and nothing goes round.
func TestForwardingBetweenRooms(t *testing.T) {
	f := forwardingHouse(t)
	pictures := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _ = png.Encode(w, image.NewGray(image.Rect(0, 0, 9, 9))) }))
	defer pictures.Close()
	f.until("the far room is listened to", func() bool {
		f.jonas.Say(t, "warm", "is anybody there?")
		time.Sleep(300 * time.Millisecond)
		return len(f.inSquare()) > 0
	})
	first := len(f.inSquare())
	f.ask("POST", "/channels/tours/say", fmt.Sprintf(`{"author":"Vera","text":"The **hose** is <b>cracked</b>","images":["%s/hose.png"]}`, pictures.URL))
	var copied peers.Said
	for !strings.Contains(copied.Body, "hose") {
		copied = f.jonas.Next(t)
	}
	assert.Contains(t, copied.Body, "*Vera*: The *hose* is <b>cracked</b>", "marked as people of that chat mark it")
	assert.Contains(t, copied.Body, "from #tours")
	assert.Contains(t, copied.Picture.URL, "http", "the picture goes along")
	f.until("the other chat has it", func() bool {
		f.mu.Lock()
		defer f.mu.Unlock()
		return len(f.calls) == 1 && strings.Contains(f.calls[0], "hose") && strings.Contains(f.calls[0], `"pic":"http`)
	})
	said := f.inSquare()[0]

	// Its change goes to where it can, and to nobody as something new.
	f.ask("PUT", fmt.Sprintf("/posts/%d/said", said.ID), `{"author":"Vera","text":"The **valve** is cracked"}`)
	anew := f.jonas.Next(t)
	assert.Contains(t, anew.Body, "*Vera*: The *valve* is cracked")
	assert.Equal(t, copied.ID, anew.Replace.ID)

	// An answer to the copy stands under what it is a copy of; so does one by mail.
	f.jonas.Say(t, "answer", "I have a *new* one, see https://parts.example/_hose_\n- 3 m\n- *not* 2_m_", peers.Element("urn:xmpp:reply:0", "reply", "to", "tours@rooms.chat.example/Dorfbote", "id", copied.Key()))
	under := func(text string) bool {
		for _, p := range f.inSquare() {
			if strings.Contains(p.Text, text) {
				return p.Under != nil && *p.Under == said.ID
			}
		}
		return false
	}
	f.until("the answer stands in the thread", func() bool { return under("I have a **new** one") })
	for _, p := range f.inSquare() {
		if strings.Contains(p.Text, "**new**") {
			assert.Contains(t, p.Text, "(<https://parts.example/_hose_>)", "a link is one")
			assert.Contains(t, p.Text, "\n- 3 m\n- **not** 2\\_m\\_", "a list is one, and what marks nothing is text")
		}
	}
	var letter string
	require.NoError(t, f.st.DB.Raw("SELECT remote_id FROM posts WHERE destination = 'desk/marit@localhost' ORDER BY id LIMIT 1").Scan(&letter).Error)
	require.NotEmpty(t, letter)
	f.mail.Post(t, "ann@localhost", "marit@localhost", "From: Ann <ann@localhost>\r\nTo: marit@localhost\r\nSubject: Re: hose\r\nMessage-ID: <a1@localhost>\r\nIn-Reply-To: <"+strings.Trim(letter, "<>")+">\r\n\r\nI bring it at noon.\r\n")
	f.until("the letter stands in the thread", func() bool { return under("I bring it at noon") })
	// An answer in the square goes into the thread of the copy.
	f.ask("POST", "/channels/tours/say", fmt.Sprintf(`{"author":"Vera","text":"Thank you all","under":%d}`, said.ID))
	f.until("the answer to all", func() bool {
		for len(f.jonas.Heard) > 0 {
			if s := f.jonas.Next(t); strings.Contains(s.Body, "Thank you all") {
				assert.Equal(t, copied.Key(), s.Reply.ID)
				return true
			}
		}
		return false
	})
	// What is said anew there, and taken away there, follows as well.
	f.jonas.Say(t, "anew", "I have two new ones", peers.Element("urn:xmpp:message-correct:0", "replace", "id", "answer"))
	f.until("the answer is changed", func() bool { return under("I have two new ones") && !under("I have a **new** one") })

	// Nothing has gone round: the square holds what was said there, and what came from elsewhere, each once.
	time.Sleep(3 * time.Second)
	var texts []string
	for _, p := range f.inSquare() {
		texts = append(texts, p.Text)
	}
	assert.Len(t, texts, first+4, "%s", strings.Join(texts, "\n"))
	f.mu.Lock()
	assert.Len(t, f.calls, 2, "what was said in the square, and nothing that came from elsewhere: %v", f.calls)
	f.mu.Unlock()
	_, arrivals := f.call("GET", "/api/arrivals?source=desk/inbox", "")
	for _, a := range items(arrivals) { // one's own letters came in, too
		if !strings.Contains(fmt.Sprint(a), "a1@localhost") {
			assert.Empty(t, a["verdicts"], "%v", a)
		}
	}
}

// A question that is put in a chat server's room is answered in its thread there, and who answers hears so in the same place.
func TestAQuestionInAChatServersRoom(t *testing.T) {
	f := forwardingHouse(t)
	room := "tours@rooms.chat.example"
	f.turnedOn("dorfbote: 1\nname: Ask\nwatch: {source: desk/inbox}\n" +
		"ask: [{name: v, of: \"far/" + room + "\", message: q, choices: [{name: approve, text: Approve}, {name: decline, comment: required}]}]\n" +
		"messages: {q: {title: \"May ${record.subject}?\"}, m: {title: \"${v.choice} by ${v.by}: ${v.comment}\"}}\n" +
		"route: {otherwise: {tell: [{to: \"square/#lab\", message: m}]}}\n")
	f.until("the far room is listened to", func() bool {
		f.jonas.Say(t, "warm", "is anybody there?")
		time.Sleep(300 * time.Millisecond)
		return len(f.inSquare()) > 0
	})
	f.mail.Post(t, "ann@localhost", "marit@localhost", "From: Ann <ann@localhost>\r\nTo: marit@localhost\r\nSubject: the visit\r\nMessage-ID: <v1@localhost>\r\n\r\nOn Friday.\r\n")
	hears := func(words string) peers.Said {
		t.Helper()
		for {
			if s := f.jonas.Next(t); strings.Contains(s.Body, words) {
				return s
			}
		}
	}
	question := hears("May the visit?")
	assert.Contains(t, question.Body, "Or answer below: approve · decline: why")
	f.until("it is known to stand there", func() bool {
		var n int64
		f.st.DB.Raw("SELECT count(*) FROM posts WHERE message = 'q' AND state = 'sent'").Scan(&n)
		return n == 1
	})
	under := peers.Element("urn:xmpp:reply:0", "reply", "to", room+"/Dorfbote", "id", question.Key())
	f.jonas.Say(t, "no", "decline", under)
	hears("needs a comment")
	under = peers.Element("urn:xmpp:reply:0", "reply", "to", room+"/Dorfbote", "id", question.Key())
	f.jonas.Say(t, "yes", "approve: see you there", under)
	assert.NotEmpty(t, hears("Your answer has been taken").Reply.ID, "in the thread")
	f.until("it is decided", func() bool {
		var titles []string
		require.NoError(t, f.st.DB.Raw("SELECT title FROM posts WHERE destination = 'square/#lab' AND state = 'sent'").Scan(&titles).Error)
		return len(titles) == 1 && titles[0] == "approve by Jonas: see you there"
	})
}
