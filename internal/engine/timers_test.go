package engine_test

import (
	"context"
	"fmt"
	"log/slog"
	"maps"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/connect/hook"
	"dorfbote/internal/core/arrival"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/engine"
	"dorfbote/internal/engine/intake"
	"dorfbote/internal/store"
	"dorfbote/internal/testdb"
)

// switchOn makes a workflow of a watch, which tells the chat, and switches it on.
func (w *world) switchOn(t *testing.T, name, watch, keep string) (store.Live, *sheet.Plan) {
	t.Helper()
	text := fmt.Sprintf("dorfbote: 1\nname: %s\nwatch: %s\n%s\nmessages:\n  m: {title: \"%s ${arrival.kind}\"}\nroute: {otherwise: {tell: [{to: \"square/#tours\", message: m}]}}\n", name, watch, keep, name)
	return w.turnOn(t, text, -1)
}

func batch(key string, fields map[string]any) hook.Event {
	r := map[string]any{"id": key}
	maps.Copy(r, fields)
	return hook.Event{Compute: true, Arrival: &arrival.Arrival{Source: "cellar/batches", Type: arrival.Updated, Subject: key, Time: time.Now().UTC(), Record: r}}
}

// ticks lists the ticks of a workflow with how late each was decided.
func (w *world) ticks(t *testing.T, id int64) (keys []string, late []time.Duration) {
	t.Helper()
	var rows []store.Arrival
	require.NoError(t, w.Store.DB.Order("seq").Find(&rows, "for_workflow = ? AND type = ?", id, arrival.Tick).Error)
	for _, r := range rows {
		keys, late = append(keys, r.Subject), append(late, r.ReceivedAt.Sub(r.Time))
	}
	return keys, late
}

func at(d time.Duration) string { return time.Now().Add(d).UTC().Format(time.RFC3339Nano) }

func TestDueMomentsAreExactAndFollowTheField(t *testing.T) {
	w := start(t, true)
	w.take(t, batch("old", map[string]any{"due": at(2500 * time.Millisecond)}), batch("past", map[string]any{"due": at(-time.Hour)}))
	live, _ := w.switchOn(t, "Due", "{source: cellar/batches, due: {field: due, offset: -1s}}", "keep: {field: status, is_not: done}")
	w.take(t, batch("a", map[string]any{"due": at(2 * time.Second)}), batch("b", map[string]any{"due": at(2 * time.Second)}), batch("c", map[string]any{"due": at(2 * time.Second)}), batch("d", map[string]any{"due": at(2 * time.Second)}))
	w.take(t, batch("b", map[string]any{"due": at(4 * time.Second)}), batch("c", map[string]any{"due": at(2 * time.Second), "status": "done"}))
	gone := batch("d", nil)
	gone.Type, gone.Compute = arrival.Removed, false
	w.take(t, gone)
	var keys []string
	var late []time.Duration
	eventually(t, "all have fired", func() bool { keys, late = w.ticks(t, live.ID); return len(keys) == 4 })
	assert.Equal(t, "b", keys[3], "the one that moved comes last")
	assert.ElementsMatch(t, []string{"old", "a", "c", "b"}, keys)
	for _, d := range late {
		assert.Less(t, d, time.Second)
		assert.GreaterOrEqual(t, d, time.Duration(0))
	}
	w.decided(t)
	var verdicts []string
	require.NoError(t, w.Store.DB.Raw("SELECT a.subject || ' ' || v.verdict FROM verdicts v JOIN arrivals a ON a.seq = v.arrival WHERE v.workflow = ? ORDER BY 1", live.ID).Scan(&verdicts).Error)
	assert.Equal(t, []string{"a told", "b told", "c dropped", "old told"}, verdicts)
	eventually(t, "posted", func() bool { return len(w.chat.titles()) == 3 })
}

// What has just passed when it becomes known starts at once; what had passed before the switching on, does not.
func TestWhatHasJustPassedStartsAtOnce(t *testing.T) {
	w := start(t, true)
	w.take(t, batch("old", map[string]any{"due": at(-time.Minute)}), batch("moved", map[string]any{"due": at(time.Hour)}))
	live, _ := w.switchOn(t, "Due", "{source: cellar/batches, due: {field: due, late: 30m}}", "")
	sinceOn := at(0)
	w.take(t, batch("old", map[string]any{"due": at(-2 * time.Minute)}), // moved, but to before the switching on
		batch("moved", map[string]any{"due": sinceOn}), batch("new", map[string]any{"due": sinceOn}),
		batch("today", map[string]any{"due": time.Now().In(w.Workspace.Location()).Format(time.DateOnly)}))
	w.take(t, batch("new", map[string]any{"due": sinceOn, "status": "seen"})) // known already
	var keys []string
	eventually(t, "they start", func() bool { keys, _ = w.ticks(t, live.ID); return len(keys) >= 3 })
	time.Sleep(700 * time.Millisecond)
	keys, _ = w.ticks(t, live.ID)
	assert.ElementsMatch(t, []string{"moved", "new", "today"}, keys)
	eventually(t, "posted", func() bool { return len(w.chat.titles()) == 3 })
}

