package api_test

import (
	"encoding/xml"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/emersion/go-ical"
	"github.com/mmcdole/gofeed"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// told makes a workflow that tells a destination of every order, switches it on, and sends an order.
func (c *client) told(to, order string) {
	c.t.Helper()
	sheet := "dorfbote: 1\nname: To " + strings.ReplaceAll(to, "/", " ") + "\nwatch: {source: shop/orders, on: [created]}\nmessages: {m: {title: \"${record.id} <b>\", body: \"**so**\", link: {text: Open, to: \"https://x.example/1\"}}}\n" +
		"route: {otherwise: {tell: [{to: \"" + to + "\", message: m}]}}\n"
	c.ok("POST", "/in/shop/orders", `{"id":"O-0"}`)
	w := c.ok("POST", "/api/workflows", sheetBody(sheet))
	c.ok("POST", fmt.Sprintf("/api/workflows/%v/on", w["id"]), "")
	c.ok("POST", "/in/shop/orders", order)
}

func (c *client) post() map[string]any {
	c.t.Helper()
	var post map[string]any
	require.Eventually(c.t, func() bool {
		items := c.ok("GET", "/api/posts", "")["items"].([]any)
		if len(items) == 0 {
			return false
		}
		post = items[0].(map[string]any)
		return post["state"] != "waiting"
	}, 20*time.Second, 30*time.Millisecond)
	return post
}

// A text message goes to a number however it was typed; what the gateway reports is shown in the outbox, and is an arrival.
func TestTextMessages(t *testing.T) {
	c := start(t)
	c.signIn()
	got := make(chan string, 10)
	gateway := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		raw, _ := io.ReadAll(r.Body)
		if r.Method == http.MethodPost {
			got <- string(raw)
		}
		_, _ = w.Write([]byte(`{"id":"g-7"}`))
	}))
	defer gateway.Close()
	c.ok("POST", "/api/connections", `{"id":"shop","title":"Shop"}`)
	made := c.ok("POST", "/api/connections", `{"id":"phone","kind":"text","title":"Phones","settings":{"address":"`+gateway.URL+`","id":"$.id","report_id":"$.ref","report_state":"$.st","sender_id":"Lindental"}}`)
	address := fmt.Sprint(made["address"])
	require.Contains(t, address, "/reports/phone/", "the address that reports come in by")
	c.told("phone/${record.mobile}", `{"id":"O-1","mobile":"+41 (0)79 123 45 67"}`)
	assert.JSONEq(t, `{"to":"+41791234567","from":"Lindental","text":"O-1 <b>: so https://x.example/1"}`, <-got)
	p := c.post()
	assert.Equal(t, []any{"sent", "phone/+41791234567", ""}, []any{p["state"], p["destination"], p["report"]})
	report := func(body string, to string) int {
		status, _ := c.call("POST", to[strings.Index(to, "/reports"):], body)
		return status
	}
	assert.Equal(t, 404, report(`{"ref":"g-7","st":"delivered"}`, address+"x"), "the address is a secret")
	assert.Equal(t, 422, report(`{"ref":"g-7"}`, address))
	assert.Equal(t, 202, report(`{"ref":"unknown","st":"delivered"}`, address))
	assert.Equal(t, 202, report(`{"ref":"g-7","st":"Delivered"}`, address))
	assert.Equal(t, []any{"sent", "delivered"}, []any{c.post()["state"], c.post()["report"]})
	assert.Equal(t, 202, report(`{"ref":"g-7","st":"undelivered","reason":"no such number"}`, address))
	assert.Equal(t, 202, report(`{"ref":"g-7","st":"undelivered","reason":"no such number"}`, address), "a repeated report changes nothing")
	p = c.post()
	assert.Equal(t, []any{"refused", "failed", "no such number"}, []any{p["state"], p["report"], p["report_words"]})
	assert.Contains(t, fmt.Sprint(c.ok("GET", "/api/today", "")["needs"]), "phone/+41791234567 has refused 1 post")
	arrivals := c.ok("GET", "/api/arrivals?source=phone/reports", "")["items"].([]any)
	require.Len(t, arrivals, 2)
	assert.Equal(t, p["key"], arrivals[0].(map[string]any)["key"], "its subject is the post's key")
	c.told("phone/${record.fax}", `{"id":"O-2","fax":"12"}`)
	require.Eventually(t, func() bool {
		return strings.Contains(fmt.Sprint(c.ok("GET", "/api/arrivals?verdict=failed", "")["items"]), "is not a possible telephone number")
	}, 20*time.Second, 30*time.Millisecond)
}

