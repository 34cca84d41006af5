package engine_test

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/core/decide"
	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/message"
	"dorfbote/internal/core/value"
	"dorfbote/internal/engine"
	"dorfbote/internal/engine/intake"
	"dorfbote/internal/store"
	"dorfbote/internal/testdb"
)

// Two processes whose clocks are minutes off, one fast and one slow, wait by the database's clock all the same, and it is
// known whose is wrong.
func TestProcessesWhoseClocksAreWrong(t *testing.T) {
	w := start(t, false)
	for _, off := range []time.Duration{-5 * time.Minute, 5 * time.Minute} {
		e, err := engine.New(w.Store, value.DefaultWorkspace(), slog.New(slog.DiscardHandler))
		require.NoError(t, err)
		e.Env = testdb.Loopback(t, e.Workspace)
		e.Clock = func() time.Time { return time.Now().Add(off) }
		require.NoError(t, e.Start(context.Background()))
		t.Cleanup(e.Stop)
		assert.WithinDuration(t, time.Now(), e.Now(), time.Second)
	}
	wrong, err := w.WrongClocks(context.Background())
	require.NoError(t, err)
	require.NotEmpty(t, wrong)
	assert.InDelta(t, 300, wrong[0].Skew().Abs().Seconds(), 2)

	live, _ := w.switchOn(t, "Due", "{source: cellar/batches, due: {field: due}}", "")
	w.take(t, batch("a", map[string]any{"due": at(1500 * time.Millisecond)}), batch("b", map[string]any{"due": at(time.Hour)}))
	var keys []string
	var late []time.Duration
	eventually(t, "it fires", func() bool { keys, late = w.ticks(t, live.ID); return len(keys) > 0 })
	time.Sleep(time.Second)
	keys, late = w.ticks(t, live.ID)
	require.Equal(t, []string{"a"}, keys, "what is due in an hour is not fired by a fast clock")
	assert.Less(t, late[0], time.Second)
	assert.GreaterOrEqual(t, late[0], time.Duration(0))

	w.chat.mu.Lock()
	tries := []time.Time{}
	w.chat.answer = func(n int, _ string) (int, string) {
		if tries = append(tries, time.Now()); len(tries) == 1 {
			return http.StatusTooManyRequests, "2"
		}
		return http.StatusCreated, ""
	}
	w.chat.mu.Unlock()
	w.take(t, event("1", "A", "late", 900))
	eventually(t, "told", func() bool { return slices.Contains(w.chat.titles(), "A") })
	w.chat.mu.Lock()
	defer w.chat.mu.Unlock()
	assert.InDelta(t, 2, tries[1].Sub(tries[0]).Seconds(), 1.2, "what was asked for is kept, no more and no less")
}

// Redirections, and what the other side does not do at all, are refusals: they stop after one try and are told, and hold up
// nothing for days.
func TestRefusalsThatCannotHeal(t *testing.T) {
	for _, status := range []int{405, 501, 301, 302, 303, 307, 308, 401, 403, 404, 406, 407, 410, 451} {
		t.Run(fmt.Sprint(status), func(t *testing.T) {
			w := start(t, true)
			var mu sync.Mutex
			var calls []string
			elsewhere := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
				mu.Lock()
				defer mu.Unlock()
				calls = append(calls, "elsewhere "+r.Method)
				_, _ = rw.Write([]byte(`{"id":"7"}`))
			}))
			defer elsewhere.Close()
			chat := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
				mu.Lock()
				defer mu.Unlock()
				calls = append(calls, r.Method)
				rw.Header().Set("Location", elsewhere.URL)
				rw.WriteHeader(status)
			}))
			defer chat.Close()
			require.NoError(t, w.Store.DB.Exec("UPDATE connections SET settings = jsonb_build_object('address', ?::text) WHERE id = 'square'", chat.URL).Error)
			w.take(t, event("1", "A", "late", 900))
			eventually(t, "the destination is paused", func() bool {
				d, err := w.Store.Destination(context.Background(), "square/#tours")
				return err == nil && d.Paused && strings.Contains(d.Reason, fmt.Sprint(status))
			})
			mu.Lock()
			defer mu.Unlock()
			assert.Equal(t, []string{"POST"}, calls, "one try, and no redirection is followed")
			var state string
			require.NoError(t, w.Store.DB.Raw("SELECT state FROM posts ORDER BY id LIMIT 1").Scan(&state).Error)
			assert.Equal(t, store.Refused, state)
		})
	}
}

