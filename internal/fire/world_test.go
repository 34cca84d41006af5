package fire

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"dorfbote/internal/api"
	"dorfbote/internal/connect"
	"dorfbote/internal/core/value"
	"dorfbote/internal/engine"
	"dorfbote/internal/engine/intake"
	"dorfbote/internal/notify"
	"dorfbote/internal/seal"
	"dorfbote/internal/store"
)

// The test binary is also the processes that are killed.
const roleEnv, urlEnv, addrEnv = "DORFBOTE_FIRE_ROLE", "DORFBOTE_FIRE_URL", "DORFBOTE_FIRE_ADDR"

func TestMain(m *testing.M) {
	if role := os.Getenv(roleEnv); role != "" {
		if err := play(role); err != nil {
			fmt.Fprintln(os.Stderr, role, err)
			// PostgreSQL is killed at any moment, so also while a process begins. It ends, saying why; whatever watches over
			// processes starts it again, and so does this.
			time.Sleep(200 * time.Millisecond)
			fmt.Fprintln(os.Stderr, role, syscall.Exec(os.Args[0], os.Args, os.Environ()))
			os.Exit(1)
		}
		return
	}
	os.Exit(m.Run())
}

// fireKey is what the secrets of these tests are sealed by: made once, and handed on to every process of a fire.
var fireKey = sync.OnceValue(func() []byte {
	if key := os.Getenv("DORFBOTE_FIRE_KEY"); key != "" {
		return []byte(key)
	}
	key, err := seal.NewKey()
	if err == nil {
		err = os.Setenv("DORFBOTE_FIRE_KEY", string(key))
	}
	if err != nil {
		panic(err)
	}
	return key
})

func play(role string) error {
	ctx := context.Background()
	st, err := store.Open(ctx, os.Getenv(urlEnv), 10)
	for i := 0; err != nil && i < 100; i++ { // PostgreSQL has just been killed; whatever watches over processes starts them again
		time.Sleep(200 * time.Millisecond)
		st, err = store.Open(ctx, os.Getenv(urlEnv), 10)
	}
	if err != nil {
		return err
	}
	ws := value.DefaultWorkspace()
	level := slog.LevelError + 4 // kills make noise
	if os.Getenv("DORFBOTE_FIRE_LOG") != "" {
		level = slog.LevelInfo
	}
	e, err := engine.New(st, ws, slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: level})))
	if err != nil {
		return err
	}
	if e.Env, err = connect.NewEnv(ws, "127.0.0.0/8"); err != nil {
		return err
	}
	if e.Box, err = seal.New(fireKey()); err != nil {
		return err
	}
	e.Env.Base = os.Getenv("DORFBOTE_FIRE_BASE")
	if keep := os.Getenv("DORFBOTE_FIRE_KEEP"); keep != "" {
		n, _ := strconv.ParseInt(keep, 10, 64)
		e.Upkeep.Keep, e.Upkeep.Every = store.Keep{Arrivals: n}, 20*time.Second
	}
	if role == "work" {
		if err := e.Start(ctx); err != nil {
			return err
		}
		fmt.Println("up")
		select {}
	}
	l, err := net.Listen("tcp", os.Getenv(addrEnv))
	if err != nil {
		return err
	}
	s, err := api.New(api.Options{
		Engine: e, Intake: intake.New(ctx, e.Writer), Hub: notify.NewHub(ctx, e.Store.Pool, e.Log), Log: e.Log,
		Web: fstest.MapFS{"index.html": {Data: []byte("<html></html>")}},
	})
	if err != nil {
		return err
	}
	fmt.Println("up")
	return http.Serve(l, s.Handler())
}

// process is one that may be killed and started again.
type process struct {
	role, url, addr string
	cmd             *exec.Cmd
	up              chan struct{} // closed once it says that it is
}

func (p *process) start(t testing.TB) {
	p.cmd = exec.Command(os.Args[0])
	p.cmd.Env = append(os.Environ(), roleEnv+"="+p.role, urlEnv+"="+p.url, addrEnv+"="+p.addr)
	p.cmd.Stderr = os.Stderr
	p.cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
	out, err := p.cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, p.cmd.Start())
	up := make(chan struct{})
	p.up = up
	go func() {
		if _, err := bufio.NewReader(out).ReadString('\n'); err == nil {
			close(up)
		}
		_, _ = io.Copy(io.Discard, out)
	}()
}

