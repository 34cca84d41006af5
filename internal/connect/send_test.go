package connect_test

import (
	"net/http"
	"net/http/httptest"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/message"
	"dorfbote/internal/core/value"
	"dorfbote/internal/testdb"
)

// Whatever is sent and answered is kept as text that a database takes; a link is kept where a person may follow it.
func TestWhatIsKeptOfACall(t *testing.T) {
	link := ""
	there := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte("\xff\x00ok")) }))
	defer there.Close()
	send := func(body []byte) connect.Delivery {
		return connect.SendCall(t.Context(), testdb.Loopback(t, value.DefaultWorkspace()), connect.Call{
			Method: http.MethodPost, Address: there.URL, Body: body, Key: "k", Judge: func(_ []byte, d *connect.Delivery) { d.Link = link },
		})
	}
	d := send([]byte("a picture: \x89PNG\x00\xff"))
	assert.True(t, d.Taken)
	for _, kept := range []string{d.Sent, d.Raw, d.Storable().Answer} {
		assert.True(t, utf8.ValidString(kept), "%q", kept)
		assert.NotContains(t, kept, "\x00")
	}
	assert.Equal(t, "a picture: \uFFFDPNG\uFFFD\uFFFD", d.Sent)
	for given, want := range map[string]string{
		"https://chat.example/p/1": "https://chat.example/p/1", "/practice?post=1": "/practice?post=1", "javascript:alert(1)": "", "//evil.example/x": "", "data:text/html,x": "", "mailto:a@b.example": "", "p/1": "", "": "", "http://\x7f": "",
	} {
		link = given
		assert.Equal(t, want, send(nil).Link, given)
	}
}

// What a status means for a post: it may succeed later, it is the post's own fault, or its place's.
func TestWhatAStatusMeans(t *testing.T) {
	status := 0
	there := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(status) }))
	defer there.Close()
	env := testdb.Loopback(t, value.DefaultWorkspace())
	for means, all := range map[string][]int{
		"taken":       {200, 201, 202, 204},
		"later":       {408, 409, 423, 425, 429, 500, 502, 503, 504, 507, 599},
		"its own":     {400, 413, 414, 415, 422, 431},
		"its place's": {304, 401, 402, 403, 404, 405, 406, 407, 410, 411, 412, 417, 421, 424, 426, 428, 451, 501, 505, 508, 511},
	} {
		for _, status = range all {
			d := connect.SendCall(t.Context(), env, connect.Call{Method: http.MethodPost, Address: there.URL, Body: []byte("{}"), Key: "k"})
			got := "later"
			switch {
			case d.Taken:
				got = "taken"
			case d.Final && d.Place:
				got = "its place's"
			case d.Final:
				got = "its own"
			}
			assert.Equal(t, means, got, status)
		}
	}
}

// A post as shapes and other systems see it has every part, whether the message has it or not.
func TestWhatIsSeenOfAPost(t *testing.T) {
	bare := connect.Seen(connect.Post{Place: "p", Key: "k", Doc: &message.Document{Title: "T"}}, connect.NoMarks, 0)
	whole := connect.Seen(connect.Post{Place: "p", Key: "k", Bcc: "mail/secret@b.example", Doc: &message.Document{
		Title: "T", Tone: "urgent", Facts: []message.Fact{{Label: "a", Value: "b"}}, Links: []message.Link{{Text: "More", To: "https://x.example/2"}}, Sender: &message.Sender{Name: "Desk"},
		Picture: &message.Picture{From: "https://x.example/p.png", Text: "a hose"}, Mentions: []message.Mentioned{{Name: "Jo"}},
		Body: []message.Block{{Kind: message.Paragraph, Inlines: []message.Inline{{Kind: message.Text, Text: "one two three four"}}}},
	}}, connect.NoMarks, 9)
	assert.Equal(t, value.SortedKeys(whole), value.SortedKeys(bare))
	assert.NotContains(t, whole, "bcc")
	assert.Equal(t, "https://x.example/2", whole["link"], "the first of its links")
	assert.Equal(t, []any{map[string]any{"label": "a", "value": "b"}}, whole["facts"])
	assert.Equal(t, []any{"Jo"}, whole["mentions"])
	assert.Equal(t, "https://x.example/p.png", whole["picture"])
	assert.LessOrEqual(t, len([]rune(whole["text"].(string))), 9)
	assert.Equal(t, []any{}, bare["links"])
	assert.Empty(t, bare["link"])
}

// Whether somebody is there is asked without changing anything, and an answer that means something is said.
func TestWhoIsThere(t *testing.T) {
	status := http.StatusOK
	var asked *http.Request
	there := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked = r
		w.WriteHeader(status)
	}))
	env := testdb.Loopback(t, value.DefaultWorkspace())
	is := func(address string) connect.ProofStep {
		return connect.IsThere(t.Context(), env, address, "chat.example", "tours", http.Header{"Authorization": {"x"}})
	}
	assert.True(t, is(there.URL).OK)
	assert.Equal(t, []string{http.MethodHead, "x"}, []string{asked.Method, asked.Header.Get("Authorization")})
	status = http.StatusMethodNotAllowed
	assert.True(t, is(there.URL).OK, "some take only posts")
	status = http.StatusUnauthorized
	assert.Contains(t, is(there.URL).Do, "signed in")
	status = http.StatusGone
	assert.Contains(t, is(there.URL).Said, "the address of tours has been withdrawn")
	there.Close()
	assert.Contains(t, is(there.URL).Said, "no answer: nothing listens there")
	assert.False(t, is("http://\x7f").OK)
	assert.Contains(t, is("http://10.0.0.1/x").Said, "private")
}
