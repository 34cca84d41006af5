package e2e

import (
	"context"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/api"
	"dorfbote/internal/api/people"
	"dorfbote/internal/browser"
	"dorfbote/internal/core/value"
)

// bare brings up a Dorfbote without the demo, in which nobody and nothing is, and the link of its first administrator.
func bare(t *testing.T) (address, link string) {
	t.Helper()
	h := newHouse(t, value.DefaultWorkspace())
	h.open(api.Options{})
	ctx, st := context.Background(), h.engine.Store
	address = h.address
	old, err := people.FirstLink(ctx, st, address, time.Now())
	require.NoError(t, err)
	link, err = people.FirstLink(ctx, st, address, time.Now())
	require.NoError(t, err)
	require.NotEqual(t, old, link)
	res, err := http.Get(address + "/api" + old[len(address):])
	require.NoError(t, err)
	res.Body.Close()
	assert.Equal(t, 404, res.StatusCode, "an older link holds no longer")
	return address, link
}

// From an installation in which nobody and nothing is to an alert in somebody else's app: every place leads on, and nothing is
// claimed that is not so.
func TestFromNothingToAnAlert(t *testing.T) {
	var mu sync.Mutex
	var taken []string
	desk := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) {
		raw, _ := io.ReadAll(r.Body)
		mu.Lock()
		defer mu.Unlock()
		if r.Method == http.MethodPost {
			taken = append(taken, string(raw))
		}
	}))
	defer desk.Close()
	address, link := bare(t)
	page := open(t, address)
	p := &person{t: t, Page: page}
	require.NoError(t, p.Go(link[len(address):]))
	p.sees(".signin-page", "You become the first administrator")
	check := axeOn(t, page)
	check("the first administrator")
	p.fill("input[autocomplete=name]", "Ona")
	p.fill("input[autocomplete=username]", "ona@example.org")
	p.fill("input[type=password]", "long enough")
	p.press("button", "Begin")

	p.sees("#place", "To begin")
	p.sees("#place", "Nothing yet: nobody has been told anything here.")
	check("Today, to begin")
	shown, err := browser.Eval[string](p.Page, "document.body.innerText")
	require.NoError(t, err)
	for _, demo := range []string{"Practice", "delivered", "lindental", "Sonnleiten", "#tours"} {
		assert.NotContains(t, shown, demo)
	}
	p.press("#place a", "Connect where news comes from")
	p.press(".kinds button", "Hook")
	p.fill("#connect-title", "Shop")
	p.press("button", "Connect")
	p.sees(".connection", "/in/shop/KIND")
	require.Equal(t, 202, send(t, address+"/in/shop/orders", `{"id":"O-1","total":12}`))

	p.press("nav a", "Today")
	p.sees("[aria-label='To begin']", "✓ See a record")
	p.press("#place a", "Connect where to tell")
	p.press(".kinds button", "Webhook")
	p.fill("#connect-title", "Desk")
	p.fill("#set-places", "orders "+desk.URL+"/in/secret-7")
	p.press("button", "Connect")
	p.sees(".connection h1", "Desk")

	p.press("nav a", "Workflows")
	p.press("button", "New workflow")
	p.sees("div.chosen", "O-1")
	p.sees(".sheetstate", "draft saved")
	p.press("button", "Switch on")
	p.press(".ant-modal button", "Switch on")
	p.sees(".sheethead, main", "On")
	require.Eventually(t, func() bool {
		on, err := browser.Eval[bool](p.Page, "fetch('/api/workflows').then(r => r.json()).then(b => b.items[0].on)")
		return err == nil && on
	}, 10*time.Second, 50*time.Millisecond)
	require.Equal(t, 202, send(t, address+"/in/shop/orders", `{"id":"O-2","total":15}`))
	require.Eventually(t, func() bool {
		mu.Lock()
		defer mu.Unlock()
		return len(taken) == 1
	}, 20*time.Second, 50*time.Millisecond)
	assert.Contains(t, taken[0], "O-2")
	t.Logf("%d presses and fields", p.did)
	assert.LessOrEqual(t, p.did, 30)

	p.press("nav a", "Today")
	p.sees("#place", "Nothing. Every post that was due has been delivered.")
	require.NoError(t, p.Go(link[len(address):]))
	p.sees("body", "this invitation does not hold any more")
	assert.Empty(t, withoutRefusal(p.Troubles()))
}

// withoutRefusal leaves out what the browser notes of the invitation that holds no more.
func withoutRefusal(troubles []string) (out []string) {
	for _, t := range troubles {
		if !containsAny(t, "404") {
			out = append(out, t)
		}
	}
	return out
}

func containsAny(s string, parts ...string) bool {
	return slices.ContainsFunc(parts, func(p string) bool { return strings.Contains(s, p) })
}
