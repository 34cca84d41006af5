package api_test

import (
	"net/http"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/api"
	"dorfbote/internal/api/kit"
)

// A form takes so many answers from one address within an hour, and each person behind a proxy has an address of their own.
func TestAFormsLimit(t *testing.T) {
	proxies, err := kit.TrustProxies("127.0.0.1")
	require.NoError(t, err)
	c := startWith(t, func(o *api.Options) { o.Proxies = proxies })
	c.signIn()
	c.ok("POST", "/api/connections", `{"id":"gate","kind":"form","title":"Gate"}`)
	c.ok("POST", "/api/connections/gate/sources", `{"kind":"answers","title":"Visits","settings":{"title":"Visit","fields":"[{\"name\":\"visitor\",\"label\":\"Who?\",\"type\":\"text\",\"required\":true}]"}}`)
	send := func(from string) int {
		req, err := http.NewRequest(http.MethodPost, c.base+"/form/gate", strings.NewReader(url.Values{"visitor": {"Ona"}}.Encode()))
		require.NoError(t, err)
		req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		req.Header.Set("X-Forwarded-For", from)
		res, err := c.http.Do(req)
		require.NoError(t, err)
		res.Body.Close()
		if res.StatusCode == http.StatusTooManyRequests {
			assert.NotEmpty(t, res.Header.Get("Retry-After"))
		}
		return res.StatusCode
	}
	for i := range 10 {
		require.Equal(t, 200, send("198.51.100.7"), i)
	}
	assert.Equal(t, 429, send("198.51.100.7"))
	assert.Equal(t, 429, send("6.6.6.6, 198.51.100.7"), "what a sender says of itself changes nothing")
	assert.Equal(t, 200, send("198.51.100.8"))
	var answers int64
	require.NoError(t, c.st.DB.Raw("SELECT count(*) FROM arrivals WHERE source = 'gate/answers'").Scan(&answers).Error)
	assert.EqualValues(t, 11, answers)
}
