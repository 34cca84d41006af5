package decider

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"dorfbote/internal/core/decide"
	"dorfbote/internal/core/message"
	"dorfbote/internal/engine/outbox"
	"dorfbote/internal/engine/workflows"
	"dorfbote/internal/notify"
	"dorfbote/internal/store"
)

// talk notes of messages in rooms whom they answer, and tells who speaks to Dorfbote by an unknown command what is understood.
func (de *Decider) talk(ctx context.Context, tx *sql.Tx, arrivals []store.Arrival, on workflows.On, made []decided) error {
	looked := rooms{}
	for i := range arrivals {
		a := &arrivals[i]
		if a.Type != "dorfbote.record.created" || !strings.Contains(string(a.Data), `"text"`) {
			continue
		}
		var data struct {
			Record struct {
				Author, Text, From, Room, ID, Thread string
				Own                                  bool
				ToSender                             bool `json:"spoken_to"`
				About                                *struct {
					Arrival    int64 `json:"arrival"`
					WorkflowID int64 `json:"workflow_id"`
				}
			}
		}
		if err := json.Unmarshal(a.Data, &data); err != nil || data.Record.Own {
			continue
		}
		r := &data.Record
		if by := r.Author + r.From; r.About != nil && r.About.WorkflowID > 0 && by != "" {
			if err := store.Replied(ctx, tx, r.About.WorkflowID, r.About.Arrival, by); err != nil {
				return err
			}
			words := []rune(strings.Join(strings.Fields(r.Text), " "))
			if len(words) > 200 {
				words = append(words[:199], '…')
			}
			if err := store.AddAct(ctx, tx, store.Deed{Workflow: r.About.WorkflowID, Arrival: r.About.Arrival, What: store.ActReplied, By: by, Words: string(words)}); err != nil {
				return err
			}
			if err := notify.In(ctx, tx, notify.Message{Topic: notify.Steps, Seq: r.About.Arrival}); err != nil {
				return err
			}
		}
		if r.Room == "" || r.Author == "" {
			continue
		}
		m := said{source: a.Source, room: r.Room, author: r.Author, text: r.Text, toSender: r.ToSender}
		if r.About != nil {
			m.about, m.workflow = r.About.Arrival, r.About.WorkflowID
		}
		did, choices, err := de.answered(ctx, tx, a.Seq, m, looked)
		if err != nil {
			return err
		}
		if did {
			continue
		}
		if err := de.understood(ctx, tx, a, m, r.ID, on, made, choices); err != nil {
			return err
		}
	}
	return nil
}

// understood answers a command that no workflow knows, where others are known in the room, or a question is asked in whose thread it
// stands: by what is.
func (de *Decider) understood(ctx context.Context, tx *sql.Tx, a *store.Arrival, m said, id string, on workflows.On, made []decided, choices []string) error {
	if !decide.SpeaksTo(decide.Words(m.text), m.toSender) {
		return nil
	}
	known, live := choices, store.Live{ID: m.workflow}
	for _, l := range on.All(a) { // also those that are decided at their own pace, of which nothing is made here
		plan, err := de.Workflows.PlanOf(ctx, l)
		if err != nil || plan.Command == "" {
			continue
		}
		if _, is := decide.Behind(m.text, plan.Command, m.toSender); is {
			return nil
		}
		known, live = append(known, plan.Command), l
	}
	if len(known) == 0 || slices.ContainsFunc(made, func(d decided) bool { return d.seq == a.Seq && d.Verdict != decide.Ignored }) {
		return nil
	}
	slices.Sort(known)
	words := fmt.Sprintf("I do not know that. What I understand here: %s.", strings.Join(slices.Compact(known), ", "))
	return de.sayTo(ctx, tx, live.ID, a.Seq, a.Source, m.room, id, words, "unknown")
}

// refused tells who gave a command why nothing came of it, where it did not get as far as a step: it could not be worked out, or the
// sheet has nothing for it.
func (de *Decider) refused(ctx context.Context, tx *sql.Tx, arrivals []store.Arrival, made []decided) error {
	for i := range made {
		d := &made[i]
		if d.plan == nil || d.plan.Command == "" {
			continue
		}
		var words string
		switch d.Verdict {
		case decide.Failed:
			words = "could not do it: " + d.Error
		case decide.Dropped:
			if words = "did nothing: there is nobody to tell"; d.plan.Words(d.DecidedBy) != "" {
				words = "did nothing; what decided is: " + d.plan.Words(d.DecidedBy)
			}
		case decide.Unrouted:
			words = "did nothing: no row of the workflow is for this"
		default:
			continue
		}
		n := slices.IndexFunc(arrivals, func(a store.Arrival) bool { return a.Seq == d.seq })
		if n < 0 {
			continue
		}
		by, room, id, err := spoken(&arrivals[n])
		if err != nil || room == "" || id == "" {
			continue // it was said nowhere that can be answered
		}
		if err := de.sayTo(ctx, tx, d.live.ID, d.seq, arrivals[n].Source, room, id, by+": "+words, "why"); err != nil {
			return err
		}
	}
	return nil
}

// spoken says who said an arrival that is a message, in which room, and what the other side calls it.
func spoken(row *store.Arrival) (by, room, id string, err error) {
	a, err := row.Core()
	if err != nil {
		return "", "", "", err
	}
	by, _ = a.Record["author"].(string)
	room, _ = a.Record["room"].(string)
	id, _ = a.Record["id"].(string)
	return by, room, id, nil
}

// sayTo answers whoever said something in a room, in its thread. ref tells its answers apart; what was said already is not said again.
func (de *Decider) sayTo(ctx context.Context, tx *sql.Tx, workflow, seq int64, source, room, id, words, ref string) error {
	to, err := de.Sources.RoomOf(ctx, source, room)
	if err != nil || to == "" {
		return err
	}
	ref = outbox.Cause(seq) + "-" + ref
	var said bool
	err = tx.QueryRowContext(ctx, "SELECT EXISTS (SELECT 1 FROM posts WHERE key = $1)", outbox.KeyOf(workflow, ref)).Scan(&said)
	if err != nil || said {
		return err
	}
	rows := outbox.Rows(workflow, seq, de.Now().UTC(), []decide.Post{{To: to, Message: outbox.AnswerMessage, Doc: message.Saying(words), Under: -1, Ref: ref}})
	rows[0].UnderRemote = id
	return de.Outbox.Put(ctx, tx, rows, true)
}

// AnswerCommand tells who gave a command what came of it, once its steps are done, or one has failed. What tells somebody in the room by
// itself needs no further answer than that of a failure.
func (de *Decider) AnswerCommand(ctx context.Context, arrival, workflow int64) error {
	plan, err := de.Workflows.PlanOn(ctx, workflow)
	if err != nil || plan == nil || plan.Command == "" {
		return err
	}
	steps, err := de.Store.StepsOf(ctx, arrival, workflow)
	if err != nil {
		return err
	}
	var words []string
	done, failed := 0, 0
	for _, s := range steps {
		what := strings.TrimSpace(s.Target + " " + s.RecordKey)
		switch s.State {
		case store.Done:
			done++
			words = append(words, map[string]string{"change": "changed ", "add": "added to ", "call": "started "}[s.Kind]+what)
		case store.Failed:
			failed++
			words = append(words, fmt.Sprintf("could not do it (%s): %s", what, s.Answer))
		}
	}
	if len(words) == 0 {
		return nil
	}
	return de.Reply(ctx, arrival, workflow, strings.Join(words, "; "), fmt.Sprintf("did%d-%d", done, failed)) // it may go on after a failure
}
