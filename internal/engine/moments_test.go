package engine_test

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/connect/hook"
	"dorfbote/internal/core/arrival"
	"dorfbote/internal/engine/alerts"
	"dorfbote/internal/jobs"
	"dorfbote/internal/store"
	"dorfbote/internal/testdb"
)

// A virtual clock for the database, and for all processes, which go by it: now() and clock_timestamp() are found in a schema of their
// own, before those of PostgreSQL, and are as far ahead as a table says.
const virtualClock = `CREATE SCHEMA moment;
CREATE TABLE moment.clock (ahead interval NOT NULL);
INSERT INTO moment.clock VALUES ('0');
CREATE FUNCTION moment.now() RETURNS timestamptz STABLE LANGUAGE sql AS 'SELECT pg_catalog.now() + ahead FROM moment.clock';
CREATE FUNCTION moment.clock_timestamp() RETURNS timestamptz VOLATILE LANGUAGE sql AS 'SELECT pg_catalog.clock_timestamp() + ahead FROM moment.clock';
DO $do$ DECLARE c record; BEGIN
	FOR c IN SELECT table_name, column_name FROM information_schema.columns WHERE table_schema = 'public' AND column_default ~ '^(now|CURRENT_TIMESTAMP)' LOOP
		EXECUTE format('ALTER TABLE public.%I ALTER COLUMN %I SET DEFAULT moment.now()', c.table_name, c.column_name);
	END LOOP;
END $do$;`

// startInTime starts an engine whose time stands wherever a test puts it.
func startInTime(t *testing.T) *world {
	t.Helper()
	address := testdb.URL(t)
	conn, err := pgx.Connect(t.Context(), address)
	require.NoError(t, err)
	_, err = conn.Exec(t.Context(), virtualClock)
	require.NoError(t, err)
	require.NoError(t, conn.Close(t.Context()))
	sep := "?"
	if strings.Contains(address, "?") {
		sep = "&"
	}
	st, err := store.Open(t.Context(), address+sep+"search_path=moment,pg_catalog,public", 20)
	require.NoError(t, err)
	t.Cleanup(st.Close)
	return startOn(t, st, false)
}

// be puts the clock to a moment, and waits until all is done that comes of it.
func (w *world) be(t *testing.T, at time.Time) {
	t.Helper()
	ctx := context.Background()
	require.NoError(t, w.Store.DB.Exec("UPDATE moment.clock SET ahead = ?::timestamptz - pg_catalog.clock_timestamp()", at).Error)
	require.NoError(t, w.MeasureClock(ctx))
	w.settle(t)
}

// settle waits until nothing is left to be done at this moment.
func (w *world) settle(t *testing.T) {
	t.Helper()
	ctx := context.Background()
	calm, still := 0, ""
	defer func() {
		if calm < 2 {
			t.Log("still to be done:", still)
		}
	}()
	require.Eventually(t, func() bool {
		for _, do := range w.Timing.Due {
			if _, err := do(ctx); err != nil {
				still = err.Error()
				return false
			}
		}
		for _, place := range []string{"square/#tours", "square/#board"} { // as the jobs would, a little later
			if err := w.Outbox.Drain(ctx, jobs.Drain{Destination: place}); err != nil {
				still = err.Error()
				return false
			}
		}
		var left struct{ Posts, Jobs, Asks, Escalations, Held, Timers int64 }
		err := w.Store.DB.Raw(`SELECT (SELECT count(*) FROM posts WHERE state = 'waiting') AS posts,
			(SELECT count(*) FROM river_job WHERE state IN ('available', 'running', 'retryable', 'pending') AND kind NOT IN ('sweep', 'drain')) AS jobs,
			(SELECT count(*) FROM asks WHERE state = 'open' AND due_at <= now()) AS asks, (SELECT count(*) FROM escalations WHERE due_at <= now()) AS escalations,
			(SELECT count(*) FROM pace_held WHERE due_at <= now()) AS held, (SELECT count(*) FROM timers WHERE NOT spent AND due_at <= now()) AS timers`).Scan(&left).Error
		behind, late := w.Store.Behind(ctx, 0)
		if calm++; err != nil || late != nil || left != (struct{ Posts, Jobs, Asks, Escalations, Held, Timers int64 }{}) || len(behind) > 0 {
			calm, still = 0, fmt.Sprintf("%+v %v %v %v", left, behind, err, late)
		}
		return calm >= 2
	}, time.Minute, 5*time.Millisecond, "all is done at this moment")
}

