// Package alerts is what people do with what they were told: they take it, press its buttons, answer its questions, reply to it.
// Each is done once, whoever comes second is told who was faster; and each is written down beside the run, and in the audit log.
package alerts

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"gorm.io/gorm"

	"dorfbote/internal/connect"
	"dorfbote/internal/connect/kinds"
	"dorfbote/internal/core/decide"
	"dorfbote/internal/core/message"
	"dorfbote/internal/core/people"
	"dorfbote/internal/core/place"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
	"dorfbote/internal/engine/decider"
	"dorfbote/internal/engine/follow"
	"dorfbote/internal/engine/host"
	"dorfbote/internal/engine/links"
	"dorfbote/internal/engine/outbox"
	"dorfbote/internal/engine/sources"
	"dorfbote/internal/notify"
	"dorfbote/internal/store"
)

// ClaimedMessage is the name of the message that tells a thread who took an alert, which no sheet writes.
const ClaimedMessage = "claimed"

// Alerts takes what people do. It is safe for use by many goroutines.
type Alerts struct {
	*host.Host
	Sources *sources.Sources
	Decider *decider.Decider
	Outbox  *outbox.Outbox
	Follow  *follow.Follow
	Links   *links.Links
}

// Who does something: somebody who is signed in, somebody whom another side's program names, or whoever has a link.
type Who struct {
	Account *store.Person // who is signed in; nil for nobody
	Native  string        // as the other side calls them
}

// Refused is why something was not done, in words for who tried.
type Refused struct {
	Words string
	// SignIn is true where signing in could help: the link leads to a room, and the button is for some people only.
	SignIn bool
}

func (r *Refused) Error() string { return r.Words }

// Done says what came of a button.
type Done struct {
	Words string // who did it, and what came of it
	Again bool   // it had been done before, and nothing has changed
	All   bool   // no other button of the post can be pressed any more
}

// Pressable is a post with its buttons, as a page shows them.
type Pressable struct {
	Post *store.Post
	Doc  *message.Document
	// N is which of the buttons is meant; [links.AllButtons] is any.
	N    int
	Link links.Link
	// Pressed is who pressed the button before, by its number.
	Pressed map[int]*store.Deed
	// Over says why none can be pressed any more, "" where they can.
	Over string
}

// Open reads the post that a link leads to.
func (al *Alerts) Open(ctx context.Context, token string) (*Pressable, error) {
	link, err := al.Links.Read(ctx, token)
	if err != nil {
		return nil, &Refused{Words: err.Error()}
	}
	p, err := al.Store.Post(ctx, link.ID)
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return nil, &Refused{Words: "what this link belongs to is not kept any more"}
	}
	if err != nil {
		return nil, err
	}
	doc, err := message.Stored(p.Body)
	if err != nil {
		return nil, err
	}
	if link.For != links.Button || link.N < links.AllButtons || link.N >= len(doc.Buttons) {
		return nil, &Refused{Words: links.ErrForged.Error()}
	}
	out := &Pressable{Post: p, Doc: doc, N: link.N, Link: link, Pressed: map[int]*store.Deed{}}
	for i, b := range doc.Buttons {
		if link.N != links.AllButtons && link.N != i {
			continue
		}
		if out.Pressed[i], err = al.Store.PressedOn(ctx, p.ID, pressName(i, b)); err != nil {
			return nil, err
		}
		if out.Over != "" {
			continue
		}
		switch b.Does {
		case message.DoesClaim:
			a, err := al.Store.AlertOf(ctx, p.Arrival, p.Workflow)
			if err != nil {
				return nil, err
			}
			if a.ClaimedBy != "" && link.N == i {
				out.Over = a.ClaimedBy + " looks after it" + since(a.ClaimedAt, al.Workspace)
			}
		case decider.DoesAnswer:
			asks, err := al.Store.Asks(ctx, store.AskFilter{Arrival: p.Arrival, Workflow: p.Workflow, Limit: 20})
			if err != nil {
				return nil, err
			}
			for i := range asks {
				if asks[i].Name == b.Ask && asks[i].State != store.AskOpen {
					out.Over = asks[i].Ended()
				}
			}
		}
	}
	return out, nil
}

func since(at *time.Time, ws value.Workspace) string {
	if at == nil {
		return ""
	}
	return ", since " + at.In(ws.Location()).Format("2 Jan 15:04")
}

func pressName(n int, b message.Button) string { return strconv.Itoa(n) + " " + b.Text }

