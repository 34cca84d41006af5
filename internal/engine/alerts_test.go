package engine_test

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"dorfbote/internal/connect/hook"
	"dorfbote/internal/core/decide"
	"dorfbote/internal/core/people"
	"dorfbote/internal/engine/alerts"
	"dorfbote/internal/engine/links"
	"dorfbote/internal/store"
)

// only switches another sheet on in the place of the first.
func (w *world) only(t *testing.T, rest string) {
	t.Helper()
	text := "dorfbote: 1\nname: Late\nwatch: {source: tours/collections}\n" + rest
	_, err := w.Store.SwitchOn(context.Background(), 1, store.SwitchedOn{Sheet: text, Source: "tours/collections"}, func(*gorm.DB, *store.Workflow) error { return nil })
	require.NoError(t, err)
}

// link gives what stands behind /act/ in the link to a button of a post.
func (w *world) link(t *testing.T, post int64, n int, native bool) string {
	t.Helper()
	to, err := w.Links.Address(context.Background(), links.Link{For: links.Button, ID: post, N: n, Until: w.Now().Add(time.Hour), Native: native})
	require.NoError(t, err)
	return afterDoor(to)
}

// afterDoor is what stands behind /act/.
func afterDoor(address string) string {
	_, token, _ := strings.Cut(address, "/act/")
	return token
}

func (w *world) postOf(t *testing.T, where string) store.Post {
	t.Helper()
	var p store.Post
	require.NoError(t, w.Store.DB.Where(where).Order("id DESC").First(&p).Error)
	return p
}

const claimable = `messages:
  m: {title: "${record.id} ${record.status}", buttons: [{text: I take it, claim: true}, {text: Later, later: 1s}, {text: Done, change: {set: {status: done}}, who: "Vera"}]}
  e: {title: "nobody: ${record.id} ${record.status}"}
route: {otherwise: {tell: [{to: "square/#tours", message: m}]}}
follow:
  - unless: {claimed: true, within: 2s}
    tell: [{to: "square/#tours", message: e}]
  - unless: {any: [{field: status, is: done}, {answered: true}], within: 3s}
    tell: [{to: "square/#tours", message: e}]
`

// A thousand presses at once are one claim; it ends the step that names it and no other, and the thread is told.
func TestAClaimEndsTheEscalation(t *testing.T) {
	w := start(t, true)
	w.only(t, claimable)
	ctx := context.Background()
	w.take(t, event("1", "A", "late", 900))
	eventually(t, "told", func() bool { return len(w.chat.titles()) == 1 })
	post := w.postOf(t, "message = 'm'")
	eventually(t, "the steps count", func() bool {
		list, err := w.Store.EscalationsOf(ctx, post.Arrival, 1)
		return err == nil && len(list) == 2 && list[0].DueAt != nil && list[1].DueAt != nil
	})
	token := w.link(t, post.ID, 0, true)
	var took, late int
	var mu sync.Mutex
	var wg sync.WaitGroup
	for i := range 1000 {
		wg.Go(func() {
			done, err := w.Alerts.Press(ctx, token, 0, alerts.Who{Native: fmt.Sprint("P", i)}, "")
			mu.Lock()
			defer mu.Unlock()
			if err == nil && !done.Again {
				took++
			} else if err == nil && strings.Contains(done.Words, "was faster") {
				late++
			}
		})
		if i%50 == 49 {
			wg.Wait()
		}
	}
	wg.Wait()
	assert.Equal(t, []int{1, 999}, []int{took, late})
	eventually(t, "the thread was told, and others where nobody answered", func() bool { return len(w.chat.titles()) == 3 })
	time.Sleep(1500 * time.Millisecond)
	titles := w.chat.titles()
	assert.Equal(t, []string{"A late", "", "nobody: A late"}, titles)
	assert.Equal(t, "1001", w.chat.under[1], "in the thread of the alert")
	deeds, err := w.Store.ActsOf(ctx, post.Arrival, 1)
	require.NoError(t, err)
	require.Len(t, deeds, 2)
	assert.Equal(t, []string{store.ActClaimed, store.ActFollowed}, []string{deeds[0].What, deeds[1].What})
}

