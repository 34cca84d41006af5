package fire

import (
	"context"
	"fmt"
	"net/http"
	"os"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/pgserver"
	"dorfbote/internal/store"
)

// resident is a process's memory in MiB.
func resident(pid int) int {
	raw, _ := os.ReadFile(fmt.Sprintf("/proc/%d/status", pid))
	for line := range strings.Lines(string(raw)) {
		if rest, ok := strings.CutPrefix(line, "VmRSS:"); ok {
			kb, _ := strconv.Atoi(strings.Fields(rest)[0])
			return kb / 1024
		}
	}
	return 0
}

// As many arrivals as DORFBOTE_SOAK says, one in ten of them told: nothing lost, memory and database steady. It prints
// how it went in figures, which a noisy machine's are not to fail a test by.
func TestSoak(t *testing.T) {
	total := number("DORFBOTE_SOAK", 0)
	if total == 0 {
		t.Skip("set DORFBOTE_SOAK to how many arrivals, such as 1000000")
	}
	dir, err := os.MkdirTemp("", "dorfbote-soak-*")
	require.NoError(t, err)
	defer os.RemoveAll(dir)
	require.NoError(t, os.Chmod(dir, 0o755))
	ctx := context.Background()
	pg, err := pgserver.Start(ctx, pgserver.Options{Dir: dir + "/pg"})
	require.NoError(t, err)
	defer pg.Stop()
	st, err := store.Open(ctx, pg.URL, 6)
	require.NoError(t, err)
	defer st.Close()
	require.NoError(t, st.Migrate(ctx))
	sq := newSquare(t)
	sq.count = true
	prepare(t, st, sq.URL)
	// A partition's edge comes early, so that one is dropped on the way.
	require.NoError(t, st.DB.Exec("SELECT setval('arrivals_numbers', 900000)").Error)
	t.Setenv("DORFBOTE_FIRE_KEEP", "150000")
	all := []*process{{role: "serve", url: pg.URL, addr: freeAddr(t)}, {role: "work", url: pg.URL}}
	for _, p := range all {
		p.start(t)
		defer p.kill()
	}
	l := &load{addrs: []string{all[0].addr}, tells: 10, batch: 20, keys: 20_000, most: int64(total), stop: make(chan struct{}), client: &http.Client{Timeout: 30 * time.Second, Transport: &http.Transport{MaxIdleConnsPerHost: 64}}}
	began := time.Now()
	for range 12 {
		l.done.Add(1)
		go l.send(0)
	}
	ended := make(chan struct{})
	go func() { l.done.Wait(); close(ended) }()
	type sample struct {
		at            time.Time
		accepted      int64
		memory        int
		size, waiting int64
	}
	var samples []sample
	look := func() {
		s := sample{at: time.Now(), accepted: l.accepted.Load(), memory: resident(all[0].cmd.Process.Pid) + resident(all[1].cmd.Process.Pid)}
		_ = st.DB.Raw("SELECT pg_database_size(current_database()), (SELECT count(*) FROM posts WHERE state = 'waiting')").Row().Scan(&s.size, &s.waiting)
		samples = append(samples, s)
		t.Logf("%4.0f s: %7d accepted, %4d MiB both processes, database %5d MiB, %5d posts wait", time.Since(began).Seconds(), s.accepted, s.memory, s.size>>20, s.waiting)
	}
	tick := time.NewTicker(15 * time.Second)
	defer tick.Stop()
	for on := true; on; {
		select {
		case <-ended:
			on = false
		case <-tick.C:
			look()
		}
	}
	took := time.Since(began)
	settled(t, st, 10*time.Minute)
	look()
	assert.Equal(t, total/10, sq.distinct(), "everybody who was to be told was told")
	parts, err := st.Parts(ctx)
	require.NoError(t, err)
	assert.NotContains(t, parts, int64(0), "the old partition has gone")
	per := func(a, b sample) float64 { return float64(b.accepted-a.accepted) / b.at.Sub(a.at).Seconds() }
	if n := len(samples); n > 10 {
		t.Logf("first minute %.0f/s, last %.0f/s", per(samples[0], samples[4]), per(samples[n-6], samples[n-2]))
	}
	t.Logf("%d arrivals accepted in %.0f s (%.0f/s), all decided and %d posts delivered after %.0f s", l.accepted.Load(), took.Seconds(), float64(total)/took.Seconds(), sq.distinct(), time.Since(began).Seconds())
}
