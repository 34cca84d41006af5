package connect

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"testing"
	"time"

	"dorfbote/internal/core/fault"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestNoAnswerIsSaidInPlainWords(t *testing.T) {
	_, refused := http.Get("http://127.0.0.1:1/")
	plain := httptest.NewServer(http.NotFoundHandler())
	defer plain.Close()
	_, noTLS := http.Get("https" + plain.URL[4:])
	slow := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter, r *http.Request) { <-r.Context().Done() }))
	defer slow.Close()
	_, late := (&http.Client{Timeout: 20 * time.Millisecond}).Get(slow.URL)
	secure := httptest.NewTLSServer(http.NotFoundHandler())
	defer secure.Close()
	_, untrusted := http.Get(secure.URL)
	for _, c := range []struct {
		err  error
		want string
	}{
		{refused, "nothing listens there (the connection was refused)"},
		{noTLS, "it does not speak TLS there"},
		{late, "it did not answer in time"},
		{fmt.Errorf("x: %w", context.DeadlineExceeded), "it did not answer in time"},
		{&url.Error{Op: "Get", URL: "http://x", Err: io.EOF}, "the connection was broken off"},
		{&net.DNSError{Name: "nowhere.example", IsNotFound: true}, "there is no host called nowhere.example"},
		{&url.Error{Op: "Get", URL: "http://x", Err: errors.New("odd")}, "odd"},
		{&fault.Fault{Tried: "a", Said: "b"}, "b"},
	} {
		require.Error(t, c.err)
		assert.Equal(t, c.want, NoAnswer(c.err), "%v", c.err)
	}
	assert.Contains(t, NoAnswer(untrusted), "its certificate is not trusted")
}

func TestWordsOfAnswers(t *testing.T) {
	assert.Equal(t, "403 Forbidden", Answered("403 Forbidden", "Forbidden"))
	assert.Equal(t, "403 Forbidden", Words([]byte("Forbidden."), "403 Forbidden"))
	assert.Equal(t, "403 Forbidden: not in #board", Words([]byte(`{"title":"Forbidden","detail":"not in #board"}`), "403 Forbidden"))
	assert.Equal(t, []string{"a.", "a.", "a?", ""}, []string{fault.Sentence("a"), fault.Sentence("a..."), fault.Sentence("a?"), fault.Sentence(" ")})
	assert.Equal(t, "reading: it said no. Ask again", (&fault.Fault{Tried: "reading", Said: "it said no.", Do: "Ask again"}).Error())
}
