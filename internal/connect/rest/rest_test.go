package rest_test

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/connect"
	"dorfbote/internal/connect/rest"
	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/value"
	"dorfbote/internal/testdb"
)

func TestLinkHeaders(t *testing.T) {
	base, err := url.Parse("https://farm.example/api/orders?page=1")
	require.NoError(t, err)
	for header, want := range map[string]string{
		`<https://farm.example/api/orders?page=2>; rel="next"`:       "https://farm.example/api/orders?page=2",
		`</api/orders?ids=1,2,3&page=2>; rel=next`:                   "https://farm.example/api/orders?ids=1,2,3&page=2",
		`<?page=9>; rel="last", <?page=2>; rel="next"`:               "https://farm.example/api/orders?page=2",
		`<?page=2>; title="one, two; <three>"; rel="prefetch next"`:  "https://farm.example/api/orders?page=2",
		`<?page=1>;rel=prev , <?page=2>;  rel  =  "NEXT"`:            "https://farm.example/api/orders?page=2",
		`<?page=2>; title="say \"next, please\""; rel="next"`:        "https://farm.example/api/orders?page=2",
		`garbage; rel="next", <?page=2>; rel=next`:                   "https://farm.example/api/orders?page=2",
		`"quoted, <?page=7>; rel=next", <?page=2>; rel=next`:         "https://farm.example/api/orders?page=2",
		`<?page=2>; rel=prev; rel=next`:                              "", // the first counts
		`<?page=2>; rel=next; anchor="#part"`:                        "",
		`<?page=2`:                                                   "",
		``:                                                           "",
		`<https://farm.example/a;b,c>; rel="next"; type="text/html"`: "https://farm.example/a;b,c",
		`<?page=2>; title*=UTF-8''n%c3%a4chste; rel="next"`:          "https://farm.example/api/orders?page=2",
	} {
		got := ""
		if u := rest.Next([]string{header}, base); u != nil {
			got = u.String()
		}
		assert.Equal(t, want, got, header)
	}
}

func FuzzLinks(f *testing.F) {
	f.Add(`<a>; rel="next", <b>`)
	base, _ := url.Parse("http://a/")
	f.Fuzz(func(_ *testing.T, s string) { rest.Next([]string{s}, base) })
}

// shop is an API with 25 orders, ten a page.
type shop struct {
	how    string
	calls  int
	fail   int
	orders []map[string]any
}

func (s *shop) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	s.calls++
	if s.fail > 0 {
		s.fail--
		w.Header().Set("Retry-After", "7")
		w.WriteHeader(http.StatusTooManyRequests)
		return
	}
	if u, p, ok := r.BasicAuth(); s.how == "basic" && (!ok || u != "marit" || p != "x") {
		w.WriteHeader(http.StatusUnauthorized)
		_, _ = w.Write([]byte(`{"message":"who are you?"}`))
		return
	}
	q := r.URL.Query()
	page, _ := strconv.Atoi(q.Get("page"))
	from := page * 10
	if s.how == "offset" {
		from, _ = strconv.Atoi(q.Get("offset"))
	}
	if c := q.Get("cursor"); c != "" {
		from, _ = strconv.Atoi(c)
	}
	to := min(from+10, len(s.orders))
	if s.how == "etag" {
		from, to = 0, len(s.orders)
		w.Header().Set("ETag", fmt.Sprintf(`"%d"`, len(s.orders)))
		if r.Header.Get("If-None-Match") == w.Header().Get("ETag") {
			w.WriteHeader(http.StatusNotModified)
			return
		}
	}
	out := map[string]any{"meta": map[string]any{"total": len(s.orders)}, "data": s.orders[min(from, to):to]}
	if to < len(s.orders) {
		switch s.how {
		case "link":
			w.Header().Set("Link", fmt.Sprintf(`</orders?page=%d&tags=a,b>; rel="next"; title="more, please"`, page+1))
		case "field":
			out["next"] = fmt.Sprintf("/orders?page=%d", page+1)
		case "token":
			out["next"] = strconv.Itoa(to)
		case "circle":
			w.Header().Set("Link", `</orders?page=1>; rel="next"`)
		case "abroad":
			w.Header().Set("Link", `<http://127.0.0.2:1/orders>; rel="next"`)
		}
	}
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(out)
}

func TestPaging(t *testing.T) {
	for _, c := range []struct {
		how      string
		settings map[string]string
		want     int
		problem  string
	}{
		{"link", nil, 25, ""},
		{"field", map[string]string{"paging": "field", "next": "$.next"}, 25, ""},
		{"token", map[string]string{"paging": "field", "next": "$.next", "page_param": "cursor"}, 25, ""},
		{"page", map[string]string{"paging": "page number", "page_param": "page", "first_page": "0"}, 25, ""},
		{"offset", map[string]string{"paging": "offset", "page_param": "offset", "size_param": "n", "size": "10"}, 25, ""},
		{"one", map[string]string{"paging": "one page", "items": "$.data[*]"}, 10, ""},
		{"link", map[string]string{"items": "$.data"}, 25, ""},
		{"circle", nil, 0, "round in a circle"},
		{"abroad", nil, 0, "another host"},
		{"link", map[string]string{"items": "$.meta"}, 0, "no \"id\""},
		{"link", map[string]string{"items": "$.["}, 0, "JSONPath"},
	} {
		t.Run(c.how+fmt.Sprint(c.settings), func(t *testing.T) {
			s := &shop{how: c.how}
			for i := range 25 {
				s.orders = append(s.orders, map[string]any{"id": i + 1})
			}
			server := httptest.NewServer(s)
			defer server.Close()
			keys, _, _, err := poll(t, server.URL+"/orders", map[string]string{}, c.settings, nil)
			if c.problem != "" {
				require.ErrorContains(t, err, c.problem)
				return
			}
			require.NoError(t, err)
			assert.Len(t, keys, c.want)
		})
	}
}

