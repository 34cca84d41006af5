package engine_test

import (
	"context"
	"database/sql"
	"fmt"
	"maps"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"dorfbote/internal/store"
)

// What is said in a room: a reply in an alert's thread counts as an answer to it, a command is done and answered in its thread, and
// one that nobody knows is answered by what is understood.
func TestWhatIsSaidInARoom(t *testing.T) {
	w := start(t, true)
	require.NoError(t, w.Store.DB.Create(&store.Connection{ID: "talk", Kind: "hook", Title: "Talk", KeyField: "id", CreatedAt: time.Now()}).Error)
	w.only(t, strings.NewReplacer("within: 3s", "within: 8s", "within: 2s", "within: 8s").Replace(claimable))
	ctx := context.Background()
	command := "dorfbote: 1\nname: Done\nwatch: {source: talk/tours, command: done}\nmessages: {m: {title: \"x\"}}\nroute: {otherwise: {tell: [{each: \"${[]}\", to: \"square/#tours\", message: m}]}}\n"
	row := store.Workflow{Name: "Done", Draft: command, CreatedAt: time.Now(), UpdatedAt: time.Now()}
	require.NoError(t, w.Store.DB.Create(&row).Error)
	_, err := w.Store.SwitchOn(ctx, row.ID, store.SwitchedOn{Sheet: command, Source: "talk/tours"}, func(*gorm.DB, *store.Workflow) error { return nil })
	require.NoError(t, err)
	w.take(t, event("1", "A", "late", 900))
	eventually(t, "told", func() bool { return len(w.chat.titles()) == 1 })
	eventually(t, "it is written down", func() bool { return w.postOf(t, "message = 'm'").State == store.Sent })
	post := w.postOf(t, "message = 'm'")
	about, err := w.Store.AboutOf(ctx, "talk/tours", "#tours", post.RemoteID)
	require.NoError(t, err)
	require.Equal(t, &store.About{Workflow: "Late", WorkflowID: 1, Arrival: post.Arrival, Source: "tours/collections", Key: "A"}, about)
	said := func(id, text string, more map[string]any) {
		record := map[string]any{"id": id, "author": "Vera", "text": text, "room": "#tours"}
		maps.Copy(record, more)
		ev := event("m"+id, id, "", 0)
		ev.Source, ev.Record, ev.Type = "talk/tours", record, "dorfbote.record.created"
		w.take(t, ev)
	}
	said("77", "on  my way", map[string]any{"thread": post.RemoteID, "about": map[string]any{"workflow": "Late", "key": "A", "arrival": float64(post.Arrival), "workflow_id": 1.0}})
	eventually(t, "the answer counts", func() bool {
		a, err := w.Store.AlertOf(ctx, post.Arrival, 1)
		return err == nil && a.RepliedBy == "Vera"
	})
	said("78", "@dorfbote collect COL-1", nil)
	eventually(t, "what is understood is said", func() bool { return len(w.chat.titles()) == 2 })
	answer := w.postOf(t, "message = 'answer'")
	assert.Contains(t, string(answer.Body), "What I understand here: done.")
	assert.Equal(t, "78", w.chat.under[1], "in the thread of who asked")
	require.Equal(t, []string{"A late", ""}, w.chat.titles(), "the steps come later")
	said("79", "just talking", nil)
	eventually(t, "nobody took it, and the other step was answered", func() bool { return len(w.chat.titles()) == 3 })
	time.Sleep(600 * time.Millisecond)
	assert.Equal(t, []string{"A late", "", "nobody: A late"}, w.chat.titles())
}

// What is understood is known of every workflow, be it decided with the others or at its own pace.
func TestAnUnknownCommandIsAnsweredAtAnyPace(t *testing.T) {
	w := start(t, true)
	ctx := context.Background()
	require.NoError(t, w.Store.DB.Create(&store.Connection{ID: "talk", Kind: "hook", Title: "Talk", KeyField: "id", CreatedAt: time.Now()}).Error)
	for i, name := range []string{"done", "late"} {
		sheet := "dorfbote: 1\nname: " + name + "\nwatch: {source: talk/tours, command: " + name + "}\nmessages: {m: {title: \"got it\"}}\nroute: {otherwise: {tell: [{to: \"square/#tours\", message: m}]}}\n"
		row := store.Workflow{Name: name, Draft: sheet, CreatedAt: time.Now(), UpdatedAt: time.Now()}
		require.NoError(t, w.Store.DB.Create(&row).Error)
		on, err := w.Store.SwitchOn(ctx, row.ID, store.SwitchedOn{Sheet: sheet, Source: "talk/tours"}, func(*gorm.DB, *store.Workflow) error { return nil })
		require.NoError(t, err)
		if i == 0 {
			require.NoError(t, w.Store.Tx(ctx, func(_ *gorm.DB, tx *sql.Tx) error {
				return store.GiveOwnMark(ctx, tx, store.OwnMark{Workflow: on.ID, Source: "talk/tours", Stays: true})
			}))
		}
	}
	said := func(id, text string) {
		ev := event("m"+id, id, "", 0)
		ev.Source, ev.Type, ev.Record = "talk/tours", "dorfbote.record.created", map[string]any{"id": id, "author": "Vera", "text": text, "room": "#tours"}
		w.take(t, ev)
	}
	said("1", "@dorfbote done COL-1")
	eventually(t, "the command is taken", func() bool { return len(w.chat.titles()) == 1 })
	said("2", "@dorfbote mend COL-1")
	eventually(t, "what is understood is said", func() bool { return len(w.chat.titles()) == 2 })
	answer := w.postOf(t, "message = 'answer'")
	assert.Contains(t, string(answer.Body), "What I understand here: done, late.")
	said("3", "/late COL-2")
	eventually(t, "the other too", func() bool { return len(w.chat.titles()) == 3 })
	assert.Equal(t, []string{"got it", "", "got it"}, w.chat.titles(), "a command that is known is not called unknown")
}