// Links: forged, altered and expired ones are not taken; who is not meant is refused; later tells again unless it was taken.
func TestButtonsAreForWhomTheyAreFor(t *testing.T) {
	w := start(t, true)
	w.only(t, claimable)
	ctx := context.Background()
	w.take(t, event("1", "A", "late", 900))
	eventually(t, "told", func() bool { return len(w.chat.titles()) == 1 })
	post := w.postOf(t, "message = 'm'")
	good := w.link(t, post.ID, 2, false)
	refused := func(token string, who alerts.Who) string {
		t.Helper()
		_, err := w.Alerts.Press(ctx, token, 2, who, "")
		why := &alerts.Refused{}
		require.ErrorAs(t, err, &why)
		return why.Words
	}
	for _, forged := range []string{"", "x", good + "x", strings.Replace(good, "b.", "c.", 1), strings.Replace(good, ".l.", ".n.", 1), strings.Replace(good, ".2.", ".0.", 1), strings.Repeat("a.", 300)} {
		assert.Equal(t, links.ErrForged.Error(), refused(forged, alerts.Who{}), forged)
	}
	old, err := w.Links.Address(ctx, links.Link{For: links.Button, ID: post.ID, N: 2, Until: time.Now().Add(-time.Second)})
	require.NoError(t, err)
	assert.Equal(t, links.ErrExpired.Error(), refused(afterDoor(old), alerts.Who{}))
	assert.Contains(t, refused(good, alerts.Who{}), "Sign in")
	assert.Contains(t, refused(good, alerts.Who{Native: "Vera"}), "Sign in", "a link from a room does not say who has it")
	assert.Contains(t, refused(good, alerts.Who{Account: &store.Person{Name: "Jonas", Email: "j@x.example"}}), "not for Jonas")
	assert.Contains(t, refused(w.link(t, post.ID, 2, true), alerts.Who{Native: "Jonas"}), "not for Jonas")
	assert.Contains(t, refused(good, alerts.Who{Account: &store.Person{Name: "Vera", Email: "evil@x.example"}}), "not for Vera", "what somebody calls herself counts for nothing")
	require.NoError(t, w.Store.PutPersons(ctx, []store.BookPerson{store.InBook(people.Person{ID: "v", Name: "Vera", Addresses: []people.Address{{Connection: "mail", Address: "v@x.example"}, {Connection: "square", Address: "@vera"}}}, time.Now())}, true))
	w.Sources.ForgetPeople()
	assert.Contains(t, refused(good, alerts.Who{Account: &store.Person{Name: "Vera", Email: "evil@x.example"}}), "not for Vera (evil@x.example)", "two of one name are told apart")
	done, err := w.Alerts.Press(ctx, good, 2, alerts.Who{Account: &store.Person{Name: "Vera", Email: "v@x.example"}}, "")
	require.NoError(t, err)
	assert.Contains(t, done.Words, "there is no source", "what became of the change is said")
	done, err = w.Alerts.Press(ctx, w.link(t, post.ID, 2, true), 2, alerts.Who{Native: "vera"}, "")
	require.NoError(t, err)
	assert.True(t, done.Again)
	assert.Contains(t, done.Words, "You have pressed it already", "it was she herself")
	done, err = w.Alerts.Press(ctx, w.link(t, post.ID, 1, true), 1, alerts.Who{Native: "Jonas"}, "")
	require.NoError(t, err)
	assert.Contains(t, done.Words, "told again")
	eventually(t, "it was told again", func() bool { return strings.Count(strings.Join(w.chat.titles(), "|"), "A late") == 3 })
}

