package mail_test

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/connect"
	"dorfbote/internal/connect/mail"
	"dorfbote/internal/core/message"
	"dorfbote/internal/core/value"
	"dorfbote/internal/peers"
	"dorfbote/internal/testdb"
)

const letter = "From: =?utf-8?q?K=C3=A4ser?= <kaeser@farm.example>\r\nTo: marit@localhost\r\nSubject: =?iso-8859-1?q?Milch_f=FCr_heute?=\r\nMessage-ID: <m-%d@farm.example>\r\nDate: Fri, 20 Nov 2026 07:41:07 +0100\r\nMIME-Version: 1.0\r\nContent-Type: multipart/mixed; boundary=b\r\n\r\n--b\r\nContent-Type: text/plain; charset=windows-1252\r\nContent-Transfer-Encoding: quoted-printable\r\n\r\n1240 Liter, K=E4se\r\n--b\r\nContent-Type: application/pdf; name=\"note.pdf\"\r\nContent-Disposition: attachment; filename=\"note.pdf\"\r\n\r\nx\r\n--b--\r\n"

func TestAMessage(t *testing.T) {
	r := mail.Item([]byte(fmt.Sprintf(letter, 1)), "f").Record
	assert.Equal(t, map[string]any{
		"id": "m-1@farm.example", "from": "kaeser@farm.example", "from_name": "Käser", "to": []any{"marit@localhost"}, "subject": "Milch für heute",
		"sent": "2026-11-20T07:41:07+01:00", "text": "1240 Liter, Käse", "attachments": []any{"note.pdf"},
	}, r)
	r = mail.Item([]byte("Subject: x\r\nContent-Type: text/html\r\n\r\n<style>p{}</style><p>One &amp; two</p><p>three<br>four</p><script>no()</script>"), "f").Record
	assert.Equal(t, "One & two\nthree\nfour", r["text"])
	assert.Equal(t, "f", mail.Item([]byte("no mail at all"), "f").Key)
}

func FuzzItem(f *testing.F) {
	f.Add([]byte(fmt.Sprintf(letter, 1)))
	f.Fuzz(func(t *testing.T, raw []byte) {
		it := mail.Item(raw, "fallback")
		if _, err := value.ReadJSON(value.AppendJSON(nil, it.Record)); err != nil {
			t.Fatal(err)
		}
	})
}

// New messages are read by their numbers and left unread; the server says when one comes.
func TestAMailbox(t *testing.T) {
	m := peers.Dovecot(t)
	env := testdb.Loopback(t, value.DefaultWorkspace())
	env.TLS = m.TLS
	settings := map[string]string{"host": m.IMAP, "security": "by STARTTLS", "user": "marit", "password": "marit-1"}
	conn, err := mail.Kind().Open(connect.Config{Settings: settings, Env: env})
	require.NoError(t, err)
	steps := conn.Prove(context.Background())
	require.True(t, connect.Proved(steps), "%+v", steps)
	choices, err := conn.Browse(context.Background())
	require.NoError(t, err)
	require.NotEmpty(t, choices)
	src := connect.SourceConfig{Settings: map[string]string{"mailbox": "INBOX"}, Key: "id"}
	var keys []string
	poll := func(p connect.Polled) connect.Polled {
		keys = nil
		p, err := conn.(connect.Poller).Poll(context.Background(), src, p.Cursor, func(it connect.Item) error { keys = append(keys, it.Key); return nil })
		require.NoError(t, err)
		return p
	}
	send := func(n int) {
		if m.SMTP == "" {
			t.Skip("postfix is missing; install it with: apt-get install postfix")
		}
		m.Post(t, "kaeser@farm.example", "marit@localhost", fmt.Sprintf(letter, n))
	}
	first := poll(connect.Polled{})
	assert.Empty(t, keys)

	ctx := t.Context()
	news := make(chan struct{}, 10)
	go func() { _ = conn.(connect.Waiter).Wait(ctx, src, func() { news <- struct{}{} }) }()
	<-news // it waits now
	send(1)
	select {
	case <-news:
	case <-time.After(20 * time.Second):
		t.Fatalf("the server did not say that a message came:\n%s", m.Log())
	}
	second := poll(first)
	assert.Equal(t, []string{"m-1@farm.example"}, keys)
	poll(second)
	assert.Empty(t, keys, "nothing twice")
	unread, err := filepath.Glob(filepath.Join(m.Dir, "home/mail/*/*"))
	require.NoError(t, err)
	for _, f := range unread {
		assert.NotContains(t, filepath.Base(f), ":2,S", "the message was marked as read")
	}

	settings["password"] = "wrong"
	conn, err = mail.Kind().Open(connect.Config{Settings: settings, Env: env})
	require.NoError(t, err)
	steps = conn.Prove(context.Background())
	assert.False(t, connect.Proved(steps))
	assert.Contains(t, steps[0].Do, "password")
}

