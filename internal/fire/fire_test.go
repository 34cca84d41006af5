package fire

import (
	"context"
	"errors"
	"math/rand/v2"
	"net/http"
	"os"
	"strconv"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/time/rate"

	"dorfbote/internal/pgserver"
	"dorfbote/internal/store"
	"dorfbote/internal/testdb"
)

func number(name string, fallback int) int {
	if n, err := strconv.Atoi(os.Getenv(name)); err == nil {
		return n
	}
	return fallback
}

// settled waits until everything that was accepted is decided and told.
func settled(t *testing.T, st *store.Store, within time.Duration) {
	t.Helper()
	require.Eventually(t, func() bool {
		var open int64
		err := st.DB.Raw(`SELECT (SELECT count(*) FROM posts WHERE state = 'waiting')
			+ (SELECT count(*) FROM marks m JOIN arrivals a ON a.source = m.source AND a.seq > m.seq)`).Scan(&open).Error
		return err == nil && open == 0
	}, within, 100*time.Millisecond, "not everything was decided and told")
}

// told compares what the square was told with what was accepted, and gives how many calls were repeated.
func told(t *testing.T, st *store.Store, sq *square, l *load) (repeated int) {
	t.Helper()
	var row struct{ Arrivals, Distinct, Verdicts int64 }
	require.NoError(t, st.DB.Raw(`SELECT count(*) AS arrivals, count(DISTINCT id) AS distinct, (SELECT count(*) FROM verdicts) AS verdicts FROM arrivals`).Scan(&row).Error)
	assert.Equal(t, l.accepted.Load(), row.Arrivals, "every accepted arrival is there, once")
	assert.Equal(t, row.Arrivals, row.Distinct)
	assert.Equal(t, row.Arrivals, row.Verdicts, "each is decided once")
	expect := map[string]bool{}
	l.telling.Range(func(id, _ any) bool { expect[id.(string)] = true; return true })
	keys, first := map[string]map[string]int{}, map[string]string{}
	var order = map[string][]string{}
	for _, c := range sq.taken() {
		if keys[c.title] == nil {
			keys[c.title] = map[string]int{}
		}
		if keys[c.title][c.key]++; keys[c.title][c.key] > 1 {
			repeated++
			continue
		}
		first[c.key] = c.title
		order[c.channel] = append(order[c.channel], c.key)
	}
	for id := range expect {
		if !assert.Len(t, keys[id], 1, "%s is told under one key", id) {
			break
		}
	}
	assert.Len(t, keys, len(expect), "nobody is told of anything else")
	for channel, got := range order { // in the order of the outbox, for each channel
		var want []string
		require.NoError(t, st.DB.Raw("SELECT key FROM posts WHERE destination = ? ORDER BY id", "square/"+channel).Scan(&want).Error)
		assert.Equal(t, want, got, channel)
		var swapped int64
		require.NoError(t, st.DB.Raw("SELECT count(*) FROM (SELECT arrival, lag(arrival) OVER (ORDER BY id) AS before FROM posts WHERE destination = ?) x WHERE before > arrival", "square/"+channel).Scan(&swapped).Error)
		assert.Zero(t, swapped, "posts to %s are not in the order of arrival", channel)
	}
	late, err := st.Behind(context.Background(), 0)
	require.NoError(t, err)
	assert.Empty(t, late, "never decided")
	return repeated
}

// ownPostgres starts a PostgreSQL that waits for the disk, as the tests' shared one does not, and may be killed.
func ownPostgres(t *testing.T, dir string) *pgserver.Server {
	require.NoError(t, os.Chmod(dir, 0o755))
	pg, err := pgserver.Start(context.Background(), pgserver.Options{Dir: dir + "/pg"})
	if errors.Is(err, pgserver.ErrMissing) {
		t.Skip(err)
	}
	require.NoError(t, err)
	return pg
}

func startAgain(t *testing.T, pg *pgserver.Server, dir string) *pgserver.Server {
	again, err := pgserver.Start(context.Background(), pgserver.Options{Dir: dir + "/pg", Port: pg.Port()})
	require.NoError(t, err)
	return again
}

