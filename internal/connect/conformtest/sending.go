package conformtest

import (
	"encoding/json"
	"maps"
	"net/http"
	"net/http/httptest"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/connect"
	"dorfbote/internal/connect/kinds"
	"dorfbote/internal/core/message"
	"dorfbote/internal/core/value"
	"dorfbote/internal/peers"
)

// Sending is a kind that posts go to, with something real that takes them.
type Sending struct {
	Kind     string
	Upstream func(t testing.TB) string              // starts what takes posts, and gives its address
	Settings func(address string) map[string]string // of a connection to it, directly or over a line
	Place    string                                 // one that takes posts
	Shut     string                                 // one that refuses them; "" where there is none
	Secret   string                                 // among the settings, which must show nowhere
	Titles   func(t testing.TB) []string            // of what has arrived at the place, as it reads now, in order
	Local    bool                                   // it calls nobody, so that no line can be bad
	Blind    bool                                   // it is not told that what is edited is gone
	Needs    func(t testing.TB, env *connect.Env)   // what else it takes to reach it; nil where nothing
	Fail     func(status int, header http.Header)   // has the other side answer the next calls so; 0 ends it. nil where it does not speak HTTP
}

// Sendings gives the rigs of all kinds that send.
func Sendings() []*Sending {
	return []*Sending{chat(), webhook(), text(), event(), push(), mailbox(), xmppRoom()}
}

// webhook is the webhook kind, with a side that takes its title as text and knows a repeated call by its key.
func webhook() *Sending {
	s := &Sending{Kind: "webhook", Place: "tours", Secret: "s-1"}
	var fails atomic.Pointer[failing]
	var mu sync.Mutex
	var titles []string
	s.Upstream = func(t testing.TB) string {
		seen := map[string]bool{}
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if r.Method == http.MethodHead {
				w.WriteHeader(http.StatusMethodNotAllowed)
				return
			}
			if f := fails.Load(); f != nil {
				f.answer(w)
				return
			}
			var in struct{ Title string }
			if r.URL.Path != "/in/s-1" || json.NewDecoder(r.Body).Decode(&in) != nil {
				http.NotFound(w, r)
				return
			}
			mu.Lock()
			defer mu.Unlock()
			if key := r.Header.Get(connect.IdempotencyHeader); !seen[key] {
				seen[key] = true
				titles = append(titles, in.Title)
			}
			_, _ = w.Write([]byte(`{"ok":true,"post":{"id":7,"url":"https://chat.example/7"}}`))
		}))
		t.Cleanup(server.Close)
		return strings.TrimPrefix(server.URL, "http://")
	}
	s.Settings = func(a string) map[string]string {
		return map[string]string{"places": "tours http://" + a + "/in/s-1", "shape": "title, text and facts", "accepted": "$.ok", "id": "$.post.id", "link": "$.post.url"}
	}
	s.Titles = func(testing.TB) []string {
		mu.Lock()
		defer mu.Unlock()
		return append([]string(nil), titles...)
	}
	s.Fail = func(status int, header http.Header) {
		if fails.Store(nil); status != 0 {
			fails.Store(&failing{status, header})
		}
	}
	return s
}

func chat() *Sending {
	s := &Sending{Kind: "chat", Place: "#tours", Shut: "#board", Secret: "t-1"}
	var fails atomic.Pointer[failing]
	var address string
	s.Upstream = func(t testing.TB) string {
		inner := square(t)
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if f := fails.Load(); f != nil && r.Method != http.MethodGet {
				f.answer(w)
				return
			}
			inner.ServeHTTP(w, r)
		}))
		t.Cleanup(server.Close)
		address = server.URL
		return strings.TrimPrefix(address, "http://")
	}
	s.Settings = func(a string) map[string]string {
		return map[string]string{"address": "http://" + a + "/square", "token": s.Secret}
	}
	s.Titles = func(t testing.TB) []string {
		var posts []struct {
			ID    int64  `json:"id"`
			Title string `json:"title"`
		}
		getJSON(t, address+"/square/channels/tours/posts", &posts)
		slices.SortFunc(posts, func(a, b struct {
			ID    int64  `json:"id"`
			Title string `json:"title"`
		}) int {
			return int(a.ID - b.ID)
		})
		var out []string
		for _, p := range posts {
			out = append(out, p.Title)
		}
		return out
	}
	s.Fail = func(status int, header http.Header) {
		if fails.Store(nil); status != 0 {
			fails.Store(&failing{status, header})
		}
	}
	return s
}

