package follow

import (
	"context"
	"errors"
	"fmt"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
	"dorfbote/internal/engine/intake"
	"dorfbote/internal/store"
)

// callWorkflow starts another workflow. A workflow that has been in the chain of calls already is not called again.
func (f *Follow) callWorkflow(ctx context.Context, s *store.Step) (connect.Written, error) {
	out := connect.Written{Final: true, Address: s.Target, Sent: string(s.Body)}
	if s.Calls == nil {
		return out, fmt.Errorf("there is no workflow called %q any more", s.Target)
	}
	w, err := f.Store.Workflow(ctx, *s.Calls)
	if err != nil {
		return connect.Written{}, err
	}
	chain, err := f.chain(ctx, s)
	if err != nil {
		return connect.Written{}, err
	}
	names := ""
	for _, c := range chain {
		names = c.name + " → " + names
	}
	for _, c := range chain {
		if c.id == w.ID {
			return out, fmt.Errorf("this would go on without end: %s%s; it was stopped here", names, w.Name)
		}
	}
	if len(chain) >= longestChain {
		return out, fmt.Errorf("%d workflows have called one another: %s; it was stopped here", len(chain), names)
	}
	lives, err := f.Store.LiveNamed(ctx, []int64{w.ID})
	if err != nil {
		return connect.Written{}, err
	}
	if len(lives) == 0 {
		return out, fmt.Errorf("%q is switched off", w.Name)
	}
	plan, err := f.Workflows.Plan(ctx, w.ID, lives[0].Version, lives[0].Source)
	if err != nil {
		return out, err
	}
	if plan.Trigger.Form != sheet.Called {
		return out, fmt.Errorf("%q is not started by a call", w.Name)
	}
	v, err := value.ReadJSON(s.Body)
	if err != nil {
		return out, err
	}
	given, _ := v.(map[string]any)
	answers, err := sheet.Answers(plan.Trigger.Ask, given, f.Workspace)
	if err != nil {
		return out, errors.New(fault.Plainly(err))
	}
	receipts, err := f.Writer.Start(ctx, lives[0], plan, nil, answers, intake.ByStep(chain[0].name, s.ID))
	if err != nil {
		out.Final = false
		return out, err
	}
	for _, r := range receipts {
		out.Answer = fmt.Sprintf("started as arrival %d", r.Seq)
	}
	return out, nil
}

type caller struct {
	id   int64
	name string
}

// chain lists the workflows that led to a step, its own first. A called workflow's arrival says which step called.
func (f *Follow) chain(ctx context.Context, s *store.Step) ([]caller, error) {
	var out []caller
	db := f.Store.DB.WithContext(ctx)
	for at := s; at != nil && len(out) <= longestChain; {
		var row struct {
			Name   string
			ByStep *int64
		}
		err := db.Raw("SELECT w.name, (SELECT by_step FROM arrivals WHERE seq = ?) AS by_step FROM workflows w WHERE w.id = ?", at.Arrival, at.Workflow).Scan(&row).Error
		if err != nil {
			return nil, err
		}
		out = append(out, caller{at.Workflow, row.Name})
		if row.ByStep == nil {
			break
		}
		var up []store.Step
		if err := db.Limit(1).Find(&up, "id = ?", *row.ByStep).Error; err != nil {
			return nil, err
		}
		if at = nil; len(up) > 0 {
			at = &up[0]
		}
	}
	return out, nil
}
