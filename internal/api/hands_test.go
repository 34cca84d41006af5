package api_test

import (
	"bufio"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/api"
	"dorfbote/internal/api/auth"
	"dorfbote/internal/api/kit"
	"dorfbote/internal/memory"
	"dorfbote/internal/peers"
	"dorfbote/internal/store"
)

// However many guesses come at once, no more are looked at than the limit; and however many sign in at once, memory is
// bounded and whoever is right comes in.
func TestManySignInsAtOnce(t *testing.T) {
	c := start(t)
	var wrong, waits atomic.Int64
	var busy sync.WaitGroup
	for range 80 {
		busy.Go(func() {
			switch status, _ := c.stranger().call("POST", "/api/sign-in", `{"email":"a@x.example","password":"wrong"}`); status {
			case 401:
				wrong.Add(1)
			case 429:
				waits.Add(1)
			}
		})
	}
	busy.Wait()
	assert.EqualValues(t, 10, wrong.Load(), "the limit for a name from one address")
	assert.EqualValues(t, 70, waits.Load())

	const people = 150
	hash := auth.HashPassword("secret-1")
	for i := range people {
		require.NoError(t, c.st.DB.Create(&store.Person{Email: fmt.Sprintf("p%d@x.example", i), Name: "P", Role: "viewer", PasswordHash: hash, CreatedAt: time.Now()}).Error)
	}
	var in, later, other atomic.Int64
	peak := memory.Peak(func() {
		for i := range people {
			busy.Go(func() {
				for began := time.Now(); time.Since(began) < 3*time.Minute; time.Sleep(200 * time.Millisecond) {
					switch status, _ := c.stranger().call("POST", "/api/sign-in", fmt.Sprintf(`{"email":"p%d@x.example","password":"secret-1"}`, i)); status {
					case 200:
						in.Add(1)
						return
					case 503: // and comes again, more often than one may guess
						later.Add(1)
					default:
						other.Add(1)
						return
					}
				}
			})
		}
		busy.Wait()
	})
	assert.EqualValues(t, people, in.Load(), "%d were refused", other.Load())
	assert.Less(t, peak, uint64(250<<20))
	t.Logf("150 sign-ins at once: %d came in, %d times somebody was asked to come again, %d MiB in use at most", in.Load(), later.Load(), peak>>20)
}

// A viewer's proof makes this server call nobody and run nothing; it says what it would ask.
func TestAViewersProofAsksNobody(t *testing.T) {
	ed := start(t)
	ed.signIn()
	viewer := ed.as("vi", "viewer")
	var asked atomic.Int64
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { asked.Add(1); _, _ = w.Write([]byte(`{"x":1}`)) }))
	defer service.Close()
	ed.ok("POST", "/api/connections", `{"id":"shop","kind":"hook","title":"Shop"}`)
	ed.ok("POST", "/in/shop/orders", `{"id":"O-1","total":7}`)
	sheet := "dorfbote: 1\nname: Asks\nwatch: {source: shop/orders}\ngather: [{name: answer, http: {url: \"" + service.URL + "\"}}, {name: made, script: \"result = 1\"}]\nmessages: {m: {title: \"${answer.x}\"}}\nroute: {otherwise: {tell: [{to: \"square/#tours\", message: m}]}}\n"
	for _, path := range []string{"/api/proof", "/api/rehearsals"} {
		status, raw := viewer.raw("POST", path, sheetBody(sheet))
		require.Less(t, status, 300, string(raw))
	}
	out := viewer.ok("POST", "/api/proof", sheetBody(sheet))
	assert.Zero(t, asked.Load())
	gather := out["proof"].(map[string]any)["gather"].([]any)
	assert.Equal(t, "ask GET "+service.URL, gather[0].(map[string]any)["would"])
	assert.Equal(t, "run its script", gather[1].(map[string]any)["would"])
	ed.ok("POST", "/api/proof", sheetBody(sheet))
	assert.Positive(t, asked.Load(), "an editor's asks")
}

// Somebody who is let go loses the stream of events at once, and somebody who is not signed in is told so before what
// they send is read.
func TestAPersonLetGoLosesTheStream(t *testing.T) {
	c := start(t)
	c.signIn()
	admin, gone := c.as("mo", "administrator"), c.as("gone", "viewer")
	res, err := gone.http.Get(gone.base + "/api/events")
	require.NoError(t, err)
	defer res.Body.Close()
	ended := make(chan struct{})
	go func() {
		for lines := bufio.NewScanner(res.Body); lines.Scan(); {
		}
		close(ended)
	}()
	var id int64
	require.NoError(t, c.st.DB.Raw("SELECT id FROM people WHERE name = 'gone'").Scan(&id).Error)
	admin.ok("PATCH", fmt.Sprintf("/api/people/%d", id), `{"gone":true}`)
	select {
	case <-ended:
	case <-time.After(5 * time.Second):
		t.Fatal("the stream goes on")
	}
	status, out := c.stranger().call("POST", "/api/workflows", `{"not":`)
	assert.Equal(t, 401, status, "%v", out)
}