// until lets all come due, one moment after the other, until the given one; which is put off where something comes due close to it.
func (w *world) until(t *testing.T, to *time.Time) {
	t.Helper()
	for {
		next, err := w.Store.NextMoment(context.Background())
		require.NoError(t, err)
		if !next.Valid || next.Time.After(to.Add(50*time.Second)) {
			break
		}
		if next.Time.After(to.Add(-50 * time.Second)) {
			*to = to.Add(time.Minute)
			continue
		}
		w.be(t, next.Time.Add(5*time.Millisecond))
	}
	w.be(t, *to)
}

// in gives a world whose one workflow is a sheet, at a time of a day, and a way to put the clock on.
func in(t *testing.T, at, rest string) (w *world, to func(at string)) {
	t.Helper()
	w = startInTime(t)
	require.NoError(t, w.Store.DB.Create(&store.Destination{Name: "square/#board", Connection: "square", Title: "#board"}).Error)
	to = func(at string) {
		t.Helper()
		moment, err := time.Parse("2006-01-02 15:04:05", "2041-03-"+at+":30")
		require.NoError(t, err)
		w.until(t, &moment)
	}
	to(at)
	w.only(t, rest)
	require.NoError(t, w.Start(context.Background()))
	return w, to
}

// toldNow is what was told of the only workflow, and when, in short.
func (w *world) toldNow(t *testing.T) (out []string) {
	t.Helper()
	_, posts := w.lived(t, 1)
	for _, p := range posts {
		out = append(out, p[:8]+strings.TrimSuffix(p[8:], " |  (plain)"))
	}
	return out
}

// Where a reminder waits for the opening hours, the question ends in its time all the same.
func TestAQuestionEndsOutsideTheHours(t *testing.T) {
	w, to := in(t, "04 19:00", `messages: {q: {title: "may ${record.id}?"}, m: {title: "${record.id} ${v.choice}", tone: urgent}}
ask: [{name: v, of: "square/#tours", message: q, choices: [{name: "yes"}, {name: "no"}], within: 3h, remind: [2h, 2h30m], otherwise: "no"}]
route: {otherwise: {tell: [{to: "square/#board", message: m}]}}
pace: {quiet: {open: [{from: "05:00", to: "20:00"}], urgent: pass}}
`)
	w.take(t, w.eventNow("1", "A", "late"))
	w.settle(t)
	to("04 22:10")
	assert.Equal(t, []string{"04 19:00 square/#tours q: may A?", "04 22:00 square/#board m: A no |  (urgent)"}, w.toldNow(t))
	to("05 09:00")
	assert.Len(t, w.toldNow(t), 2, "and nobody is reminded of it any more")
}

// Each of the alerts that went in a digest is told to others where nobody takes it.
func TestWhatWentInADigestIsEscalated(t *testing.T) {
	w, to := in(t, "04 09:00", `messages: {m: {title: "${record.id}"}, e: {title: "nobody: ${record.id}"}}
route: {otherwise: {tell: [{to: "square/#tours", message: m}]}}
follow: [{unless: {any: [{claimed: true}, {field: status, is: done}], within: 1h}, tell: [{to: "square/#board", message: e}]}]
pace: {digest: {every: 2h}}
`)
	for _, key := range []string{"A", "B", "C"} {
		w.take(t, w.eventNow("1"+key, key, "late"))
		w.settle(t)
	}
	to("04 11:10")
	require.Len(t, w.toldNow(t), 1, "the digest")
	w.take(t, w.eventNow("2B", "B", "done"))
	w.settle(t)
	to("04 12:10")
	assert.Equal(t, []string{"04 12:00 square/#board e: nobody: A", "04 12:00 square/#board e: nobody: C"}, w.toldNow(t)[1:])
}

// An alert that is told again later has with it what stood in its thread, and at the other place it is not told again.
func TestLaterTellsTheThreadAgain(t *testing.T) {
	w, to := in(t, "04 09:00", `messages: {m: {title: "${record.id}", buttons: [{text: Later, later: 1h}]}, d: {title: "detail of ${record.id}"}}
route: {otherwise: {tell: [{to: "square/#tours", message: m, reply: d}, {to: "square/#board", message: m}]}}
`)
	w.take(t, w.eventNow("1", "A", "late"))
	w.settle(t)
	post := w.postOf(t, "message = 'm' AND destination = 'square/#tours'")
	_, err := w.Alerts.Press(t.Context(), w.link(t, post.ID, 0, true), 0, alerts.Who{Native: "Vera"}, "")
	require.NoError(t, err)
	to("04 10:10")
	assert.Equal(t, []string{"04 09:00 square/#board m: A", "04 09:00 square/#tours d: detail of A", "04 09:00 square/#tours m: A",
		"04 10:00 square/#tours d: detail of A", "04 10:00 square/#tours m: A"}, w.toldNow(t))
	again := w.postOf(t, "message = 'm'")
	assert.Equal(t, &again.ID, w.postOf(t, "message = 'd'").Under, "in the thread of what was told again")
}

