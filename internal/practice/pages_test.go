package practice_test

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"html"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/practice"
	"dorfbote/internal/practice/world"
)

// Every app has a page of its records and one of each record, on which what is saved is what the API then gives.
func TestPagesOfTheApps(t *testing.T) {
	_, base := start(t, practice.Options{PostsPerSecond: 1000, Burst: 1000})
	kinds, err := world.Kinds()
	require.NoError(t, err)
	for _, k := range kinds {
		status, page, header := call(t, "GET", base+"/pages/"+k.Source(), "")
		require.Equal(t, 200, status, k.Source())
		assert.Contains(t, page, html.EscapeString(k.Fields.Title), k.Source())
		assert.Contains(t, header.Get("Content-Security-Policy"), "default-src 'none'")
		for _, f := range k.Fields.Fields {
			assert.Contains(t, page, html.EscapeString(f.Label), k.Source())
		}
		status, _, _ = call(t, "GET", base+"/pages/"+k.Source()+"/none", "")
		assert.Equal(t, 404, status, k.Source())
	}
	status, _, _ := call(t, "GET", base+"/pages/none/none", "")
	assert.Equal(t, 404, status)

	status, body, _ := call(t, "POST", base+"/apps/tours/collections", `{"id":"COL-1","farm":7,"status":"planned","litres":1200,"driver":"<b>Jonas</b>"}`, "Content-Type", "application/json")
	require.Less(t, status, 300, body)
	status, page, _ := call(t, "GET", base+"/pages/tours/collections/COL-1", "")
	require.Equal(t, 200, status)
	assert.Contains(t, page, "&lt;b&gt;Jonas&lt;/b&gt;", "what a record holds is text")
	status, _, _ = call(t, "POST", base+"/pages/tours/collections/COL-1", url.Values{"status": {"late"}, "litres": {"1,300.5"}, "driver": {""}, "id": {"OTHER"}}.Encode(), "Content-Type", "application/x-www-form-urlencoded")
	require.Less(t, status, 400)
	_, body, _ = call(t, "GET", base+"/apps/tours/collections/COL-1", "")
	var got map[string]any
	require.NoError(t, json.Unmarshal([]byte(body), &got), body)
	if record, ok := got["record"].(map[string]any); ok {
		got = record
	}
	assert.Equal(t, []any{"late", 1300.5, nil}, []any{got["status"], got["litres"], got["driver"]})
	assert.NotEqual(t, "OTHER", got["id"])
	status, _, _ = call(t, "POST", base+"/pages/tours/collections/none", "status=late", "Content-Type", "application/x-www-form-urlencoded")
	assert.GreaterOrEqual(t, status, 400)
}

// Pages that are open hear of what changes.
func TestPagesHearOfChanges(t *testing.T) {
	_, base := start(t, practice.Options{PostsPerSecond: 1000, Burst: 1000})
	ctx, stop := context.WithTimeout(context.Background(), 10*time.Second)
	defer stop()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, base+"/events", nil)
	require.NoError(t, err)
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	defer res.Body.Close()
	assert.Equal(t, "text/event-stream", res.Header.Get("Content-Type"))
	lines := bufio.NewScanner(res.Body)
	require.True(t, lines.Scan(), "it says that it is here")
	status, body, _ := call(t, "POST", base+"/square/posts", `{"channel":"#tours","title":"a"}`, "Authorization", "Bearer t1")
	require.Equal(t, 201, status, body)
	for lines.Scan() {
		if data, ok := strings.CutPrefix(lines.Text(), "data: "); ok {
			var e struct{ Topic, Channel string }
			require.NoError(t, json.Unmarshal([]byte(data), &e))
			assert.Equal(t, []string{"posts", "#tours"}, []string{e.Topic, e.Channel})
			return
		}
	}
	t.Fatal("nothing was heard")
}

// A thread holds what is posted under a post, an edit changes what stands there, and the newest come first in pages.
func TestTheSquaresThreads(t *testing.T) {
	_, base := start(t, practice.Options{PostsPerSecond: 1000, Burst: 1000})
	post := func(body string) string {
		t.Helper()
		status, raw, _ := call(t, "POST", base+"/square/posts", body, "Authorization", "Bearer t1")
		require.Equal(t, 201, status, raw)
		var out struct{ ID string }
		require.NoError(t, json.Unmarshal([]byte(raw), &out))
		return out.ID
	}
	first := post(`{"channel":"#tours","title":"first"}`)
	reply := post(fmt.Sprintf(`{"channel":"#tours","title":"reply","under":%q}`, first))
	status, raw, _ := call(t, "PUT", base+"/square/posts/"+first, `{"channel":"#tours","title":"first, mended"}`, "Authorization", "Bearer t1")
	assert.Equal(t, 200, status, raw)
	status, _, _ = call(t, "PUT", base+"/square/posts/"+first, `{"channel":"#tours","title":"x"}`, "Authorization", "Bearer no")
	assert.Equal(t, 401, status)
	status, _, _ = call(t, "PUT", base+"/square/posts/999", `{"channel":"#tours","title":"x"}`, "Authorization", "Bearer t1")
	assert.Equal(t, 404, status)
	_, raw, _ = call(t, "GET", base+"/square/channels/tours/posts", "")
	assert.Contains(t, raw, "first, mended")
	assert.Contains(t, raw, reply)
	assert.NotContains(t, raw, `"first"`)
	for range 3 {
		post(`{"channel":"#tours","title":"more"}`)
	}
}
