package main

import (
	"bytes"
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// keeper keeps connections as the API does, and what was written to it.
type keeper struct {
	items  []map[string]any
	writes []string
}

func (k *keeper) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	answer := func(v any) { _ = json.NewEncoder(w).Encode(v) }
	var body map[string]any
	_ = json.NewDecoder(r.Body).Decode(&body)
	switch {
	case r.URL.Path == "/api/sources":
		answer(map[string]any{"items": []any{map[string]any{"source": "mail/inbox", "connection": "mail", "title": "Inbox", "key_field": "id", "settings": map[string]string{"mailbox": "INBOX"}, "poll": map[string]any{}}}})
	case r.Method == http.MethodGet:
		answer(map[string]any{"items": k.items})
	case r.URL.Path == "/api/sign-in":
		answer(map[string]any{})
	default:
		raw, _ := json.Marshal(body)
		k.writes = append(k.writes, r.Method+" "+r.URL.Path+" "+string(raw))
		answer(map[string]any{})
	}
}

// Connections are carried without their secrets; these come from the environment or are asked for, and nothing is written before
// all of them are there.
func TestCarryingConnections(t *testing.T) {
	from := &keeper{items: []map[string]any{
		{"id": "mail", "kind": "mail", "title": "Mailbox", "key_field": "id", "settings": map[string]string{"smtp": "mail.example", "user": "desk"}, "secrets": []string{"password"}, "sources": []string{"mail/inbox"}},
		{"id": "team-chat", "kind": "webhook", "title": "Team", "key_field": "id", "settings": map[string]string{"shape": "text only"}, "secrets": []string{"places"}, "sources": []string{"team-chat/news"}, "sends": map[string]any{"listed": true}},
		{"id": "shop", "kind": "hook", "title": "Shop", "key_field": "id", "settings": map[string]string{}, "secrets": []string{"signing"}},
	}}
	server := httptest.NewServer(from)
	defer server.Close()
	r := &remote{URL: server.URL}
	require.NoError(t, r.signIn(t.Context()))
	var out bytes.Buffer
	require.NoError(t, r.exportConnections(t.Context(), &out))
	file := filepath.Join(t.TempDir(), "connections.json")
	require.NoError(t, os.WriteFile(file, out.Bytes(), 0o600))
	all, err := readConnections(file)
	require.NoError(t, err)
	assert.Equal(t, []string{"news"}, all["team-chat"].Places)
	assert.Equal(t, []carriedSource{{"inbox", "Inbox", "id", map[string]string{"mailbox": "INBOX"}}}, all["mail"].Sources)
	require.NoError(t, r.applyConnections(t.Context(), all, nil))
	assert.Empty(t, from.writes, "export then apply changes nothing")
	rules, err := rulesOf(out.Bytes())
	require.NoError(t, err)
	assert.Len(t, rules, 2, "check and rehearse read it, too")

	to := &keeper{items: []map[string]any{}}
	empty := httptest.NewServer(to)
	defer empty.Close()
	there := &remote{URL: empty.URL}
	require.NoError(t, there.signIn(t.Context()))
	err = there.applyConnections(t.Context(), all, nil)
	require.ErrorContains(t, err, "DORFBOTE_SECRET_MAIL_PASSWORD, DORFBOTE_SECRET_TEAM_CHAT_PLACES")
	assert.Empty(t, to.writes, "nothing is half done")
	t.Setenv("DORFBOTE_SECRET_MAIL_PASSWORD", "p-1")
	var asked []string
	require.NoError(t, there.applyConnections(t.Context(), all, func(words string) (string, error) {
		asked = append(asked, words)
		return "news https://chat.example/in/1", nil
	}))
	require.Len(t, asked, 1)
	assert.Contains(t, asked[0], "team-chat: the secret places")
	require.Len(t, to.writes, 4)
	assert.Contains(t, to.writes[0], `"password":"p-1"`)
	assert.Contains(t, to.writes[1], "POST /api/connections/mail/sources")
	assert.Contains(t, to.writes[2], `"signed":true`)
	assert.Contains(t, to.writes[3], "news https://chat.example/in/1")

	to.items = []map[string]any{{"id": "mail", "kind": "chat"}}
	require.ErrorContains(t, there.applyConnections(t.Context(), all, nil), "mail is a chat there, and a mail here; nothing was written")
	to.items = []map[string]any{{"id": "mail", "kind": "mail", "title": "Old", "settings": map[string]string{}, "sources": []string{"mail/inbox"}}}
	to.writes = nil
	require.NoError(t, there.applyConnections(t.Context(), map[string]carried{"mail": all["mail"]}, nil))
	require.Len(t, to.writes, 1)
	assert.True(t, strings.HasPrefix(to.writes[0], "PATCH /api/connections/mail "), to.writes[0])
	for text, want := range map[string]string{`[]`: "it is an object", `{"x": {"kind": "fax"}}`: `there is no kind of connection "fax"`} {
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		_, err := readConnections(file)
		assert.ErrorContains(t, err, want)
	}
}
