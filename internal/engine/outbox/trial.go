package outbox

import (
	"context"
	"crypto/rand"
	"database/sql"
	"fmt"

	"gorm.io/gorm"

	"dorfbote/internal/core/decide"
)

// trialMark stands before the title of what is sent to try it.
const trialMark = "Trial: "

// trialRef is what a trial's posts are named by, in their keys.
const trialRef = "trial-"

// Try sends posts of a draft to one destination, marked as a trial. Nothing else comes of it: no verdict is kept, and no
// pace counts it.
func (o *Outbox) Try(ctx context.Context, workflow, seq int64, to string, posts []decide.Post) error {
	trial := rand.Text()
	marked := make([]decide.Post, len(posts))
	for i, p := range posts {
		doc := *p.Doc
		if p.Under < 0 {
			doc.Title = trialMark + doc.Title
		}
		marked[i] = decide.Post{To: to, Message: p.Message, Doc: &doc, Under: p.Under, Ref: fmt.Sprintf("%s%s-p%d", trialRef, trial, i)}
	}
	rows := Rows(workflow, seq, o.Now().UTC(), marked)
	for i := range rows {
		rows[i].Trial = true
	}
	return o.Store.Tx(ctx, func(_ *gorm.DB, tx *sql.Tx) error { return o.Put(ctx, tx, rows, true) })
}