func temporary(t *testing.T) string {
	dir, err := os.MkdirTemp("", "dorfbote-fire-*")
	require.NoError(t, err)
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	return dir
}

// begin prepares a database with a workflow that tells the square, and has servers and then workers work on it.
func begin(t *testing.T, url string, servers, workers int) (*square, []*process) {
	t.Helper()
	sq := newSquare(t)
	return sq, beginWith(t, url, servers, workers, func(st *store.Store) { prepare(t, st, sq.URL) })
}

// beginWith prepares a database, and has servers and then workers work on it.
func beginWith(t *testing.T, url string, servers, workers int, prepare func(st *store.Store)) []*process {
	t.Helper()
	st, err := store.Open(context.Background(), url, 6)
	require.NoError(t, err)
	defer st.Close()
	require.NoError(t, st.Migrate(context.Background()))
	prepare(st)
	var all []*process
	for range servers {
		all = append(all, &process{role: "serve", url: url, addr: freeAddr(t)})
	}
	for range workers {
		all = append(all, &process{role: "work", url: url})
	}
	for _, p := range all {
		p.start(t)
		t.Cleanup(p.kill)
	}
	for _, p := range all { // so that what is killed later is killed while it works
		select {
		case <-p.up:
		case <-time.After(60 * time.Second):
			require.FailNow(t, "a process did not begin", p.role)
		}
	}
	return all
}

// Servers, workers and PostgreSQL, whole or a part of it, are killed at random moments under load, while the channels fail,
// hesitate or do not answer six calls in a hundred. Everything that was accepted is decided once and told, in the order of
// arrival; a channel that honours the key is told once.
func TestKilledAtAnyMoment(t *testing.T) {
	if testing.Short() {
		t.Skip("kills take their time")
	}
	rounds := number("DORFBOTE_FIRE_ROUNDS", 20)
	dir := temporary(t)
	pg := ownPostgres(t, dir)
	defer func() { pg.Stop() }()
	sq, all := begin(t, pg.URL, 2, 3)
	sq.spoil = func() spoilt {
		switch n := rand.IntN(100); {
		case n < 2:
			return fails
		case n < 4:
			return hesitates
		case n < 6:
			return hangsUp
		}
		return answers
	}
	l := newLoad([]string{all[0].addr, all[1].addr}, 8, 4, 30, 10*time.Millisecond)
	l.keys = 200
	killed := map[string]int{}
	for i := range rounds {
		time.Sleep(time.Duration(50+rand.IntN(500)) * time.Millisecond)
		if i%5 == 4 {
			what := i / 5 % 3
			killed[[]string{"postgresql", "postmaster", "backend"}[what]]++
			pg.Kill(what)
			if what != pgserver.KillBackend {
				time.Sleep(time.Duration(rand.IntN(800)) * time.Millisecond)
				pg = startAgain(t, pg, dir)
			}
			time.Sleep(time.Second)
			continue
		}
		p := all[rand.IntN(len(all))]
		p.kill()
		killed[p.role]++
		p.start(t)
	}
	time.Sleep(time.Second)
	l.end()
	st, err := store.Open(context.Background(), pg.URL, 6)
	require.NoError(t, err)
	defer st.Close()
	settled(t, st, 120*time.Second)
	repeated := told(t, st, sq, l)
	t.Logf("%d kills (%v): %d arrivals accepted, %d posts, %d calls repeated under the same key, %d spoilt", rounds, killed, l.accepted.Load(), len(sq.taken())-repeated, repeated, sq.spoiled())
}