func poll(t *testing.T, address string, settings, source map[string]string, cursor json.RawMessage) ([]string, []map[string]any, connect.Polled, error) {
	t.Helper()
	all := map[string]string{"address": address}
	maps.Copy(all, settings)
	conn, err := rest.Kind().Open(connect.Config{Settings: all, Env: testdb.Loopback(t, value.DefaultWorkspace())})
	require.NoError(t, err)
	var keys []string
	var records []map[string]any
	polled, err := conn.(connect.Poller).Poll(context.Background(), connect.SourceConfig{Name: "shop/orders", Settings: source, Key: "id"}, cursor, func(it connect.Item) error {
		keys, records = append(keys, it.Key), append(records, it.Record)
		return nil
	})
	return keys, records, polled, err
}

func TestValidatorsCredentialsAndPatience(t *testing.T) {
	s := &shop{how: "etag", orders: []map[string]any{{"id": json.Number("1234567890123456789"), "at": "2026-11-20T05:00:00Z"}}}
	server := httptest.NewServer(s)
	defer server.Close()
	keys, records, polled, err := poll(t, server.URL, nil, nil, nil)
	require.NoError(t, err)
	assert.Equal(t, []string{"1234567890123456789"}, keys)
	assert.Equal(t, "1234567890123456789", records[0]["id"], "a big number keeps its digits")
	_, _, again, err := poll(t, server.URL, nil, nil, polled.Cursor)
	require.NoError(t, err)
	assert.True(t, again.Same)

	s.fail = 1
	_, _, _, err = poll(t, server.URL, nil, nil, nil)
	var trouble *fault.Fault
	require.ErrorAs(t, err, &trouble)
	assert.Equal(t, 7*time.Second, trouble.Wait)

	s.how = "basic"
	_, _, _, err = poll(t, server.URL, nil, nil, nil)
	require.ErrorAs(t, err, &trouble)
	assert.Contains(t, trouble.Said, "who are you?")
	assert.Contains(t, trouble.Do, "credentials")
	_, _, _, err = poll(t, server.URL, map[string]string{"auth": "user and password", "user": "marit", "password": "x"}, nil, nil)
	require.NoError(t, err)
}

// Only the newest changes are asked for, by the newest moment seen.
func TestSince(t *testing.T) {
	var asked []string
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked = append(asked, r.URL.Query().Get("after"))
		_, _ = w.Write([]byte(`[{"id":1,"changed":"2026-11-20T05:00:00Z"},{"id":2,"changed":"2026-11-20T06:00:00+02:00"}]`))
	}))
	defer server.Close()
	source := map[string]string{"changed": "changed", "since": "after"}
	_, _, polled, err := poll(t, server.URL, nil, source, nil)
	require.NoError(t, err)
	assert.True(t, polled.Whole)
	_, _, polled, err = poll(t, server.URL, nil, source, polled.Cursor)
	require.NoError(t, err)
	assert.False(t, polled.Whole)
	assert.Equal(t, []string{"", "2026-11-20T05:00:00Z"}, asked)
}

func TestPrivateAddressesAreNotCalled(t *testing.T) {
	called := false
	server := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { called = true }))
	defer server.Close()
	redirects := httptest.NewServer(http.RedirectHandler(server.URL, http.StatusFound))
	defer redirects.Close()
	for _, address := range []string{server.URL, strings.Replace(server.URL, "127.0.0.1", "localhost", 1), "http://169.254.169.254/latest", "http://[::1]:1/", "http://10.0.0.1/", "http://0.0.0.0:1/", "http://[::ffff:127.0.0.1]:1/"} {
		env, err := connect.NewEnv(value.DefaultWorkspace(), "")
		require.NoError(t, err)
		_, err = env.Get(context.Background(), address, nil)
		require.ErrorContains(t, err, "private or reserved", address)
	}
	for _, address := range []string{"file:///etc/passwd", "gopher://a/", "//x", "http://"} {
		env, err := connect.NewEnv(value.DefaultWorkspace(), "127.0.0.1")
		require.NoError(t, err)
		_, err = env.Get(context.Background(), address, nil)
		require.Error(t, err, address)
	}
	assert.False(t, called)
	_, err := connect.NewEnv(value.DefaultWorkspace(), "not an address")
	require.Error(t, err)
}
