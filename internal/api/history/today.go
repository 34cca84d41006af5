package history

import (
	"context"
	"fmt"
	"net/http"
	"sync"
	"time"

	"dorfbote/internal/api/kit"
	"dorfbote/internal/connect"
	"dorfbote/internal/connect/kinds"
	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/usual"
	"dorfbote/internal/core/value"
	"dorfbote/internal/engine/sources"
	"dorfbote/internal/notify"
	"dorfbote/internal/store"
)

// TodayBody is what needs a person, and how the day goes.
type TodayBody struct {
	Needs    []Need       `json:"needs"`
	Channels []ChannelDay `json:"channels"`
	Latest   []PostItem   `json:"latest"`
	Arrivals int64        `json:"arrivals" doc:"so far today"`
	Told     int64        `json:"told" doc:"arrivals told about so far today"`
	Next     []NextUp     `json:"next" doc:"what timers and the calendar will start next"`
	Begin    []FirstStep  `json:"begin" doc:"what is still to be done before the first alert; empty once a workflow has told something"`
}

// FirstStep is one step on the way to the first alert.
type FirstStep struct {
	Done  bool   `json:"done"`
	What  string `json:"what"`
	Words string `json:"words"`
	Go    string `json:"go"`
}

// NextUp is a moment at which a workflow will start.
type NextUp struct {
	At         time.Time `json:"at"`
	WorkflowID int64     `json:"workflow_id"`
	Name       string    `json:"name"`
	Form       string    `json:"form"`
	Key        string    `json:"key" doc:"of the record; empty for the calendar"`
}

// Need is something that waits for a person.
type Need struct {
	ID    int64  `json:"id" doc:"of a notice, which can be taken away; 0 for the rest"`
	What  string `json:"what"`
	Words string `json:"words"`
	Go    string `json:"go" doc:"where in the application it is seen to"`
}

// ChannelDay compares a channel's posts so far today with the usual by this hour.
type ChannelDay struct {
	Name  string  `json:"name"`
	Today int64   `json:"today"`
	Usual float64 `json:"usual" doc:"by this hour of this weekday, over the last four weeks"`
	// Unusual says whether it is far from the usual.
	Unusual string `json:"unusual" enum:"more,less,"`
}

type todayOutput struct{ Body TodayBody }

// How much of each is shown.
const (
	noticesShown = 30
	nextShown    = 8
	failedShown  = 10
)

// noticed adds what has been noticed and concerns the person, and what is next on the calendar.
func (hi *History) noticed(ctx context.Context, who *kit.Person, told map[string]bool, out *TodayBody) error {
	list, err := hi.Store.Notices(ctx, who.ID, noticesShown)
	if err != nil {
		return err
	}
	for _, n := range list {
		if told[n.About] { // it stands there already
			continue
		}
		out.Needs = append(out.Needs, Need{ID: n.ID, What: n.About + " " + n.What, Words: n.Words, Go: n.Go})
	}
	next, err := hi.Store.NextUp(ctx, nextShown)
	for _, n := range next {
		out.Next = append(out.Next, NextUp{At: n.At, WorkflowID: n.Workflow, Name: n.Name, Form: n.Form, Key: n.Key})
	}
	return err
}

// dismiss takes a notice away; it comes back if what it tells of does.
func (hi *History) dismiss(ctx context.Context, _ *kit.Person, in *kit.IDInput) (*struct{}, error) {
	err := hi.Store.DismissNotice(ctx, in.ID)
	hi.Engine.Tell(ctx, notify.Message{Topic: notify.Today})
	return nil, err
}

func (hi *History) todayRoutes() {
	kit.Changes(hi.Kit, kit.Op("dismiss-notice", http.MethodPost, "/api/notices/{id}/done", "Take a notice away", "Today"), kit.Editors, kit.ByID[struct{}](store.AboutNotice), hi.dismiss)
	kit.Register(hi.Kit, kit.Op("today", http.MethodGet, "/api/today", "What needs a person today", "Today"), kit.Anyone, hi.today)
}

// failuresToTell is after how many tries in a row a destination that does not answer is worth a person's look.
const failuresToTell = 5

// longWait is from how long on it is said that a destination is being left alone, as it asked to be.
const longWait = 90 * time.Second

// answered quotes what a destination answered, if anything.
func answered(words string) string {
	if words == "" {
		return ""
	}
	return fault.Sentence("It answered: "+words) + " "
}

func waits(n int64) string {
	switch n {
	case 0:
		return "Nothing waits"
	case 1:
		return "1 post waits"
	}
	return fmt.Sprintf("%d posts wait", n)
}