func TestAStateThatLastsAndASilence(t *testing.T) {
	w := start(t, true)
	lasts, _ := w.switchOn(t, "Lasts", "{source: cellar/batches, lasts: {that: {field: humidity, below: 80}, for: 2s}}", "")
	w.take(t, batch("a", map[string]any{"humidity": 70.0}), batch("b", map[string]any{"humidity": 70.0}))
	time.Sleep(900 * time.Millisecond)
	w.take(t, batch("b", map[string]any{"humidity": 90.0}), batch("b", map[string]any{"humidity": 71.0})) // broken for a moment, within one batch
	w.take(t, batch("a", map[string]any{"humidity": 71.0}))
	var keys []string
	eventually(t, "a fires", func() bool { keys, _ = w.ticks(t, lasts.ID); return len(keys) >= 1 })
	assert.Equal(t, []string{"a"}, keys, "the broken stretch began anew")
	eventually(t, "b fires", func() bool { keys, _ = w.ticks(t, lasts.ID); return len(keys) == 2 })
	w.take(t, batch("a", map[string]any{"humidity": 60.0}))
	silent, _ := w.switchOn(t, "Silent", "{source: cellar/batches, silent: {for: 1s}}", "")
	eventually(t, "silence is noticed", func() bool { keys, _ = w.ticks(t, silent.ID); return len(keys) == 1 })
	time.Sleep(1500 * time.Millisecond)
	keys, _ = w.ticks(t, silent.ID)
	assert.Len(t, keys, 1, "once for each silence")
	w.take(t, batch("a", map[string]any{"humidity": 60.5}))
	eventually(t, "the next silence", func() bool { keys, _ = w.ticks(t, silent.ID); return len(keys) == 2 })
	keys, _ = w.ticks(t, lasts.ID)
	assert.Len(t, keys, 2, "once for each stretch")
}

func TestTimersOutliveProcessesAndFireOnce(t *testing.T) {
	w := start(t, false)
	live, _ := w.switchOn(t, "Due", "{source: cellar/batches, due: {field: due}}", "")
	var events []hook.Event
	for i := range 40 {
		events = append(events, batch(fmt.Sprint(i), map[string]any{"due": at(1500*time.Millisecond + time.Duration(i)*20*time.Millisecond)}))
	}
	w.take(t, events...) // nobody works yet: the timers are set by whoever comes
	for range 3 {
		e, err := engine.New(w.Store, w.Workspace, slog.New(slog.DiscardHandler))
		require.NoError(t, err)
		e.Env = testdb.Loopback(t, w.Workspace)
		require.NoError(t, e.Start(context.Background()))
		t.Cleanup(e.Stop)
	}
	var keys []string
	eventually(t, "all have fired", func() bool { keys, _ = w.ticks(t, live.ID); return len(keys) >= 40 })
	time.Sleep(300 * time.Millisecond)
	keys, _ = w.ticks(t, live.ID)
	assert.Len(t, keys, 40)
	eventually(t, "posted", func() bool { return len(w.chat.titles()) == 40 })
}

// A moment of the calendar that passed while nothing ran is made up for once, or not at all, as the sheet says.
func TestMissedSchedules(t *testing.T) {
	w := start(t, false)
	once, _ := w.switchOn(t, "Once", `{schedule: {cron: "*/5 * * * *"}}`, "")
	skip, _ := w.switchOn(t, "Skip", `{schedule: {cron: "*/5 * * * *", missed: skip}}`, "")
	soon, _ := w.switchOn(t, "Soon", `{schedule: {start: "2020-01-01T00:00", rule: "FREQ=MINUTELY"}}`, "")
	require.NoError(t, w.Store.DB.Exec("UPDATE timers SET due_at = due_at - interval '1 day' WHERE workflow <> ?", soon.ID).Error)
	require.NoError(t, w.Start(context.Background()))
	var keys []string
	eventually(t, "made up for", func() bool { keys, _ = w.ticks(t, once.ID); return len(keys) == 1 })
	var left int64
	eventually(t, "both wait for the next", func() bool {
		require.NoError(t, w.Store.DB.Raw("SELECT count(*) FROM timers WHERE due_at > now()").Scan(&left).Error)
		return left == 3
	})
	keys, _ = w.ticks(t, skip.ID)
	assert.Empty(t, keys)
	_, late := w.ticks(t, once.ID)
	assert.Less(t, late[0], 6*time.Minute, "the last of the missed ones")
	require.NoError(t, w.Timing.Disarm(context.Background(), once.ID))
	require.NoError(t, w.Store.DB.Raw("SELECT count(*) FROM timers").Scan(&left).Error)
	assert.EqualValues(t, 2, left)
}

