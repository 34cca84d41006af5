package api_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"net/url"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/api"
)

// whyOf sends one arrival through a workflow to a square of its own, and gives the path of the page that says why, with the
// workflow's path.
func whyOf(t *testing.T, c *client) (why, workflow string) {
	t.Helper()
	got := make(chan string, 10)
	square := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var p struct{ Why string }
		_ = json.NewDecoder(r.Body).Decode(&p)
		if r.Method == http.MethodPost && p.Why != "" {
			got <- p.Why
		}
		w.WriteHeader(http.StatusCreated)
		_, _ = w.Write([]byte(`{"id":7}`))
	}))
	t.Cleanup(square.Close)
	require.NoError(t, c.st.DB.Exec(`UPDATE connections SET settings = jsonb_build_object('address', ?::text)`, square.URL).Error)
	_, _ = c.call("POST", "/api/connections", `{"id":"shop","title":"Shop"}`)
	status, _ := c.call("POST", "/in/shop/orders", `[{"id":"A","state":"new","total":9}]`)
	require.Equal(t, 202, status)
	_, w := c.call("POST", "/api/workflows", sheetBody(strings.Replace(text, "keep: {field: total, above: 5}", "keep: {all: [{field: total, above: 5}, {field: total, below: 5000}]}", 1)))
	workflow = fmt.Sprintf("/api/workflows/%v", w["id"])
	status, p := c.call("POST", workflow+"/on", "")
	require.Equal(t, 200, status, "%v", p)
	status, _ = c.call("POST", "/in/shop/orders", `[{"id":"A","state":"late","total":4711}]`)
	require.Equal(t, 202, status)
	select {
	case link := <-got:
		u, err := url.Parse(link)
		require.NoError(t, err)
		require.Contains(t, u.Path, "/why/")
		return u.Path, workflow
	case <-time.After(10 * time.Second):
		require.Fail(t, "nothing was told")
	}
	return "", ""
}

// Whoever was told learns why without an account, with the values of then, and says whether it was useful: each once.
func TestWhyAmITold(t *testing.T) {
	c := startWith(t, func(o *api.Options) { o.Engine.Env.Base = "https://dorfbote.example" })
	c.signIn()
	why, workflow := whyOf(t, c)
	worth := func() map[string]any {
		var got map[string]any
		require.Eventually(t, func() bool {
			_, out := c.call("GET", workflow+"/worth", "")
			items, _ := out["items"].([]any)
			if len(items) == 1 {
				got = items[0].(map[string]any)
			}
			return len(items) == 1
		}, 5*time.Second, 20*time.Millisecond)
		return got
	}
	status, page := c.raw("GET", why, "")
	require.Equal(t, 200, status)
	for _, part := range []string{"Late", "square/#tours", "4711", "5000", "shop/orders", "A looks after this workflow", "before that, new", "Not for me", workflow[len("/api"):]} {
		assert.Contains(t, string(page), part)
	}
	form := func(http *http.Client, what string) int {
		res, err := http.PostForm(c.base+why, url.Values{"worth": {what}})
		require.NoError(t, err)
		_ = res.Body.Close()
		return res.StatusCode
	}
	assert.Equal(t, []any{1.0, 0.0, nil}, []any{worth()["posts"], worth()["led"], worth()["median_s"]}, "to look at it says nothing")
	assert.Equal(t, 422, form(c.http, "perhaps"))
	for range 3 {
		assert.Equal(t, 200, form(c.http, "useful"))
	}
	stranger := &http.Client{}
	assert.Equal(t, 200, form(stranger, "useful"))
	assert.Equal(t, 200, form(stranger, "not for me"), "who thinks again is counted by the last word")
	w := worth()
	assert.Equal(t, []any{1.0, 1.0, 1.0, 1.0, "square/#tours"}, []any{w["posts"], w["led"], w["useful"], w["not_for_me"], w["destination"]})
	assert.NotNil(t, w["median_s"])
	res, err := stranger.Get(c.base + why)
	require.NoError(t, err)
	defer res.Body.Close()
	assert.Equal(t, "noindex, nofollow, noarchive", res.Header.Get("X-Robots-Tag"))

	for _, altered := range []string{why + "x", strings.Replace(why, "/w.", "/b.", 1), "/why/x"} {
		status, _ = c.raw("GET", altered, "")
		assert.Equal(t, 404, status, altered)
		status, _ = c.raw("POST", altered, "worth=useful", "Content-Type", "application/x-www-form-urlencoded")
		assert.Equal(t, 404, status, altered)
	}
	token := strings.TrimPrefix(why, "/why/")
	status, _ = c.raw("GET", "/act/"+token, "")
	assert.NotEqual(t, 200, status, "it presses no button")
	elsewhere := func(who *client, proof string) int {
		status, _ := who.raw("POST", why, "worth=useful&proof="+url.QueryEscape(proof), "Content-Type", "application/x-www-form-urlencoded", "Sec-Fetch-Site", "cross-site", "Origin", "null")
		return status
	}
	proofOf := func(who *client) string {
		_, page := who.raw("GET", why, "")
		found := regexp.MustCompile(`name="proof" value="([^"]+)"`).FindSubmatch(page)
		require.NotNil(t, found)
		return string(found[1])
	}
	// A mail program may hide where a form was filled in: the page itself says that it was opened, by whoever opened it.
	assert.Equal(t, 403, elsewhere(c, ""))
	assert.Equal(t, 200, elsewhere(c, proofOf(c)))
	assert.Equal(t, 403, elsewhere(c, proofOf(c.stranger())), "the page that another opened is no page of theirs")
	assert.Equal(t, 403, elsewhere(c, proofOf(c)+"x"))

	// Somebody ends what the post's links lead to: nobody is shown anything then.
	var post int64
	require.NoError(t, c.st.DB.Raw("SELECT max(id) FROM posts").Scan(&post).Error)
	c.ok("DELETE", fmt.Sprintf("/api/posts/%d/links", post), "")
	for _, who := range []*client{c, c.stranger()} {
		status, page := who.raw("GET", why, "")
		assert.Equal(t, http.StatusGone, status)
		assert.Contains(t, string(page), "Somebody has ended this link")
		assert.NotContains(t, string(page), "4711")
	}
}
