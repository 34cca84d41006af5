package mail

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"image"
	"image/png"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	gomessage "github.com/emersion/go-message/mail"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/message"
	"dorfbote/internal/core/value"
	"dorfbote/internal/peers"
	"dorfbote/internal/testdb"
)

// doc is a message with every part that a mail has room for. Its texts try to be markup and headers.
func doc(picture string) *message.Document {
	return &message.Document{
		Title: "Käse <b>& Milch</b>\r\nBcc: x@evil.example", Tone: "warning",
		Body:    []message.Block{{Kind: message.Paragraph, Inlines: []message.Inline{{Kind: message.Strong, Subs: []message.Inline{{Kind: message.Text, Text: "<script>1240 Liter</script>"}}}}}},
		Facts:   []message.Fact{{Label: "Farm", Value: "Höfli & Sohn"}},
		Link:    &message.Link{Text: "Open", To: "https://x.example/1?a=1&b=2"},
		Sender:  &message.Sender{Name: "Tour desk, Lindental"},
		Picture: &message.Picture{From: picture, Text: "the \"cracked\" hose"},
		Attach:  []message.File{{Name: "offene Aufträge.csv", Media: "text/csv; charset=utf-8", Data: []byte("\uFEFFid\r\n1\r\n")}},
	}
}

func opened(t *testing.T, settings map[string]string, env connect.Env) *mailbox {
	t.Helper()
	require.NoError(t, Kind().Check(settings))
	conn, err := Kind().Open(connect.Config{ID: "post", Settings: settings, Env: env})
	require.NoError(t, err)
	return conn.(*mailbox)
}

func pictureServer(t *testing.T) string {
	t.Helper()
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path != "/hose.png" {
			_, _ = w.Write([]byte("<svg onload=alert(1)>"))
			return
		}
		_ = png.Encode(w, image.NewGray(image.Rect(0, 0, 8, 8)))
	}))
	t.Cleanup(s.Close)
	return s.URL
}

func TestALetter(t *testing.T) {
	env := testdb.Loopback(t, value.DefaultWorkspace())
	pictures := pictureServer(t)
	m := opened(t, map[string]string{"smtp": "mail.example", "from": "desk@höfe.example", "reply_to": "tours@lindental.example"}, env)
	p := connect.Post{Place: "ann@x.example, käse@höfe.example", Cc: "c@x.example", Bcc: "secret@x.example", Key: "w1-a2-p0", Doc: doc(pictures + "/hose.png"), Digest: true}
	l, err := m.letter(t.Context(), p, "dorfbote.first@x.example")
	require.NoError(t, err)
	assert.Equal(t, []string{"ann@x.example", "käse@xn--hfe-sna.example", "c@x.example", "secret@x.example"}, l.all)
	again, err := m.letter(t.Context(), p, "")
	require.NoError(t, err)
	assert.Equal(t, l.id, again.id, "a repeated try is the same mail")
	p.Key = "w1-a3-p0"
	other, err := m.letter(t.Context(), p, "")
	require.NoError(t, err)
	assert.NotEqual(t, l.id, other.id)

	r, err := gomessage.CreateReader(bytes.NewReader(l.raw))
	require.NoError(t, err)
	h := r.Header
	subject, _ := h.Subject()
	assert.Equal(t, "Käse <b>& Milch</b> Bcc: x@evil.example", subject)
	from, _ := h.AddressList("From")
	assert.Equal(t, "Tour desk, Lindental", from[0].Name)
	to, _ := h.AddressList("To")
	assert.Len(t, to, 2)
	cc, _ := h.AddressList("Cc")
	assert.Len(t, cc, 1)
	assert.Empty(t, h.Get("Bcc"), "nobody sees it")
	assert.NotContains(t, string(l.raw), "secret@x.example")
	assert.Equal(t, []string{"auto-generated", "<dorfbote.first@x.example>", "<dorfbote.first@x.example>", "<" + l.id + ">"},
		[]string{h.Get("Auto-Submitted"), h.Get("In-Reply-To"), h.Get("References"), h.Get("Message-Id")})
	assert.Contains(t, h.Get("List-Unsubscribe"), "<mailto:tours@lindental.example?subject=Unsubscribe%20from")
	texts, names := map[string]string{}, []string{}
	for {
		part, err := r.NextPart()
		if err != nil {
			break
		}
		var b bytes.Buffer
		_, _ = b.ReadFrom(part.Body)
		switch h := part.Header.(type) {
		case *gomessage.InlineHeader:
			media, _, _ := h.ContentType()
			texts[media] = b.String()
		case *gomessage.AttachmentHeader:
			name, _ := h.Filename()
			names = append(names, name)
			texts[name] = b.String()
		}
	}
	assert.Contains(t, texts["text/plain"], "<script>1240 Liter</script>")
	assert.Contains(t, texts["text/html"], "&lt;script&gt;1240 Liter&lt;/script&gt;")
	assert.NotContains(t, texts["text/html"], "<script>")
	assert.Contains(t, texts["text/html"], `src="cid:picture.png@dorfbote" alt="the &#34;cracked&#34; hose"`)
	assert.NotContains(t, texts["text/html"], pictures, "no reader's program fetches it")
	assert.Equal(t, []string{"offene Aufträge.csv"}, names)
	assert.Equal(t, "\uFEFFid\r\n1\r\n", strings.ReplaceAll(strings.ReplaceAll(texts["offene Aufträge.csv"], "\r\n", "\n"), "\n", "\r\n"))
	assert.True(t, strings.HasPrefix(texts["image/png"], "\x89PNG"), "the picture lies in the mail")

	p.Doc = doc(pictures + "/no-picture")
	l, err = m.letter(t.Context(), p, "")
	require.NoError(t, err)
	assert.NotContains(t, string(l.raw), "onload", "what is no picture is told by its words and its address")
}

