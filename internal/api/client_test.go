package api_test

import (
	"context"
	"encoding/json"
	"io"
	"log/slog"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"

	"dorfbote/internal/api"
	"dorfbote/internal/api/auth"
	"dorfbote/internal/core/value"
	"dorfbote/internal/engine"
	"dorfbote/internal/engine/intake"
	"dorfbote/internal/notify"
	"dorfbote/internal/store"
	"dorfbote/internal/testdb"
)

type client struct {
	t    *testing.T
	http *http.Client
	base string
	st   *store.Store
	// folder is the one that the server may use.
	folder string
}

func start(t *testing.T) *client { return startWith(t, func(*api.Options) {}) }

func startWith(t *testing.T, set func(*api.Options)) *client {
	t.Helper()
	st := testdb.New(t)
	e, err := engine.New(st, value.DefaultWorkspace(), slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	e.Env = testdb.Loopback(t, e.Workspace)
	ctx, cancel := context.WithCancel(context.Background())
	o := api.Options{
		Engine: e, Intake: intake.New(ctx, e.Writer), Hub: notify.NewHub(ctx, e.Store.Pool, e.Log), Log: e.Log,
		Web: fstest.MapFS{"index.html": {Data: []byte(`<meta content="NONCE">`)}},
	}
	set(&o)
	s, err := api.New(o)
	require.NoError(t, err)
	require.NoError(t, e.Start(ctx))
	server := httptest.NewServer(s.Handler())
	t.Cleanup(func() { server.Close(); e.Stop(); cancel() })
	require.NoError(t, st.DB.Create(&store.Person{Email: "a@x.example", Name: "A", Role: "editor", KeepsBook: true, PasswordHash: auth.HashPassword("secret-1"), CreatedAt: time.Now()}).Error)
	require.NoError(t, st.DB.Create(&store.Connection{ID: "square", Kind: "chat", Title: "Square", Settings: store.Texts{"address": "http://127.0.0.1:1"}, CreatedAt: time.Now()}).Error)
	require.NoError(t, st.DB.Create(&store.Destination{Name: "square/#tours", Connection: "square", Title: "#tours"}).Error)
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	return &client{t, &http.Client{Jar: jar}, server.URL, st, e.Env.Folder}
}

func (c *client) call(method, path, body string, headers ...string) (int, map[string]any) {
	c.t.Helper()
	status, raw := c.raw(method, path, body, headers...)
	var out map[string]any
	_ = json.Unmarshal(raw, &out)
	return status, out
}

func (c *client) raw(method, path, body string, headers ...string) (int, []byte) {
	c.t.Helper()
	req, err := http.NewRequest(method, c.base+path, strings.NewReader(body))
	require.NoError(c.t, err)
	if body != "" {
		req.Header.Set("Content-Type", "application/json")
	}
	for i := 0; i < len(headers); i += 2 {
		req.Header.Set(headers[i], headers[i+1])
	}
	res, err := c.http.Do(req)
	require.NoError(c.t, err)
	defer res.Body.Close()
	raw, err := io.ReadAll(res.Body)
	require.NoError(c.t, err)
	return res.StatusCode, raw
}

func (c *client) signIn() {
	status, _ := c.call("POST", "/api/sign-in", `{"email":"A@x.example","password":"secret-1"}`)
	require.Equal(c.t, 200, status)
}