// Files of mails are found and fetched, however they are written.
func TestFilesOfMails(t *testing.T) {
	m := peers.Dovecot(t)
	if m.SMTP == "" {
		t.Skip("postfix is missing; install it with: apt-get install postfix")
	}
	env := testdb.Loopback(t, value.DefaultWorkspace())
	env.TLS = m.TLS
	conn, err := mail.Kind().Open(connect.Config{Settings: map[string]string{"host": m.IMAP, "security": "by STARTTLS", "user": "marit", "password": "marit-1"}, Env: env})
	require.NoError(t, err)
	src := connect.SourceConfig{Name: "desk/inbox", Settings: map[string]string{"mailbox": "INBOX"}, Key: "id"}
	begun, err := conn.(connect.Poller).Poll(t.Context(), src, nil, func(connect.Item) error { return nil })
	require.NoError(t, err)
	const head = "From: a@farm.example\r\nTo: marit@localhost\r\nSubject: %s\r\nMIME-Version: 1.0\r\n"
	for _, c := range []struct{ what, letter, name, media, data string }{
		{"the whole mail is the file", "Content-Type: application/pdf; name=\"=?utf-8?q?Pr=C3=BCfung.pdf?=\"\r\nContent-Transfer-Encoding: base64\r\n\r\nJVBERg==\r\n", "Prüfung.pdf", "application/pdf", "%PDF"},
		{"quoted, within two bodies", "Content-Type: multipart/mixed; boundary=b\r\n\r\n--b\r\nContent-Type: multipart/alternative; boundary=c\r\n\r\n--c\r\nContent-Type: text/plain\r\n\r\nhello\r\n--c--\r\n--b\r\nContent-Type: text/csv; charset=utf-8\r\nContent-Disposition: attachment; filename=a.csv\r\nContent-Transfer-Encoding: quoted-printable\r\n\r\nK=C3=A4se,1\r\n--b--\r\n", "a.csv", "text/csv", "Käse,1"},
		{"a name in pieces", "Content-Type: multipart/mixed; boundary=b\r\n\r\n--b\r\nContent-Type: image/png\r\nContent-Disposition: inline; filename*0*=UTF-8''Schl; filename*1*=%C3%A4uche.png\r\nContent-Transfer-Encoding: base64\r\n\r\niVBORw==\r\n--b--\r\n", "Schläuche.png", "image/png", "\x89PNG"},
		{"without a name", "Content-Type: multipart/mixed; boundary=b\r\n\r\n--b\r\nContent-Type: text/plain\r\n\r\nhello\r\n--b\r\nContent-Type: image/jpeg\r\nContent-Transfer-Encoding: base64\r\n\r\n/9j/\r\n--b--\r\n", "file 1.jpg", "image/jpeg", "\xff\xd8\xff"},
	} {
		t.Run(c.what, func(t *testing.T) {
			m.Post(t, "a@farm.example", "marit@localhost", fmt.Sprintf(head, c.what)+c.letter)
			var records []map[string]any
			require.Eventually(t, func() bool {
				begun, err = conn.(connect.Poller).Poll(t.Context(), src, begun.Cursor, func(it connect.Item) error { records = append(records, it.Record); return nil })
				return err == nil && len(records) == 1
			}, 20*time.Second, 50*time.Millisecond)
			files, _ := records[0]["files"].([]any)
			require.Len(t, files, 1)
			file := files[0].(map[string]any)
			assert.Equal(t, c.name, file["name"])
			assert.Equal(t, c.media, file["media"])
			source, ref, ok := message.HeldIn(file["address"].(string))
			require.True(t, ok)
			assert.Equal(t, "desk/inbox", source)
			data, media, err := conn.(connect.Holder).Held(t.Context(), src, ref, 100)
			require.NoError(t, err)
			assert.Equal(t, c.data, string(data))
			assert.Equal(t, c.media, media)
			_, _, err = conn.(connect.Holder).Held(t.Context(), src, ref, 2)
			require.ErrorContains(t, err, "larger")
			for _, other := range []string{ref + "9", strings.Replace(ref, "-", "-9", 1), "9" + ref, "1-1/", "1-1/x", "../etc"} {
				_, _, err = conn.(connect.Holder).Held(t.Context(), src, other, 100)
				assert.Error(t, err, other)
			}
		})
	}
}