// againstUsual compares what came and what was told today with the usual for this hour and weekday.
func (hi *History) againstUsual(ctx context.Context, now, start time.Time, destinations []store.DestinationRow, out *TodayBody) error {
	rows, err := hi.Store.HoursSince(ctx, start.AddDate(0, 0, -7*usual.Weeks-14))
	if err != nil {
		return err
	}
	counts := map[string]map[string]usual.Hours{"arrivals": {}, "posts": {}}
	known, last := now, map[string]time.Time{}
	for _, r := range rows {
		of := counts[r.What]
		if of[r.Name] == nil {
			of[r.Name] = usual.Hours{}
		}
		of[r.Name][r.Hour.UTC()] = r.N
		if r.Hour.Before(known) {
			known = r.Hour
		}
		if end := r.Hour.Add(time.Hour); r.What == "arrivals" && end.After(last[r.Name]) {
			last[r.Name] = end
		}
	}
	for _, d := range destinations {
		h := counts["posts"][d.Name]
		c := ChannelDay{Name: d.Name, Today: int64(h.Between(start, now.Truncate(time.Hour).Add(time.Hour)))}
		var weeks int
		if c.Usual, weeks = h.Expected(start, now, known, now.Location()); weeks > 1 {
			c.Unusual = usual.Unusual(float64(c.Today), c.Usual)
		}
		out.Channels = append(out.Channels, c)
	}
	for _, name := range value.SortedKeys(counts["arrivals"]) {
		since := last[name]
		if since.After(now) {
			continue // something came within this hour
		}
		if expected, silent := counts["arrivals"][name].Silent(since, now, known, now.Location()); silent {
			out.Needs = append(out.Needs, Need{
				What:  name + " is silent",
				Words: fmt.Sprintf("Nothing has come since %s; by this hour of a %s about %.0f arrivals usually have.", since.In(now.Location()).Format("2 Jan 15:04"), now.Weekday(), expected),
				Go:    "/sources/" + name,
			})
		}
	}
	return nil
}

// soon is how long before its end an expiring secret is told of.
const soon = 14 * 24 * time.Hour

// expiring finds connections whose secrets end soon.
func (hi *History) expiring(ctx context.Context, now time.Time, out *TodayBody) error {
	list, err := hi.Store.Expiring(ctx, now.Add(soon))
	if err != nil {
		return err
	}
	for _, c := range list {
		when := c.SecretExpires.In(now.Location()).Format("Monday 2 January 2006")
		words := "Its secret ends on " + when + "; put a new one in before that."
		if c.SecretExpires.Before(now) {
			words = "Its secret ended on " + when + "."
		}
		out.Needs = append(out.Needs, Need{What: c.Title + ": secret expires", Words: words, Go: "/connections/" + c.ID})
	}
	return nil
}

// clocks tells of processes whose clocks are off.
func (hi *History) clocks(ctx context.Context, out *TodayBody) error {
	list, err := hi.Engine.WrongClocks(ctx)
	for _, p := range list {
		way, off := "ahead", p.Skew()
		if off < 0 {
			way, off = "behind", -off
		}
		out.Needs = append(out.Needs, Need{
			What:  "A clock is wrong: " + p.Name,
			Words: fmt.Sprintf("It is %s %s of the database's. Everything that waits goes by the database's clock, so nothing is early or late by it; have that machine's clock set by the network.", value.Words(off), way),
			Go:    "/today",
		})
	}
	return err
}