// PostgreSQL is killed right after it was said that events are taken in, while workers live on: what was accepted is
// decided all the same.
func TestAcceptedIsDecidedWhateverIsKilled(t *testing.T) {
	if testing.Short() {
		t.Skip("kills take their time")
	}
	rounds := number("DORFBOTE_FIRE_KILLS", 6)
	dir := temporary(t)
	pg := ownPostgres(t, dir)
	defer func() { pg.Stop() }()
	sq, all := begin(t, pg.URL, 1, 1)
	var total int64
	l := &load{addrs: []string{all[0].addr}, tells: 100, batch: 1, client: &http.Client{Timeout: 20 * time.Second}}
	for i := range rounds {
		l.most, l.stop = l.next.Load()+24, make(chan struct{})
		for range 4 {
			l.done.Add(1)
			go l.send(0)
		}
		l.done.Wait() // the last of them has just been answered 202
		pg.Kill(i % 3)
		if i%3 != pgserver.KillBackend {
			pg = startAgain(t, pg, dir)
		}
		time.Sleep(500 * time.Millisecond)
	}
	total = l.accepted.Load()
	st, err := store.Open(context.Background(), pg.URL, 6)
	require.NoError(t, err)
	defer st.Close()
	settled(t, st, 60*time.Second)
	repeated := told(t, st, sq, l)
	t.Logf("%d kills right after 202: %d accepted, all decided and told, %d calls repeated under the same key", rounds, total, repeated)
}

// The disk is full, and has room again. Whoever sends meanwhile is refused, and what was accepted is told.
func TestDiskFull(t *testing.T) {
	if testing.Short() {
		t.Skip("filling a disk takes its time")
	}
	dir := temporary(t)
	if err := syscall.Mount("tmpfs", dir, "tmpfs", 0, "size=700m"); err != nil {
		t.Skipf("a small disk cannot be made here: %v", err)
	}
	t.Cleanup(func() { _ = syscall.Unmount(dir, syscall.MNT_DETACH) })
	pg := ownPostgres(t, dir)
	defer func() { pg.Stop() }()
	sq, all := begin(t, pg.URL, 1, 1)
	l := newLoad([]string{all[0].addr}, 6, 20, 30, 5*time.Millisecond)
	time.Sleep(time.Second)
	ballast, err := os.Create(dir + "/ballast")
	require.NoError(t, err)
	for block := make([]byte, 1<<20); err == nil; {
		_, err = ballast.Write(block)
	}
	_ = ballast.Close()
	require.Eventually(t, func() bool { return l.refused.Load() > 0 }, 60*time.Second, 50*time.Millisecond, "the disk was never full")
	time.Sleep(2 * time.Second)
	require.NoError(t, os.Remove(dir+"/ballast"))
	time.Sleep(500 * time.Millisecond)
	if pg.Gone() {
		pg.Stop()
		pg = startAgain(t, pg, dir)
	}
	was := l.accepted.Load()
	require.Eventually(t, func() bool { return l.accepted.Load() > was+200 }, 60*time.Second, 50*time.Millisecond, "nothing is taken in any more")
	l.end()
	st, err := store.Open(context.Background(), pg.URL, 6)
	require.NoError(t, err)
	defer st.Close()
	settled(t, st, 90*time.Second)
	repeated := told(t, st, sq, l)
	t.Logf("%d accepted before and after, %d refused while the disk was full, %d calls repeated under the same key", l.accepted.Load(), l.refused.Load(), repeated)
}

// PostgreSQL is stopped and started under load. Whoever sends meanwhile is told at once to come again, and what was
// accepted before and after is decided and told.
func TestDatabaseStopped(t *testing.T) {
	if testing.Short() {
		t.Skip("stopping takes its time")
	}
	dir := temporary(t)
	pg := ownPostgres(t, dir)
	defer func() { pg.Stop() }()
	sq, all := begin(t, pg.URL, 1, 1)
	l := newLoad([]string{all[0].addr}, 4, 4, 30, 10*time.Millisecond)
	time.Sleep(1500 * time.Millisecond)
	stops := number("DORFBOTE_FIRE_STOPS", 2)
	for range stops {
		pg.Stop()
		time.Sleep(3 * time.Second) // longer than what is remembered of connections
		pg = startAgain(t, pg, dir)
		time.Sleep(2 * time.Second)
	}
	l.end()
	st, err := store.Open(context.Background(), pg.URL, 6)
	require.NoError(t, err)
	defer st.Close()
	settled(t, st, 90*time.Second)
	repeated := told(t, st, sq, l)
	assert.Positive(t, l.refused.Load(), "some calls must have been refused for this to show anything")
	assert.Zero(t, l.no503.Load(), "each refusal says when to come again")
	assert.Less(t, l.slowest.Load(), int64(12_000), "nobody hangs")
	assert.LessOrEqual(t, repeated, 2*stops*2)
	t.Logf("%d stops: %d arrivals accepted, %d calls refused with 503, the slowest answer took %d ms, %d posts, %d repeated", stops, l.accepted.Load(), l.refused.Load(), l.slowest.Load(), len(sq.taken())-repeated, repeated)
}

