package engine

import (
	"context"

	"gorm.io/gorm"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/arrival"
	"dorfbote/internal/core/decide"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
	"dorfbote/internal/store"
)

// SwitchOn switches a workflow on, sets what it waits for, and has it decide the past arrivals that it is to begin with.
func (e *Engine) SwitchOn(ctx context.Context, id int64, plan *sheet.Plan, on store.SwitchedOn) (*store.Workflow, error) {
	on.Source, on.Form, on.Asks = plan.Source, plan.Trigger.Form, plan.Asks()
	if plan.Timed() || plan.AsksFor() {
		on.Since = -1 // it begins with nothing that has passed
	}
	trigger := triggerOf(on.Sheet)
	w, err := e.Store.SwitchOn(ctx, id, on, func(tx *gorm.DB, w *store.Workflow) error {
		return e.arm(ctx, tx, w, plan, trigger)
	})
	if err == nil && plan.Source != "" { // its rhythm may be another from now on
		err = e.checkNow(ctx, plan.Source)
	}
	return w, err
}

// triggerOf is what a sheet says of its start, in one form.
func triggerOf(text string) string {
	raw, err := sheet.JSON([]byte(text))
	if err != nil {
		return ""
	}
	v, err := value.ReadJSON(raw)
	if err != nil {
		return ""
	}
	m, _ := v.(map[string]any)
	return string(value.AppendJSON(nil, m["watch"]))
}

// Beginning says what switching on from an arrival on would do at once.
type Beginning struct {
	Arrivals int64            `json:"arrivals" doc:"past arrivals that would be decided at once"`
	Posts    int64            `json:"posts" doc:"posts that would be sent at once"`
	ByPlace  map[string]int64 `json:"by_place"`
	More     bool             `json:"more" doc:"only the last 20,000 arrivals were looked at"`
}

const beginningLook = 20_000

// Beginning decides past arrivals, without sending or keeping anything, to count what would be sent.
func (e *Engine) Beginning(ctx context.Context, plan *sheet.Plan, workflow, since int64) (*Beginning, error) {
	out := &Beginning{ByPlace: map[string]int64{}}
	if plan.Timed() || plan.AsksFor() {
		return out, nil
	}
	for at := since; ; {
		var rows []store.Arrival
		err := e.Store.DB.WithContext(ctx).Where("source = ? AND seq > ? AND for_workflow IS NULL AND NOT EXISTS (SELECT 1 FROM verdicts v WHERE v.arrival = seq AND v.workflow_id = ?)", plan.Source, at, workflow).
			Order("seq").Limit(1000).Find(&rows).Error
		if err != nil || len(rows) == 0 {
			return out, err
		}
		for i := range rows {
			at = rows[i].Seq
			if out.Arrivals++; out.Arrivals > beginningLook {
				out.Arrivals, out.More = beginningLook, true
				return out, nil
			}
			a, err := rows[i].Core()
			if err != nil {
				return nil, err
			}
			sc := decide.NewScope(a)
			sc.Reach = e.Reach(ctx, AskNothing)
			for _, p := range decide.Decide(plan, sc).Posts {
				out.Posts++
				out.ByPlace[p.To]++
			}
		}
	}
}

// WouldPost counts the posts that the workflows that are on would send, if a record of a source came in as new.
func (e *Engine) WouldPost(ctx context.Context, source string, it *connect.Item) (int64, error) {
	lives, err := e.Store.LiveOn(ctx, []string{source})
	if err != nil || len(lives) == 0 {
		return 0, err
	}
	a := &arrival.Arrival{ID: "preview", Source: source, Type: arrival.Created, Time: e.Now().UTC(), Subject: it.Key, Record: it.Record, By: it.By}
	n := int64(0)
	sc := decide.NewScope(a)
	sc.Reach = e.Reach(ctx, AskNothing)
	for _, l := range lives {
		o, err := e.one(ctx, 0, l, sc)
		if err != nil {
			return 0, err
		}
		n += int64(len(o.Posts))
	}
	return n, nil
}