// Press presses a button of a post that a link leads to: n is its number.
func (al *Alerts) Press(ctx context.Context, token string, n int, who Who, comment string) (*Done, error) {
	p, err := al.Open(ctx, token)
	if err != nil {
		return nil, err
	}
	if p.N != links.AllButtons {
		n = p.N
	}
	if n < 0 || n >= len(p.Doc.Buttons) {
		return nil, &Refused{Words: "the message has no such button"}
	}
	if !p.Link.Native {
		who.Native = ""
	}
	b := &p.Doc.Buttons[n]
	by, err := al.by(ctx, p.Post, b, who)
	if err != nil {
		return nil, err
	}
	did := "pressed a button"
	var done *Done
	switch b.Does {
	case message.DoesClaim:
		did = "took an alert"
		done, err = al.Claim(ctx, p.Post.Arrival, p.Post.Workflow, by, &p.Post.ID)
	case decider.DoesAnswer:
		did = "answered a question"
		done, err = al.answer(ctx, p.Post, b, by, comment)
	default:
		done, err = al.once(ctx, p.Post, n, b, by)
	}
	if err != nil || done.Again {
		return done, err
	}
	return done, al.Store.WriteAudit(ctx, store.AuditEntry{Name: by, Did: did, What: store.AboutWorkflow.What, About: strconv.FormatInt(p.Post.Workflow, 10)})
}

// answer answers the question that a post puts.
func (al *Alerts) answer(ctx context.Context, p *store.Post, b *message.Button, by, comment string) (*Done, error) {
	asks, err := al.Store.Asks(ctx, store.AskFilter{Arrival: p.Arrival, Workflow: p.Workflow, Limit: 20})
	if err != nil {
		return nil, err
	}
	i := slices.IndexFunc(asks, func(a store.AskRow) bool { return a.Name == b.Ask })
	if i < 0 {
		return nil, &Refused{Words: "this question is not kept any more"}
	}
	return al.AnswerAsk(ctx, asks[i].ID, p.Destination, by, b.Choice, comment)
}

// AnswerAsk answers a question in the stead of a place that was asked.
func (al *Alerts) AnswerAsk(ctx context.Context, ask int64, place, by, choice, comment string) (*Done, error) {
	err := al.Decider.Answer(ctx, ask, decide.Given{Place: place, By: by, Choice: choice, Comment: comment})
	why := &decider.ErrAsked{}
	if errors.As(err, &why) {
		return nil, &Refused{Words: why.Words}
	}
	if err != nil {
		return nil, err
	}
	return &Done{Words: "Thank you. Your answer has been taken.", All: true}, nil
}

// once presses a button that changes something, which can be done once.
func (al *Alerts) once(ctx context.Context, p *store.Post, n int, b *message.Button, by string) (*Done, error) {
	var done *Done
	err := al.Store.Tx(ctx, func(_ *gorm.DB, tx *sql.Tx) error {
		first, fresh, err := store.Press(ctx, tx, store.Deed{Workflow: p.Workflow, Arrival: p.Arrival, Post: &p.ID, Name: pressName(n, *b), By: by, Words: b.Text})
		if err != nil {
			return err
		}
		if !fresh {
			done = &Done{Words: fmt.Sprintf("%s was faster: %s%s. Nothing was changed now.", first.By, b.Text, since(&first.At, al.Workspace)), Again: true}
			return nil
		}
		done = &Done{Words: by + ": " + b.Text + "."}
		if b.Does == message.DoesLater {
			done.Words = fmt.Sprintf("It is told again in %s, unless somebody takes it.", value.Words(b.Span()))
			return decider.Later(ctx, tx, p, b)
		}
		return al.follow(ctx, tx, p, n, b)
	})
	if err != nil || done.Again || b.Does == message.DoesLater {
		return done, err
	}
	if err := al.Follow.Follow(ctx, p.Arrival, p.Workflow); err != nil {
		return nil, err
	}
	if err := al.tellThreads(ctx, p.Arrival, p.Workflow, b.Text+" – "+by, "pressed"+strconv.FormatInt(p.ID, 10)+"-"+strconv.Itoa(n)); err != nil {
		return nil, err
	}
	return al.stepDone(ctx, p, n, done)
}

// follow journals what a button does as a step of the run.
func (al *Alerts) follow(ctx context.Context, tx *sql.Tx, p *store.Post, n int, b *message.Button) error {
	s := decide.Step{N: pressedSteps + n, Name: b.Text, How: sheet.FollowCall, Target: b.Workflow, Set: b.Set, Fails: sheet.FailStop}
	if b.Does == message.DoesChange {
		var source, key string
		if err := tx.QueryRowContext(ctx, "SELECT source, subject FROM arrivals WHERE seq = $1", p.Arrival).Scan(&source, &key); err != nil {
			return err
		}
		s.How, s.Target, s.Key = sheet.FollowChange, source, key
	}
	if s.Set == nil {
		s.Set = map[string]any{}
	}
	return follow.JournalOne(ctx, tx, store.Live{ID: p.Workflow}, p.Arrival, s, fmt.Sprintf("w%d-press-%d-%d", p.Workflow, p.ID, n))
}

