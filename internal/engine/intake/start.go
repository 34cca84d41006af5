package intake

import (
	"context"
	"database/sql"
	"fmt"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"dorfbote/internal/core/arrival"
	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/store"
)

// MaxStarts bounds how many records one start may be for.
const MaxStarts = 500

// Cause is why a workflow is started.
type Cause struct {
	By   string // a person, or what started it
	Once string // names the start, so that the same again is known as one; "" is always a new one
	Step *int64 // the step that calls
}

// ByStep is the cause of a start by a step of another workflow's run.
func ByStep(workflow string, step int64) Cause {
	return Cause{By: workflow, Once: fmt.Sprintf("step-%d", step), Step: &step}
}

// Start starts a workflow by hand or by call: once for each record, or once without any. It is durable when it
// returns. The same cause again, where it has a name, is the same start.
func (w *Writer) Start(ctx context.Context, l store.Live, plan *sheet.Plan, keys []string, answers map[string]any, why Cause) ([]Receipt, error) {
	if len(keys) > MaxStarts {
		return nil, &fault.Fault{Place: "records", Said: fmt.Sprintf("these are %d records; a workflow is started for %d at most at once", len(keys), MaxStarts)}
	}
	now := w.Now()
	source := plan.Source
	if source == "" {
		source = "dorfbote/" + plan.Trigger.Form
	}
	var receipts []Receipt
	err := w.Store.Tx(ctx, func(_ *gorm.DB, tx *sql.Tx) error {
		records, err := RecordsOf(ctx, tx, source, keys)
		if err != nil {
			return err
		}
		var list []*arrival.Arrival
		add := func(key string, record map[string]any) {
			id := uuid.Must(uuid.NewV7()).String()
			if why.Once != "" {
				id = fmt.Sprintf("w%d-%s-%s", l.ID, why.Once, key)
			}
			list = append(list, &arrival.Arrival{
				ID: id, Source: source, Type: arrival.Start, Time: now, Subject: key,
				Record: record, Before: record, By: why.By, Answers: answers,
			})
		}
		for _, key := range keys {
			if records[key] == nil {
				return &fault.Fault{Place: "records", Said: fmt.Sprintf("there is no record %s any more", key)}
			}
			add(key, records[key])
		}
		if len(keys) == 0 {
			add("", nil)
		}
		rows, err := InsertFor(ctx, tx, l.ID, list, why.Step)
		if err != nil {
			return err
		}
		for _, r := range rows { // none where it was started before
			receipts = append(receipts, Receipt{Seq: r.Seq, ID: r.ID})
		}
		return nil
	})
	return receipts, err
}
