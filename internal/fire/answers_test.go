package fire

import (
	"context"
	"encoding/json"
	"math/rand/v2"
	"net/http"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/pgserver"
	"dorfbote/internal/store"
)

const askingText = `dorfbote: 1
name: Fire
watch: {source: tours/collections}
keep: {field: litres, above: 500}
ask: [{name: v, of: ["square/#tours", "square/#board"], message: q, choices: [{name: aye, text: Aye}, {name: nay, text: Nay}], within: 1d}]
messages: {q: {title: "may ${record.no}?"}, alert: {title: "${record.no} ${v.choice}", buttons: [{text: I take it, claim: true}]}, late: {title: "${record.no} is late"}}
route: {otherwise: {tell: [{to: "square/#board", message: alert}]}}
follow: [{unless: {claimed: true, within: 1s}, tell: [{to: "square/#tours", message: late}]}]
`

// presser is whoever presses buttons of questions, again and again until somebody says what came of it.
type presser struct {
	mu      sync.Mutex
	counted map[string]string // what was said to have counted, by the question
	wrong   []string
	client  *http.Client
}

// press presses one button until there is an answer.
func (p *presser) press(question, choice, address string) {
	for {
		res, err := p.client.Post(address, "application/json", strings.NewReader(`{"by":"Ann"}`))
		if err == nil {
			var said struct {
				Said string
				Done bool
			}
			bad := json.NewDecoder(res.Body).Decode(&said)
			_ = res.Body.Close()
			if bad == nil && res.StatusCode == http.StatusOK {
				p.mu.Lock()
				defer p.mu.Unlock()
				if said.Done {
					if was := p.counted[question]; was != "" {
						p.wrong = append(p.wrong, question+" counted twice: "+was+", "+choice)
					}
					p.counted[question] = choice
				}
				return
			}
		}
		time.Sleep(200 * time.Millisecond)
	}
}

// Questions are answered, by two people at once, while servers, workers and PostgreSQL are killed at random moments: of each question
// one answer counts, it is the one that somebody was told has counted, and what it leads to is told once. Alerts that nobody takes are
// told of once.
func TestAnswersInFlight(t *testing.T) {
	if testing.Short() {
		t.Skip("kills take their time")
	}
	rounds := number("DORFBOTE_FIRE_ROUNDS", 20) / 2
	dir := temporary(t)
	pg := ownPostgres(t, dir)
	defer func() { pg.Stop() }()
	_ = fireKey() // every process has the same
	sq := newSquare(t)
	address := freeAddr(t)
	t.Setenv("DORFBOTE_FIRE_BASE", "http://"+address)
	serve := &process{role: "serve", url: pg.URL, addr: address}
	all := beginWith(t, pg.URL, 0, 2, func(st *store.Store) { prepareWith(t, st, sq.URL, askingText) })
	all = append(all, serve)
	serve.start(t)
	t.Cleanup(serve.kill)
	<-serve.up

	p := &presser{counted: map[string]string{}, client: &http.Client{Timeout: 10 * time.Second}}
	var pressing sync.WaitGroup
	stop := make(chan struct{})
	pressing.Go(func() { // each copy of a question gets an answer of its own
		for at, pressed := 0, map[string]bool{}; ; time.Sleep(20 * time.Millisecond) {
			calls := sq.taken()
			for ; at < len(calls); at++ {
				c := calls[at]
				if len(c.buttons) != 2 || pressed[c.key] {
					continue
				}
				pressed[c.key] = true
				choice := []string{"Aye", "Nay"}[rand.IntN(2)]
				pressing.Go(func() { p.press(c.title, choice, c.buttons[choice]) })
			}
			select {
			case <-stop:
				return
			default:
			}
		}
	})
	l := newLoad([]string{address}, 2, 2, 30, 30*time.Millisecond)
	for i := range rounds {
		time.Sleep(time.Duration(100+rand.IntN(600)) * time.Millisecond)
		if i%4 == 3 {
			what := i / 4 % 3
			pg.Kill(what)
			if what != pgserver.KillBackend {
				time.Sleep(time.Duration(rand.IntN(500)) * time.Millisecond)
				pg = startAgain(t, pg, dir)
			}
			time.Sleep(time.Second)
			continue
		}
		one := all[rand.IntN(len(all))]
		one.kill()
		one.start(t)
	}
	time.Sleep(time.Second)
	l.end()
	expect := map[string]bool{}
	l.telling.Range(func(id, _ any) bool { expect[id.(string)] = true; return true })
	outcomes := func() map[string]map[string]string { // what was told of each, by the keys of the posts
		out := map[string]map[string]string{}
		for _, c := range sq.taken() {
			if id, what, ok := strings.Cut(c.title, " "); ok && id != "may" {
				if out[id] == nil {
					out[id] = map[string]string{}
				}
				out[id][c.key] = what
			}
		}
		return out
	}
	require.Eventually(t, func() bool {
		out := outcomes()
		for id := range expect {
			if len(out[id]) < 2 {
				return false
			}
		}
		return true
	}, 90*time.Second, 100*time.Millisecond, "not everything was answered, told and followed")
	close(stop)
	pressing.Wait()
	assert.Empty(t, p.wrong)
	for id, posts := range outcomes() {
		var decided []string
		late := 0
		for _, what := range posts {
			if what == "is late" {
				late++
				continue
			}
			decided = append(decided, what)
		}
		if !assert.Len(t, decided, 1, "%s is decided once: %v", id, posts) || !assert.Equal(t, 1, late, "%s: %v", id, posts) {
			break
		}
		if counted := p.counted["may "+id+"?"]; counted != "" {
			assert.Equal(t, strings.ToLower(counted), decided[0], "%s was decided by the answer that counted", id)
		}
	}
	st, err := store.Open(context.Background(), pg.URL, 6)
	require.NoError(t, err)
	defer st.Close()
	var open int64
	require.NoError(t, st.DB.Raw("SELECT count(*) FROM asks WHERE state = 'open'").Scan(&open).Error)
	assert.Zero(t, open)
	t.Logf("%d kills: %d questions, %d answers that were said to count, all decided and told once", rounds, len(expect), len(p.counted))
}
