package engine

import (
	"context"
	"fmt"
	"reflect"
	"slices"
	"sync"
	"time"

	"dorfbote/internal/connect/kinds"
	"dorfbote/internal/core/report"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
	"dorfbote/internal/store"
)

// plans keeps compiled versions. A version never changes, so a compiled one holds until what is known of its source's
// fields does; that is looked at again from time to time.
type plans struct {
	engine *Engine
	mu     sync.Mutex
	byID   map[planKey]compiled
}

type planKey struct {
	workflow int64
	version  int
}

// compiled is a plan with the fields it was compiled against: where these have changed, it is compiled anew.
type compiled struct {
	plan  *sheet.Plan
	kinds map[string]*value.Kind // of the watched source, and of those that are looked up
}

// learnt keeps what is known of the records of sources.
type learnt struct {
	mu       sync.Mutex
	bySource map[string]learntKind
}

type learntKind struct {
	kind *value.Kind
	at   time.Time
}

// learntHolds is for how long what is known of a source's records is not looked at again.
const learntHolds = 10 * time.Second

// sampleOf is how many records fields are learnt from.
const sampleOf = 500

const maxPlans = 4096

func newPlans(e *Engine) *plans {
	return &plans{engine: e, byID: map[planKey]compiled{}}
}

// Plan gives a version made ready to run. The error is a [*BrokenSheet] where it cannot be.
func (e *Engine) Plan(ctx context.Context, workflow int64, version int, source string) (*sheet.Plan, error) {
	return e.plans.get(ctx, store.Live{ID: workflow, Version: version, Source: source})
}

// PlanOn gives the version of a workflow that is on, made ready to run; nil where it is off.
func (e *Engine) PlanOn(ctx context.Context, workflow int64) (*sheet.Plan, error) {
	list, err := e.Store.LiveNamed(ctx, []int64{workflow})
	if err != nil || len(list) == 0 {
		return nil, err
	}
	return e.plans.get(ctx, list[0])
}

// get gives the plan of a version that is on.
func (p *plans) get(ctx context.Context, l store.Live) (*sheet.Plan, error) {
	key := planKey{l.ID, l.Version}
	p.mu.Lock()
	have := p.byID[key]
	p.mu.Unlock()
	if have.plan != nil {
		same, err := p.same(ctx, have.kinds)
		if err != nil || same {
			return have.plan, err
		}
	}
	src, err := p.engine.Store.VersionSheet(ctx, l.ID, l.Version)
	if err != nil {
		return nil, err
	}
	kinds := map[string]*value.Kind{}
	plan, _, problems := sheet.Compile([]byte(src), sheet.Known{
		Workspace: p.engine.Workspace,
		Kind: func(source string) *value.Kind {
			kind, learnErr := p.engine.Kind(ctx, source)
			if learnErr != nil {
				err = learnErr
			}
			kinds[source] = kind
			return kind
		},
	})
	if err != nil {
		return nil, err
	}
	if plan == nil {
		return nil, &BrokenSheet{Problems: problems}
	}
	p.mu.Lock()
	if len(p.byID) >= maxPlans {
		clear(p.byID)
	}
	p.byID[key] = compiled{plan, kinds}
	p.mu.Unlock()
	return plan, nil
}