// Whoever gives a command hears why nothing came of it, in the thread of what they said: it could not be worked out, the sheet keeps it
// out, or has no row for it. Talk that is no command is not answered.
func TestACommandThatComesToNothingIsAnswered(t *testing.T) {
	w := start(t, true)
	ctx := context.Background()
	require.NoError(t, w.Store.DB.Create(&store.Connection{ID: "talk", Kind: "hook", Title: "Talk", KeyField: "id", CreatedAt: time.Now()}).Error)
	sheet := `dorfbote: 1
name: done
watch: {source: talk/tours, command: done}
keep: {field: author, is: Vera}
messages: {m: {title: "got ${record.words[0]}"}}
route: {rows: [{name: A, when: {formula: "len(record.words) < 3"}, tell: [{to: "square/#tours", message: m}]}]}
`
	row := store.Workflow{Name: "done", Draft: sheet, CreatedAt: time.Now(), UpdatedAt: time.Now()}
	require.NoError(t, w.Store.DB.Create(&row).Error)
	_, err := w.Store.SwitchOn(ctx, row.ID, store.SwitchedOn{Sheet: sheet, Source: "talk/tours"}, func(*gorm.DB, *store.Workflow) error { return nil })
	require.NoError(t, err)
	n := 0
	for _, c := range []struct{ by, text, want string }{
		{"Vera", "done COL-1", ""},
		{"Vera", "done", "Vera: could not do it: record.words[0]: there is no element [0] in a list of 0"},
		{"Jonas", "done COL-1", "Jonas: did nothing; what decided is: author is Vera"},
		{"Vera", "done a b c", "Vera: did nothing: no row of the workflow is for this"},
		{"Jonas", "well done", "-"},
		{"Vera", "done COL-2", ""},
	} {
		n++
		id := fmt.Sprint("m", n)
		ev := event(id, id, "", 0)
		ev.Source, ev.Type, ev.Record = "talk/tours", "dorfbote.record.created", map[string]any{"id": id, "author": c.by, "text": c.text, "room": "#tours"}
		before := len(w.chat.titles())
		w.take(t, ev)
		if c.want == "-" {
			continue
		}
		eventually(t, c.text, func() bool { return len(w.chat.titles()) == before+1 })
		if c.want == "" {
			assert.Contains(t, w.chat.titles()[before], "got COL-")
			continue
		}
		assert.Equal(t, id, w.chat.under[before], "in the thread of who said it")
		var body string
		require.NoError(t, w.Store.DB.Raw("SELECT body::text FROM posts WHERE message = 'answer' ORDER BY id DESC LIMIT 1").Scan(&body).Error)
		assert.Contains(t, body, c.want)
	}
	assert.Len(t, w.chat.titles(), 5)
}

