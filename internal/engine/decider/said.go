package decider

import (
	"cmp"
	"context"
	"database/sql"
	"slices"

	"gorm.io/gorm"

	"dorfbote/internal/core/decide"
	"dorfbote/internal/jobs"
	"dorfbote/internal/store"
)

// rooms are what was looked up of the rooms in which messages were said: each is looked up once a batch.
type rooms map[string]*roomAsks

// roomAsks are the destinations that are a room, and the questions that wait there for answers.
type roomAsks struct {
	places []string
	open   []store.AskRow
}

// mostOpen is how many questions of one room are looked through for the one that a message answers.
const mostOpen = 200

func (r rooms) of(ctx context.Context, de *Decider, m said) (*roomAsks, error) {
	at := m.source + " " + m.room
	if known := r[at]; known != nil {
		return known, nil
	}
	room := &roomAsks{}
	var err error
	if room.places, err = de.Sources.RoomsOf(ctx, m.source, m.room); err == nil && len(room.places) > 0 {
		room.open, err = de.Store.Asks(ctx, store.AskFilter{Places: room.places, State: store.AskOpen, Limit: mostOpen})
	}
	r[at] = room
	return room, err
}

// said is what is known of a message in a room.
type said struct {
	source, room, author, text string
	toSender                   bool // it says itself that it was said to Dorfbote
	// The alert in whose thread it was said; 0 where in none.
	about, workflow int64
}

// answered has a message taken as the answer to a question that was put in its room: it is said in the question's thread, or names what the
// question is about. choices are those of the question in whose thread it stands, where it is none of them.
func (de *Decider) answered(ctx context.Context, tx *sql.Tx, seq int64, m said, known rooms) (did bool, choices []string, err error) {
	room, err := known.of(ctx, de, m)
	if err != nil || len(room.places) == 0 {
		return false, nil, err
	}
	list := room.open
	if m.about != 0 { // also one that is decided: whoever comes later is told so
		if list, err = de.Store.Asks(ctx, store.AskFilter{Arrival: m.about, Workflow: m.workflow, Limit: 20}); err != nil {
			return false, nil, err
		}
	}
	for _, a := range slices.Backward(list) { // the oldest first
		place := cmp.Or(firstOf(a.Open, room.places), firstOf(a.Asking.Asked, room.places))
		if place == "" || m.about == 0 && a.Key == "" {
			continue
		}
		plan, err := de.Workflows.PlanOf(ctx, store.Live{ID: a.Workflow, Name: a.WorkflowName, Version: a.Version})
		if err != nil {
			continue // whoever looks at the question sees why
		}
		q := decide.PlanAskNamed(plan, a.Name)
		if q == nil {
			continue
		}
		if m.about != 0 {
			a.Key = "" // in its thread it need not be named
		}
		if given, ok := decide.Spoken(q.Choices, m.text, a.Key, m.toSender); ok {
			return true, nil, de.Jobs.AddIn(ctx, tx, jobs.Said{Arrival: seq, Ask: a.ID, Place: place, By: m.author, Choice: given.Choice.Name, Comment: given.Comment})
		}
		if m.about != 0 && a.State == store.AskOpen {
			for _, c := range q.Choices {
				choices = append(choices, c.Name)
			}
		}
	}
	return false, choices, nil
}

// firstOf is the first of some places that is one of others, "" where none is.
func firstOf(list, others []string) string {
	for _, p := range list {
		if slices.Contains(others, p) {
			return p
		}
	}
	return ""
}

// Reply tells whoever said an arrival in a room something, in its thread; nobody where it was said in none that can be answered.
func (de *Decider) Reply(ctx context.Context, arrival, workflow int64, words, ref string) error {
	rows, err := de.Store.ArrivalsBySeq(ctx, []int64{arrival})
	if err != nil || len(rows) == 0 {
		return err
	}
	by, room, id, err := spoken(&rows[0])
	if err != nil || room == "" || id == "" {
		return err
	}
	return de.Store.Tx(ctx, func(_ *gorm.DB, tx *sql.Tx) error {
		return de.sayTo(ctx, tx, workflow, arrival, rows[0].Source, room, id, by+": "+words, ref)
	})
}
