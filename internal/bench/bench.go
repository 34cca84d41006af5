// Package bench measures Dorfbote beside plain yardsticks, in one run on one machine.
package bench

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"text/tabwriter"
	"time"

	"github.com/jackc/pgx/v5/pgxpool"
	"gorm.io/gorm"

	"dorfbote/internal/pgserver"
	"dorfbote/internal/store"
)

// Row is one figure.
type Row struct{ What, Value, Beside string }

func num(f float64) string {
	if f >= 1000 {
		return strconv.FormatFloat(f/1000, 'f', 1, 64) + " k"
	}
	return strconv.FormatFloat(f, 'f', 0, 64)
}

func ratio(f float64) string { return strconv.FormatFloat(f, 'f', 2, 64) + " times" }

func ms(d time.Duration) string {
	return strconv.FormatFloat(float64(d.Microseconds())/1000, 'f', 1, 64) + " ms"
}

// Options say how long to measure, and which program serves.
type Options struct {
	Program string // the dorfbote binary
	Each    time.Duration
	Clients int
	Telling bool // measure only how posts go to webhooks and by mail
	Alerts  bool // measure only what comes after alerts
}

// Run measures everything and prints a table.
func Run(ctx context.Context, out io.Writer, o Options) error {
	if o.Telling || o.Alerts {
		return ownPostgres(ctx, func(_, url string) (err error) {
			var rows []Row
			if o.Telling {
				rows, err = measureElsewhere(ctx, url)
			} else {
				err = withSquare(ctx, url, func(st *store.Store, _ *square) (err error) {
					rows, err = measureAlerts(ctx, o, st, url)
					return err
				})
			}
			if err != nil {
				return err
			}
			return table(out, rows)
		})
	}
	rows := measureCore()
	more, err := measureSheets()
	if err != nil {
		return err
	}
	rows = append(rows, more...)
	var live []Row
	err = ownPostgres(ctx, func(dir, url string) error {
		return withSquare(ctx, url, func(st *store.Store, sq *square) (err error) {
			live, err = measureLive(ctx, o, dir, url, st, sq)
			return err
		})
	})
	if err != nil {
		return err
	}
	return table(out, append(rows, live...))
}

func table(out io.Writer, rows []Row) error {
	w := tabwriter.NewWriter(out, 0, 4, 2, ' ', 0)
	for _, r := range rows {
		fmt.Fprintf(w, "%s\t%s\t%s\n", r.What, r.Value, r.Beside)
	}
	return w.Flush()
}

// ownPostgres has something done on a PostgreSQL of its own, in a folder that is gone afterwards.
func ownPostgres(ctx context.Context, do func(dir, url string) error) error {
	dir, err := os.MkdirTemp("", "dorfbote-bench-*")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	if err := os.Chmod(dir, 0o755); err != nil {
		return err
	}
	pg, err := pgserver.Start(ctx, pgserver.Options{Dir: filepath.Join(dir, "pg")})
	if err != nil {
		return err
	}
	defer pg.Stop()
	return do(dir, pg.URL)
}

// withSquare opens a database, and has something done in it with a square to tell and a workflow that tells it.
func withSquare(ctx context.Context, url string, do func(st *store.Store, sq *square) error) error {
	st, err := store.Open(ctx, url, 8)
	if err != nil {
		return err
	}
	defer st.Close()
	sq := &square{at: map[string]time.Time{}}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	defer l.Close()
	go func() { _ = http.Serve(l, sq) }()
	if err := prepare(ctx, st, "http://"+l.Addr().String()); err != nil {
		return err
	}
	return do(st, sq)
}

// square is a chat that notes when each title came.
type square struct {
	mu  sync.Mutex
	at  map[string]time.Time
	ids atomic.Int64
}

func (s *square) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if r.Method == http.MethodGet { // it does not say which channels it has
		http.NotFound(w, r)
		return
	}
	var p struct{ Title string }
	_ = json.NewDecoder(r.Body).Decode(&p)
	now := time.Now()
	s.mu.Lock()
	s.at[p.Title] = now
	s.mu.Unlock()
	w.WriteHeader(http.StatusCreated)
	_, _ = fmt.Fprintf(w, `{"id":"%d"}`, s.ids.Add(1))
}

const liveSheet = `dorfbote: 1
name: Bench
watch: {source: bench/orders, when: {field: status, became: late}}
keep: {field: litres, above: 500}
messages: {alert: {title: "${record.id}", body: "${record.litres} litres"}}
route: {otherwise: {tell: [{to: "square/#tours", message: alert}]}}
`

