package main

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// fakeServer keeps drafts as the API does.
type fakeServer struct {
	mu     sync.Mutex
	texts  []string
	writes int
}

func (f *fakeServer) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	f.mu.Lock()
	defer f.mu.Unlock()
	item := func(i int) map[string]any {
		name := strings.TrimPrefix(strings.Split(f.texts[i], "\n")[1], "name: ")
		return map[string]any{"id": i + 1, "name": name, "text": f.texts[i]}
	}
	var body struct {
		Text   string
		Sheets []struct{ Text string }
	}
	_ = json.NewDecoder(r.Body).Decode(&body)
	var id int
	_, _ = fmt.Sscanf(r.URL.Path, "/api/workflows/%d", &id)
	switch {
	case r.URL.Path == "/api/sign-in":
		_, _ = w.Write([]byte("{}"))
	case r.URL.Path == "/api/apply":
		items := []any{}
		for _, s := range body.Sheets {
			at, name := -1, strings.TrimPrefix(strings.Split(s.Text, "\n")[1], "name: ")
			for i := range f.texts {
				if item(i)["name"] == name {
					at = i
				}
			}
			did := "unchanged"
			switch {
			case at < 0:
				f.texts, did = append(f.texts, s.Text), "made"
				f.writes++
			case f.texts[at] != s.Text:
				f.texts[at], did = s.Text, "changed"
				f.writes++
			}
			items = append(items, map[string]any{"name": name, "did": did})
		}
		_ = json.NewEncoder(w).Encode(map[string]any{"items": items})
	case r.Method == http.MethodPost:
		f.writes++
		f.texts = append(f.texts, body.Text)
		_ = json.NewEncoder(w).Encode(item(len(f.texts) - 1))
	case r.Method == http.MethodPut:
		f.writes++
		f.texts[id-1] = body.Text
		_ = json.NewEncoder(w).Encode(item(id - 1))
	case id > 0:
		_ = json.NewEncoder(w).Encode(item(id - 1))
	default:
		items := []any{}
		for i := range f.texts {
			items = append(items, item(i))
		}
		_ = json.NewEncoder(w).Encode(map[string]any{"items": items})
	}
}

const someSheet = "dorfbote: 1\nname: %s\nwatch: {source: a/b} # a comment stays\nmessages: {m: {title: x}}\nroute: {otherwise: {tell: [{to: c/d, message: m}]}}\n"

// What is exported and applied again changes nothing; what differs is changed, and what is new is made.
func TestExportThenApply(t *testing.T) {
	f := &fakeServer{texts: []string{fmt.Sprintf(someSheet, "One"), fmt.Sprintf(someSheet, "Two: \"x\"")}}
	f.texts[1] = strings.Replace(f.texts[1], "Two: \"x\"", "'Two: x'", 1)
	server := httptest.NewServer(f)
	defer server.Close()
	ctx, dir := context.Background(), t.TempDir()
	r := &remote{URL: server.URL}
	require.NoError(t, r.signIn(ctx))
	list, err := r.workflows(ctx)
	require.NoError(t, err)
	var out strings.Builder
	require.NoError(t, export(&out, list, nil, ""))
	file := filepath.Join(dir, "all.yaml")
	require.NoError(t, os.WriteFile(file, []byte(out.String()), 0o600))
	sheets, err := readSheets([]string{file})
	require.NoError(t, err)
	require.Len(t, sheets, 2)
	f.texts[1] = strings.Replace(f.texts[1], "'Two: x'", "Two: x", 1) // as the fake names it
	sheets[1].text = f.texts[1]
	require.NoError(t, r.apply(ctx, sheets, false))
	assert.Zero(t, f.writes)

	require.NoError(t, export(&out, list, []string{"One"}, dir))
	changed := strings.Replace(fmt.Sprintf(someSheet, "One"), "title: x", "title: y", 1)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "one.yaml"), []byte(changed+"---\n"+fmt.Sprintf(someSheet, "Three")), 0o600))
	sheets, err = readSheets([]string{filepath.Join(dir, "one.yaml")})
	require.NoError(t, err)
	require.NoError(t, r.apply(ctx, sheets, false))
	assert.Equal(t, 2, f.writes)
	assert.Equal(t, changed, f.texts[0])
	assert.Len(t, f.texts, 3)

	require.ErrorContains(t, export(&out, list, []string{"None"}, ""), `there is no workflow "None"`)
	_, err = readSheets([]string{file, filepath.Join(dir, "none.yaml")})
	require.Error(t, err)
	require.NoError(t, os.WriteFile(file, []byte(fmt.Sprintf(someSheet, "A")+"---\ndorfbote: 1\nnme: B\n"), 0o600))
	_, err = readSheets([]string{file})
	require.Error(t, err, "nothing is applied while anything cannot be read")
}
