package practice_test

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"
	"time"

	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/core/value"
	"dorfbote/internal/practice"
	"dorfbote/internal/practice/world"
	"dorfbote/internal/testdb"
)

func start(t *testing.T, o practice.Options) (*practice.Server, string) {
	t.Helper()
	st := testdb.New(t)
	ctx, cancel := context.WithCancel(context.Background())
	s, err := practice.New(ctx, st.DB, o)
	require.NoError(t, err)
	require.NoError(t, st.DB.Exec("INSERT INTO practice.channels (name, private, members) VALUES ('#tours', false, '{}'), ('#board', true, '{}')").Error)
	require.NoError(t, st.DB.Exec("INSERT INTO practice.tokens VALUES ('t1', 'Dorfbote')").Error)
	server := httptest.NewServer(s.Handler())
	t.Cleanup(func() { server.Close(); cancel() })
	return s, server.URL
}

func call(t *testing.T, method, address, body string, headers ...string) (int, string, http.Header) {
	t.Helper()
	req, err := http.NewRequest(method, address, strings.NewReader(body))
	require.NoError(t, err)
	for i := 0; i < len(headers); i += 2 {
		req.Header.Set(headers[i], headers[i+1])
	}
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer res.Body.Close()
	raw, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	return res.StatusCode, string(raw), res.Header
}

func TestTheSquareHasHonestLimits(t *testing.T) {
	_, url := start(t, practice.Options{PostsPerSecond: 1000, Burst: 1000})
	post := func(body string, more ...string) int {
		status, _, _ := call(t, "POST", url+"/square/posts", body, append([]string{"Authorization", "Bearer t1"}, more...)...)
		return status
	}
	assert.Equal(t, 201, post(`{"channel":"#tours","title":"a","under":null}`))
	assert.Equal(t, 401, post(`{"channel":"#tours","title":"a"}`, "Authorization", "Bearer no"))
	assert.Equal(t, 404, post(`{"channel":"#none","title":"a"}`))
	assert.Equal(t, 403, post(`{"channel":"#board","title":"a"}`))
	assert.Equal(t, 413, post(`{"channel":"#tours","text":"`+strings.Repeat("x", 4001)+`"}`))
	assert.Equal(t, 400, post(`{"channel":"#tours"}`))
	assert.Equal(t, 400, post(`{"channel":"#tours","title":"a","under":"999"}`))
	status, _, _ := call(t, "PUT", url+"/square/channels/board/members/Dorfbote", "")
	assert.Equal(t, 204, status)
	assert.Equal(t, 201, post(`{"channel":"#board","title":"a"}`, "Idempotency-Key", "k"))
	assert.Equal(t, 201, post(`{"channel":"#board","title":"a"}`, "Idempotency-Key", "k"))
	_, body, _ := call(t, "GET", url+"/square/channels/board/posts", "")
	var posts []any
	require.NoError(t, json.Unmarshal([]byte(body), &posts))
	assert.Len(t, posts, 1, "the same key is the same post")
}

func TestTooFastIsToldToWait(t *testing.T) {
	_, url := start(t, practice.Options{PostsPerSecond: 0.5, Burst: 1})
	status, _, _ := call(t, "POST", url+"/square/posts", `{"channel":"#tours","title":"a"}`, "Authorization", "Bearer t1")
	assert.Equal(t, 201, status)
	status, _, h := call(t, "POST", url+"/square/posts", `{"channel":"#tours","title":"a"}`, "Authorization", "Bearer t1")
	assert.Equal(t, 429, status)
	assert.Equal(t, "2", h.Get("Retry-After"))
}

func TestIncomingWebhookCanBeWithdrawn(t *testing.T) {
	_, url := start(t, practice.DefaultOptions())
	status, body, _ := call(t, "POST", url+"/square/channels/tours/webhook", "")
	require.Equal(t, 200, status)
	var hook struct{ Path string }
	require.NoError(t, json.Unmarshal([]byte(body), &hook))
	status, _, _ = call(t, "POST", url+hook.Path, `{"note":{"headline":"a","rows":[{"name":"Farm","is":"17"}],"doors":[{"say":"Open","goes":"https://x.example"}]},"as":{"called":"Desk"}}`)
	assert.Equal(t, 201, status)
	for body, words := range map[string]string{`{"title":"a"}`: "unknown field", `{}`: "the body has no note", `{"note":{"headline":""}}`: "the post is empty"} {
		status, said, _ := call(t, "POST", url+hook.Path, body)
		assert.GreaterOrEqual(t, status, 400)
		assert.Contains(t, said, words, "it takes a body of its own shape alone")
	}
	status, _, _ = call(t, "DELETE", url+"/square/channels/tours/webhook", "")
	assert.Equal(t, 204, status)
	status, _, _ = call(t, "POST", url+hook.Path, `{"title":"a"}`)
	assert.Equal(t, 404, status)
}

