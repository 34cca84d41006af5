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

// Where there is nothing at an API's own address, credentials are not known to be right: a 404 says nothing of them, and "worked" would be
// believed.
func TestCredentialsThatCouldNotBeTried(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch {
		case r.URL.Path == "/":
			http.NotFound(w, r)
		case r.Header.Get("Authorization") != "Bearer right":
			w.WriteHeader(http.StatusUnauthorized)
		default:
			_, _ = w.Write([]byte(`[{"id":1}]`))
		}
	}))
	defer server.Close()
	prove := func(path string, settings map[string]string) connect.ProofStep {
		t.Helper()
		settings["address"] = server.URL + path
		conn, err := rest.Kind().Open(connect.Config{Settings: settings, Env: testdb.Loopback(t, value.DefaultWorkspace())})
		require.NoError(t, err)
		defer conn.Close()
		steps := conn.Prove(t.Context())
		require.Len(t, steps, 1)
		return steps[0]
	}
	for _, token := range []string{"right", "wrong"} {
		s := prove("/", map[string]string{"auth": "bearer token", "token": token})
		assert.Equal(t, []bool{false, true}, []bool{s.OK, s.Open}, token)
		assert.Contains(t, s.Do, "give the path")
	}
	s := prove("/orders", map[string]string{"auth": "bearer token", "token": "wrong"})
	assert.Equal(t, []bool{false, false}, []bool{s.OK, s.Open})
	s = prove("/orders", map[string]string{"auth": "bearer token", "token": "right"})
	assert.True(t, s.OK, "%+v", s)
	s = prove("/", map[string]string{})
	assert.True(t, s.OK, "there is nothing that could be wrong: %+v", s)
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

// pages is an API that has its records on several pages, and says so in its own way. Beyond the last it answers the last again, as some do.
type pages struct {
	n, size int
	from    func(q url.Values, size int) int                 // the first record of the page that is asked for
	say     func(out map[string]any, from, to, total, n int) // beside the records
	bare    bool
	asked   []string
}

func (s *pages) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	s.asked = append(s.asked, r.URL.RawQuery)
	from := min(s.from(r.URL.Query(), s.size), s.n-1)
	to := min(from+s.size, s.n)
	list := []any{}
	for i := from; i < to; i++ {
		list = append(list, map[string]any{"id": i + 1, "page": 7, "next": "/nowhere"})
	}
	var body any = list
	if out := map[string]any{"data": list}; !s.bare {
		s.say(out, from, to, s.n, s.size)
		body = out
	}
	_ = json.NewEncoder(w).Encode(body)
}

