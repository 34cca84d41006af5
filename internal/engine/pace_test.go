package engine_test

import (
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"dorfbote/internal/connect/hook"
	"dorfbote/internal/core/arrival"
	"dorfbote/internal/core/decide"
	"dorfbote/internal/core/rehearse"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
	"dorfbote/internal/store"
)

// The paces that live and rehearsed must come to the same.
var paces = []string{
	`{repeat: {key: "${record.id}", within: 2h}}`,
	`{repeat: {key: "${record.id}", within: 3h, then: update}}`,
	`{repeat: {key: "${record.id}", within: 3h, then: reply}, quiet: {open: [{from: "05:00", to: "20:00"}]}}`,
	`{limit: {posts: 3, per: 1h}, quiet: {open: [{from: "05:00", to: "20:00"}], urgent: pass}}`,
	`{digest: {every: 5h}, repeat: {key: "${record.status}", within: 40m}}`,
	`{digest: {at: ["07:00", "16:00"]}}`,
	`{digest: {at: "07:00"}, quiet: {open: [{from: "08:00", to: "20:00"}], urgent: pass}, repeat: {key: "${record.id}", within: 9h, then: update}}`,
	`{digest: {every: 3h}, repeat: {key: "${record.id}", within: 20h, then: reply}}`,
	`{repeat: {key: "${record.id}", within: 12h, then: update}, quiet: {open: [{from: "05:00", to: "20:00"}], urgent: pass}, limit: {posts: 2, per: 2h}}`,
	`{repeat: {key: "${record.id}", within: 12h}, quiet: {open: [{from: "05:00", to: "20:00"}], urgent: pass}, useful_for: 400h}`,
	`{repeat: {key: "${record.id}", within: 12h, then: reply}, quiet: {open: [{from: "05:00", to: "20:00"}], urgent: pass}, limit: {posts: 1, per: 3h}}`,
	keeping + `{useful_for: 400h}`,
	keeping + `{repeat: {key: "${record.id}", within: 2h, then: update}, quiet: {open: [{from: "05:00", to: "20:00"}]}}`,
	keeping + `{limit: {posts: 2, per: 2h}, quiet: {open: [{from: "05:00", to: "20:00"}], urgent: pass}}`,
	keeping + `{digest: {every: 3h}}`,
}

// keeping stands before a pace whose sheet has posts follow their records.
const keeping = "keeping "

func paceSheet(name, pace string) string {
	pace, keeps := strings.CutPrefix(pace, keeping)
	text := fmt.Sprintf(`dorfbote: 1
name: %s
watch: {source: tours/collections}
keep: {field: litres, above: 200}
messages:
  alert: {title: "${record.id} ${record.litres}", tone: "${record.litres > 1500 ? 'urgent' : 'plain'}"}
  detail: {title: "detail of ${record.id}"}
route:
  take: every
  rows:
    - {name: Late, when: {field: status, is: late}, tell: [{to: "square/#tours", message: alert, reply: detail}]}
    - {name: Much, when: {field: litres, above: 1000}, tell: [{to: "square/#board", message: alert}]}
  otherwise: {tell: [{to: "square/#tours", message: detail}]}
pace: %s
`, name, pace)
	if keeps {
		text = strings.Replace(text, "reply: detail}", "reply: detail, keep_up: {until: {field: status, is: refused}, for: 9h}}", 1)
		text = strings.Replace(text, "watch: {source: tours/collections}", "watch: {source: tours/collections, when: {field: litres, above: 100}}", 1)
	}
	return text
}