// pressedSteps is where the steps of buttons begin among those of a run.
const pressedSteps = 2000

// stepWait is how long whoever pressed waits to hear what came of it.
const stepWait = 3 * time.Second

// stepDone waits a little for what a button does to be done, and says what came of it.
func (al *Alerts) stepDone(ctx context.Context, p *store.Post, n int, done *Done) (*Done, error) {
	key := fmt.Sprintf("w%d-press-%d-%d", p.Workflow, p.ID, n)
	for end := time.Now().Add(stepWait); time.Now().Before(end) && ctx.Err() == nil; host.Wait(ctx, 30*time.Millisecond) {
		s, err := al.Store.StepKeyed(ctx, key)
		if err != nil {
			return nil, err
		}
		switch s.State {
		case store.Done:
			return done, nil
		case store.Failed:
			done.Words += " It could not be done: " + s.Answer
			return done, nil
		}
	}
	done.Words += " It is being done; what comes of it stands with the alert."
	return done, nil
}

// Claim has somebody look after an alert. The threads of its posts are told.
func (al *Alerts) Claim(ctx context.Context, arrival, workflow int64, by string, post *int64) (*Done, error) {
	var first string
	err := al.Store.Tx(ctx, func(_ *gorm.DB, tx *sql.Tx) error {
		var err error
		if first, err = store.Claim(ctx, tx, workflow, arrival, by); err != nil || first != "" {
			return err
		}
		if err := store.AddAct(ctx, tx, store.Deed{Workflow: workflow, Arrival: arrival, Post: post, What: store.ActClaimed, By: by}); err != nil {
			return err
		}
		return notify.In(ctx, tx, notify.Message{Topic: notify.Steps, Seq: arrival})
	})
	if err != nil {
		return nil, err
	}
	if first != "" {
		a, err := al.Store.AlertOf(ctx, arrival, workflow)
		return &Done{Words: fmt.Sprintf("%s was faster, and looks after it%s.", first, since(a.ClaimedAt, al.Workspace)), Again: true}, err
	}
	if err := al.tellThreads(ctx, arrival, workflow, by+" looks after it", "claimed"); err != nil {
		return nil, err
	}
	return &Done{Words: by + " looks after it."}, nil
}

// LetGo takes a claim back. What was to end by it does not: its moment may have passed.
func (al *Alerts) LetGo(ctx context.Context, arrival, workflow int64, by string) error {
	return al.Store.Tx(ctx, func(_ *gorm.DB, tx *sql.Tx) error {
		if err := store.Unclaim(ctx, tx, workflow, arrival); err != nil {
			return err
		}
		if err := store.AddAct(ctx, tx, store.Deed{Workflow: workflow, Arrival: arrival, What: store.ActLetGo, By: by}); err != nil {
			return err
		}
		return notify.In(ctx, tx, notify.Message{Topic: notify.Steps, Seq: arrival})
	})
}

// Replied notes that somebody answered an alert in its thread.
func (al *Alerts) Replied(ctx context.Context, arrival, workflow int64, by, words string) error {
	return al.Store.Tx(ctx, func(_ *gorm.DB, tx *sql.Tx) error {
		if err := store.Replied(ctx, tx, workflow, arrival, by); err != nil {
			return err
		}
		if err := store.AddAct(ctx, tx, store.Deed{Workflow: workflow, Arrival: arrival, What: store.ActReplied, By: by, Words: words}); err != nil {
			return err
		}
		return notify.In(ctx, tx, notify.Message{Topic: notify.Steps, Seq: arrival})
	})
}

// tellThreads tells something below each of an alert's posts, where the other side has threads.
func (al *Alerts) tellThreads(ctx context.Context, arrival, workflow int64, words, ref string) error {
	posts, err := al.Store.ThreadsOf(ctx, arrival, workflow)
	if err != nil || len(posts) == 0 {
		return err
	}
	rules, err := al.Sources.Rules(ctx)
	if err != nil {
		return err
	}
	doc := &message.Document{Tone: "plain", Facts: []message.Fact{}, Body: []message.Block{{Kind: message.Paragraph, Inlines: []message.Inline{{Kind: message.Text, Text: words}}}}}
	var out []decide.Post
	for _, p := range posts {
		connection, _, _ := strings.Cut(p.Destination, "/")
		if !slices.Contains(rules[connection].Can, string(connect.CanReply)) {
			continue
		}
		out = append(out, decide.Post{To: p.Destination, Message: ClaimedMessage, Doc: doc, Under: -1, UnderRef: strings.TrimPrefix(p.Key, fmt.Sprintf("w%d-", workflow)),
			Ref: fmt.Sprintf("%s-%s-%d", outbox.Cause(arrival), ref, p.ID)})
	}
	return al.Store.Tx(ctx, func(_ *gorm.DB, tx *sql.Tx) error {
		return al.Outbox.Put(ctx, tx, outbox.Rows(workflow, arrival, al.Now().UTC(), out), true)
	})
}