// Of a record that is gone when nobody took care of its alert is told as it last was.
func TestARecordThatIsGoneIsToldOfAsItLastWas(t *testing.T) {
	w, to := in(t, "04 09:00", `messages: {m: {title: "${record.id}"}, e: {title: "nobody: ${record.id} ${record.status}"}}
route: {otherwise: {tell: [{to: "square/#tours", message: m}]}}
follow: [{unless: {claimed: true, within: 1h}, tell: [{to: "square/#board", message: e}]}]
`)
	w.take(t, w.eventNow("1", "A", "late"))
	w.settle(t)
	w.take(t, w.eventNow("2", "A", "worse"))
	gone := w.eventNow("3", "A", "")
	gone.Type, gone.Record = arrival.Removed, nil
	w.take(t, gone)
	w.settle(t)
	to("04 10:10")
	assert.Equal(t, []string{"04 10:00 square/#board e: nobody: A worse", "04 10:00 square/#board e: nobody: A worse"}, w.toldNow(t)[2:])
}

// Later can be pressed again on what was told again.
func TestLaterAndLaterAgain(t *testing.T) {
	w, to := in(t, "04 09:00", `messages: {m: {title: "${record.id}", buttons: [{text: Later, later: 1h}]}}
route: {otherwise: {tell: [{to: "square/#tours", message: m}]}}
`)
	w.take(t, w.eventNow("1", "A", "late"))
	w.settle(t)
	for n := range 3 {
		_, err := w.Alerts.Press(t.Context(), w.link(t, w.postOf(t, "message = 'm'").ID, 0, true), 0, alerts.Who{Native: "Vera"}, "")
		require.NoError(t, err)
		to(fmt.Sprintf("04 %d:%d", 10+n, 10+10*n))
	}
	assert.Equal(t, []string{"04 09:00 square/#tours m: A", "04 10:00 square/#tours m: A", "04 11:10 square/#tours m: A", "04 12:20 square/#tours m: A"}, w.toldNow(t))
}

// What cannot be told at its moment holds up nothing else, neither of the same workflow nor of another, and is tried again later.
func TestWhatCannotBeDoneAtItsMomentHoldsUpNothing(t *testing.T) {
	w, to := in(t, "04 09:00", `messages: {m: {title: "${record.id}"}, e: {title: "nobody: ${record.id}"}, q: {title: "may ${record.id}?"}}
ask: [{name: v, of: "square/#board", when: {field: status, is: asked}, message: q, choices: [{name: "yes"}, {name: "no"}], within: 1h, otherwise: "yes"}]
route: {otherwise: {tell: [{to: "square/#tours", message: m}]}}
follow: [{unless: {claimed: true, within: 1h}, tell: [{to: "square/#board", message: e}]}]
`)
	for _, key := range []string{"A", "B", "C"} {
		w.take(t, w.eventNow("1"+key, key, "late"), w.eventNow("2"+key, "Q"+key, "asked"))
	}
	w.settle(t)
	do := func(sql string) { require.NoError(t, w.Store.DB.Exec(sql).Error) }
	do(`UPDATE escalations SET posts = '"no list"' WHERE arrival = (SELECT min(arrival) FROM escalations)`)
	do(`UPDATE asks SET body = '5' WHERE id = (SELECT min(id) FROM asks)`)
	require.NoError(t, w.Store.DB.Exec("UPDATE moment.clock SET ahead = ahead + interval '61 minutes'").Error)
	require.NoError(t, w.MeasureClock(t.Context()))
	eventually(t, "the others are told", func() bool {
		told := strings.Join(w.toldNow(t), "|")
		return strings.Contains(told, "nobody: B") && strings.Contains(told, "nobody: C") && strings.Contains(told, "m: QB") && strings.Contains(told, "m: QC")
	})
	assert.NotContains(t, strings.Join(w.toldNow(t), "|"), "nobody: A")
	do("UPDATE escalations SET posts = NULL WHERE posts = '\"no list\"'")
	do("UPDATE asks SET state = 'withdrawn', due_at = NULL WHERE state = 'open'")
	to("04 10:30")
	assert.Contains(t, strings.Join(w.toldNow(t), "|"), "nobody: A")
}

// eventNow is an event of this moment by the database's clock.
func (w *world) eventNow(id, key, status string) hook.Event {
	ev := event(id, key, status, 900)
	ev.Time = w.Now().UTC()
	return ev
}
