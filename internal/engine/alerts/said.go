package alerts

import (
	"context"
	"errors"
	"strconv"

	"gorm.io/gorm"

	"dorfbote/internal/jobs"
	"dorfbote/internal/store"
)

// Said takes what somebody said in a room as the answer to a question, and tells them in its thread what came of it.
func (al *Alerts) Said(ctx context.Context, said jobs.Said) error {
	workflow, err := al.Store.AskWorkflow(ctx, said.Ask)
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return nil // it is not kept any more
	}
	if err != nil {
		return err
	}
	done, err := al.AnswerAsk(ctx, said.Ask, said.Place, said.By, said.Choice, said.Comment)
	why := &Refused{}
	switch {
	case errors.As(err, &why):
		asks, err := al.Store.Asks(ctx, store.AskFilter{ID: said.Ask, Limit: 1})
		if err != nil {
			return err
		}
		if len(asks) == 1 && asks[0].Answer != nil && asks[0].Answer.By == said.By && asks[0].Answer.Choice == said.Choice {
			why.Words = taken // the answer was taken, and its author has not heard so yet
		}
		return al.Decider.Reply(ctx, said.Arrival, workflow, why.Words, "answered")
	case err != nil:
		return err
	}
	entry := store.AuditEntry{Name: said.By, Did: "answered a question", What: store.AboutWorkflow.What, About: strconv.FormatInt(workflow, 10)}
	if err := al.Store.WriteAudit(ctx, entry); err != nil {
		return err
	}
	return al.Decider.Reply(ctx, said.Arrival, workflow, done.Words, "answered")
}
