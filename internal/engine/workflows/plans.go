package workflows

import (
	"context"
	"fmt"

	"github.com/hashicorp/golang-lru/v2/expirable"

	"dorfbote/internal/core/report"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
	"dorfbote/internal/store"
)

// plans keeps compiled versions. A version never changes, so a compiled one holds until what is known of its source's
// fields does; that is looked at again from time to time.
type plans struct {
	workflows *Workflows
	byID      *expirable.LRU[planKey, compiled]
}

type planKey struct {
	workflow int64
	version  int
}

// compiled is a plan with the fields it was compiled against: where these have changed, it is compiled anew.
type compiled struct {
	plan    *sheet.Plan
	schemas map[string]*value.Schema // of the watched source, and of those that are looked up
}

const maxPlans = 4096

func newPlans(w *Workflows) *plans {
	return &plans{workflows: w, byID: expirable.NewLRU[planKey, compiled](maxPlans, nil, 0)}
}

// Plan gives a version made ready to run. The error is a [*BrokenSheet] where it cannot be.
func (ws *Workflows) Plan(ctx context.Context, workflow int64, version int, source string) (*sheet.Plan, error) {
	return ws.plans.get(ctx, store.Live{ID: workflow, Version: version, Source: source})
}

// PlanOf gives a version that is on, made ready to run. The error is a [*BrokenSheet] where it cannot be.
func (ws *Workflows) PlanOf(ctx context.Context, l store.Live) (*sheet.Plan, error) {
	return ws.plans.get(ctx, l)
}

// PlanOn gives the version of a workflow that is on, made ready to run; nil where it is off.
func (ws *Workflows) PlanOn(ctx context.Context, workflow int64) (*sheet.Plan, error) {
	list, err := ws.Store.LiveNamed(ctx, []int64{workflow})
	if err != nil || len(list) == 0 {
		return nil, err
	}
	return ws.plans.get(ctx, list[0])
}

// get gives the plan of a version that is on.
func (p *plans) get(ctx context.Context, l store.Live) (*sheet.Plan, error) {
	key := planKey{l.ID, l.Version}
	if have, ok := p.byID.Get(key); ok {
		same, err := p.same(ctx, have.schemas)
		if err != nil || same {
			return have.plan, err
		}
	}
	src, err := p.workflows.Store.VersionSheet(ctx, l.ID, l.Version)
	if err != nil {
		return nil, err
	}
	schemas := map[string]*value.Schema{}
	plan, _, problems := sheet.Compile([]byte(src), sheet.Known{
		Workspace: p.workflows.Workspace, Reaches: p.workflows.Sources.Reaches, Lenient: true,
		Schema: func(source string) *value.Schema {
			schema, learnErr := p.workflows.Sources.Schema(ctx, source)
			if learnErr != nil {
				err = learnErr
			}
			schemas[source] = schema
			return schema
		},
	})
	if err != nil {
		return nil, err
	}
	if plan == nil {
		return nil, &BrokenSheet{Problems: problems}
	}
	p.byID.Add(key, compiled{plan, schemas})
	return plan, nil
}

// same tells whether all that a plan was compiled against is still so.
func (p *plans) same(ctx context.Context, schemas map[string]*value.Schema) (bool, error) {
	for source, was := range schemas {
		now, err := p.workflows.Sources.Schema(ctx, source)
		if err != nil || now != was {
			return false, err
		}
	}
	return true, nil
}

// BrokenSheet is a version that cannot be run, for instance because its source's fields have changed.
type BrokenSheet struct{ Problems []report.Problem }

func (b *BrokenSheet) Error() string {
	for _, p := range b.Problems {
		if !p.Warning {
			return fmt.Sprintf("the sheet cannot be run: line %d: %s", p.At.Line, p)
		}
	}
	return "the sheet cannot be run"
}
