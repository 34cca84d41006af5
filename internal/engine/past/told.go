package past

import (
	"context"
	"fmt"
	"time"

	"dorfbote/internal/core/arrival"
	"dorfbote/internal/core/rehearse"
	"dorfbote/internal/core/value"
	"dorfbote/internal/core/worth"
)

// mostTold is how many of a workflow's alerts, the newest, are looked at for what was of use.
const mostTold = 2000

// Alerts gives what a version of a workflow has told of since a moment, and what of it was of use.
func (r *Reader) Alerts(ctx context.Context, workflow int64, version int, since time.Time) ([]worth.Alert, error) {
	list, err := r.Store.ToldOf(ctx, workflow, version, since, mostTold)
	if err != nil {
		return nil, fmt.Errorf("reading what was told: %w", err)
	}
	out := make([]worth.Alert, 0, len(list))
	for _, t := range list {
		v, err := value.ReadJSON([]byte(t.Data))
		if err != nil {
			return nil, fmt.Errorf("the arrival %s in the database: %w", t.ID, err)
		}
		var a arrival.Arrival
		d, _ := v.(map[string]any)
		a.Carry(d)
		out = append(out, worth.Alert{Record: a.Record, Led: t.Led})
	}
	return out, nil
}

// Needs gives what of a stretch a workflow, in any of its versions, told and somebody made use of.
func (r *Reader) Needs(ctx context.Context, workflow int64, from, to time.Time) ([]rehearse.Need, error) {
	list, err := r.Store.ToldOf(ctx, workflow, 0, from, mostTold)
	if err != nil {
		return nil, fmt.Errorf("reading what was of use: %w", err)
	}
	var out []rehearse.Need
	for _, t := range list {
		if t.Led && !t.Time.Before(from) && !t.Time.After(to) {
			out = append(out, rehearse.Need{Arrival: t.ID, Tick: t.Tick, Key: t.Subject, At: t.Time})
		}
	}
	return out, nil
}
