package intake

import (
	"context"
	"database/sql"
	"fmt"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"dorfbote/internal/core/arrival"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/store"
)

// MaxStarts bounds how many records one start may be for.
const MaxStarts = 500

// Start starts a workflow by hand or by call: once for each record, or once without any. It is durable when it
// returns. once, where not empty, names the start: the same again is the same start.
func (w *Writer) Start(ctx context.Context, l store.Live, plan *sheet.Plan, keys []string, answers map[string]any, by, once string) ([]Receipt, error) {
	if len(keys) > MaxStarts {
		return nil, &sheet.AnswerError{Name: "records", Problem: fmt.Sprintf("these are %d records; a workflow is started for %d at most at once", len(keys), MaxStarts)}
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
			if once != "" {
				id = fmt.Sprintf("w%d-%s-%s", l.ID, once, key)
			}
			list = append(list, &arrival.Arrival{
				ID: id, Source: source, Type: arrival.Start, Time: now, Subject: key,
				Record: record, Before: record, By: by, Answers: answers,
			})
		}
		for _, key := range keys {
			if records[key] == nil {
				return &sheet.AnswerError{Name: "records", Problem: fmt.Sprintf("there is no record %s any more", key)}
			}
			add(key, records[key])
		}
		if len(keys) == 0 {
			add("", nil)
		}
		rows, err := InsertFor(ctx, tx, l.ID, list)
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
