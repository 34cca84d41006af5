package connect_test

import (
	"bytes"
	"context"
	"image"
	"image/png"
	"net/http"
	"net/http/httptest"
	"runtime"
	"strconv"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/value"
	"dorfbote/internal/peers"
)

// Whatever the other side does with a call, it ends in time, within bounded memory, and is known for what it was.
func TestWhatTheOtherSideMayDo(t *testing.T) {
	env, err := connect.NewEnv(value.DefaultWorkspace(), "127.0.0.0/8")
	require.NoError(t, err)
	var taken atomic.Int64
	hang := make(chan struct{})
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/no-answer":
			<-hang
		case "/drips":
			for range 30 {
				_, _ = w.Write([]byte("x"))
				w.(http.Flusher).Flush()
				select {
				case <-hang:
					return
				case <-time.After(time.Second):
				}
			}
		case "/huge":
			block := bytes.Repeat([]byte("x"), 1<<20)
			for range 1024 {
				if _, err := w.Write(block); err != nil {
					return
				}
			}
		case "/elsewhere":
			http.Redirect(w, r, "http://10.0.0.1/in", http.StatusTemporaryRedirect)
		case "/busy":
			w.Header().Set("Retry-After", "3")
			w.WriteHeader(http.StatusTooManyRequests)
		case "/once":
			if taken.Add(1) == 1 {
				w.WriteHeader(http.StatusInternalServerError)
			}
		}
	}))
	defer server.Close()
	defer close(hang)
	bad := httptest.NewTLSServer(http.NotFoundHandler())
	defer bad.Close()
	for name, c := range map[string]struct {
		address      string
		taken, final bool
		wait         time.Duration
		words        string
	}{
		"no answer":                 {server.URL + "/no-answer", false, false, 0, "no answer from"},
		"one byte a second":         {server.URL + "/drips", true, false, 0, ""}, // its status says that it was taken
		"1 GB of answer":            {server.URL + "/huge", true, false, 0, ""},
		"led to a private address":  {server.URL + "/elsewhere", false, true, 0, ""},
		"a certificate of nobody's": {bad.URL, false, false, 0, "certificate"},
		"a storm of 429":            {server.URL + "/busy", false, false, 3 * time.Second, ""},
		"500, and then":             {server.URL + "/once", false, false, 0, "500"},
		"a private address":         {"http://10.0.0.1/in", false, false, 0, "private"},
		"nobody there":              {"http://127.0.0.1:1/in", false, false, 0, "no answer from 127.0.0.1:1"},
	} {
		t.Run(name, func(t *testing.T) {
			ctx, cancel := context.WithTimeout(t.Context(), 2*time.Second)
			defer cancel()
			var before, after runtime.MemStats
			runtime.ReadMemStats(&before)
			began := time.Now()
			d := connect.SendCall(ctx, env, connect.Call{Method: http.MethodPost, Address: c.address, Header: http.Header{}, Body: []byte("{}"), Key: "k"})
			runtime.ReadMemStats(&after)
			assert.Less(t, time.Since(began), 4*time.Second)
			assert.Equal(t, []any{c.taken, c.final, c.wait}, []any{d.Taken, d.Final, d.Wait}, "%+v", d)
			assert.Contains(t, d.Answer, c.words)
			assert.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(8<<20), "memory does not grow with the answer")
		})
	}
	d := connect.SendCall(t.Context(), env, connect.Call{Method: http.MethodPost, Address: server.URL + "/once", Header: http.Header{}, Body: []byte("{}"), Key: "k"})
	assert.True(t, d.Taken, "what healed is taken")
}

// An answer that is lost after the other side took the post: the repeated try, under the same key, makes no second one.
func TestAnAnswerThatIsLost(t *testing.T) {
	env, err := connect.NewEnv(value.DefaultWorkspace(), "127.0.0.0/8")
	require.NoError(t, err)
	posts := map[string]int{}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		posts[r.Header.Get(connect.IdempotencyHeader)]++
		w.Header().Set("X-Long", string(bytes.Repeat([]byte("x"), 500)))
		_, _ = w.Write([]byte(`{"id":"` + strconv.Itoa(len(posts)) + `"}`))
	}))
	defer server.Close()
	line := peers.NewLine(t, server.Listener.Addr().String())
	call := connect.Call{Method: http.MethodPost, Address: "http://" + line.Address + "/in", Header: http.Header{}, Body: []byte("{}"), Key: "k-1"}
	line.Spoil(t, `{"type":"limit_data","stream":"downstream","attributes":{"bytes":60}}`)
	d := connect.SendCall(t.Context(), env, call)
	assert.False(t, d.Taken)
	assert.False(t, d.Final)
	assert.Len(t, posts, 1, "it was taken, and nobody heard")
	line.Mend()
	d = connect.SendCall(t.Context(), env, call)
	assert.True(t, d.Taken)
	assert.Equal(t, map[string]int{"k-1": 2}, posts, "both tries bear the same key")
}

// A picture is read within bounds, by its content, and not from private addresses, wherever it is led.
func TestPictures(t *testing.T) {
	env, err := connect.NewEnv(value.DefaultWorkspace(), "127.0.0.0/8")
	require.NoError(t, err)
	var small, wide bytes.Buffer
	require.NoError(t, png.Encode(&small, image.NewGray(image.Rect(0, 0, 3, 3))))
	require.NoError(t, png.Encode(&wide, image.NewGray(image.Rect(0, 0, 20_000, 3_000))))
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/good":
			_, _ = w.Write(append(small.Bytes(), []byte("<script>alert(1)</script>")...))
		case "/wide":
			_, _ = w.Write(wide.Bytes())
		case "/led":
			http.Redirect(w, r, "http://10.0.0.1/p.png", http.StatusFound)
		case "/huge":
			_, _ = w.Write(small.Bytes())
			block := bytes.Repeat([]byte("x"), 1<<20)
			for range 40 {
				if _, err := w.Write(block); err != nil {
					return
				}
			}
		default:
			w.Header().Set("Content-Type", "image/png")
			_, _ = w.Write([]byte("<svg/>"))
		}
	}))
	defer server.Close()
	p, err := connect.FetchPicture(t.Context(), env, server.URL+"/good")
	require.NoError(t, err)
	assert.Equal(t, "image/png", p.Media)
	assert.NotContains(t, string(p.Data), "script", "it is written anew, so that nothing else comes along")
	for path, want := range map[string]string{"/wide": "points, which is too many", "/led": "private", "/huge": "larger than 10 MiB", "/svg": "this isn't a picture"} {
		_, err := connect.FetchPicture(t.Context(), env, server.URL+path)
		assert.ErrorContains(t, err, want, path)
	}
}
