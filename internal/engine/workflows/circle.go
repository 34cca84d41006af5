package workflows

import (
	"context"

	"dorfbote/internal/core/sheet"
	"dorfbote/internal/store"
)

// Circle finds workflows that would call one another without end if plan were switched on under a name; "" where there
// are none.
func (ws *Workflows) Circle(ctx context.Context, name string, plan *sheet.Plan) (string, error) {
	calls := map[string][]string{name: plan.Calls()}
	if len(calls[name]) == 0 {
		return "", nil
	}
	var list []store.Workflow
	if err := ws.Store.DB.WithContext(ctx).Where("is_on AND name <> ?", name).Find(&list).Error; err != nil {
		return "", err
	}
	for _, w := range list {
		if p, err := ws.Plan(ctx, w.ID, w.Version, w.Source); err == nil {
			calls[w.Name] = p.Calls()
		}
	}
	var walk func(at, way string, seen map[string]bool) string
	walk = func(at, way string, seen map[string]bool) string {
		for _, next := range calls[at] {
			if next == name {
				return way + " → " + next
			}
			if !seen[next] {
				seen[next] = true
				if found := walk(next, way+" → "+next, seen); found != "" {
					return found
				}
			}
		}
		return ""
	}
	return walk(name, name, map[string]bool{}), nil
}