// failing is an answer that is given whatever is asked.
type failing struct {
	status int
	header http.Header
}

func (f *failing) answer(w http.ResponseWriter) {
	maps.Copy(w.Header(), f.header)
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(f.status)
	_, _ = w.Write([]byte(`{"title":"no","detail":"not now"}`))
}

// checkLocal has a kind that calls nobody take what it is sent.
func checkLocal(t *testing.T, k *connect.Kind, s *Sending) {
	conn, err := k.Open(connect.Config{ID: s.Kind, Settings: s.Settings("")})
	require.NoError(t, err)
	defer conn.Close()
	assert.True(t, connect.Proved(conn.Prove(t.Context())))
	d := conn.(connect.Sender).Send(t.Context(), connect.Post{Place: s.Place, Key: "k-1", Doc: &message.Document{Title: "A"}})
	assert.True(t, d.Taken)
	assert.NotEmpty(t, d.ID)
	assert.Contains(t, d.Sent, "A")
}

// CheckSending has a kind keep to what is asked of all kinds that posts go to.
func CheckSending(t *testing.T, s *Sending) {
	k := kinds.Named(s.Kind)
	require.NotNil(t, k, "a kind called %s is listed", s.Kind)
	require.NotNil(t, k.Sends)
	if s.Local {
		checkLocal(t, k, s)
		return
	}
	line := peers.NewLine(t, s.Upstream(t))
	env, err := connect.NewEnv(value.DefaultWorkspace(), "127.0.0.0/8")
	require.NoError(t, err)
	if s.Needs != nil {
		s.Needs(t, &env)
	}
	conn, err := k.Open(connect.Config{ID: s.Kind, Settings: s.Settings(line.Address), Env: env})
	require.NoError(t, err)
	defer conn.Close()
	sender := conn.(connect.Sender)
	can := func(a connect.Ability) bool { return slices.Contains(k.Sends.Can, a) }
	post := func(title, key string) connect.Post {
		return connect.Post{Place: s.Place, Key: key, Doc: &message.Document{Title: title, Tone: "plain"}}
	}
	var first string

	t.Run("proves itself", func(t *testing.T) {
		steps := conn.Prove(t.Context())
		require.NotEmpty(t, steps)
		assert.True(t, steps[0].OK, "%+v", steps)
	})
	t.Run("lists its places", func(t *testing.T) {
		if !k.Sends.Listed() {
			t.Skip("any place may be written")
		}
		list, err := conn.Browse(t.Context())
		require.NoError(t, err)
		shut := map[string]string{}
		for _, c := range list {
			shut[c.Kind] = c.Shut
		}
		assert.Contains(t, shut, s.Place)
		assert.Empty(t, shut[s.Place])
		if s.Shut != "" {
			assert.NotEmpty(t, shut[s.Shut], "of a place that would refuse a post it is said why")
		}
	})
	t.Run("sends, and knows a repeated call as one", func(t *testing.T) {
		d := sender.Send(t.Context(), post("A", "k-1"))
		require.True(t, d.Taken, "%+v", d)
		first = d.ID
		again := sender.Send(t.Context(), post("A", "k-1"))
		assert.True(t, again.Taken, "%+v", again)
		assert.Equal(t, first, again.ID)
		assert.Equal(t, []string{"A"}, s.Titles(t))
		for _, text := range []string{d.Address, d.Sent, d.Answer, d.Raw} {
			assert.NotContains(t, text, s.Secret, "what is kept of a call holds no secret")
		}
	})
	t.Run("edits", func(t *testing.T) {
		if !can(connect.CanEdit) {
			t.Skip("it cannot")
		}
		editor := conn.(connect.Editor)
		d := editor.Edit(t.Context(), first, post("A, mended", "k-2"))
		require.True(t, d.Taken, "%+v", d)
		assert.Equal(t, []string{"A, mended"}, s.Titles(t))
		if s.Blind {
			return
		}
		d = editor.Edit(t.Context(), "999999", post("A, again", "k-3"))
		assert.False(t, d.Taken)
		assert.Equal(t, connect.InsteadPost, d.Instead, "what is gone is told anew: %+v", d)
	})
	t.Run("replies", func(t *testing.T) {
		if !can(connect.CanReply) {
			t.Skip("it cannot")
		}
		d := conn.(connect.Replier).Reply(t.Context(), first, post("A's detail", "k-4"))
		require.True(t, d.Taken, "%+v", d)
		assert.NotEqual(t, first, d.ID)
	})
	t.Run("a place that refuses it", func(t *testing.T) {
		if s.Shut == "" {
			t.Skip("there is none")
		}
		p := post("B", "k-5")
		p.Place = s.Shut
		d := sender.Send(t.Context(), p)
		assert.False(t, d.Taken)
		assert.True(t, d.Final, "%+v", d)
		assert.NotEmpty(t, d.Answer)
	})
	t.Run("what may heal, and what cannot", func(t *testing.T) {
		if s.Fail == nil {
			t.Skip("it does not speak HTTP")
		}
		defer s.Fail(0, nil)
		for _, status := range []int{408, 409, 423, 425, 429, 500, 502, 503, 504} {
			s.Fail(status, http.Header{"Retry-After": {"7"}})
			d := sender.Send(t.Context(), post("C", "k-"+strconv.Itoa(status)))
			assert.False(t, d.Taken)
			assert.False(t, d.Final, "%d may heal: %+v", status, d)
			assert.Equal(t, 7*time.Second, d.Wait)
			assert.Contains(t, d.Answer, "not now", "in the other side's words")
		}
		for _, status := range []int{301, 302, 307, 400, 401, 403, 404, 405, 410, 413, 422, 501} {
			s.Fail(status, http.Header{"Location": {"http://127.0.0.1:1/elsewhere"}})
			d := sender.Send(t.Context(), post("C", "k-"+strconv.Itoa(status)))
			assert.False(t, d.Taken)
			assert.True(t, d.Final, "%d cannot heal: %+v", status, d)
		}
	})
	t.Run("no answer, or a broken line", func(t *testing.T) {
		for _, how := range []string{peers.Reset(1), peers.Cut(10)} {
			line.Spoil(t, how)
			d := sender.Send(t.Context(), post("D", "k-d"))
			line.Mend()
			assert.False(t, d.Taken, "%+v", d)
			assert.False(t, d.Final, "%+v", d)
			assert.NotContains(t, d.Answer, "dial tcp")
		}
		d := sender.Send(t.Context(), post("D", "k-d"))
		assert.True(t, d.Taken, "%+v", d)
		assert.Equal(t, 1, count(s.Titles(t), "D"), "taken once, whatever became of the first answers")
	})
	t.Run("calls no private address unless it is allowed", func(t *testing.T) {
		guarded, err := connect.NewEnv(value.DefaultWorkspace(), "")
		require.NoError(t, err)
		if s.Needs != nil {
			s.Needs(t, &guarded)
		}
		closed, err := k.Open(connect.Config{ID: s.Kind, Settings: s.Settings(line.Address), Env: guarded})
		require.NoError(t, err)
		defer closed.Close()
		d := closed.(connect.Sender).Send(t.Context(), post("F", "k-f"))
		assert.False(t, d.Taken)
		assert.Contains(t, d.Answer, "private", "%+v", d)
		assert.NotContains(t, s.Titles(t), "F")
	})
	t.Run("stops when told to", func(t *testing.T) {
		line.Spoil(t, peers.Slow)
		defer line.Mend()
		ctx, cancel := contextFor(t, 200*time.Millisecond)
		defer cancel()
		began := time.Now()
		sender.Send(ctx, post("E", "k-e"))
		assert.Less(t, time.Since(began), stopsWithin)
	})
}