func measureLive(ctx context.Context, o Options, dir, url string, st *store.Store, sq *square) ([]Row, error) {
	bare, stopBare, err := spawn(ctx, o.Program, url, "bench-bare")
	if err != nil {
		return nil, err
	}
	plain := load(ctx, o, bare.address, func(n int64) []byte { return body(n, "planned") })
	stopBare()
	serve, stop, err := spawn(ctx, o.Program, url, "serve", "--work")
	if err != nil {
		return nil, err
	}
	defer stop()
	rest := rss(serve.pid)
	single, err := latency(ctx, serve.address, sq, 200, 0)
	if err != nil {
		return nil, err
	}
	paced, err := latency(ctx, serve.address, sq, 1000, 10*time.Millisecond)
	if err != nil {
		return nil, err
	}
	taken := load(ctx, o, serve.address+"/in/bench/orders", func(n int64) []byte { return body(n, "planned") })
	under := rss(serve.pid)
	more, err := measurePolls(ctx, o, url, dir)
	if err != nil {
		return nil, err
	}
	late, err := measureTimers(ctx, st)
	if err != nil {
		return nil, err
	}
	stop()
	after, err := measureAlerts(ctx, o, st, url)
	if err != nil {
		return nil, err
	}
	telling, err := measureElsewhere(ctx, url)
	if err != nil {
		return nil, err
	}
	sustained, err := measureSustained(ctx, o, url, sq, plain)
	if err != nil {
		return nil, err
	}
	return append([]Row{
		{fmt.Sprintf("intake: arrivals accepted a second, %d clients", o.Clients), num(taken), "bare handler, one durable insert each: " + num(plain)},
		{"intake: against the bare handler", ratio(taken / plain), "goal at least 1.5"},
		{"POST to post in the square, one at a time, p50 and p99", ms(quantile(single, .5)) + ", " + ms(quantile(single, .99)), "goal 20 ms, 150 ms"},
		{"POST to post in the square, 100 a second, p50 and p99", ms(quantile(paced, .5)) + ", " + ms(quantile(paced, .99)), "goal 20 ms, 150 ms"},
		{"memory of the server at rest and after the intake run", rest + ", " + under, ""},
	}, slices.Concat(more, []Row{late}, after, telling, sustained)...), nil
}

func body(n int64, status string) []byte {
	return fmt.Appendf(nil, `{"id":"ORD-%d","customer":"Gasthof","litres":%d,"status":%q,"valley":"Upper","driver":"Petra","due":"2026-11-20T05:20:00Z"}`, n%5000, 900+n%7, status)
}

func prepare(ctx context.Context, st *store.Store, chat string) error {
	if err := st.Migrate(ctx); err != nil {
		return err
	}
	db := st.DB.WithContext(ctx)
	w := store.Workflow{Name: "Bench", Draft: liveSheet, CreatedAt: time.Now(), UpdatedAt: time.Now()}
	for _, row := range []any{
		&store.Connection{ID: "bench", Kind: "hook", Title: "Bench", KeyField: "id", CreatedAt: time.Now()},
		&store.Connection{ID: "square", Kind: "chat", Title: "Square", Settings: store.Texts{"address": chat}, CreatedAt: time.Now()},
		&store.Destination{Name: "square/#tours", Connection: "square", Title: "#tours"}, &w,
	} {
		if err := db.Create(row).Error; err != nil {
			return err
		}
	}
	_, err := st.SwitchOn(ctx, w.ID, store.SwitchedOn{Sheet: liveSheet, Source: "bench/orders", Since: -1}, func(*gorm.DB, *store.Workflow) error { return nil })
	return err
}

type process struct {
	address string
	pid     int
}

// spawn starts the program as a server of its own on a free port and waits until it answers.
func spawn(ctx context.Context, program, database string, args ...string) (*process, func(), error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, nil, err
	}
	addr := l.Addr().String()
	_ = l.Close()
	cmd := started(ctx, program, database, args...)
	cmd.Env = append(cmd.Env, "DORFBOTE_ADDR="+addr)
	if err := cmd.Start(); err != nil {
		return nil, nil, err
	}
	stop := sync.OnceFunc(func() { _ = cmd.Process.Signal(os.Interrupt); _ = cmd.Wait() })
	for range 200 {
		if res, err := http.Get("http://" + addr + "/healthz"); err == nil {
			_ = res.Body.Close()
			time.Sleep(300 * time.Millisecond)
			return &process{"http://" + addr, cmd.Process.Pid}, stop, nil
		}
		time.Sleep(50 * time.Millisecond)
	}
	stop()
	return nil, nil, fmt.Errorf("%s %v did not answer", program, args)
}

// started is the program with what it needs to know.
func started(ctx context.Context, program, database string, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, program, args...)
	cmd.Env = append(os.Environ(), "DORFBOTE_DATABASE_URL="+database, "DORFBOTE_LOG=warn", "DORFBOTE_ALLOW_PRIVATE=127.0.0.0/8", "DORFBOTE_KEY_FILE="+filepath.Join(os.TempDir(), "dorfbote-bench.key"))
	cmd.Stderr = os.Stderr
	return cmd
}

