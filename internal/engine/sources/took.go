package sources

import (
	"context"
	"fmt"
	"sort"
	"time"

	"dorfbote/internal/core/arrival"
	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/rehearse"
	"dorfbote/internal/core/value"
	"dorfbote/internal/store"
)

// pastMost is how many arrivals of a record its past is read of; those before are as if they were no longer kept.
const pastMost = 5000

// Took gives formulas the past of records. What failed to be read is told, too, since it is then to be decided again.
func (src *Sources) Took(ctx context.Context) (took func(formula.Arrival, time.Time, string, value.Type, value.Workspace) ([]formula.Took, error), failed func() error) {
	var failure error
	took = func(a formula.Arrival, now time.Time, field string, t value.Type, ws value.Workspace) ([]formula.Took, error) {
		if a.Subject == "" || a.Source == "" {
			return nil, nil
		}
		list, err := src.Earlier(ctx, a.Source, a.Subject, now)
		if err != nil {
			failure = err
			return nil, err
		}
		var past rehearse.Past
		for _, one := range list {
			past.Add(one, field, t, ws)
			if one.ID == a.ID && a.At.Equal(now) { // what came in at the same moment after it is not known to it
				break
			}
		}
		return past.Took(field), nil
	}
	return took, func() error { return failure }
}

// Earlier gives what came in of a record up to a moment, in its order.
func (src *Sources) Earlier(ctx context.Context, source, key string, upTo time.Time) ([]*arrival.Arrival, error) {
	var rows []store.Arrival
	err := src.Store.DB.WithContext(ctx).Where("subject = ? AND source = ? AND time <= ? AND for_workflow IS NULL AND type IN ?", key, source, upTo, []string{arrival.Created, arrival.Updated, arrival.Removed}).
		Order("seq DESC").Limit(pastMost).Find(&rows).Error
	if err != nil {
		return nil, fmt.Errorf("reading what came in of %s: %w", key, err)
	}
	sort.Slice(rows, func(i, j int) bool {
		return rows[i].Time.Before(rows[j].Time) || rows[i].Time.Equal(rows[j].Time) && rows[i].Seq < rows[j].Seq
	})
	out := make([]*arrival.Arrival, len(rows))
	for i := range rows {
		if out[i], err = rows[i].Core(); err != nil {
			return nil, err
		}
	}
	return out, nil
}
