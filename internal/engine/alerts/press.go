package alerts

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"time"

	"gorm.io/gorm"

	"dorfbote/internal/core/decide"
	"dorfbote/internal/core/message"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
	"dorfbote/internal/engine/decider"
	"dorfbote/internal/engine/follow"
	"dorfbote/internal/engine/host"
	"dorfbote/internal/engine/links"
	"dorfbote/internal/store"
)

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
	by, err := al.by(ctx, p.Post, b, who, p.Link.Copy)
	if err != nil {
		return nil, err
	}
	did := "pressed a button"
	var done *Done
	switch b.Does {
	case message.DoesClaim:
		did = "took an alert"
		account := int64(0)
		if who.Account != nil && who.Native == "" {
			account = who.Account.ID
		}
		done, err = al.Claim(ctx, p.Post.Arrival, p.Post.Workflow, by, account, &p.Post.ID)
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

// taken is what whoever answers hears.
const taken = "Thank you. Your answer has been taken."

// AnswerAsk answers a question in the stead of a place that was asked.
func (al *Alerts) AnswerAsk(ctx context.Context, ask int64, place, by, choice, comment string) (*Done, error) {
	err := al.Decider.Answer(ctx, ask, decide.Given{Place: place, By: by, Choice: choice, Comment: comment})
	why := &decider.ErrAsked{}
	if errors.As(err, &why) {
		asks, err := al.Store.Asks(ctx, store.AskFilter{ID: ask, Limit: 1})
		if err == nil && len(asks) == 1 && asks[0].Answer != nil && by != "" &&
			(asks[0].Answer.By == by || slices.ContainsFunc(asks[0].Asking.Given, func(g decide.Given) bool { return g.By == by })) {
			why.Words = "you have answered already: " + asks[0].Answer.Choice
		}
		return nil, &Refused{Words: why.Words}
	}
	if err != nil {
		return nil, err
	}
	return &Done{Words: taken, All: true}, nil
}

// once presses a button that changes something, which can be done once.
func (al *Alerts) once(ctx context.Context, p *store.Post, n int, b *message.Button, by string) (*Done, error) {
	step, err := al.stepOf(ctx, p, n, b)
	if err != nil {
		return nil, err
	}
	var done *Done
	err = al.Store.Tx(ctx, func(_ *gorm.DB, tx *sql.Tx) error {
		first, fresh, err := store.Press(ctx, tx, store.Deed{Workflow: p.Workflow, Arrival: p.Arrival, Post: &p.ID, Name: pressName(n, *b), By: by, Words: b.Text})
		if err != nil {
			return err
		}
		if !fresh {
			done = &Done{Words: fmt.Sprintf("%s was faster: %s%s. Nothing was changed now.", first.By, b.Text, since(&first.At, al.Workspace)), Again: true}
			if first.By == by {
				done.Words = fmt.Sprintf("You have pressed it already: %s%s. Nothing was changed now.", b.Text, since(&first.At, al.Workspace))
			}
			return nil
		}
		done = &Done{Words: by + ": " + b.Text + "."}
		if b.Does == message.DoesLater {
			done.Words = fmt.Sprintf("It is told again in %s, unless somebody takes it.", value.Words(b.Span()))
			again := []store.AgainPost{{To: p.Destination, Cc: p.Cc, Bcc: p.Bcc, Message: p.Message, Body: p.Body}}
			thread, err := store.MadeUnder(ctx, tx, p)
			if err != nil {
				return err
			}
			return store.PutAgain(ctx, tx, p.Workflow, p.Arrival, b.Text, b.Span(), append(again, thread...))
		}
		return follow.JournalOne(ctx, tx, store.Live{ID: p.Workflow}, p.Arrival, step, stepKey(p, n))
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

// stepOf is what a button does as a step of the run.
func (al *Alerts) stepOf(ctx context.Context, p *store.Post, n int, b *message.Button) (decide.Step, error) {
	s := decide.Step{N: pressedSteps + n, Name: b.Text, How: sheet.FollowCall, Target: b.Workflow, Set: b.Set, Fails: sheet.FailStop}
	if b.Does == message.DoesChange {
		row, err := al.Store.Arrival(ctx, p.Arrival)
		if err != nil {
			return s, err
		}
		s.How, s.Target, s.Key = sheet.FollowChange, row.Source, row.Subject
	}
	if s.Set == nil {
		s.Set = map[string]any{}
	}
	return s, nil
}

// stepKey names what a button of a post does.
func stepKey(p *store.Post, n int) string { return fmt.Sprintf("w%d-press-%d-%d", p.Workflow, p.ID, n) }

// pressedSteps is where the steps of buttons begin among those of a run.
const pressedSteps = 2000

// stepWait is how long whoever pressed waits to hear what came of it.
const stepWait = 3 * time.Second

// stepDone waits a little for what a button does to be done, and says what came of it.
func (al *Alerts) stepDone(ctx context.Context, p *store.Post, n int, done *Done) (*Done, error) {
	key := stepKey(p, n)
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
