package workflows

import (
	"context"

	"gorm.io/gorm"

	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
	"dorfbote/internal/store"
)

// SwitchOn switches a workflow on, sets what it waits for, and has it decide the past arrivals that it is to begin with.
func (ws *Workflows) SwitchOn(ctx context.Context, id int64, plan *sheet.Plan, on store.SwitchedOn) (*store.Workflow, error) {
	on.Source, on.Form, on.Asks = plan.Source, plan.Trigger.Form, plan.Asks()
	if plan.Timed() || plan.AsksFor() {
		on.Since = -1 // it begins with nothing that has passed
	}
	trigger := triggerOf(on.Sheet)
	w, err := ws.Store.SwitchOn(ctx, id, on, func(tx *gorm.DB, w *store.Workflow) error {
		return ws.Arm(ctx, tx, w, plan, trigger)
	})
	if err == nil && plan.Source != "" { // its rhythm may be another from now on
		err = ws.CheckNow(ctx, plan.Source)
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