const asking = `ask:
  - {name: v, of: ["square/#tours", "square/#other"], message: q, choices: [{name: "yes", text: Approve}, {name: "no", comment: required}], within: 4s, remind: 1s, otherwise: "no"}
messages: {q: {title: "may ${record.id}?"}, m: {title: "${record.id} ${v.choice} by ${v.by}: ${v.comment}"}}
route: {rows: [{name: Yes, when: {field: v.choice, is: "yes"}, tell: [{to: "square/#tours", message: m}]}], otherwise: {tell: [{to: "square/#tours", message: m}]}}
`

// A question waits, is reminded of, is answered once by whoever is faster, or ends by itself; what is asked about is as it was.
func TestAQuestionIsDecidedOnce(t *testing.T) {
	w := start(t, true)
	require.NoError(t, w.Store.DB.Create(&store.Destination{Name: "square/#other", Connection: "square", Title: "#other"}).Error)
	w.only(t, asking)
	ctx := context.Background()
	w.take(t, event("1", "A", "late", 900), event("2", "B", "late", 900))
	eventually(t, "asked", func() bool { return len(w.chat.titles()) == 4 })
	asks, err := w.Store.Asks(ctx, store.AskFilter{State: store.AskOpen, Limit: 10})
	require.NoError(t, err)
	require.Len(t, asks, 2)
	first := asks[1]
	assert.Equal(t, "may A?", first.Title)
	var sent string
	require.NoError(t, w.Store.DB.Raw("SELECT a.sent FROM attempts a JOIN posts p ON p.id = a.post WHERE p.arrival = ? ORDER BY a.id LIMIT 1", first.Arrival).Scan(&sent).Error)
	assert.Contains(t, sent, "Answer by "+first.EndsAt.In(w.Workspace.Location()).Format("Mon 2 Jan 2006, "))
	assert.Contains(t, sent, `After that, \"No\" counts`, "it says by itself until when an answer counts, and what happens then")
	_, err = w.Alerts.AnswerAsk(ctx, first.ID, "square/#other", "Jonas", "no", " ")
	require.ErrorContains(t, err, "needs a comment")
	var won sync.Map
	var wg sync.WaitGroup
	for i := range 20 {
		wg.Go(func() {
			if _, err := w.Alerts.AnswerAsk(ctx, first.ID, "square/#tours", fmt.Sprint("P", i), "yes", "fine"); err == nil {
				won.Store(i, true)
			}
		})
	}
	wg.Wait()
	n := 0
	won.Range(func(k, _ any) bool { n++; return true })
	require.Equal(t, 1, n)
	asked := func() (posts int64) {
		require.NoError(t, w.Store.DB.Raw("SELECT count(*) FROM posts WHERE arrival = ? AND title = 'may A?'", first.Arrival).Scan(&posts).Error)
		return posts
	}
	decided := asked() // more than two where this machine took more than a second
	require.GreaterOrEqual(t, decided, int64(2))
	eventually(t, "told", func() bool { return strings.Contains(strings.Join(w.chat.titles(), "|"), "A yes by P") })
	_, err = w.Alerts.AnswerAsk(ctx, first.ID, "square/#other", "Jonas", "no", "late")
	require.ErrorContains(t, err, "was faster: yes")
	eventually(t, "the other is reminded of, and ends by itself", func() bool {
		all := strings.Join(w.chat.titles(), "|")
		return strings.Count(all, "may B?") == 4 && strings.Contains(all, "B no by :")
	})
	assert.Equal(t, decided, asked(), "what is decided is not reminded of")
	var verdict store.Verdict
	require.NoError(t, w.Store.DB.First(&verdict, "arrival = ?", first.Arrival).Error)
	assert.Equal(t, []string{string(decide.Told), "Yes"}, []string{verdict.Verdict, verdict.Route})
}

