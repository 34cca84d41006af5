package engine_test

import (
	"context"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/connect/hook"
	"dorfbote/internal/core/arrival"
	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
	"dorfbote/internal/engine"
	"dorfbote/internal/engine/intake"
	"dorfbote/internal/store"
	"dorfbote/internal/testdb"
)

// another starts one more worker on a world's database.
func (w *world) another(t *testing.T) {
	t.Helper()
	e, err := engine.New(w.Store, value.DefaultWorkspace(), slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	e.Env = testdb.Loopback(t, e.Workspace)
	require.NoError(t, e.Start(context.Background()))
	t.Cleanup(e.Stop)
}

// turnOn writes a workflow and switches it on from an arrival on; -1 is from now on.
func (w *world) turnOn(t *testing.T, text string, since int64) (store.Live, *sheet.Plan) {
	t.Helper()
	known, err := w.Workflows.Known(context.Background())
	require.NoError(t, err)
	known.Sources = nil
	plan, sh, problems := sheet.Compile([]byte(text), known)
	require.NotNil(t, plan, "%v", problems)
	row := store.Workflow{Name: sh.Name, Draft: text, CreatedAt: time.Now(), UpdatedAt: time.Now()}
	require.NoError(t, w.Store.DB.Create(&row).Error)
	on, err := w.Workflows.SwitchOn(context.Background(), row.ID, plan, store.SwitchedOn{Sheet: text, Since: since})
	require.NoError(t, err)
	return store.Live{ID: row.ID, Version: on.Version, Source: on.Source, Form: on.Form}, plan
}

// turnedOn is its number, switched on from now on.
func (w *world) turnedOn(t *testing.T, text string) int64 {
	l, _ := w.turnOn(t, text, -1)
	return l.ID
}

func (w *world) decided(t *testing.T) {
	t.Helper()
	require.Eventually(t, func() bool {
		list, err := w.Store.Behind(context.Background(), 0)
		return err == nil && len(list) == 0
	}, 30*time.Second, 20*time.Millisecond, "everything is decided")
}

func milk(source, id, key string, n int) hook.Event {
	return hook.Event{Arrival: &arrival.Arrival{
		ID: id, Source: source, Type: arrival.Updated, Subject: key, Time: time.Now().UTC(),
		Record: map[string]any{"id": key, "n": float64(n)},
	}}
}

const everyChange = `dorfbote: 1
name: %s
watch: {source: %s}
messages: {m: {title: "${record.id} ${record.n}"}}
route: {otherwise: {tell: [{to: "square/#tours", message: m}]}}
`

// inOrder checks that a workflow's posts follow the order in which their arrivals came in.
func inOrder(t *testing.T, w *world, workflow int64, want int) {
	t.Helper()
	var list []int64
	require.NoError(t, w.Store.DB.Raw("SELECT arrival FROM posts WHERE workflow = ? ORDER BY id", workflow).Scan(&list).Error)
	var wrong []string // why there are fewer
	require.NoError(t, w.Store.DB.Raw("SELECT arrival || ' ' || verdict || ' ' || coalesce(error, '') FROM verdicts WHERE workflow = ? AND verdict <> 'told' ORDER BY arrival", workflow).Scan(&wrong).Error)
	require.Len(t, list, want, "%v", wrong)
	for i := 1; i < len(list); i++ {
		require.Greater(t, list[i], list[i-1], "post %d of %d", i, len(list))
	}
}

// Eight senders over two hundred records, two workers: what is told is told in the order in which it came in, and a post
// that is kept up to date ends at the record's last state.
func TestEachSourceIsDecidedInOrder(t *testing.T) {
	w := start(t, true)
	w.another(t)
	every := w.turnedOn(t, fmt.Sprintf(everyChange, "Every", "tours/vats"))
	kept := w.turnedOn(t, fmt.Sprintf(everyChange, "Kept", "tours/vats")+"pace: {repeat: {key: \"${record.id}\", within: 2h, then: update}}\n")
	const senders, rounds, keys = 8, 40, 200
	var busy sync.WaitGroup
	for s := range senders {
		busy.Go(func() {
			for r := range rounds {
				events := make([]hook.Event, 5)
				for i := range events {
					n := (s*rounds+r)*5 + i
					events[i] = milk("tours/vats", fmt.Sprintf("v-%d", n), fmt.Sprintf("V-%d", n*7%keys), n)
				}
				_, err := w.intake.Take(context.Background(), events)
				assert.NoError(t, err)
			}
		})
	}
	busy.Wait()
	w.decided(t)
	inOrder(t, w, every, senders*rounds*5)
	var stale int64
	require.NoError(t, w.Store.DB.Raw(`SELECT count(*) FROM records r JOIN LATERAL (
			SELECT title FROM posts p WHERE p.workflow = ? AND p.title LIKE r.key || ' %' ORDER BY p.id DESC LIMIT 1) p ON true
		WHERE r.source = 'tours/vats' AND p.title <> r.key || ' ' || (r.data->>'n')`, kept).Scan(&stale).Error)
	assert.Zero(t, stale, "a post kept up to date ends at the record's last state")
}

// A large batch, its receipt, and then one change of a record in it: the change is told after it.
func TestAChangeAfterALargeBatchIsToldAfterIt(t *testing.T) {
	w := start(t, true)
	w.another(t)
	id := w.turnedOn(t, fmt.Sprintf(everyChange, "Every", "tours/vats"))
	for round := range 8 {
		events := make([]hook.Event, 450)
		for i := range events {
			events[i] = milk("tours/vats", fmt.Sprintf("b-%d-%d", round, i), fmt.Sprintf("V-%d", i), i)
		}
		w.take(t, events...)
		w.take(t, milk("tours/vats", fmt.Sprintf("after-%d", round), "V-449", 1000+round))
	}
	w.decided(t)
	inOrder(t, w, id, 8*451)
}

// A sheet that asks a slow service holds up itself alone: neither the others on its source nor other sources. What it
// tells is in order all the same, and it is caught up with when it has been switched off and on.
func TestASlowSheetHoldsUpOnlyItself(t *testing.T) {
	w := start(t, true)
	w.another(t)
	slow := httptest.NewServer(http.HandlerFunc(func(rw http.ResponseWriter, _ *http.Request) {
		time.Sleep(100 * time.Millisecond)
		_, _ = rw.Write([]byte(`{"ok":true}`))
	}))
	t.Cleanup(slow.Close)
	quick := w.turnedOn(t, fmt.Sprintf(everyChange, "Quick", "tours/vats"))
	other := w.turnedOn(t, fmt.Sprintf(everyChange, "Other", "tours/jobs"))
	asks := w.turnedOn(t, strings.Replace(fmt.Sprintf(everyChange, "Asks", "tours/vats"), "messages:", "gather: [{name: answer, http: {url: \""+slow.URL+"\"}}]\nmessages:", 1))
	const n = 25
	for i := range n {
		w.take(t, milk("tours/vats", fmt.Sprintf("s-%d", i), fmt.Sprintf("V-%d", i), i), milk("tours/jobs", fmt.Sprintf("j-%d", i), fmt.Sprintf("J-%d", i), i))
	}
	count := func(id int64) (c int64) {
		w.Store.DB.Raw("SELECT count(*) FROM posts WHERE workflow = ?", id).Scan(&c)
		return c
	}
	eventually(t, "the others are told", func() bool { return count(quick) == n && count(other) == n })
	assert.Less(t, count(asks), int64(n), "the slow one is still at it")
	w.decided(t)
	for _, id := range []int64{quick, other, asks} {
		inOrder(t, w, id, n)
	}
}

// A workflow that begins with what has passed comes to it in order, beside what comes meanwhile, and then joins the others.
func TestBeginningWithThePast(t *testing.T) {
	w := start(t, true)
	for i := range 30 {
		w.take(t, milk("tours/vats", fmt.Sprintf("p-%d", i), fmt.Sprintf("V-%d", i), i))
	}
	var since int64
	require.NoError(t, w.Store.DB.Raw("SELECT seq FROM arrivals WHERE id = 'p-9'").Scan(&since).Error)
	row, _ := w.turnOn(t, fmt.Sprintf(everyChange, "Past", "tours/vats"), since)
	for i := range 10 {
		w.take(t, milk("tours/vats", fmt.Sprintf("q-%d", i), fmt.Sprintf("V-%d", i), 100+i))
	}
	w.decided(t)
	inOrder(t, w, row.ID, 30)
	eventually(t, "it has joined the others", func() bool {
		var n int64
		return w.Store.DB.Raw("SELECT count(*) FROM own_marks").Scan(&n).Error == nil && n == 0
	})
	w.take(t, milk("tours/vats", "last", "V-1", 200))
	w.decided(t)
	inOrder(t, w, row.ID, 31)
}

// An arrival that can be written by no means is passed over as failed, told, and those behind it are decided.
func TestAnArrivalThatCannotBeDecidedIsPassedOver(t *testing.T) {
	w := start(t, true)
	id := w.turnedOn(t, fmt.Sprintf(everyChange, "Every", "tours/vats"))
	require.NoError(t, w.Store.DB.Exec(`ALTER TABLE posts ADD CONSTRAINT poison CHECK (title NOT LIKE '%13')`).Error)
	for i := range 20 {
		w.take(t, milk("tours/vats", fmt.Sprintf("x-%d", i), fmt.Sprintf("V-%d", i), i))
	}
	w.decided(t)
	inOrder(t, w, id, 19)
	var failed []string
	require.NoError(t, w.Store.DB.Raw("SELECT error FROM verdicts WHERE verdict = 'failed'").Scan(&failed).Error)
	require.Len(t, failed, 1)
	assert.Contains(t, failed[0], "poison")
	var told int64
	require.NoError(t, w.Store.DB.Raw("SELECT count(*) FROM notices WHERE what = 'could not be decided'").Scan(&told).Error)
	assert.EqualValues(t, 1, told)
}

// A database that was filled by the version before is brought up to date: what its jobs had yet to decide is decided.
func TestWhatJobsHadYetToDecideIsDecidedAfterMigrating(t *testing.T) {
	w := start(t, false)
	for i := range 5 {
		w.take(t, event(fmt.Sprint(i), fmt.Sprintf("C-%d", i), "late", 900))
	}
	db := w.Store.DB
	require.NoError(t, w.Store.Back(context.Background(), 4))
	require.NoError(t, db.Exec("INSERT INTO river_job (args, kind, max_attempts, queue, state) SELECT jsonb_build_object('seqs', jsonb_agg(seq)), 'decide', 25, 'decide', 'available' FROM arrivals WHERE id IN ('3', '4')").Error)
	require.NoError(t, w.Store.Migrate(context.Background()))
	w.another(t)
	eventually(t, "told", func() bool { return len(w.chat.titles()) == 4 })
	var jobs int64
	require.NoError(t, db.Raw("SELECT count(*) FROM river_job WHERE kind = 'decide'").Scan(&jobs).Error)
	assert.Zero(t, jobs)
}

// The same event sent through several processes at once is one arrival: whoever writes to a source has it to itself.
func TestTheSameEventThroughManyProcesses(t *testing.T) {
	w := start(t, true)
	intakes := []*intake.Intake{w.intake}
	for range 3 {
		e, err := engine.New(w.Store, value.DefaultWorkspace(), slog.New(slog.DiscardHandler))
		require.NoError(t, err)
		ctx, cancel := context.WithCancel(context.Background())
		t.Cleanup(cancel)
		intakes = append(intakes, intake.New(ctx, e.Writer))
	}
	var busy sync.WaitGroup
	for _, in := range intakes {
		for n := range 60 {
			busy.Go(func() {
				_, err := in.Take(context.Background(), []hook.Event{milk("tours/vats", fmt.Sprintf("same-%d", n), fmt.Sprintf("V-%d", n%5), n)})
				assert.NoError(t, err)
			})
		}
	}
	busy.Wait()
	var all, distinct, broken int64
	require.NoError(t, w.Store.DB.Raw("SELECT count(*), count(DISTINCT id) FROM arrivals WHERE source = 'tours/vats'").Row().Scan(&all, &distinct))
	assert.EqualValues(t, 60, all)
	assert.EqualValues(t, 60, distinct)
	// What was before each arrival is what the one before it of the same record left.
	require.NoError(t, w.Store.DB.Raw(`SELECT count(*) FROM (SELECT data->'before' AS before, lag(data->'record') OVER (PARTITION BY subject ORDER BY seq) AS was FROM arrivals WHERE source = 'tours/vats') x
		WHERE was IS NOT NULL AND before IS DISTINCT FROM was`).Scan(&broken).Error)
	assert.Zero(t, broken)
}

// Nobody hears that an event was taken in before it is on the disk.
func TestTakenInOnlyWhenDurable(t *testing.T) {
	w := start(t, false)
	w.Store.Pool.Close() // what waits for the disk; what writes has connections of its own
	_, err := w.intake.Take(context.Background(), []hook.Event{milk("tours/vats", "1", "V-1", 1)})
	require.ErrorIs(t, err, intake.ErrBusy)
}

// A request with very many events is stored in parts, and others are served in between; one whose records have no ids of
// their own is refused with the limit.
func TestARequestWithVeryManyEvents(t *testing.T) {
	w := start(t, false)
	events := make([]hook.Event, 50_001)
	for i := range events {
		events[i] = milk("tours/vats", fmt.Sprintf("m-%d", i), fmt.Sprintf("V-%d", i), i)
	}
	done := make(chan error, 1)
	began := time.Now()
	go func() {
		_, err := w.intake.Take(context.Background(), events)
		done <- err
	}()
	var slowest time.Duration
	others := 0
	for ended := false; !ended; {
		select {
		case err := <-done:
			require.NoError(t, err)
			ended = true
		default:
			at := time.Now()
			w.take(t, milk("tours/jobs", fmt.Sprintf("o-%d", others), "J", others))
			slowest = max(slowest, time.Since(at))
			others++
			time.Sleep(5 * time.Millisecond)
		}
	}
	assert.Greater(t, others, 20)
	assert.Less(t, slowest, 3*time.Second)
	t.Logf("50,001 events in %.1f s; %d other requests meanwhile, the slowest answered after %v", time.Since(began).Seconds(), others, slowest)
	for i := range events {
		events[i].ID = ""
	}
	_, err := w.intake.Take(context.Background(), events)
	var many *fault.Fault
	require.ErrorAs(t, err, &many)
	assert.Contains(t, err.Error(), "5000")
}

// A workflow that is switched on with a part of the past while its source is being decided comes to that part first: what is
// decided at that moment is not told before it.
func TestBeginningWithThePastWhileItIsDecided(t *testing.T) {
	w := start(t, true)
	w.another(t)
	for i := range 10 {
		w.take(t, milk("tours/vats", fmt.Sprintf("p-%d", i), fmt.Sprintf("V-%d", i), i))
	}
	var since int64
	require.NoError(t, w.Store.DB.Raw("SELECT seq FROM arrivals WHERE id = 'p-4'").Scan(&since).Error)
	stop := make(chan struct{})
	var busy sync.WaitGroup
	busy.Go(func() {
		for n := 0; ; n++ {
			select {
			case <-stop:
				return
			default:
			}
			_, err := w.intake.Take(context.Background(), []hook.Event{milk("tours/vats", fmt.Sprintf("q-%d", n), fmt.Sprintf("V-%d", n%50), n)})
			assert.NoError(t, err)
		}
	})
	var on []int64
	for i := range 25 {
		row, _ := w.turnOn(t, fmt.Sprintf(everyChange, fmt.Sprintf("Past %d", i), "tours/vats"), since)
		on = append(on, row.ID)
	}
	close(stop)
	busy.Wait()
	w.decided(t)
	var came int64
	require.NoError(t, w.Store.DB.Raw("SELECT count(*) FROM arrivals WHERE seq > ? AND source = 'tours/vats'", since).Scan(&came).Error)
	for _, id := range on {
		inOrder(t, w, id, int(came))
	}
}