func (p *process) kill() {
	if p.cmd != nil && p.cmd.Process != nil {
		_ = p.cmd.Process.Kill()
		_ = p.cmd.Wait()
	}
}

// square is a chat that notes every call. It does not honour keys itself; from what it notes can be told what one
// that does would have kept.
type square struct {
	*httptest.Server
	mu     sync.Mutex
	calls  []call
	answer func(c *call) (status int, retryAfter time.Duration)
	count  bool // note only the titles, for very many
	titles map[string]struct{}
	spoil  func() spoilt        // what is wrong with the next call; nil is nothing
	wrong  int                  // calls that something was wrong with
	early  int                  // calls before a time that was asked for
	until  map[string]time.Time // by channel
}

// spoilt is what goes wrong with a call.
type spoilt int

const (
	answers   spoilt = iota // nothing
	fails                   // 500, and the post is not taken
	hesitates               // it is taken, after a while
	hangsUp                 // it is taken, and the answer is lost
)

// spoiled is how many calls something was wrong with.
func (s *square) spoiled() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.wrong
}

type call struct {
	key, channel, title string
	buttons             map[string]string // addresses to be called, by their words
	at                  time.Time
	status              int
}

func newSquare(t testing.TB) *square {
	s := &square{}
	s.Server = httptest.NewServer(s)
	t.Cleanup(s.Close)
	return s
}

func (s *square) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if r.Method == http.MethodGet { // it does not say which channels it has
		http.NotFound(w, r)
		return
	}
	var p struct {
		Title, Channel string
		Buttons        []struct{ Text, Call string }
	}
	_ = json.NewDecoder(r.Body).Decode(&p)
	how := answers
	if s.spoil != nil {
		how = s.spoil()
	}
	if how == hesitates {
		time.Sleep(300 * time.Millisecond)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if how != answers {
		s.wrong++
	}
	if how == fails {
		w.WriteHeader(http.StatusInternalServerError)
		return
	}
	c := call{key: r.Header.Get("Idempotency-Key"), channel: p.Channel, title: p.Title, at: time.Now(), status: http.StatusCreated}
	for _, b := range p.Buttons {
		if c.buttons == nil {
			c.buttons = map[string]string{}
		}
		c.buttons[b.Text] = b.Call
	}
	if c.at.Before(s.until[c.channel]) {
		s.early++
	}
	if s.answer != nil {
		var wait time.Duration
		if c.status, wait = s.answer(&c); wait > 0 {
			w.Header().Set("Retry-After", strconv.FormatFloat(wait.Seconds(), 'f', 3, 64))
			if s.until == nil {
				s.until = map[string]time.Time{}
			}
			s.until[c.channel] = c.at.Add(wait)
		}
	}
	if s.count {
		if s.titles == nil {
			s.titles = map[string]struct{}{}
		}
		s.titles[c.title] = struct{}{}
	} else {
		s.calls = append(s.calls, c)
	}
	if how == hangsUp {
		if conn, _, err := w.(http.Hijacker).Hijack(); err == nil {
			_ = conn.Close()
			return
		}
	}
	w.WriteHeader(c.status)
	_, _ = fmt.Fprintf(w, `{"id":"%d"}`, len(s.calls))
}

// distinct is how many different posts were taken.
func (s *square) distinct() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.titles)
}

func (s *square) taken() []call {
	s.mu.Lock()
	defer s.mu.Unlock()
	var out []call
	for _, c := range s.calls {
		if c.status == http.StatusCreated {
			out = append(out, c)
		}
	}
	return out
}

const sheetText = `dorfbote: 1
name: Fire
watch: {source: tours/collections}
keep: {field: litres, above: 500}
messages: {alert: {title: "${record.no}", body: "${record.litres} litres"}}
route:
  take: first
  rows:
    - {name: Upper, when: {field: valley, is: Upper}, tell: [{to: "square/#tours", message: alert}]}
  otherwise: {tell: [{to: "square/#board", message: alert}]}
`

// prepare fills a database with one hook, one chat of two channels and one workflow that is on.
func prepare(t testing.TB, st *store.Store, chat string) { prepareWith(t, st, chat, sheetText) }

