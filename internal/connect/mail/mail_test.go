package mail_test

import (
	"context"
	"fmt"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/connect"
	"dorfbote/internal/connect/mail"
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
