package links

import (
	"bytes"
	"encoding/json"
	"mime/quotedprintable"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/connect"
	"dorfbote/internal/engine/host"
	"dorfbote/internal/seal"
	"dorfbote/internal/testdb"
)

// However an address is written, its signed part is cut out, and nothing else is.
func TestRedact(t *testing.T) {
	l := &Links{Host: &host.Host{Store: testdb.New(t), Box: seal.Ephemeral(), Env: connect.Env{Base: "https://dorfbote.example"}}}
	for _, link := range []Link{
		{For: Button, ID: 7, Until: time.Now()}, {For: Button, ID: 123456789, N: AllButtons, Until: time.Now(), Native: true}, {For: Why, ID: 1, Until: time.Now()},
		{For: Shared, ID: 1, N: 3, Until: time.Now()}, {For: Picture, ID: 9, Until: time.Now()}, {For: File, ID: 9, N: 1, Until: time.Now()}, {For: Button, ID: 7, Until: time.Now(), Copy: true},
	} {
		to, err := l.Address(t.Context(), link)
		require.NoError(t, err)
		token := to[strings.LastIndex(to, "/")+1:]
		said := "Released (COL-7, v1.2.3): " + to + " and so on."
		var mail bytes.Buffer
		for pad := range 76 {
			w := quotedprintable.NewWriter(&mail)
			_, _ = w.Write([]byte(strings.Repeat("x", pad) + said))
			require.NoError(t, w.Close())
			mail.WriteString("\r\n")
		}
		asJSON, err := json.Marshal(map[string]string{"text": said, "mail": mail.String()})
		require.NoError(t, err)
		for name, text := range map[string]string{"text": said, "JSON": string(asJSON), "form": url.Values{"text": {said}}.Encode(), "mail": mail.String(), "picture": to + ".png"} {
			got := Redact(text)
			flat := strings.NewReplacer("=\r\n", "", `=\r\n`, "", "=\n", "").Replace(got)
			assert.NotContains(t, flat, token[len(token)-10:], name)
			assert.NotContains(t, flat, token, name)
			assert.Equal(t, got, string(RedactJSON([]byte(text))), name)
		}
		assert.Equal(t, "Released (COL-7, v1.2.3): "+strings.TrimSuffix(to, token)+Cut+" and so on.", Redact(said))
	}
	plain := "b.1.2.l is no link, nor is 192.168.0.1, nor s.12.3.x.1799999999.AAAAAAAAAAAAAAAAAAAAAAAA."
	assert.Equal(t, plain, Redact(plain))
	assert.Equal(t, "https://x.example/form/gate/mend/"+Cut+" here", Redact("https://x.example/form/gate/mend/0123456789abcdefABCDEF here"))
}

// It is cut also where nothing else in the text has a dot, such as on this machine alone.
func TestRedactMend(t *testing.T) {
	for _, text := range []string{"http://localhost:8470/mend/abcdefghijklmnop_-1", "see /mend/abcdefghijklmnop", "a%2Fmend%2Fabcdefghijklmnop"} {
		assert.Contains(t, Redact(text), Cut)
		assert.NotContains(t, Redact(text), "abcdefghijklmnop")
		assert.Equal(t, Redact(text), Redact(Redact(text)))
	}
	for _, text := range []string{"", "v1.2.l.3 and b.7.0.l", "they mend/ the road", "/mend/short"} {
		assert.Equal(t, text, Redact(text))
	}
}
