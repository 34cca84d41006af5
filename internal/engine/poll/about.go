package poll

import (
	"context"

	"dorfbote/internal/connect"
)

// about says with each message that answers one of our own what that was about: the workflow, the source and the key of its record. A
// message in a room answers in a thread, a mail by what it refers to.
func (q *Polls) about(ctx context.Context, source string, items []connect.Item) error {
	for i := range items {
		r := items[i].Record
		if _, said := r["text"]; !said || r["about"] != nil {
			continue
		}
		thread, _ := r["thread"].(string)
		room, _ := r["room"].(string)
		if thread == "" {
			thread, _ = r["in_reply_to"].(string)
		}
		if thread == "" {
			continue
		}
		a, err := q.Async.AboutOf(ctx, source, room, thread)
		if err != nil {
			return err
		}
		if a != nil {
			r["about"] = map[string]any{"workflow": a.Workflow, "source": a.Source, "key": a.Key, "arrival": float64(a.Arrival), "workflow_id": float64(a.WorkflowID)}
		}
	}
	return nil
}