// worker starts the program as a worker.
func worker(ctx context.Context, program, database string) (stop func(), err error) {
	cmd := started(ctx, program, database, "work")
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	time.Sleep(time.Second)
	return func() { _ = cmd.Process.Signal(os.Interrupt); _ = cmd.Wait() }, nil
}

// load posts from many clients for a while and gives the accepted a second.
func load(ctx context.Context, o Options, address string, body func(int64) []byte) float64 {
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: o.Clients}, Timeout: 20 * time.Second}
	var n, accepted atomic.Int64
	var wg sync.WaitGroup
	began := time.Now()
	for range o.Clients {
		wg.Go(func() {
			for time.Since(began) < o.Each && ctx.Err() == nil {
				res, err := client.Post(address, "application/json", bytes.NewReader(body(n.Add(1))))
				if err != nil {
					continue
				}
				_, _ = io.Copy(io.Discard, res.Body)
				_ = res.Body.Close()
				if res.StatusCode == http.StatusAccepted {
					accepted.Add(1)
				}
			}
		})
	}
	wg.Wait()
	return float64(accepted.Load()) / time.Since(began).Seconds()
}

// latency posts records that become late, paced, and gives how long each took to stand in the square.
func latency(ctx context.Context, address string, sq *square, count int, pace time.Duration) ([]time.Duration, error) {
	client := &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 64}}
	sent := map[string]time.Time{}
	var mu sync.Mutex
	var wg sync.WaitGroup
	run := fmt.Sprintf("L%d-%d", count, time.Now().UnixNano())
	post := func(id string) {
		raw := fmt.Appendf(nil, `{"id":%q,"litres":900,"status":"late"}`, id)
		mu.Lock()
		sent[id] = time.Now()
		mu.Unlock()
		if res, err := client.Post(address+"/in/bench/orders", "application/json", bytes.NewReader(raw)); err == nil {
			_ = res.Body.Close()
		}
	}
	arrived := func(id string) bool {
		sq.mu.Lock()
		defer sq.mu.Unlock()
		_, ok := sq.at[id]
		return ok
	}
	wait := func(id string) error {
		end := time.Now().Add(30 * time.Second)
		for !arrived(id) {
			if time.Now().After(end) || ctx.Err() != nil {
				return fmt.Errorf("%s never stood in the square", id)
			}
			time.Sleep(200 * time.Microsecond)
		}
		return nil
	}
	tick := time.Now()
	for i := range count {
		id := fmt.Sprintf("%s-%d", run, i)
		if pace == 0 {
			post(id)
			if err := wait(id); err != nil {
				return nil, err
			}
			continue
		}
		wg.Go(func() { ; post(id) })
		tick = tick.Add(pace)
		time.Sleep(time.Until(tick))
	}
	wg.Wait()
	var out []time.Duration
	for id, at := range sent {
		if err := wait(id); err != nil {
			return nil, err
		}
		sq.mu.Lock()
		out = append(out, sq.at[id].Sub(at))
		sq.mu.Unlock()
	}
	slices.Sort(out)
	return out, nil
}

func quantile(sorted []time.Duration, q float64) time.Duration {
	if len(sorted) == 0 {
		return 0
	}
	return sorted[min(int(q*float64(len(sorted))), len(sorted)-1)]
}

// rss is a process's resident memory.
func rss(pid int) string {
	raw, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	for line := range strings.Lines(string(raw)) {
		if rest, ok := strings.CutPrefix(line, "VmRSS:"); ok {
			kb, _ := strconv.Atoi(strings.Fields(rest)[0])
			return fmt.Sprintf("%d MiB", kb/1024)
		}
	}
	return "unknown"
}

// Bare is the yardstick for intake: every request is one durable insert.
func Bare(ctx context.Context, database string, l net.Listener) error {
	pool, err := pgxpool.New(ctx, database)
	if err != nil {
		return err
	}
	defer pool.Close()
	if _, err := pool.Exec(ctx, "CREATE TABLE IF NOT EXISTS bare (id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY, data jsonb NOT NULL)"); err != nil {
		return err
	}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /healthz", func(http.ResponseWriter, *http.Request) {})
	mux.HandleFunc("POST /", func(w http.ResponseWriter, r *http.Request) {
		raw, err := io.ReadAll(r.Body)
		if err == nil {
			_, err = pool.Exec(r.Context(), "INSERT INTO bare (data) VALUES ($1)", string(raw))
		}
		if err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
			return
		}
		w.WriteHeader(http.StatusAccepted)
	})
	srv := &http.Server{Handler: mux, ReadHeaderTimeout: 10 * time.Second}
	go func() { <-ctx.Done(); _ = srv.Close() }()
	if err := srv.Serve(l); err != http.ErrServerClosed {
		return err
	}
	return nil
}