// The live engine, on its database, makes of the same arrivals what a rehearsal makes of them: the same verdicts, and
// the same posts in the same order for each destination.
func TestThePaceIsTheSameLiveAndRehearsed(t *testing.T) {
	w := start(t, false)
	ctx := context.Background()
	require.NoError(t, w.Store.DB.Create(&store.Destination{Name: "square/#board", Connection: "square", Title: "#board"}).Error)
	for i, pace := range paces {
		text := paceSheet(fmt.Sprint("Pace ", i), pace)
		row := store.Workflow{Name: fmt.Sprint("Pace ", i), Draft: text, CreatedAt: time.Now(), UpdatedAt: time.Now()}
		require.NoError(t, w.Store.DB.Create(&row).Error)
		_, err := w.Store.SwitchOn(ctx, row.ID, store.SwitchedOn{Sheet: text, Source: "tours/collections", Since: -1}, func(*gorm.DB, *store.Workflow) error { return nil })
		require.NoError(t, err)
	}
	r := rand.New(rand.NewPCG(4, 20))
	at := time.Now().UTC().Add(-72 * time.Hour).Truncate(time.Second)
	var events []hook.Event
	var file bytes.Buffer
	for i := range 300 {
		at = at.Add(time.Duration(r.IntN(1200)) * time.Second)
		a := &arrival.Arrival{ID: fmt.Sprint("e", i), Source: "tours/collections", Type: arrival.Updated, Subject: fmt.Sprint("C", r.IntN(6)), Time: at,
			Record: map[string]any{"status": []string{"planned", "late", "refused"}[r.IntN(3)], "litres": float64(r.IntN(2000))}}
		a.Record["id"] = a.Subject
		events = append(events, hook.Event{Arrival: a})
		file.Write(append(a.AppendJSON(nil), '\n'))
	}
	w.take(t, events...)
	require.NoError(t, w.Start(ctx))
	eventually(t, "everything is decided, and nothing held is due", func() bool {
		var done, due int64
		w.Store.DB.Raw("SELECT count(DISTINCT arrival) FROM verdicts WHERE workflow > 1").Scan(&done)
		w.Store.DB.Raw("SELECT count(*) FROM pace_held WHERE due_at <= now()").Scan(&due)
		return done >= 260 && due == 0
	})
	for i, pace := range paces {
		var id int64
		require.NoError(t, w.Store.DB.Raw("SELECT id FROM workflows WHERE name = ?", fmt.Sprint("Pace ", i)).Scan(&id).Error)
		in := bytes.NewReader(file.Bytes())
		scout, err := rehearse.Look(in, nil, func(string) bool { return false })
		require.NoError(t, err)
		plan, _, problems := sheet.Compile([]byte(paceSheet("x", pace)), sheet.Known{Workspace: value.DefaultWorkspace()})
		require.NotNil(t, plan, "%v", problems)
		verdicts, posts := map[string]string{}, map[string][]string{}
		require.NoError(t, scout.Run(in, plan, time.Now(), rehearse.NewMachine(plan, nil, func(l rehearse.Line) error {
			if l.Later {
				for _, a := range l.Arrivals {
					first, _, _ := strings.Cut(verdicts[a], " then ")
					verdicts[a] = first + " then " + string(l.Verdict)
				}
			} else if l.Verdict != decide.Ignored {
				verdicts[l.Arrival] = string(l.Verdict)
			}
			for _, p := range l.Posts {
				hangs := ""
				if p.Under >= 0 || p.UnderRef != "" {
					hangs = " under"
				}
				if p.Updates != "" {
					hangs = " instead"
				}
				posts[p.To] = append(posts[p.To], strings.TrimPrefix(p.Doc.Title, "x")+" "+p.Doc.Tone+hangs)
			}
			return nil
		})))
		var rows []struct{ ID, Verdict, Later string }
		require.NoError(t, w.Store.DB.Raw("SELECT a.id, v.verdict, v.later FROM verdicts v JOIN arrivals a ON a.seq = v.arrival WHERE v.workflow = ?", id).Scan(&rows).Error)
		live := map[string]string{}
		for _, row := range rows {
			if live[row.ID] = row.Verdict; row.Later != "" {
				live[row.ID] += " then " + row.Later
			}
		}
		assert.Equal(t, verdicts, live, pace)
		var sent []struct {
			Destination, Title, Tone, Hangs string
		}
		require.NoError(t, w.Store.DB.Raw(`SELECT destination, title, body->>'tone' AS tone, CASE WHEN under IS NOT NULL THEN ' under' WHEN updates IS NOT NULL THEN ' instead' ELSE '' END AS hangs
			FROM posts WHERE workflow = ? ORDER BY id`, id).Scan(&sent).Error)
		livePosts := map[string][]string{}
		for _, p := range sent {
			livePosts[p.Destination] = append(livePosts[p.Destination], strings.TrimPrefix(p.Title, fmt.Sprint("Pace ", i))+" "+p.Tone+p.Hangs)
		}
		assert.Equal(t, posts, livePosts, pace)
	}
}

