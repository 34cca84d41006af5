package e2e

import (
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"dorfbote/internal/demo"
)

// A page whose script doesn't arrive says so, and what to do; the other pages stay, and reloading brings it once it can be fetched.
func TestAPageThatCannotBeFetched(t *testing.T) {
	there, err := url.Parse(start(t))
	require.NoError(t, err)
	proxy := &httputil.ReverseProxy{Rewrite: func(r *httputil.ProxyRequest) {
		r.SetURL(there)
		r.Out.Header.Set("Origin", there.String())
	}}
	var arrives atomic.Bool
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if strings.HasPrefix(r.URL.Path, "/assets/Outbox") && !arrives.Load() {
			http.NotFound(w, r)
			return
		}
		proxy.ServeHTTP(w, r)
	}))
	t.Cleanup(server.Close) // after the page has let go of its stream
	page := open(t, server.URL)
	p := &person{t: t, Page: page}
	require.NoError(t, p.SignIn(demo.People[0].Email, demo.Password))
	p.press("a", "Outbox")
	p.sees("main h1", "This page can't be shown")
	p.sees("[role=alert]", "Reload the page. If that doesn't help, tell whoever runs this server")
	axeOn(t, page)("a page that can't be shown")
	p.press("a", "Workflows")
	p.sees("main", "Late collections")
	p.press("a", "Outbox")
	p.sees("main h1", "This page can't be shown")
	arrives.Store(true)
	p.press("button", "Reload the page")
	p.sees("main h1", "Outbox")
}