func prepareWith(t testing.TB, st *store.Store, chat, sheetText string) {
	db := st.DB
	require.NoError(t, db.Create(&store.Connection{ID: "tours", Kind: "hook", Title: "Tours", KeyField: "id", CreatedAt: time.Now()}).Error)
	require.NoError(t, db.Create(&store.Connection{ID: "square", Kind: "chat", Title: "Square", Settings: store.Texts{"address": chat}, CreatedAt: time.Now()}).Error)
	for _, name := range []string{"#tours", "#board"} {
		require.NoError(t, db.Create(&store.Destination{Name: "square/" + name, Connection: "square", Title: name}).Error)
	}
	w := store.Workflow{Name: "Fire", Draft: sheetText, CreatedAt: time.Now(), UpdatedAt: time.Now()}
	require.NoError(t, db.Create(&w).Error)
	_, err := st.SwitchOn(context.Background(), w.ID, store.SwitchedOn{Sheet: sheetText, Source: "tours/collections", Since: -1}, func(*gorm.DB, *store.Workflow) error { return nil })
	require.NoError(t, err)
}

func freeAddr(t testing.TB) string {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	return l.Addr().String()
}

// load sends arrivals until it is stopped, each until somebody has accepted it.
type load struct {
	addrs    []string
	tells    int // of a hundred
	batch    int
	accepted atomic.Int64
	telling  sync.Map // ids that somebody is to be told of
	refused  atomic.Int64
	no503    atomic.Int64 // answers of 503 without Retry-After
	slowest  atomic.Int64 // answer, in milliseconds
	next     atomic.Int64
	stop     chan struct{}
	done     sync.WaitGroup
	keys     int64 // how many records there are; 0 makes each arrival one of its own
	most     int64 // stops by itself after so many; 0 does not
	client   *http.Client
}

func newLoad(addrs []string, senders, batch, tells int, pause time.Duration) *load {
	l := &load{addrs: addrs, tells: tells, batch: batch, stop: make(chan struct{}), client: &http.Client{Timeout: 20 * time.Second, Transport: &http.Transport{MaxIdleConnsPerHost: 64}}}
	for range senders {
		l.done.Add(1)
		go l.send(pause)
	}
	return l
}

func (l *load) send(pause time.Duration) {
	defer l.done.Done()
	for {
		select {
		case <-l.stop:
			return
		default:
		}
		first := l.next.Add(int64(l.batch)) - int64(l.batch)
		if l.most > 0 && first >= l.most {
			return
		}
		var b strings.Builder
		b.WriteByte('[')
		for i := range l.batch {
			id, litres, valley := first+int64(i), 100, "Upper"
			if int(id%100) < l.tells {
				litres = 900
				l.telling.Store(fmt.Sprintf("C-%d", id), true)
			}
			if id%2 == 0 {
				valley = "Mill"
			}
			key := id
			if l.keys > 0 {
				key = id % l.keys
			}
			if i > 0 {
				b.WriteByte(',')
			}
			fmt.Fprintf(&b, `{"specversion":"1.0","id":"a-%d","source":"tours/collections","type":"dorfbote.record.updated","time":"2026-11-20T06:41:07Z","subject":"C-%d","data":{"record":{"id":"C-%d","no":"C-%d","litres":%d,"valley":%q}}}`, id, key, key, id, litres, valley)
		}
		b.WriteByte(']')
		for !l.try(b.String()) {
			time.Sleep(20 * time.Millisecond)
		}
		l.accepted.Add(int64(l.batch))
		if pause > 0 {
			time.Sleep(pause)
		}
	}
}

func (l *load) try(body string) bool {
	began := time.Now()
	res, err := l.client.Post("http://"+l.addrs[rand.IntN(len(l.addrs))]+"/in/tours", "application/cloudevents-batch+json", strings.NewReader(body))
	took := time.Since(began).Milliseconds()
	for {
		was := l.slowest.Load()
		if took <= was || l.slowest.CompareAndSwap(was, took) {
			break
		}
	}
	if err != nil {
		return false
	}
	_, _ = io.Copy(io.Discard, res.Body)
	res.Body.Close()
	if res.StatusCode == http.StatusServiceUnavailable {
		l.refused.Add(1)
		if res.Header.Get("Retry-After") == "" {
			l.no503.Add(1)
		}
	}
	return res.StatusCode == http.StatusAccepted
}

func (l *load) end() {
	close(l.stop)
	l.done.Wait()
}