// What is held does not go ahead of an arrival that came before its moment and is still to be decided; but it does not wait for ever.
func TestWhatIsHeldWaitsForWhatIsUndecided(t *testing.T) {
	w := start(t, true)
	ctx := context.Background()
	w.only(t, "messages: {m: {title: \"${record.id}\"}}\nroute: {otherwise: {tell: [{to: \"square/#tours\", message: m}]}}\npace: {digest: {every: 6h}}\n")
	first := event("1", "A", "late", 900)
	first.Time = time.Now().UTC().Add(-3 * time.Hour)
	w.take(t, first)
	held := func() (n int64) {
		require.NoError(t, w.Store.DB.Raw("SELECT count(*) FROM pace_held WHERE workflow = 1").Scan(&n).Error)
		return n
	}
	eventually(t, "held", func() bool { return held() == 1 })
	w.Stop() // nothing is decided from here on
	second := event("2", "B", "late", 900)
	second.Time = time.Now().UTC().Add(-2 * time.Hour)
	w.take(t, second)
	do := func(sql string) { require.NoError(t, w.Store.DB.Exec(sql).Error) }
	do("UPDATE pace_held SET due_at = now() - interval '1 hour'")
	letGo := func() {
		t.Helper()
		_, err := w.Decider.LetGoDue(ctx)
		require.NoError(t, err)
	}
	letGo()
	assert.EqualValues(t, 1, held(), "the second belongs into the same digest")
	do("UPDATE arrivals SET received_at = now() - interval '5 minutes'")
	letGo()
	assert.Zero(t, held(), "what is not decided for so long holds up nothing")
}

// A repeat is put into the post that told of the first, and a post that has waited for too long is not sent.
func TestUpdatingInPlaceAndExpiring(t *testing.T) {
	w := start(t, true)
	text := strings.Replace(sheetText, "name: Late\n", "name: Late\npace: {repeat: {key: \"${record.id}\", within: 2h, then: update}, useful_for: 1h}\n", 1)
	text = strings.Replace(text, ", when: {field: status, became: late}", "", 1)
	_, err := w.Store.SwitchOn(context.Background(), 1, store.SwitchedOn{Sheet: text, Source: "tours/collections"}, func(*gorm.DB, *store.Workflow) error { return nil })
	require.NoError(t, err)
	w.take(t, event("1", "A", "late", 900))
	eventually(t, "told", func() bool { return len(w.chat.titles()) == 2 })
	w.take(t, event("2", "A", "collected", 901))
	eventually(t, "updated", func() bool { return len(w.chat.edits()) == 1 })
	assert.Equal(t, []string{"1001: A late"}, w.chat.edits())
	old := event("3", "B", "late", 900)
	old.Time = time.Now().UTC().Add(-2 * time.Hour)
	w.take(t, old)
	eventually(t, "expired", func() bool {
		var n int64
		w.Store.DB.Model(&store.Post{}).Where("state = ?", store.Expired).Count(&n)
		return n == 2
	})
	assert.Len(t, w.chat.titles(), 2, "what is of no use any more was not sent")
}