// An event is taken in by the hook of another Dorfbote, signed; the secret is renewed without a break.
func TestEvents(t *testing.T) {
	c := start(t)
	c.signIn()
	c.ok("POST", "/api/connections", `{"id":"shop","title":"Shop"}`)
	secret := fmt.Sprint(c.ok("POST", "/api/connections", `{"id":"other","title":"Other","signed":true}`)["secret"])
	status, out := c.call("POST", "/api/connections", `{"id":"sys","kind":"event","title":"System","settings":{"address":"nowhere"}}`)
	assert.Equal(t, 422, status)
	assert.Contains(t, fmt.Sprint(out["errors"]), "body.settings.address")
	made := c.ok("POST", "/api/connections", `{"id":"sys","kind":"event","title":"System","settings":{"address":"`+c.base+`/in/other/posts","signing":"`+secret+`"}}`)
	assert.Empty(t, made["secret"], "one that was given is not shown again")
	own := c.ok("POST", "/api/connections", `{"id":"sys2","kind":"event","title":"System","settings":{"address":"`+c.base+`/in/other/posts"}}`)
	assert.Contains(t, own["secret"], "whsec_", "one that is made is shown once")
	assert.Empty(t, c.ok("GET", "/api/connections/sys2", "")["secret"])
	c.told("sys/alerts", `{"id":"O-1"}`)
	p := c.post()
	require.Equal(t, "sent", p["state"], "%v", p)
	arrivals := c.ok("GET", "/api/arrivals?source=other/posts", "")["items"].([]any)
	require.Len(t, arrivals, 1)
	detail := c.ok("GET", fmt.Sprintf("/api/arrivals/%v", arrivals[0].(map[string]any)["seq"]), "")
	assert.Contains(t, fmt.Sprint(detail), "O-1 <b>")
	renewed := c.ok("PATCH", "/api/connections/sys", `{"renew":true}`)
	assert.Contains(t, renewed["secret"], "whsec_")
	assert.NotEqual(t, secret, renewed["secret"])
	c.ok("POST", "/in/shop/orders", `{"id":"O-2"}`)
	require.Eventually(t, func() bool {
		return len(c.ok("GET", "/api/arrivals?source=other/posts", "")["items"].([]any)) == 2
	}, 20*time.Second, 30*time.Millisecond, "the secret before holds for a while")
}

// What is told is read as a feed and as a calendar by those who have the address.
func TestAPushFeed(t *testing.T) {
	c := start(t)
	c.signIn()
	c.ok("POST", "/api/connections", `{"id":"shop","title":"Shop"}`)
	address := fmt.Sprint(c.ok("POST", "/api/connections", `{"id":"news","kind":"push","title":"News","settings":{}}`)["address"])
	address = address[strings.Index(address, "/feed"):]
	status, raw := c.raw("GET", address+"/board.ics", "")
	require.Equal(t, 200, status)
	_, err := ical.NewDecoder(strings.NewReader(string(raw))).Decode()
	require.NoError(t, err, "an empty one can be read")
	c.told("news/board", `{"id":"O-1"}`)
	require.Equal(t, "sent", c.post()["state"])
	_, raw = c.raw("GET", address+"/board.atom", "")
	feed, err := gofeed.NewParser().ParseString(string(raw))
	require.NoError(t, err)
	require.Len(t, feed.Items, 1)
	assert.Equal(t, []string{"O-1 <b>", "https://x.example/1"}, []string{feed.Items[0].Title, feed.Items[0].Link})
	assert.Contains(t, feed.Items[0].Content, "O-1 &lt;b&gt;")
	require.NoError(t, xml.Unmarshal(raw, new(any)))
	_, raw = c.raw("GET", address+"/all.ics", "")
	cal, err := ical.NewDecoder(strings.NewReader(string(raw))).Decode()
	require.NoError(t, err)
	require.Len(t, cal.Events(), 1)
	summary, err := cal.Events()[0].Props.Text(ical.PropSummary)
	require.NoError(t, err)
	assert.Equal(t, "O-1 <b>", summary)
	_, raw = c.raw("GET", address+"/other.atom", "")
	feed, err = gofeed.NewParser().ParseString(string(raw))
	require.NoError(t, err)
	assert.Empty(t, feed.Items)
	c.ok("PATCH", "/api/connections/news", `{"renew":true}`)
	status, _ = c.raw("GET", address+"/board.atom", "")
	assert.Equal(t, 404, status, "another address is made where the old one is in wrong hands")
}
