package sources

import (
	"context"
	"fmt"
	"reflect"
	"sync"
	"time"

	"dorfbote/internal/connect/kinds"
	"dorfbote/internal/core/value"
	"dorfbote/internal/store"
)

// learnt keeps what is known of the records of sources.
type learnt struct {
	mu       sync.Mutex
	bySource map[string]learntKind
}

type learntKind struct {
	kind *value.Schema
	at   time.Time
}

// learntHolds is for how long what is known of a source's records is not looked at again.
const learntHolds = 10 * time.Second

// sampleOf is how many records fields are learnt from.
const sampleOf = 500

// Schema gives what is known of a source's records: its schema, or what its records teach. It is nil for
// a source that is not known at all.
func (src *Sources) Schema(ctx context.Context, source string) (*value.Schema, error) {
	l := &src.learnt
	l.mu.Lock()
	have, ok := l.bySource[source]
	l.mu.Unlock()
	if ok && time.Since(have.at) < learntHolds {
		return have.kind, nil
	}
	var row store.Source
	err := src.Store.DB.WithContext(ctx).Limit(1).Find(&row, "name = ?", source).Error
	if err != nil {
		return nil, err
	}
	kind, err := src.learn(ctx, &row, source)
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
func (src *Sources) learn(ctx context.Context, row *store.Source, source string) (*value.Schema, error) {
	var kind *value.Schema
	var err error
	if row.Schema != nil {
		if kind, err = value.ReadSchema([]byte(*row.Schema)); err != nil {
			return nil, fmt.Errorf("the schema of %s: %w", source, err)
		}
	} else {
		records, err := src.Store.SampleRecords(ctx, source, sampleOf)
		if err != nil {
			return nil, err
		}
		if len(records) == 0 && row.Name == "" {
			return nil, nil
		}
		l := value.NewLearner()
		for _, r := range records {
			l.See(r)
		}
		kind = l.Schema()
		if own, err := src.ownFields(ctx, row); err != nil {
			return nil, err
		} else if own != nil {
			kind = value.Merge(&value.Schema{Fields: own}, kind)
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
func (src *Sources) ownFields(ctx context.Context, row *store.Source) ([]value.Field, error) {
	var name string
	if err := src.Store.DB.WithContext(ctx).Raw("SELECT kind FROM connections WHERE id = ?", row.Connection).Scan(&name).Error; err != nil {
		return nil, err
	}
	k := kinds.Named(name)
	if k == nil || k.Fields == nil {
		return nil, nil
	}
	return k.Fields(row.Settings), nil
}

// ForgetSchema has a source's fields looked at anew. Other processes do so within a few seconds.
func (src *Sources) ForgetSchema(source string) {
	l := &src.learnt
	l.mu.Lock()
	defer l.mu.Unlock()
	if k, ok := l.bySource[source]; ok {
		k.at = time.Time{}
		l.bySource[source] = k
	}
}