// An edit that cannot be made is told anew, as a reply where the earlier post stands and as a post where it is gone; the
// posts behind it go on.
func TestAnEditThatCannotBeMade(t *testing.T) {
	for status, under := range map[int]string{405: "1001", 501: "1001", 404: "", 410: ""} {
		t.Run(fmt.Sprint(status), func(t *testing.T) {
			w := start(t, true)
			var mu sync.Mutex
			n, posted := 1000, [][2]string{}
			chat := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
				mu.Lock()
				defer mu.Unlock()
				var p struct{ Title, Under string }
				_ = json.NewDecoder(r.Body).Decode(&p)
				if r.Method == http.MethodPut {
					rw.WriteHeader(status)
					return
				}
				n++
				posted = append(posted, [2]string{p.Title, p.Under})
				rw.WriteHeader(http.StatusCreated)
				_, _ = fmt.Fprintf(rw, `{"id":"%d"}`, n)
			}))
			defer chat.Close()
			require.NoError(t, w.Store.DB.Exec("UPDATE connections SET settings = jsonb_build_object('address', ?::text) WHERE id = 'square'", chat.URL).Error)
			w.turnedOn(t, fmt.Sprintf(everyChange, "Kept", "tours/vats")+"pace: {repeat: {key: \"${record.id}\", within: 2h, then: update}}\n")
			w.take(t, milk("tours/vats", "1", "V-1", 1))
			got := func(want int) func() bool {
				return func() bool { mu.Lock(); defer mu.Unlock(); return len(posted) == want }
			}
			eventually(t, "told", got(1))
			w.take(t, milk("tours/vats", "2", "V-1", 2), milk("tours/vats", "3", "V-2", 1))
			eventually(t, "told anew, and the one behind it", got(3))
			assert.Equal(t, [][2]string{{"V-1 1", ""}, {"V-1 2", under}, {"V-2 1", ""}}, posted)
			d, err := w.Store.Destination(context.Background(), "square/#tours")
			require.NoError(t, err)
			assert.False(t, d.Paused)
		})
	}
}

// A trial that is refused is told to whoever tries, and stops nothing.
func TestARefusedTrialDoesNotPauseTheChannel(t *testing.T) {
	w := start(t, true)
	w.chat.mu.Lock()
	w.chat.answer = func(_ int, title string) (int, string) {
		if strings.HasPrefix(title, "Trial") {
			return http.StatusForbidden, ""
		}
		return http.StatusCreated, ""
	}
	w.chat.mu.Unlock()
	require.NoError(t, w.Outbox.Try(context.Background(), 1, 1, "square/#tours", []decide.Post{{Message: "m", Doc: &message.Document{Title: "x"}, Under: -1}}))
	w.take(t, event("1", "A", "late", 900))
	eventually(t, "others are told", func() bool { return len(w.chat.titles()) == 2 })
	var state string
	require.NoError(t, w.Store.DB.Raw("SELECT state FROM posts ORDER BY id LIMIT 1").Scan(&state).Error)
	assert.Equal(t, store.GivenUp, state)
}

// A start for more records than are started at once is refused, whoever asks.
func TestTooManyStarts(t *testing.T) {
	w := start(t, true)
	live, plan := w.turnOn(t, "dorfbote: 1\nname: By hand\nwatch: {start: {source: tours/collections}}\nmessages: {m: {title: x}}\nroute: {otherwise: {tell: [{to: \"square/#tours\", message: m}]}}\n", -1)
	keys := make([]string, intake.MaxStarts+1)
	_, err := w.Writer.Start(context.Background(), live, plan, keys, nil, intake.Cause{By: "A"})
	var wrong *fault.Fault
	require.ErrorAs(t, err, &wrong)
}

// What a sheet makes of an arrival is the same however many sheets there are: to be dropped leaves a verdict, and a
// condition that fails on what starts it is told.
func TestVerdictsAreTheSameAmongManySheets(t *testing.T) {
	w := start(t, true)
	sheets := []string{
		"dorfbote: 1\nname: Drops %d\nwatch: {source: tours/vats}\nkeep: {field: id, is: other}\n",
		"dorfbote: 1\nname: Fails %d\nwatch: {source: tours/vats, when: {formula: \"int(record.id) > 3\"}}\nkeep: {field: id, is: other}\n",
		"dorfbote: 1\nname: Ignores %d\nwatch: {source: tours/vats, when: {field: id, is: other}}\nkeep: {formula: \"int(record.id) > 3\"}\n",
	}
	const rest = "messages: {m: {title: x}}\nroute: {otherwise: {tell: [{to: \"square/#tours\", message: m}]}}\n"
	for _, s := range sheets {
		w.turnedOn(t, fmt.Sprintf(s, 0)+rest)
	}
	verdicts := func(arrival string) (out []string) {
		require.NoError(t, w.Store.DB.Raw(`SELECT split_part(w.name, ' ', 1) || ' ' || v.verdict || ' ' || v.decided_by || v.failed_at FROM verdicts v
			JOIN workflows w ON w.id = v.workflow JOIN arrivals a ON a.seq = v.arrival WHERE a.id = ? AND w.name LIKE '% 0' ORDER BY 1`, arrival).Scan(&out).Error)
		return out
	}
	w.take(t, milk("tours/vats", "few", "V-1", 1))
	w.decided(t)
	few := verdicts("few")
	assert.Equal(t, []string{"Drops dropped keep", "Fails failed watch.when"}, few)
	for i := 1; i < 30; i++ {
		for _, s := range sheets {
			w.turnedOn(t, fmt.Sprintf(s, i)+rest)
		}
	}
	w.take(t, milk("tours/vats", "many", "V-1", 2))
	w.decided(t)
	assert.Equal(t, few, verdicts("many"))
	var all int64
	require.NoError(t, w.Store.DB.Raw("SELECT count(*) FROM verdicts v JOIN arrivals a ON a.seq = v.arrival WHERE a.id = 'many'").Scan(&all).Error)
	assert.EqualValues(t, 60, all)
}