// by says who presses a button, and refuses whom it is not for.
func (al *Alerts) by(ctx context.Context, p *store.Post, b *message.Button, who Who) (string, error) {
	book, err := al.Sources.People(ctx)
	if err != nil {
		return "", err
	}
	connection, place, _ := strings.Cut(p.Destination, "/")
	own := al.ownAddress(ctx, connection, place)
	switch {
	case b.Who != "":
		return al.allowed(ctx, book, connection, place, own, b, who)
	case who.Native != "":
		return who.Native, nil
	case who.Account != nil:
		return who.Account.Name, nil
	}
	if person := book.At(connection, place); person != nil {
		return person.Called(), nil
	}
	if own {
		return place, nil
	}
	return "somebody in " + place, nil
}

// PlacesOf lists the places that are a person's own, by the account: those with its mail address, and all that the people book
// has of the person with that address.
func (al *Alerts) PlacesOf(ctx context.Context, email string) ([]string, error) {
	out := []string{}
	list, err := al.Store.Connections(ctx)
	if err != nil {
		return nil, err
	}
	for _, c := range list {
		if kind := kinds.Named(c.Kind); kind != nil && kind.Sends != nil && kind.Sends.Form == place.Mail {
			out = append(out, c.ID+"/"+email, c.ID+"/"+strings.ToLower(email))
		}
	}
	book, err := al.Sources.People(ctx)
	if err != nil {
		return nil, err
	}
	if p := book.Find(email); p != nil {
		for _, a := range p.Addresses {
			out = append(out, a.Connection+"/"+a.Address)
		}
	}
	return out, nil
}

// Own tells whether a destination is one person's own address, not a room.
func (al *Alerts) Own(ctx context.Context, destination string) bool {
	connection, place, _ := strings.Cut(destination, "/")
	return al.ownAddress(ctx, connection, place)
}

// ownAddress tells whether a place is one person's own: a mail address, a number; not a room.
func (al *Alerts) ownAddress(ctx context.Context, connection, place string) bool {
	c, err := al.Store.Connection(ctx, connection)
	if err != nil || c == nil {
		return false
	}
	kind := kinds.Named(c.Kind)
	if kind == nil || kind.Sends == nil || strings.Contains(place, ", ") {
		return false
	}
	return kind.Sends.OwnPlaces
}

// allowed says who presses a button that is for some people only.
func (al *Alerts) allowed(ctx context.Context, book *people.Book, connection, place string, own bool, b *message.Button, who Who) (string, error) {
	emails, names, by := []string{}, []string{}, ""
	var person *people.Person
	switch {
	case who.Account != nil && who.Native == "":
		by, emails, names = who.Account.Name, append(emails, who.Account.Email), append(names, who.Account.Name)
		person = book.Find(who.Account.Email)
	case who.Native != "":
		by, names = who.Native, append(names, who.Native)
		if person = book.At(connection, "@"+who.Native); person == nil {
			person = book.At(connection, who.Native)
		}
	case own:
		by, emails = place, append(emails, place)
		person = book.At(connection, place)
	}
	if person != nil {
		by, names = person.Called(), append(names, person.Called(), person.ID)
		for _, a := range person.Addresses {
			emails = append(emails, a.Address)
		}
	}
	team, isTeam := strings.CutPrefix(b.Who, "team:")
	if by == "" {
		return "", &Refused{Words: fmt.Sprintf("This button is for %s. Sign in, so that it is known who you are.", audience(b.Who)), SignIn: true}
	}
	var ok bool
	if isTeam {
		var err error
		if ok, err = al.Store.InTeam(ctx, strings.TrimSpace(team), names, emails); err != nil {
			return "", err
		}
	} else {
		meant := book.Find(b.Who)
		ok = meant != nil && meant == person || slices.ContainsFunc(append(names, emails...), func(s string) bool { return value.Fold(s) == value.Fold(b.Who) })
	}
	if !ok {
		return "", &Refused{Words: fmt.Sprintf("This button is for %s, and not for %s.", audience(b.Who), by), SignIn: who.Account == nil && who.Native == ""}
	}
	return by, nil
}

func audience(who string) string {
	if team, ok := strings.CutPrefix(who, "team:"); ok {
		return "the team " + strings.TrimSpace(team)
	}
	return who
}