func TestSettingsForSending(t *testing.T) {
	for _, c := range []struct {
		settings map[string]string
		place    string
	}{
		{map[string]string{}, "host"}, {map[string]string{"smtp": "x", "user": "marit"}, "from"}, {map[string]string{"smtp": "x", "from": "no address"}, "from"},
		{map[string]string{"smtp": "x", "from": "a@x.example", "reply_to": "b"}, "reply_to"},
	} {
		require.ErrorContains(t, Kind().Check(c.settings), c.place+": ", "%v", c.settings)
	}
	require.NoError(t, Kind().Check(map[string]string{"host": "x"}))
	assert.NotEmpty(t, Kind().Mute(map[string]string{"host": "x"}))
	assert.Empty(t, Kind().Mute(map[string]string{"smtp": "x"}))
}

// A mail goes over a real server to a real mailbox, the answer lies in its thread, and one to nobody comes back as a report.
func TestARealServer(t *testing.T) {
	peer := peers.Dovecot(t)
	if peer.SMTP == "" {
		t.Skip("postfix is missing; install it with: apt-get install postfix")
	}
	env := testdb.Loopback(t, value.DefaultWorkspace())
	env.TLS = peer.TLS
	settings := map[string]string{"smtp": peer.SMTP, "smtp_security": byStartTLS, "host": peer.IMAP, "security": byStartTLS, "user": "marit", "password": "marit-1", "from": "marit@localhost"}
	m := opened(t, settings, env)
	steps := m.Prove(t.Context())
	require.True(t, connect.Proved(steps), "%+v", steps)
	cursor, err := m.Reports(t.Context(), nil, func(connect.Report) error { return nil })
	require.NoError(t, err)

	first := m.Send(t.Context(), connect.Post{Place: "marit@localhost", Key: "k1", Doc: doc(pictureServer(t) + "/hose.png")})
	require.True(t, first.Taken, "%+v\n%s", first, peer.Log())
	reply := m.Reply(t.Context(), first.ID, connect.Post{Place: "marit@localhost", Key: "k2", Doc: &message.Document{Title: "In its thread"}})
	require.True(t, reply.Taken, "%+v", reply)
	lost := m.Send(t.Context(), connect.Post{Place: "nobody-of-that-name@localhost", Key: "k3", Doc: &message.Document{Title: "Comes back"}})
	require.True(t, lost.Taken, "%+v", lost)
	refused := m.Send(t.Context(), connect.Post{Place: "somebody@elsewhere.example, marit@localhost", Key: "k4", Doc: &message.Document{Title: "x"}})
	assert.False(t, refused.Taken && refused.Final, "%+v", refused)

	var got connect.Report // others may come first, of what the server took and could not hand on
	require.Eventually(t, func() bool {
		next, err := m.Reports(t.Context(), cursor, func(r connect.Report) error {
			if r.Of == lost.ID {
				got = r
			}
			return nil
		})
		require.NoError(t, err)
		cursor = next
		return got.Of != ""
	}, 30*time.Second, 200*time.Millisecond, "no report came:\n%s", peer.Log())
	assert.Equal(t, connect.ReportFailed, got.State)
	assert.Contains(t, got.Words, "nobody-of-that-name@localhost: ")

	var all string
	files, err := filepath.Glob(filepath.Join(peer.Dir, "home/mail/*/*"))
	require.NoError(t, err)
	for _, f := range files {
		raw, _ := os.ReadFile(f)
		all += string(raw)
	}
	assert.Contains(t, all, "In-Reply-To: <"+first.ID+">")
	assert.Contains(t, all, "filename=")

	settings["password"] = "wrong"
	m = opened(t, settings, env)
	d := m.Send(t.Context(), connect.Post{Place: "marit@localhost", Key: "k5", Doc: &message.Document{Title: "x"}})
	assert.False(t, d.Taken)
	assert.True(t, d.Final && d.Place, "whom the server does not let sign in can send nothing at all: %+v", d)
	assert.NotContains(t, fmt.Sprint(d), "wrong\x00")
	steps = m.Prove(t.Context())
	assert.Contains(t, steps[0].Do, "password")
}