func (hi *History) today(ctx context.Context, who *kit.Person, _ *struct{}) (*todayOutput, error) {
	now := hi.Engine.Now().In(hi.Engine.Workspace.Location())
	start := time.Date(now.Year(), now.Month(), now.Day(), 0, 0, 0, 0, now.Location())
	out := &todayOutput{Body: TodayBody{Needs: []Need{}, Channels: []ChannelDay{}, Next: []NextUp{}}}
	destinations, err := hi.Store.Destinations(ctx, sources.Listed())
	if err != nil {
		return nil, err
	}
	paused := map[string]bool{}
	for _, d := range destinations {
		place := "/outbox?destination=" + urlQuery(d.Name)
		switch {
		case d.Paused && d.HeldBy != "":
			out.Body.Needs = append(out.Body.Needs, Need{What: d.Name + " is paused by " + d.HeldBy, Words: fault.Sentence(d.Reason) + " " + waits(d.Waiting) + ".", Go: place})
		case d.Paused:
			out.Body.Needs = append(out.Body.Needs, Need{What: d.Name + " is paused", Words: fault.Sentence("It answered: "+d.Reason) + " " + waits(d.Waiting+d.Refused) + ".", Go: place})
		case d.Refused > 0:
			words := "Make it anew if the workflow has been changed, send it again, or drop it."
			if d.Refused > 1 {
				words = "Make them anew if the workflow has been changed, send them again, or drop them."
			}
			out.Body.Needs = append(out.Body.Needs, Need{What: d.Name + " has refused " + connect.Counted(int(d.Refused), "post"), Words: answered(d.Words) + words, Go: place + "&state=refused"})
		case d.Waiting > 0 && d.NotBefore != nil && d.NotBefore.Sub(now) > longWait:
			out.Body.Needs = append(out.Body.Needs, Need{What: d.Name + " is left alone until " + d.NotBefore.In(now.Location()).Format("15:04"), Words: answered(d.Words) + waits(d.Waiting) + ".", Go: place})
		case d.Failures >= failuresToTell && d.Oldest != nil && now.Sub(*d.Oldest) > 5*time.Minute:
			out.Body.Needs = append(out.Body.Needs, Need{What: d.Name + " does not answer", Words: fmt.Sprintf("%s since %s; it is tried again and again.", waits(d.Waiting), d.Oldest.In(now.Location()).Format("2 Jan 15:04")), Go: place})
		}
		paused[d.Name] = d.Paused || d.Refused > 0
	}
	if err := hi.noticed(ctx, who, paused, &out.Body); err != nil {
		return nil, err
	}
	if out.Body.Begin, err = hi.beginning(ctx); err != nil {
		return nil, err
	}
	if err := hi.expiring(ctx, now, &out.Body); err != nil {
		return nil, err
	}
	if err := hi.clocks(ctx, &out.Body); err != nil {
		return nil, err
	}
	failed, err := hi.Store.FailedSince(ctx, now.Add(-24*time.Hour), failedShown)
	if err != nil {
		return nil, err
	}
	for _, f := range failed {
		out.Body.Needs = append(out.Body.Needs, Need{What: f.Name + " failed on " + connect.Counted(int(f.N), "arrival"), Words: f.Error, Go: "/arrivals?verdict=failed"})
	}
	if err := hi.unneeded(ctx, now, &out.Body); err != nil {
		return nil, err
	}
	if err := hi.againstUsual(ctx, now, start, destinations, &out.Body); err != nil {
		return nil, err
	}
	first, err := hi.Store.SeqAt(ctx, start)
	if err != nil {
		return nil, err
	}
	if out.Body.Arrivals, out.Body.Told, err = hi.Store.CountFrom(ctx, first); err != nil {
		return nil, err
	}
	posts, err := hi.Store.Posts(ctx, store.PostFilter{Limit: 8})
	if err != nil {
		return nil, err
	}
	out.Body.Latest, err = hi.postItems(ctx, who, posts)
	return out, err
}

// unneededShown is how many workflows that few need are named.
const unneededShown = 3

// fewNeed keeps which workflows few need: to count that is more than every look at Today should cost.
type fewNeed struct {
	mu   sync.Mutex
	mark string
	at   time.Time
	list []store.Unneeded
}

// fewFor is how long what was told alone is left out of account; what people do counts at once.
const fewFor = time.Minute

func (f *fewNeed) get(ctx context.Context, st *store.Store, now time.Time) ([]store.Unneeded, error) {
	mark, err := st.UnneededMark(ctx)
	if err != nil {
		return nil, err
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.mark == mark && now.Sub(f.at).Abs() < fewFor {
		return f.list, nil
	}
	list, err := st.Unneeded(ctx, now.AddDate(0, 0, -store.WorthDays), unneededShown)
	if err == nil {
		f.mark, f.at, f.list = mark, now, list
	}
	return list, err
}

// unneeded names the workflows whose alerts few need, where a proposal can be looked at.
func (hi *History) unneeded(ctx context.Context, now time.Time, out *TodayBody) error {
	list, err := hi.few.get(ctx, hi.Store, now)
	for _, w := range list {
		words := fmt.Sprintf("In %d days it told %s; %s.", store.WorthDays, connect.Counted(int(w.Posts), "post"), ledWords(w.Led))
		if w.NotForMe > 0 {
			words += fmt.Sprintf(" Words about it: %d not for me, %d useful.", w.NotForMe, w.Useful)
		}
		out.Needs = append(out.Needs, Need{What: "Few need " + w.Name, Words: words, Go: fmt.Sprintf("/workflows/%d/worth", w.ID)})
	}
	return err
}

func ledWords(led int64) string {
	if led == 0 {
		return "none led to anything"
	}
	return fmt.Sprintf("%d led to something", led)
}

// beginning lists the steps to the first alert, until there was one.
func (hi *History) beginning(ctx context.Context) ([]FirstStep, error) {
	out := []FirstStep{}
	f, err := hi.Store.FirstSteps(ctx, kinds.That(func(k *connect.Kind) bool { return k.Reads != connect.ReadsNothing }), kinds.That(func(k *connect.Kind) bool { return k.Sends != nil }))
	if err != nil || f.Told {
		return out, err
	}
	return append(out,
		FirstStep{f.Read, "Connect where news comes from", "An app that sends its events, an API, a database, a table, a mailbox: whatever holds the records.", "/connections/new"},
		FirstStep{f.Sent, "Connect where to tell", "The team's chat or any app that takes an HTTP call.", "/connections/new"},
		FirstStep{f.Seen, "See a record", "Once one has come, a sheet can be proved on it before anybody is told.", "/connections"},
		FirstStep{f.Made, "Make a workflow", "From a sentence, from a pattern, or from nothing.", "/workflows/new"},
		FirstStep{f.On, "Switch it on", "It is off until then, and says before what it would tell.", "/workflows"},
	), nil
}
