package decider

import (
	"context"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/arrival"
	"dorfbote/internal/core/decide"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/engine/sources"
	"dorfbote/internal/store"
)

// Beginning says what switching on from an arrival on would do at once.
type Beginning struct {
	Arrivals int64            `json:"arrivals" doc:"past arrivals that would be decided at once"`
	Posts    int64            `json:"posts" doc:"posts that would be sent at once"`
	ByPlace  map[string]int64 `json:"by_place"`
	More     bool             `json:"more" doc:"only the last 20,000 arrivals were looked at"`
}

const beginningLook = 20_000

// Beginning decides past arrivals, without sending or keeping anything, to count what would be sent.
func (de *Decider) Beginning(ctx context.Context, plan *sheet.Plan, workflow, since int64) (*Beginning, error) {
	out := &Beginning{ByPlace: map[string]int64{}}
	if plan.Timed() || plan.AsksFor() {
		return out, nil
	}
	for at := since; ; {
		var rows []store.Arrival
		err := de.Store.DB.WithContext(ctx).Where("source = ? AND seq > ? AND for_workflow IS NULL AND NOT EXISTS (SELECT 1 FROM verdicts v WHERE v.arrival = seq AND v.workflow = ?)", plan.Source, at, workflow).
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
			sc.Reach = de.Sources.Reach(ctx, sources.AskNothing)
			for _, p := range decide.Decide(plan, sc).Posts {
				out.Posts++
				out.ByPlace[p.To]++
			}
		}
	}
}

// WouldPost counts the posts that the workflows that are on would send, if a record of a source came in as new.
func (de *Decider) WouldPost(ctx context.Context, source string, it *connect.Item) (int64, error) {
	lives, err := de.Store.LiveOn(ctx, []string{source})
	if err != nil || len(lives) == 0 {
		return 0, err
	}
	a := &arrival.Arrival{ID: "preview", Source: source, Type: arrival.Created, Time: de.Now().UTC(), Subject: it.Key, Record: it.Record, By: it.By}
	n := int64(0)
	sc := decide.NewScope(a)
	sc.Reach = de.Sources.Reach(ctx, sources.AskNothing)
	for _, l := range lives {
		o, err := de.one(ctx, 0, l, sc)
		if err != nil {
			return 0, err
		}
		n += int64(len(o.Posts))
	}
	return n, nil
}