const bounce = "From: MAILER-DAEMON@x\r\nSubject: Undelivered\r\nContent-Type: multipart/report; report-type=delivery-status; boundary=b\r\n\r\n--b\r\nContent-Type: text/plain\r\n\r\nSorry\r\n--b\r\nContent-Type: message/delivery-status\r\n\r\n" +
	"Reporting-MTA: dns; x\r\n\r\nFinal-Recipient: rfc822; ann@x.example\r\nOriginal-Recipient: rfc822;ann@y.example\r\nAction: %s\r\nStatus: 5.1.1\r\nDiagnostic-Code: smtp; 550 5.1.1 no\r\n such user\r\n\r\nFinal-Recipient: rfc822; b@x.example\r\nAction: delayed\r\n" +
	"\r\n--b\r\nContent-Type: text/rfc822-headers\r\n\r\nFrom: desk@x\r\nMessage-ID: <dorfbote.1@x.example>\r\n\r\n--b--\r\n"

func TestReports(t *testing.T) {
	assert.Equal(t, []connect.Report{{Of: "dorfbote.1@x.example", State: "failed", Words: "ann@y.example: 550 5.1.1 no such user."}}, reportsIn([]byte(fmt.Sprintf(bounce, "failed"))))
	assert.Equal(t, "delivered", reportsIn([]byte(fmt.Sprintf(bounce, "Delivered")))[0].State)
	for _, none := range []string{"", "Subject: x\r\n\r\nhello", strings.ReplaceAll(fmt.Sprintf(bounce, "failed"), "delivery-status; b", "disposition-notification; b"), strings.ReplaceAll(fmt.Sprintf(bounce, "failed"), "Message-ID", "X-ID"), fmt.Sprintf(bounce, "relayed")} {
		assert.Empty(t, reportsIn([]byte(none)))
	}
}

func FuzzReports(f *testing.F) {
	f.Add([]byte(fmt.Sprintf(bounce, "failed")))
	f.Fuzz(func(t *testing.T, raw []byte) {
		for _, r := range reportsIn(raw) {
			_, err := json.Marshal(r)
			require.NoError(t, err)
			require.NotEmpty(t, r.Of)
		}
	})
}

// Whatever a message's texts hold, the mail has the headers that it was given and no other, and its texts are read back as they are.
func FuzzLetters(f *testing.F) {
	f.Add("x\r\nBcc: a@b.example", "<b>")
	f.Add("=?utf-8?q?x?=", ".\r\n.\r\n")
	m := &mailbox{connect.Config{Settings: map[string]string{"smtp": "x", "from": "desk@x.example"}}}
	f.Fuzz(func(t *testing.T, title, text string) {
		title, text = strings.ToValidUTF8(title, ""), strings.ToValidUTF8(text, "")
		d := &message.Document{Title: strings.Join(strings.Fields(title), " "), Body: []message.Block{{Kind: message.Paragraph, Inlines: []message.Inline{{Kind: message.Text, Text: text}}}}, Sender: &message.Sender{Name: title}}
		l, err := m.letter(context.Background(), connect.Post{Place: "a@x.example", Key: "k", Doc: d}, "")
		if err != nil {
			return
		}
		r, err := gomessage.CreateReader(bytes.NewReader(l.raw))
		require.NoError(t, err)
		require.Empty(t, r.Header.Get("Bcc"))
		to, err := r.Header.AddressList("To")
		require.NoError(t, err)
		require.Len(t, to, 1)
	})
}
