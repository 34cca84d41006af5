package api_test

import (
	"bytes"
	"fmt"
	"io"
	"net"
	"net/http"
	"strings"
	"testing"
	"time"

	webhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/store"
)

// What hostile senders try is refused in words or harmless, and the server goes on.
func TestHostileInput(t *testing.T) {
	c := start(t)
	c.signIn()
	require.NoError(t, c.st.DB.Create(&store.Connection{ID: "shop", Kind: "hook", Title: "Shop", KeyField: "id", CreatedAt: time.Now()}).Error)
	million := func() string {
		var b strings.Builder
		b.WriteString(`{"id":"m"`)
		for i := range 1_000_000 {
			fmt.Fprintf(&b, `,"f%d":1`, i)
		}
		return b.String() + "}"
	}
	for _, h := range []struct {
		name, body string
		status     int
	}{
		{"nested ten thousand deep", `{"id":"1","a":` + strings.Repeat("[", 10_000) + strings.Repeat("]", 10_000) + `}`, 400},
		{"a million fields", million(), 413},
		{"broken UTF-8", "{\"id\":\"1\",\"a\":\"\xff\xfe\"}", 400},
		{"a lone surrogate", `{"id":"1","a":"\ud800"}`, 400},
		{"a key that stands twice", `{"id":"1","a":1,"a":2}`, 400},
		{"a NUL", `{"id":"1","a":"\u0000"}`, 0},
		{"a number of a thousand digits", `{"id":"n1","a":` + strings.Repeat("9", 1000) + `}`, 0},
		{"an exponent without end", `{"id":"n2","a":1e999999999}`, 0},
		{"script in every place", `{"id":"<script>alert(1)</script>","a":"\"><img src=x onerror=alert(1)>","=cmd|' /C calc'!A0":"${record.id}{{7*7}}"}`, 202},
		{"nothing", ` `, 400},
		{"a bare word", `undefined`, 400},
		{"a bomb of brackets", strings.Repeat("[", 500_000), 400},
	} {
		began := time.Now()
		status, out := c.call("POST", "/in/shop/orders", h.body)
		if h.status > 0 {
			assert.Equal(t, h.status, status, "%s: %v", h.name, out)
		} else {
			assert.Contains(t, []int{202, 400}, status, "%s: %v", h.name, out)
		}
		if status >= 400 {
			assert.NotEmpty(t, out["detail"], h.name)
		}
		assert.Less(t, time.Since(began), 10*time.Second, h.name)
	}

	// A hundred megabytes: refused while they come, without being kept.
	big, err := http.NewRequest(http.MethodPost, c.base+"/in/shop/orders", io.LimitReader(zeros{}, 100<<20))
	require.NoError(t, err)
	res, err := c.http.Do(big)
	if err == nil {
		assert.Equal(t, http.StatusRequestEntityTooLarge, res.StatusCode)
		res.Body.Close()
	}

	// A sender that drips does not keep others waiting.
	conn, err := net.Dial("tcp", strings.TrimPrefix(c.base, "http://"))
	require.NoError(t, err)
	defer conn.Close()
	_, err = io.WriteString(conn, "POST /in/shop/orders HTTP/1.1\r\nHost: x\r\nContent-Type: application/json\r\nContent-Length: 1000\r\n\r\n{")
	require.NoError(t, err)
	status, _ := c.call("POST", "/in/shop/orders", `{"id":"quick"}`)
	assert.Equal(t, 202, status)

	// Whatever came in is data everywhere: in the API, and as values of parameters.
	status, _ = c.raw("GET", "/api/arrivals?q="+"%27%3B%20DROP%20TABLE%20arrivals%3B--%25_", "")
	assert.Equal(t, 200, status)
	list, err := c.http.Get(c.base + "/api/arrivals?source=shop/orders")
	require.NoError(t, err)
	defer list.Body.Close()
	assert.Contains(t, list.Header.Get("Content-Type"), "json", "a browser never reads it as a page")
	assert.Equal(t, "nosniff", list.Header.Get("X-Content-Type-Options"))
	for _, path := range []string{"/api/arrivals/99999999", "/api/arrivals/-1", "/api/workflows/99999", "/api/posts/99999", "/api/runs/1/99999", "/api/connections/..%2f..%2fetc", "/api/sources/shop/%00/fields", "/api/arrivals/1e9"} {
		status, raw := c.raw("GET", path, "")
		assert.GreaterOrEqual(t, status, 400, path)
		assert.Less(t, status, 500, "%s: %s", path, raw)
	}
	status, _ = c.call("POST", "/api/outbox/many", `{"do":"drop","destination":"square/#tours"}`, "Origin", "https://evil.example", "Sec-Fetch-Site", "cross-site")
	assert.Equal(t, 403, status, "another site acts for nobody")
	var alive bool
	require.NoError(t, c.st.DB.Raw("SELECT count(*) > 0 FROM arrivals").Scan(&alive).Error)
	assert.True(t, alive)
}

// zeros never ends.
type zeros struct{}

func (zeros) Read(p []byte) (int, error) { return copy(p, bytes.Repeat([]byte{'0'}, len(p))), nil }

// A signature that is forged, of another body, or of another time lets nothing in; the same signed call again changes
// nothing.
func TestForgedAndReplayed(t *testing.T) {
	c := start(t)
	c.signIn()
	made := c.ok("POST", "/api/connections", `{"id":"till","kind":"hook","title":"Till","settings":{"signed":"yes"}}`)
	secret, _ := made["secret"].(string)
	require.NotEmpty(t, secret)
	wh, err := webhooks.NewWebhook(secret)
	require.NoError(t, err)
	body := `{"id":"1","total":3}`
	send := func(id string, at time.Time, signed, sent string) int {
		sig, err := wh.Sign(id, at, []byte(signed))
		require.NoError(t, err)
		status, _ := c.call("POST", "/in/till/receipts", sent, "webhook-id", id, "webhook-timestamp", fmt.Sprint(at.Unix()), "webhook-signature", sig)
		return status
	}
	now := time.Now()
	assert.Equal(t, 401, send("a", now, `{"id":"1","total":4}`, body), "another body")
	assert.Equal(t, 401, send("a", now.Add(-time.Hour), body, body), "an hour old")
	assert.Equal(t, 401, send("a", now.Add(time.Hour), body, body), "from the future")
	status, _ := c.call("POST", "/in/till/receipts", body, "webhook-id", "a", "webhook-timestamp", fmt.Sprint(now.Unix()), "webhook-signature", "v1,AAAA")
	assert.Equal(t, 401, status)
	status, _ = c.call("POST", "/in/till/receipts", body)
	assert.Equal(t, 401, status, "unsigned")
	assert.Equal(t, 202, send("a", now, body, body))
	assert.Equal(t, 202, send("a", now, body, body), "told again: known")
	var n int64
	require.NoError(t, c.st.DB.Raw("SELECT count(*) FROM arrivals WHERE source = 'till/receipts'").Scan(&n).Error)
	assert.EqualValues(t, 1, n)
}