func TestAppsSendSignedEventsInOrderUntilTheyAreTaken(t *testing.T) {
	s, url := start(t, practice.DefaultOptions())
	const secret = "whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw"
	wh, err := standardwebhooks.NewWebhook(secret)
	require.NoError(t, err)
	got := make(chan string, 16)
	calls := 0
	target := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		raw, _ := io.ReadAll(r.Body)
		if calls++; calls == 1 {
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		if !assert.NoError(t, wh.Verify(raw, r.Header)) {
			return
		}
		v, err := value.ReadJSON(raw)
		assert.NoError(t, err)
		m, _ := v.(map[string]any)
		got <- fmt.Sprint(m["type"], " ", m["subject"])
	}))
	defer target.Close()
	require.NoError(t, s.AddHook(context.Background(), "tours", target.URL, secret))
	for _, c := range [][3]string{
		{"POST", "/apps/tours/collections", `{"id":"C-1","status":"planned"}`}, {"PATCH", "/apps/tours/collections/C-1", `{"status":"late"}`}, {"DELETE", "/apps/tours/collections/C-1", ""},
	} {
		status, body, _ := call(t, c[0], url+c[1], c[2])
		require.Less(t, status, 300, body)
	}
	for _, want := range []string{"dorfbote.record.created C-1", "dorfbote.record.updated C-1", "dorfbote.record.removed C-1"} {
		select {
		case g := <-got:
			assert.Equal(t, want, g)
		case <-time.After(15 * time.Second):
			require.Fail(t, "no event", want)
		}
	}
}

func TestTheWorldIsTheSameForTheSameSeed(t *testing.T) {
	live := func(seed uint64) (string, int) {
		w := world.NewWorld(seed, time.Date(2026, 8, 1, 0, 0, 0, 0, time.UTC), "")
		var b strings.Builder
		n := 0
		for range 70 {
			last := time.Time{}
			for _, c := range w.NextDay() {
				require.False(t, c.At.Before(last))
				last = c.At
				b.Write(value.AppendJSON(nil, c.Record))
				n++
			}
		}
		return b.String(), n
	}
	first, n := live(7)
	again, _ := live(7)
	other, _ := live(8)
	assert.Equal(t, first, again)
	assert.NotEqual(t, first, other)
	assert.InDelta(t, 300, n/70, 60)
}

// Whenever somebody looks, by day or by night, on a Sunday or when the clocks change, something is under way; and a world
// that stands at another moment has the same things happen, later.
func TestSomethingIsAlwaysUnderWay(t *testing.T) {
	zone, err := time.LoadLocation("Europe/Zurich")
	require.NoError(t, err)
	for _, first := range []string{"2026-11-26", "2026-03-27", "2026-10-23", "2024-02-27", "2025-12-29"} {
		day, err := time.ParseInLocation(time.DateOnly, first, zone)
		require.NoError(t, err)
		w := world.NewWorld(4646, day, "http://x")
		status := map[string]string{}
		var all []world.Change
		for range 5 {
			all = append(all, w.NextDay()...)
		}
		assert.True(t, slices.IsSortedFunc(all, func(a, b world.Change) int { return a.At.Compare(b.At) }), first)
		i := 0
		for at := day.Add(24 * time.Hour); at.Before(day.Add(4 * 24 * time.Hour)); at = at.Add(17 * time.Minute) {
			for ; i < len(all) && !all[i].At.After(at); i++ {
				if all[i].Kind == "collections" {
					status[all[i].Key], _ = all[i].Record["status"].(string)
				}
			}
			n := 0
			for _, s := range status {
				if s == "planned" || s == "on the way" {
					n++
				}
			}
			require.GreaterOrEqual(t, n, 2, at)
		}
		c := all[len(all)-1]
		for _, other := range all {
			if other.Record["due"] != nil && other.Kind == "collections" {
				c = other
				break
			}
		}
		by := 30*time.Hour + 7*time.Minute
		moved := c.Shifted(by, zone)
		assert.Equal(t, c.At.Add(by), moved.At)
		was, _ := time.Parse(time.RFC3339, c.Record["due"].(string))
		is, err := time.Parse(time.RFC3339, moved.Record["due"].(string))
		require.NoError(t, err)
		assert.Equal(t, by, is.Sub(was))
		assert.Equal(t, c.Record["id"], moved.Record["id"])
	}
}
