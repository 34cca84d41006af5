package practice

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/testdb"
)

// The Counter asks before it confirms an order, and does what it is answered: at once, or once somebody has answered; and it says
// why not.
func TestTheCounterAsksBeforeItConfirms(t *testing.T) {
	st := testdb.New(t)
	stand, err := New(t.Context(), st.DB, DefaultOptions())
	require.NoError(t, err)
	server := httptest.NewServer(stand.Handler())
	defer server.Close()
	call := func(method, path, body string) (int, string) {
		req, err := http.NewRequest(method, server.URL+path, strings.NewReader(body))
		require.NoError(t, err)
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		defer res.Body.Close()
		var p struct{ Detail, Status string }
		_ = json.NewDecoder(res.Body).Decode(&p)
		return res.StatusCode, p.Detail + p.Status
	}
	order := func(id string) {
		status, said := call("POST", "/apps/counter/orders", `{"id":"`+id+`","amount":900,"status":"new"}`)
		require.Less(t, status, 300, said)
	}
	confirm := func(id string) (int, string) {
		return call("PATCH", "/apps/counter/orders/"+id, `{"status":"confirmed"}`)
	}

	var asked []map[string]any
	looks := 0
	gate := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != "Bearer tok" || r.URL.Query().Get("wait") == "" {
			w.WriteHeader(http.StatusUnauthorized)
			return
		}
		var q map[string]any
		_ = json.NewDecoder(r.Body).Decode(&q)
		switch {
		case r.Method == http.MethodGet:
			if looks++; looks < 3 {
				w.Header().Set("Location", "/call/7/2")
				w.WriteHeader(http.StatusAccepted)
				return
			}
			_, _ = w.Write([]byte(`{"allowed":true,"by":"the board"}`))
		case q["what"] == "O-slow":
			asked = append(asked, q)
			w.Header().Set("Location", "/call/7/2")
			w.WriteHeader(http.StatusAccepted)
		case q["what"] == "O-odd":
			_, _ = w.Write([]byte(`<html>`))
		case q["what"] == "O-deaf":
			w.WriteHeader(http.StatusAccepted)
		default:
			asked = append(asked, q)
			_, _ = w.Write([]byte(`{"allowed":false,"words":"over the limit","by":"Ann"}`))
		}
	}))
	defer gate.Close()

	order("O-free")
	status, _ := confirm("O-free")
	assert.Equal(t, 200, status, "nobody is asked")
	status, _ = call("PUT", "/apps/counter/gate", `{"address":"nowhere","token":"tok"}`)
	assert.Equal(t, 400, status)
	status, _ = call("PUT", "/apps/tours/gate", `{"address":"`+gate.URL+`/call/7","token":"tok"}`)
	assert.Equal(t, 404, status)
	status, _ = call("PUT", "/apps/counter/gate", `{"address":"`+gate.URL+`/call/7","token":"tok"}`)
	require.Equal(t, 200, status)

	for _, c := range []struct {
		order  string
		status int
		said   string
	}{
		{"O-no", 409, "O-no may not be confirmed: over the limit, says Ann"},
		{"O-slow", 200, ""},
		{"O-odd", 409, "its answer is no JSON with allowed"},
		{"O-deaf", 409, "there will be no answer"},
	} {
		order(c.order)
		began := time.Now()
		status, said := confirm(c.order)
		assert.Equal(t, c.status, status, c.order)
		assert.Contains(t, said, c.said, c.order)
		assert.Less(t, time.Since(began), 20*time.Second)
	}
	assert.Equal(t, []map[string]any{{"what": "O-no", "amount": 900.0}, {"what": "O-slow", "amount": 900.0}}, asked)
	assert.Equal(t, 3, looks)

	status, _ = call("PATCH", "/apps/counter/orders/O-no", `{"status":"packed"}`)
	assert.Equal(t, 200, status, "only what is confirmed is asked about")
	status, _ = confirm("O-slow")
	assert.Equal(t, 200, status, "what is confirmed already is not asked about again")
	assert.Len(t, asked, 2)
	gate.Close()
	status, said := confirm("O-no")
	assert.Equal(t, 409, status)
	assert.Contains(t, said, "counter's gatekeeper was asked")
	status, _ = call("DELETE", "/apps/counter/gate", "")
	assert.Equal(t, 204, status)
	status, _ = confirm("O-no")
	assert.Equal(t, 200, status)
}
