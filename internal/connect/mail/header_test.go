package mail

import (
	"mime"
	"net/mail"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/message"
	"dorfbote/internal/core/value"
	"dorfbote/internal/testdb"
)

// Whatever a record's text is, it is read as that text and nothing else, and no line is longer than a line may be.
func TestHeadersSayWhatTheTextSays(t *testing.T) {
	for name, c := range map[string]struct{ text, reads string }{
		"plain":                {"COL-7 is late", "COL-7 is late"},
		"a quote":              {`Tour "desk"`, `Tour "desk"`},
		"a final backslash":    {`desk\`, `desk\`},
		"a line break":         {"desk\r\nBcc: evil@x.example", "desk Bcc: evil@x.example"},
		"a control character":  {"de\x07sk\x00", "desk"},
		"bidi":                 {"a\u202Egpj.exe\u2066b", "agpj.exeb"},
		"an encoded word":      {"=?utf-8?q?hidden?=", "=?utf-8?q?hidden?="},
		"half an encoded word": {"=?utf-8?b?aGk=", "=?utf-8?b?aGk="},
		"beyond ASCII":         {"Käse für Zoë, 12 €", "Käse für Zoë, 12 €"},
		"an address":           {"<evil@x.example>", "<evil@x.example>"},
		"a comma":              {"Aven, Marit", "Aven, Marit"},
		"one long word":        {strings.Repeat("x", 90), strings.Repeat("x", 90)},
		"long and beyond":      {strings.Repeat("ü", 90), strings.Repeat("ü", 90)},
	} {
		t.Run(name, func(t *testing.T) {
			m := opened(t, map[string]string{"smtp": "mail.example", "from": "desk@lindental.example", "reply_to": "answers@lindental.example", "unsubscribe": "leave@lindental.example"}, testdb.Loopback(t, value.DefaultWorkspace()))
			l, err := m.letter(t.Context(), connect.Post{Place: "marit@lindental.example", Key: "k", Doc: &message.Document{Title: c.text, Sender: &message.Sender{Name: c.text}}}, "")
			require.NoError(t, err)
			for line := range strings.SplitSeq(string(l.raw), "\r\n") {
				assert.LessOrEqual(t, len(line), 998)
			}
			got, err := mail.ReadMessage(strings.NewReader(string(l.raw)))
			require.NoError(t, err)
			subject, err := new(mime.WordDecoder).DecodeHeader(got.Header.Get("Subject"))
			require.NoError(t, err)
			assert.Equal(t, c.reads, subject)
			from, err := got.Header.AddressList("From")
			require.NoError(t, err)
			assert.Equal(t, []*mail.Address{{Name: c.reads, Address: "desk@lindental.example"}}, from)
			assert.Empty(t, got.Header.Get("X-Mailer")+got.Header.Get("User-Agent")+got.Header.Get("Bcc"))
			assert.Equal(t, "<answers@lindental.example>", got.Header.Get("Reply-To"))
			assert.Equal(t, "<mailto:leave@lindental.example>", got.Header.Get("List-Unsubscribe"))
		})
	}
}

// A server is greeted by the public name.
func TestTheNameOfTheGreeting(t *testing.T) {
	for base, want := range map[string]string{
		"https://dorfbote.example:8443/x": "dorfbote.example", "": "lindental.example", "http://192.0.2.7": "[192.0.2.7]", "https://[2001:db8::1]": "[IPv6:2001:db8::1]", "https://dörfli.example": "xn--drfli-jua.example",
	} {
		e := testdb.Loopback(t, value.DefaultWorkspace())
		e.Base = base
		assert.Equal(t, want, opened(t, map[string]string{"smtp": "mail.example", "from": "desk@lindental.example"}, e).called(), base)
	}
}

// What a file is called is no path, shows what it is, and is no longer than programs bear.
func TestNamesOfFiles(t *testing.T) {
	for name, want := range map[string]string{
		"price list.csv": "price list.csv", "../../etc/passwd": "..-..-etc-passwd", `C:\x"y.pdf`: "C--x-y.pdf", "a\r\nb.txt": "a b.txt", "invoice\u202Efdp.exe": "invoicefdp.exe", "": "file", "\x00": "file",
		strings.Repeat("ä", 200) + ".csv": strings.Repeat("ä", 116) + ".csv", strings.Repeat("b", 130) + "." + strings.Repeat("c", 50): strings.Repeat("b", 120),
	} {
		assert.Equal(t, want, fileName(name))
	}
}
