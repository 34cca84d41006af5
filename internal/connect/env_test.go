package connect_test

import (
	"context"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/value"
)

func env(t *testing.T, allowed string) connect.Env {
	t.Helper()
	e, err := connect.NewEnv(value.DefaultWorkspace(), allowed)
	require.NoError(t, err)
	return e
}

// Credentials stay with the host they were given for, whatever header carries them.
func TestCredentialsAreNotTakenToAnotherHost(t *testing.T) {
	var got http.Header
	other := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { got = r.Header.Clone() }))
	defer other.Close()
	elsewhere := strings.Replace(other.URL, "127.0.0.1", "localhost", 1)
	var to string
	first := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/there" {
			got = r.Header.Clone()
			return
		}
		http.Redirect(w, r, to, http.StatusFound)
	}))
	defer first.Close()
	send := http.Header{"Authorization": {"Bearer s"}, "X-Api-Key": {"s"}, "Cookie": {"a=s"}, "Private-Token": {"s"}, "Accept": {"application/json"}}
	e := env(t, "127.0.0.0/8,::1/128")
	for _, status := range []string{elsewhere, other.URL} {
		to, got = status, nil
		res, err := e.Get(context.Background(), first.URL, send.Clone())
		require.NoError(t, err)
		res.Body.Close()
		require.NotNil(t, got)
		for _, name := range []string{"Authorization", "X-Api-Key", "Cookie", "Private-Token"} {
			assert.Empty(t, got.Values(name), "%s to %s", name, to)
		}
		assert.Equal(t, "application/json", got.Get("Accept"))
	}
	to, got = "/there", nil
	res, err := e.Get(context.Background(), first.URL, send.Clone())
	require.NoError(t, err)
	res.Body.Close()
	assert.Equal(t, "s", got.Get("X-Api-Key"), "the same host keeps them")
}

// Private addresses are not called unless they are allowed, directly or by way of a redirection.
func TestPrivateAddressesAreNotCalled(t *testing.T) {
	called := false
	inside := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { called = true }))
	defer inside.Close()
	for _, address := range []string{
		inside.URL, strings.Replace(inside.URL, "127.0.0.1", "localhost", 1), strings.Replace(inside.URL, "127.0.0.1", "[::ffff:127.0.0.1]", 1),
		"http://169.254.169.254/latest", "http://10.0.0.1/", "http://192.168.1.1/", "http://[::1]/", "http://0.0.0.0/", "http://[fd00::1]/",
	} {
		ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
		_, err := env(t, "").Get(ctx, address, http.Header{})
		cancel()
		require.Error(t, err, address)
		assert.NotContains(t, err.Error(), "deadline", address)
	}
	assert.False(t, called)
	for _, address := range []string{"ftp://x/", "file:///etc/passwd", "gopher://x", "//x", "x"} {
		_, err := env(t, "").Get(context.Background(), address, http.Header{})
		require.Error(t, err, address)
	}
	_, err := connect.NewEnv(value.DefaultWorkspace(), "everything")
	assert.Error(t, err)
}

// One address that is allowed opens itself and no other.
func TestWhatIsAllowedIsCalled(t *testing.T) {
	serve := func(at string) string {
		l, err := net.Listen("tcp", at+":0")
		require.NoError(t, err)
		s := httptest.NewUnstartedServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte("in")) }))
		_ = s.Listener.Close()
		s.Listener = l
		s.Start()
		t.Cleanup(s.Close)
		return s.URL
	}
	one, other := serve("127.0.0.1"), serve("127.0.0.2")
	for allowed, both := range map[string][2]bool{"127.0.0.1": {true, false}, "127.0.0.2/32 10.0.0.1": {false, true}, "127.0.0.0/8": {true, true}, "127.0.0.0/31,::1": {true, false}, "10.0.0.0/8": {false, false}} {
		for i, address := range []string{one, other} {
			answer, err := env(t, allowed).Get(t.Context(), address, http.Header{})
			if both[i] {
				require.NoError(t, err, "%s: %s", allowed, address)
				_ = answer.Body.Close()
			} else {
				require.ErrorContains(t, err, "private or reserved", "%s: %s", allowed, address)
			}
		}
	}
}

// What an address opens doors with is not shown in what is said of it.
func TestFaultsShowNoSecrets(t *testing.T) {
	gone := httptest.NewServer(http.NotFoundHandler())
	defer gone.Close()
	asks := strings.Replace(gone.URL, "://", "://ann:s3same@", 1) + "/list?page=2&access_token=s3same&ApiKey=s3same&client_secret=s3same&Password=s3same&X-Signature=s3same"
	_, err := env(t, "127.0.0.0/8").Get(t.Context(), asks, http.Header{})
	require.Error(t, err)
	assert.NotContains(t, err.Error(), "s3same")
	assert.Contains(t, err.Error(), "page=2")
	gone.Close()
	_, err = env(t, "127.0.0.0/8").Get(t.Context(), asks, http.Header{})
	require.Error(t, err)
	assert.NotContains(t, err.Error(), "s3same", "where nobody answers")
}

func TestRetryAfterAndWords(t *testing.T) {
	now := time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)
	for text, want := range map[string]time.Duration{
		"": 0, "7": 7 * time.Second, "0.5": 500 * time.Millisecond, "-3": 0, "soon": 0, "9999999": time.Hour,
		"Thu, 26 Nov 2026 12:01:00 GMT": time.Minute, "Thu, 26 Nov 2026 11:00:00 GMT": 0,
	} {
		assert.Equal(t, want, connect.RetryAfter(text, now), text)
	}
	assert.Contains(t, connect.Words([]byte(`{"title":"No","detail":"not a member"}`), "403 Forbidden"), "not a member")
	assert.Equal(t, "502 Bad Gateway", connect.Words([]byte(`{"x":1}`), "502 Bad Gateway"))
}