// A list of several pages is read whole, however it says so: how the next page is asked for is found out by comparing two pages. What
// cannot be found out is said, and nothing counts as gone then.
func TestPagesAreFoundOut(t *testing.T) {
	by := func(name string, first, step int) func(url.Values, int) int {
		return func(q url.Values, size int) int {
			if q.Get(name) == "" {
				return 0
			}
			n, _ := strconv.Atoi(q.Get(name))
			if step == 0 {
				return (n - first) * size
			}
			return n
		}
	}
	meta := func(pairs func(from, to, total, n int) map[string]any) func(map[string]any, int, int, int, int) {
		return func(out map[string]any, from, to, total, n int) { out["meta"] = pairs(from, to, total, n) }
	}
	atEnd := func(to, total int, v any) any {
		if to >= total {
			return nil
		}
		return v
	}
	for name, c := range map[string]struct {
		from func(url.Values, int) int
		say  func(map[string]any, int, int, int, int)
		bare bool
		n    int
	}{
		"page, pages and total": {from: by("page", 1, 0), say: meta(func(from, to, total, n int) map[string]any {
			return map[string]any{"page": from/n + 1, "pages": (total + n - 1) / n, "total": total}
		})},
		"pages from 0, called otherwise": {from: by("pageNumber", 0, 0), say: meta(func(from, to, total, n int) map[string]any {
			return map[string]any{"pageNumber": from / n, "totalPages": (total + n - 1) / n}
		})},
		"a total alone":               {from: by("page", 1, 0), say: meta(func(from, to, total, n int) map[string]any { return map[string]any{"total_count": total} })},
		"a total alone, pages from 0": {from: by("page", 0, 0), say: meta(func(from, to, total, n int) map[string]any { return map[string]any{"total": strconv.Itoa(total)} })},
		"a total and an offset":       {from: by("offset", 0, 1), say: meta(func(from, to, total, n int) map[string]any { return map[string]any{"totalResults": total} })},
		"an offset that is said":      {from: by("startAt", 0, 1), say: meta(func(from, to, total, n int) map[string]any { return map[string]any{"startAt": from, "total": total} })},
		"that there is more":          {from: by("skip", 0, 1), say: func(out map[string]any, from, to, total, n int) { out["has_more"] = to < total }},
		"a cursor": {from: by("cursor", 0, 1), say: func(out map[string]any, from, to, total, n int) {
			out["next_cursor"] = atEnd(to, total, strconv.Itoa(to))
		}},
		"a token": {from: by("pageToken", 0, 1), say: func(out map[string]any, from, to, total, n int) {
			out["nextPageToken"] = atEnd(to, total, strconv.Itoa(to))
		}},
		"a cursor of the end, also on the last": {from: by("after", 0, 1), say: func(out map[string]any, from, to, total, n int) {
			out["pageInfo"] = map[string]any{"endCursor": strconv.Itoa(to), "hasNextPage": to < total}
		}},
		"the next page's number": {from: by("page", 1, 0), say: func(out map[string]any, from, to, total, n int) { out["next_page"] = atEnd(to, total, from/n+2) }},
		"the next page's address": {from: by("p", 1, 0), say: func(out map[string]any, from, to, total, n int) {
			out["next"] = atEnd(to, total, fmt.Sprintf("/orders?p=%d", from/n+2))
		}},
		"links within links": {from: by("p", 1, 0), say: func(out map[string]any, from, to, total, n int) {
			out["_links"] = map[string]any{"self": map[string]any{"href": "/orders"}, "next": atEnd(to, total, map[string]any{"href": fmt.Sprintf("?p=%d", from/n+2)})}
		}},
		"nothing, of a full page":             {from: by("page", 1, 0), bare: true},
		"nothing, of a full page, by offset":  {from: by("offset", 0, 1), bare: true},
		"nothing, of a full page that is all": {from: func(url.Values, int) int { return 0 }, bare: true, n: 20},
		"a page that is not full":             {from: func(url.Values, int) int { return 0 }, bare: true, n: 7},
		"one page, of as many as there are":   {from: by("page", 1, 0), n: 20, say: meta(func(from, to, total, n int) map[string]any { return map[string]any{"total": total} })},
	} {
		t.Run(name, func(t *testing.T) {
			s := &pages{n: 47, size: 20, from: c.from, say: c.say, bare: c.bare}
			if c.n > 0 {
				s.n = c.n
			}
			server := httptest.NewServer(s)
			defer server.Close()
			keys, _, polled, err := poll(t, server.URL+"/orders", nil, nil, nil)
			require.NoError(t, err)
			want := make([]string, s.n)
			for i := range want {
				want[i] = strconv.Itoa(i + 1)
			}
			assert.Equal(t, want, keys, "%v", s.asked)
			assert.True(t, polled.Whole)
			assert.Empty(t, polled.Said)
			first := len(s.asked)
			s.asked = nil
			keys, _, _, err = poll(t, server.URL+"/orders", nil, nil, polled.Cursor)
			require.NoError(t, err)
			assert.Equal(t, want, keys, "%v", s.asked)
			assert.LessOrEqual(t, len(s.asked), first)
			assert.LessOrEqual(t, len(s.asked), 4, "what was found out is known: %v", s.asked)
		})
	}

	deaf := &pages{n: 47, size: 20, from: func(url.Values, int) int { return 0 }, say: meta(func(from, to, total, n int) map[string]any {
		return map[string]any{"page": 1, "pages": 3, "total": total}
	})}
	server := httptest.NewServer(deaf)
	defer server.Close()
	keys, _, polled, err := poll(t, server.URL+"/orders", nil, nil, nil)
	require.NoError(t, err)
	assert.Len(t, keys, 20)
	assert.False(t, polled.Whole, "what was not read is not gone")
	assert.Equal(t, "it says that there are 3 pages, but only 20 records can be read: how the next page is asked for could not be found out. Choose it as Next page of the source", polled.Said)
}

// Where a list was read only in its first page before it was looked for more, what is found on the others now is not new.
func TestPagesThatWereThereBefore(t *testing.T) {
	s := &pages{n: 25, size: 20, say: func(out map[string]any, from, to, total, n int) { out["total"] = total }, from: func(q url.Values, size int) int {
		n, _ := strconv.Atoi(q.Get("offset"))
		return n
	}}
	server := httptest.NewServer(s)
	defer server.Close()
	old := func(cursor string) (n int) {
		conn, err := rest.Kind().Open(connect.Config{Settings: map[string]string{"address": server.URL}, Env: testdb.Loopback(t, value.DefaultWorkspace())})
		require.NoError(t, err)
		_, err = conn.(connect.Poller).Poll(context.Background(), connect.SourceConfig{Name: "shop/orders", Key: "id"}, json.RawMessage(cursor), func(it connect.Item) error {
			if it.Old {
				n++
			}
			return nil
		})
		require.NoError(t, err)
		return n
	}
	assert.Equal(t, 5, old(`{"whole":"2026-11-20T05:00:00Z"}`))
	assert.Equal(t, 0, old(`{"whole":"2026-11-20T05:00:00Z","looked":true}`), "it has grown")
	assert.Equal(t, 0, old(""))
}
