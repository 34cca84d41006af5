package conformtest

import (
	"context"
	"encoding/json"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// getJSON reads what an address says.
func getJSON(t testing.TB, address string, into any) {
	t.Helper()
	res, err := http.Get(address)
	require.NoError(t, err)
	defer res.Body.Close()
	require.Equal(t, http.StatusOK, res.StatusCode, address)
	require.NoError(t, json.NewDecoder(res.Body).Decode(into))
}

func contextFor(t testing.TB, d time.Duration) (context.Context, context.CancelFunc) {
	return context.WithTimeout(t.Context(), d)
}

// count counts how often a title stands in a list.
func count(list []string, title string) int {
	n := 0
	for _, l := range list {
		if l == title {
			n++
		}
	}
	return n
}