// Who gave a command hears what came of it once more where it goes on after a failure, and the same not twice.
func TestACommandThatGoesOnAfterAFailure(t *testing.T) {
	w := start(t, true)
	ctx := t.Context()
	require.NoError(t, w.Store.DB.Create(&store.Connection{ID: "talk", Kind: "hook", Title: "Talk", KeyField: "id", CreatedAt: time.Now()}).Error)
	id := w.turnedOn(t, `dorfbote: 1
name: close
watch: {source: talk/tours, command: close}
messages: {m: {title: x}}
route: {otherwise: {tell: [{to: "square/#tours", message: m}]}}
follow: [{change: {source: tours/collections, key: "${record.words[0]}", set: {status: closed}}}]
`)
	ev := event("m1", "m1", "", 0)
	ev.Source, ev.Type, ev.Record = "talk/tours", "dorfbote.record.created", map[string]any{"id": "m1", "author": "Vera", "text": "close COL-1", "room": "#tours"}
	seq := w.take(t, ev)[0].Seq
	answers := func() (words []string) {
		require.NoError(t, w.Store.DB.Raw("SELECT body::text FROM posts WHERE message = 'answer' AND state = 'sent' ORDER BY id").Scan(&words).Error)
		return words
	}
	eventually(t, "it fails, and Vera hears so", func() bool { return len(answers()) == 1 })
	assert.Contains(t, answers()[0], "could not do it (tours/collections COL-1)")
	require.NoError(t, w.Store.DB.Exec("UPDATE steps SET state = 'done' WHERE arrival = ?", seq).Error)
	for range 2 {
		require.NoError(t, w.Decider.AnswerCommand(ctx, seq, id))
	}
	eventually(t, "and that it is done", func() bool { return len(answers()) == 2 })
	assert.Contains(t, answers()[1], "Vera: changed tours/collections COL-1")
}

// A question that stands in a room is answered there: in its thread, or by naming what it is about; also where no workflow watches the room.
// Who answers hears what came of it; talk is no answer.
func TestAQuestionIsAnsweredInItsRoom(t *testing.T) {
	w := start(t, true)
	ctx := context.Background()
	require.NoError(t, w.Store.DB.Create(&store.Connection{ID: "talk", Kind: "hook", Title: "Talk", KeyField: "id", CreatedAt: time.Now()}).Error)
	w.only(t, strings.NewReplacer("within: 4s", "within: 1h", "remind: 1s", "remind: 30m", `["square/#tours", "square/#other"]`, `["square/#tours"]`).Replace(asking))
	w.take(t, event("1", "A", "late", 900), event("2", "B", "late", 900), event("3", "C", "late", 900))
	eventually(t, "asked", func() bool { return len(w.chat.titles()) == 3 })
	about := map[string]map[string]any{}
	for _, p := range func() (list []store.Post) {
		require.NoError(t, w.Store.DB.Where("message = 'q'").Find(&list).Error)
		return list
	}() {
		var a store.Arrival
		require.NoError(t, w.Store.DB.First(&a, "seq = ?", p.Arrival).Error)
		about[a.Subject] = map[string]any{"workflow": "Late", "key": a.Subject, "arrival": float64(p.Arrival), "workflow_id": float64(p.Workflow)}
	}
	n := 0
	said := func(by, text, thread string) (answer string) {
		t.Helper()
		n++
		id := fmt.Sprint("m", n)
		record := map[string]any{"id": id, "author": by, "text": text, "room": "#tours"}
		if thread != "" {
			record["thread"], record["about"] = "1", about[thread]
		}
		ev := event(id, id, "", 0)
		ev.Source, ev.Type, ev.Record = "talk/tours", "dorfbote.record.created", record
		w.take(t, ev)
		for end := time.Now().Add(3 * time.Second); time.Now().Before(end); time.Sleep(30 * time.Millisecond) {
			var bodies []string
			require.NoError(t, w.Store.DB.Raw("SELECT body::text FROM posts WHERE message = 'answer' AND under_remote = ?", id).Scan(&bodies).Error)
			if len(bodies) > 0 {
				return bodies[0]
			}
		}
		return ""
	}
	assert.Empty(t, said("Vera", "yes, but I would rather wait", "A"), "that is talk")
	assert.Contains(t, said("Vera", "@dorfbote perhaps", "A"), "What I understand here: no, yes.")
	assert.Contains(t, said("Vera", "no", "A"), "needs a comment")
	assert.Contains(t, said("Vera", "No: too far", "A"), "Vera: Thank you. Your answer has been taken.")
	assert.Contains(t, said("Jonas", "yes", "A"), "Jonas: Vera was faster: no")
	assert.Contains(t, said("Vera", "no: too far", "A"), "Vera: Thank you. Your answer has been taken.", "she may not have heard so")
	assert.Contains(t, said("Jonas", "/approve b go on", ""), "Jonas: Thank you. Your answer has been taken.")
	assert.Empty(t, said("Jonas", "approve X", ""), "nothing is asked about X")
	eventually(t, "both are decided", func() bool {
		titles := fmt.Sprint(w.chat.titles())
		return strings.Contains(titles, "A no by Vera: too far") && strings.Contains(titles, "B yes by Jonas: go on")
	})
	open, err := w.Store.Asks(ctx, store.AskFilter{State: store.AskOpen, Limit: 10})
	require.NoError(t, err)
	require.Len(t, open, 1)
	assert.Equal(t, "may C?", open[0].Title)
	var audits int64
	require.NoError(t, w.Store.DB.Raw("SELECT count(*) FROM audit WHERE did = 'answered a question'").Scan(&audits).Error)
	assert.EqualValues(t, 2, audits)
}