// same tells whether all that a plan was compiled against is still so.
func (p *plans) same(ctx context.Context, kinds map[string]*value.Kind) (bool, error) {
	for source, was := range kinds {
		now, err := p.engine.Kind(ctx, source)
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

// Kind gives what is known of a source's records: its schema, or what its records teach. It is nil for
// a source that is not known at all.
func (e *Engine) Kind(ctx context.Context, source string) (*value.Kind, error) {
	l := &e.learnt
	l.mu.Lock()
	have, ok := l.bySource[source]
	l.mu.Unlock()
	if ok && time.Since(have.at) < learntHolds {
		return have.kind, nil
	}
	var row store.Kind
	err := e.Store.DB.WithContext(ctx).Limit(1).Find(&row, "source = ?", source).Error
	if err != nil {
		return nil, err
	}
	kind, err := e.learn(ctx, &row, source)
	if err != nil {
		return nil, err
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if ok && reflect.DeepEqual(have.kind, kind) {
		kind = have.kind // the same, so that what was compiled against it holds
	}
	if l.bySource == nil {
		l.bySource = map[string]learntKind{}
	}
	l.bySource[source] = learntKind{kind, time.Now()}
	return kind, nil
}

// learn finds out a source's fields: from its schema, or from its newest records; and as a person has corrected them.
func (e *Engine) learn(ctx context.Context, row *store.Kind, source string) (*value.Kind, error) {
	var kind *value.Kind
	var err error
	if row.Schema != nil {
		if kind, err = value.ReadSchema([]byte(*row.Schema)); err != nil {
			return nil, fmt.Errorf("the schema of %s: %w", source, err)
		}
	} else {
		records, err := e.Store.SampleRecords(ctx, source, sampleOf)
		if err != nil {
			return nil, err
		}
		if len(records) == 0 && row.Source == "" {
			return nil, nil
		}
		l := value.NewLearner()
		for _, r := range records {
			l.See(r)
		}
		kind = l.Kind()
		if own, err := e.ownFields(ctx, row); err != nil {
			return nil, err
		} else if own != nil {
			kind = value.Merge(&value.Kind{Fields: own}, kind)
		}
		kind.Title = row.Title
	}
	for i := range kind.Fields {
		f := &kind.Fields[i]
		c := row.Corrections[f.Name]
		if c.Label != "" {
			f.Label = c.Label
		}
		if c.Type != "" {
			f.Type = value.Type(c.Type)
		}
		f.Hidden = c.Hidden
	}
	return kind, nil
}

// ownFields are the fields that a source's records have by the nature of its kind, known before the first of them comes.
func (e *Engine) ownFields(ctx context.Context, row *store.Kind) ([]value.Field, error) {
	var name string
	if err := e.Store.DB.WithContext(ctx).Raw("SELECT kind FROM connections WHERE id = ?", row.Connection).Scan(&name).Error; err != nil {
		return nil, err
	}
	k := kinds.Named(name)
	if k == nil || k.Fields == nil {
		return nil, nil
	}
	return k.Fields(row.Settings), nil
}

// ForgetKind has a source's fields looked at anew. Other processes do so within a few seconds.
func (e *Engine) ForgetKind(source string) {
	l := &e.learnt
	l.mu.Lock()
	defer l.mu.Unlock()
	if k, ok := l.bySource[source]; ok {
		k.at = time.Time{}
		l.bySource[source] = k
	}
}

// Known gives everything a sheet is checked against.
func (e *Engine) Known(ctx context.Context) (sheet.Known, error) {
	var sources []string
	db := e.Store.DB.WithContext(ctx)
	if err := db.Model(&store.Kind{}).Order("source").Pluck("source", &sources).Error; err != nil {
		return sheet.Known{}, err
	}
	var places []store.Destination
	if err := db.Order("name").Find(&places).Error; err != nil {
		return sheet.Known{}, err
	}
	var paused []string
	if err := db.Model(&store.Connection{}).Where("paused").Pluck("id", &paused).Error; err != nil {
		return sheet.Known{}, err
	}
	destinations, shutBy := make([]string, len(places)), map[string]string{}
	for i := range places {
		d := &places[i]
		destinations[i], shutBy[d.Name] = d.Name, shut(d, slices.Contains(paused, d.Connection))
	}
	var callable []string
	if err := db.Model(&store.Workflow{}).Where("form = ? OR draft LIKE '%called:%'", sheet.Called).Order("name").Pluck("name", &callable).Error; err != nil {
		return sheet.Known{}, err
	}
	return sheet.Known{
		Workspace: e.Workspace,
		Kind: func(source string) *value.Kind {
			k, err := e.Kind(ctx, source)
			if err != nil {
				e.Log.Warn("learning fields failed", "source", source, "error", err)
			}
			return k
		},
		Sources:      func() []string { return sources },
		Destinations: func() []string { return destinations },
		Workflows:    func() []string { return callable },
		Shut:         func(name string) string { return shutBy[name] },
		Unwritable:   func(source string, change bool) string { return e.unwritable(ctx, source, change) },
	}, nil
}