// What proxies say of where a request comes from is believed only of those that are trusted, and read from the right.
func TestWhereARequestComesFrom(t *testing.T) {
	trusted, err := kit.TrustProxies("127.0.0.1, 10.0.0.0/8")
	require.NoError(t, err)
	for _, c := range []struct {
		peer, forwardedFor, forwarded, want string
		proxies                             *kit.Proxies
	}{
		{"203.0.113.7:5", "198.51.100.1", "", "203.0.113.7", trusted},
		{"127.0.0.1:5", "198.51.100.1", "", "127.0.0.1", nil},
		{"127.0.0.1:5", "198.51.100.1", "", "198.51.100.1", trusted},
		{"127.0.0.1:5", "6.6.6.6, 198.51.100.1, 10.1.1.1", "", "198.51.100.1", trusted},
		{"127.0.0.1:5", "", `for=6.6.6.6, for=198.51.100.1;proto=https`, "198.51.100.1", trusted},
		{"127.0.0.1:5", "", `for="[2001:db8::7]:4711"`, "2001:db8::7", trusted},
		{"127.0.0.1:5", "198.51.100.1", "for=6.6.6.6", "127.0.0.1", trusted}, // one of them was passed on as it came
		{"127.0.0.1:5", "garbage", "", "127.0.0.1", trusted},
		{"127.0.0.1:5", "", "", "127.0.0.1", trusted},
	} {
		r := httptest.NewRequest(http.MethodGet, "/", nil)
		r.RemoteAddr = c.peer
		if c.forwardedFor != "" {
			r.Header.Set("X-Forwarded-For", c.forwardedFor)
		}
		if c.forwarded != "" {
			r.Header.Set("Forwarded", c.forwarded)
		}
		assert.Equal(t, c.want, c.proxies.From(r), "%+v", c)
	}
	_, err = kit.TrustProxies("the proxy")
	assert.Error(t, err)
}

// The configuration for a reverse proxy that the documentation gives works: the limits are for each person behind it, the
// stream of events comes through, and a sender's own idea of where it comes from does not.
func TestBehindAReverseProxy(t *testing.T) {
	program, err := exec.LookPath("nginx")
	if err != nil {
		if program = "/usr/sbin/nginx"; exec.Command(program, "-v").Run() != nil {
			t.Skip("nginx is not installed")
		}
	}
	proxies, err := kit.TrustProxies("127.0.0.1")
	require.NoError(t, err)
	c := startWith(t, func(o *api.Options) { o.Proxies = proxies })
	raw, err := os.ReadFile("../../docs/reverse-proxy.conf")
	require.NoError(t, err)
	dir, port := t.TempDir(), peers.FreePort(t)
	require.NoError(t, os.Chmod(dir, 0o755))
	text := strings.ReplaceAll(string(raw), "127.0.0.1:8470", strings.TrimPrefix(c.base, "http://"))
	text = strings.ReplaceAll(text, "listen 80;", fmt.Sprintf("listen 127.0.0.1:%d;", port))
	text = fmt.Sprintf("daemon off; master_process off; pid %s/pid; error_log stderr;\nevents {}\nhttp {\naccess_log off; client_body_temp_path %s/a; proxy_temp_path %s/b; fastcgi_temp_path %s/c; uwsgi_temp_path %s/d; scgi_temp_path %s/e;\n%s\n}\n", dir, dir, dir, dir, dir, dir, text)
	config := filepath.Join(dir, "nginx.conf")
	require.NoError(t, os.WriteFile(config, []byte(text), 0o644))
	cmd := exec.Command(program, "-c", config, "-p", dir)
	cmd.Stderr = os.Stderr
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	through := c.stranger()
	through.base = fmt.Sprintf("http://127.0.0.1:%d", port)
	require.Eventually(t, func() bool {
		res, err := http.Get(through.base + "/healthz")
		if err == nil {
			res.Body.Close()
		}
		return err == nil && res.StatusCode == http.StatusOK
	}, 5*time.Second, 50*time.Millisecond)
	through.ok("POST", "/api/sign-in", `{"email":"a@x.example","password":"secret-1"}`)
	var address string
	require.NoError(t, c.st.DB.Raw("SELECT address FROM sign_ins ORDER BY id DESC LIMIT 1").Scan(&address).Error)
	assert.Equal(t, "127.0.0.1", address, "the proxy's caller, on this machine")
	status, _ := (&client{t, &http.Client{}, through.base, c.st, c.folder}).call("POST", "/api/sign-in", `{"email":"a@x.example","password":"secret-1"}`, "Forwarded", "for=6.6.6.6", "X-Forwarded-For", "6.6.6.6")
	require.Equal(t, 200, status)
	require.NoError(t, c.st.DB.Raw("SELECT address FROM sign_ins ORDER BY id DESC LIMIT 1").Scan(&address).Error)
	assert.Equal(t, "127.0.0.1", address, "what a sender says of itself is not believed")
	status, _ = through.raw("GET", "/metrics", "")
	assert.Equal(t, 401, status, "metrics are not for whoever comes through the proxy")
	res, err := through.http.Get(through.base + "/api/events")
	require.NoError(t, err)
	line, err := bufio.NewReader(res.Body).ReadString('\n')
	require.NoError(t, err)
	assert.Equal(t, ": here\n", line, "the stream is not held back")
	res.Body.Close()
}