// However many people answer at the same time, each is heard soon: nobody waits for a connection that another holds who waits.
func TestManyAnswerAtOnce(t *testing.T) {
	const n = 80
	w := start(t, true)
	require.NoError(t, w.Store.DB.Create(&store.Destination{Name: "square/#other", Connection: "square", Title: "#other"}).Error)
	w.only(t, strings.NewReplacer("within: 4s", "within: 1h", "remind: 1s", "remind: 30m").Replace(asking))
	var events []hook.Event
	for i := range n {
		events = append(events, event(fmt.Sprint(i), fmt.Sprint("A", i), "late", 900))
	}
	w.take(t, events...)
	eventually(t, "asked", func() bool { return len(w.chat.titles()) == 2*n })
	asks, err := w.Store.Asks(t.Context(), store.AskFilter{State: store.AskOpen, Limit: n})
	require.NoError(t, err)
	require.Len(t, asks, n)
	ctx, cancel := context.WithTimeout(t.Context(), 15*time.Second)
	defer cancel()
	failed := make(chan error, n)
	for _, a := range asks {
		go func() {
			_, err := w.Alerts.AnswerAsk(ctx, a.ID, "square/#tours", "Ann", "yes", "")
			failed <- err
		}()
	}
	for range n {
		require.NoError(t, <-failed)
	}
}

// Questions that cannot be gone on with, since what they are about is not kept any more, hold up no others: they are looked at
// again later.
func TestQuestionsThatCannotGoOnHoldUpNobody(t *testing.T) {
	w := start(t, true)
	require.NoError(t, w.Store.DB.Create(&store.Destination{Name: "square/#other", Connection: "square", Title: "#other"}).Error)
	w.only(t, strings.NewReplacer("within: 4s", "within: 1h", "remind: 1s", "remind: 30m").Replace(asking))
	ctx := context.Background()
	var events []hook.Event
	for i := range 130 {
		events = append(events, event(fmt.Sprint(i), fmt.Sprint("A", i), "late", 900))
	}
	w.take(t, events...)
	eventually(t, "asked", func() bool { return len(w.chat.titles()) == 260 })
	w.Stop() // so that they are due together
	do := func(sql string) { require.NoError(t, w.Store.DB.Exec(sql).Error) }
	do("DELETE FROM arrivals WHERE subject <> 'A129'")
	do("UPDATE asks SET due_at = now() - interval '1 minute', ends_at = now() - interval '1 minute'")
	do("UPDATE asks SET due_at = now() - interval '1 second' WHERE title = 'may A129?'")
	for range 3 {
		_, err := w.Decider.AskDue(ctx)
		require.NoError(t, err)
	}
	var states []string
	require.NoError(t, w.Store.DB.Raw("SELECT state FROM asks WHERE title = 'may A129?'").Scan(&states).Error)
	assert.Equal(t, []string{store.AskDecided}, states)
	var due int64
	require.NoError(t, w.Store.DB.Raw("SELECT count(*) FROM asks WHERE state = 'open' AND due_at > now() + interval '30 minutes'").Scan(&due).Error)
	assert.EqualValues(t, 129, due, "they are looked at again later")
}

// An alert that was taken and let go can be taken once more; its thread hears of both.
func TestTakenOnceMore(t *testing.T) {
	w := start(t, true)
	w.only(t, strings.NewReplacer("within: 3s", "within: 1h", "within: 2s", "within: 1h").Replace(claimable))
	ctx := t.Context()
	seq := w.take(t, event("1", "A", "late", 900))[0].Seq
	eventually(t, "told", func() bool { return len(w.chat.titles()) == 1 })
	eventually(t, "and it is written down", func() bool { return w.postOf(t, "message = 'm'").State == store.Sent })
	for i, by := range []string{"Ann", "Bert"} {
		done, err := w.Alerts.Claim(ctx, seq, 1, by, 0, nil)
		require.NoError(t, err)
		assert.Equal(t, by+" looks after it.", done.Words)
		eventually(t, "the thread hears it", func() bool { return len(w.chat.titles()) == 2+i })
		require.NoError(t, w.Alerts.LetGo(ctx, seq, 1, by))
	}
}