// The channel is down for ten hours, by the clock that the engine keeps for it, and then up with a limit: everything
// comes in order, and no call is made before the time that was asked for.
func TestTenHoursDown(t *testing.T) {
	if testing.Short() {
		t.Skip("an outage takes its time")
	}
	const posts = 120
	address := testdb.URL(t)
	st, err := store.Open(context.Background(), address, 6)
	require.NoError(t, err)
	defer st.Close()
	sq := newSquare(t)
	down := true
	limited := rate.NewLimiter(40, 5)
	sq.answer = func(*call) (int, time.Duration) {
		if down {
			return http.StatusServiceUnavailable, 0
		}
		if r := limited.Reserve(); r.Delay() > 0 {
			wait := r.Delay()
			r.Cancel()
			return http.StatusTooManyRequests, wait
		}
		return http.StatusCreated, 0
	}
	prepare(t, st, sq.URL)
	all := []*process{{role: "serve", url: address, addr: freeAddr(t)}, {role: "work", url: address}}
	for _, p := range all {
		p.start(t)
		defer p.kill()
	}
	l := &load{addrs: []string{all[0].addr}, tells: 100, batch: 10, most: posts, stop: make(chan struct{}), client: http.DefaultClient}
	l.done.Add(1)
	l.send(0)

	// Each time a destination is to be left alone, the clock is moved on to the end of that.
	virtual := map[string]time.Duration{}
	names := []string{"square/#tours", "square/#board"}
	require.Eventually(t, func() bool {
		done := true
		for _, name := range names {
			var waits float64
			err := st.DB.Raw("SELECT coalesce(extract(epoch FROM not_before - now()), 0) FROM destinations WHERE name = ?", name).Scan(&waits).Error
			if err != nil || virtual[name] >= 10*time.Hour {
				continue
			}
			done = false
			if waits <= 0.05 {
				continue
			}
			virtual[name] += time.Duration(waits * float64(time.Second))
			st.DB.Exec("UPDATE destinations SET not_before = NULL WHERE name = ?", name)
			st.DB.Exec(`INSERT INTO river_job (args, kind, max_attempts, queue, state) VALUES (jsonb_build_object('destination', ?::text), 'drain', 1, 'post', 'available')`, name)
		}
		return done
	}, 90*time.Second, 5*time.Millisecond)
	sq.mu.Lock()
	calls := len(sq.calls)
	down, sq.calls = false, nil
	sq.mu.Unlock()
	assert.Less(t, calls, 2*90, "in ten hours a channel that is down is asked some sixty times, not without end")
	require.NoError(t, st.DB.Exec("UPDATE destinations SET not_before = NULL").Error)
	for _, name := range names {
		require.NoError(t, st.DB.Exec(`INSERT INTO river_job (args, kind, max_attempts, queue, state) VALUES (jsonb_build_object('destination', ?::text), 'drain', 1, 'post', 'available')`, name).Error)
	}
	settled(t, st, 60*time.Second)
	repeated := told(t, st, sq, l)
	assert.Zero(t, repeated)
	var given int64
	require.NoError(t, st.DB.Raw("SELECT count(*) FROM posts WHERE state <> 'sent'").Scan(&given).Error)
	assert.Zero(t, given, "none was given up")
	sq.mu.Lock()
	defer sq.mu.Unlock()
	over := 0
	for _, c := range sq.calls {
		if c.status == http.StatusTooManyRequests {
			over++
		}
	}
	assert.Zero(t, sq.early, "no call before the time that was asked for")
	assert.Less(t, over, posts/3, "what it bears is learnt")
	t.Logf("%d calls in ten hours down; then %d posts in order, %d times asked to wait", calls, posts, over)
}
