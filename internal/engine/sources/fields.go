package sources

import (
	"context"
	"fmt"
	"reflect"
	"time"

	"dorfbote/internal/connect/kinds"
	"dorfbote/internal/core/value"
	"dorfbote/internal/store"
)

// learnt is what is known of a source's records. What is no longer fresh is kept, to be compared with.
type learnt struct {
	schema *value.Schema
	at     time.Time
}

// learntSources is of how many sources that is kept.
const learntSources = 10_000

// learntHolds is for how long what is known of a source's records is not looked at again.
const learntHolds = 10 * time.Second

// sampleOf is how many records fields are learnt from.
const sampleOf = 500

// Schema gives what is known of a source's records: its schema, or what its records teach. It is nil for
// a source that is not known at all.
func (src *Sources) Schema(ctx context.Context, source string) (*value.Schema, error) {
	have, ok := src.learnt.Get(source)
	if ok && time.Since(have.at) < learntHolds {
		return have.schema, nil
	}
	var row store.Source
	err := src.Store.DB.WithContext(ctx).Limit(1).Find(&row, "name = ?", source).Error
	if err != nil {
		return nil, err
	}
	schema, err := src.learn(ctx, &row, source)
	if err != nil {
		return nil, err
	}
	src.learning.Lock()
	defer src.learning.Unlock()
	if have, ok = src.learnt.Peek(source); ok && reflect.DeepEqual(have.schema, schema) {
		schema = have.schema // the same, so that what was compiled against it holds
	}
	src.learnt.Add(source, learnt{schema, time.Now()})
	return schema, nil
}

// learn finds out a source's fields: from its schema, or from its newest records; and as a person has corrected them.
func (src *Sources) learn(ctx context.Context, row *store.Source, source string) (*value.Schema, error) {
	var schema *value.Schema
	var err error
	if row.Schema != nil {
		if schema, err = value.ReadSchema([]byte(*row.Schema)); err != nil {
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
		schema = l.Schema()
		if own, err := src.ownFields(ctx, row); err != nil {
			return nil, err
		} else if own != nil {
			schema = value.Merge(&value.Schema{Fields: own}, schema)
		}
		schema.Title = row.Title
	}
	for i := range schema.Fields {
		f := &schema.Fields[i]
		c := row.Corrections[f.Name]
		if c.Label != "" {
			f.Label = c.Label
		}
		if c.Type != "" {
			f.Type = value.Type(c.Type)
		}
		f.Hidden = c.Hidden
	}
	return schema, nil
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
	src.learning.Lock()
	defer src.learning.Unlock()
	if have, ok := src.learnt.Peek(source); ok {
		src.learnt.Add(source, learnt{schema: have.schema})
	}
}