func TestStartingByHand(t *testing.T) {
	w := start(t, true)
	w.take(t, batch("a", nil), batch("b", nil), batch("c", nil))
	live, plan := w.switchOn(t, "Start", "{start: {source: cellar/batches, ask: [{name: why, required: true}, {name: n, type: number}]}}", "")
	ctx := context.Background()
	answers, err := sheet.Answers(plan.Trigger.Ask, map[string]any{"why": "mould", "n": "1,200"}, w.Workspace)
	require.NoError(t, err)
	assert.Equal(t, map[string]any{"why": "mould", "n": 1200.0}, answers)
	for _, bad := range []map[string]any{{}, {"why": ""}, {"why": "x", "n": "many"}, {"why": "x", "whi": 1}} {
		_, err := sheet.Answers(plan.Trigger.Ask, bad, w.Workspace)
		require.Error(t, err, bad)
	}
	receipts, err := w.Writer.Start(ctx, live, plan, []string{"a", "c"}, answers, intake.Cause{By: "Marit"})
	require.NoError(t, err)
	assert.Len(t, receipts, 2)
	eventually(t, "told", func() bool { return len(w.chat.titles()) == 2 })
	_, err = w.Writer.Start(ctx, live, plan, []string{"gone"}, answers, intake.Cause{By: "Marit"})
	require.ErrorContains(t, err, "there is no record gone")
	_, err = w.Writer.Start(ctx, live, plan, []string{"a"}, answers, intake.Cause{By: "Marit", Once: "key-1"})
	require.NoError(t, err)
	again, err := w.Writer.Start(ctx, live, plan, []string{"a"}, answers, intake.Cause{By: "Marit", Once: "key-1"})
	require.NoError(t, err)
	assert.Empty(t, again, "the same start again is the same start")
	eventually(t, "told", func() bool { return len(w.chat.titles()) == 3 })
}

// A field that vanishes or changes its type is told, with the sheets that use it, and taken back when it returns.
func TestDrift(t *testing.T) {
	w := start(t, false)
	w.switchOn(t, "Uses it", "{source: cellar/batches, on: [updated]}", "keep: {field: humidity, above: 5}")
	require.NoError(t, w.Store.DB.Create(&store.Connection{ID: "cellar", Kind: "hook", Title: "Cellar", KeyField: "id", CreatedAt: time.Now()}).Error)
	require.NoError(t, w.Store.DB.Create(&store.Source{Name: "cellar/batches", Connection: "cellar", Title: "Batches", KeyField: "id"}).Error)
	send := func(n int, fields func(i int) map[string]any) {
		var events []hook.Event
		for i := range n {
			events = append(events, batch(fmt.Sprint(i), fields(i)))
		}
		w.take(t, events...)
	}
	notices := func() (out []string) {
		require.NoError(t, w.Sources.LookForDrift(context.Background()))
		require.NoError(t, w.Store.DB.Raw("SELECT words FROM notices WHERE done_at IS NULL ORDER BY what").Scan(&out).Error)
		return out
	}
	send(12, func(i int) map[string]any {
		return map[string]any{"humidity": float64(i), "cheese": "Alp", "rare": map[bool]any{true: "x"}[i == 0]}
	})
	assert.Empty(t, notices())
	send(12, func(i int) map[string]any { return map[string]any{"humidity": "high " + fmt.Sprint(i), "sort": "Alp"} })
	assert.Equal(t, []string{
		"The field cheese of cellar/batches is not there any more. No sheet uses it.",
		"The field humidity of cellar/batches was number, and now is text. It is used by Uses it.",
	}, notices())
	send(12, func(i int) map[string]any { return map[string]any{"humidity": float64(i) + 100, "cheese": "Alp"} })
	assert.Equal(t, []string{"The field sort of cellar/batches is not there any more. No sheet uses it."}, notices())
}
