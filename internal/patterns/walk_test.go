package patterns

import (
	"fmt"
	"maps"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/core/arrival"
	"dorfbote/internal/core/decide"
	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/rehearse"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
	"dorfbote/internal/practice/world"
)

// month is what happens in the demo world in a month, with what is said in its room and what people start by hand.
func month(t *testing.T) []*arrival.Arrival {
	t.Helper()
	zone := value.DefaultWorkspace().Location()
	first := time.Date(2026, 11, 2, 0, 0, 0, 0, zone)
	w := world.NewWorld(7, first, "https://apps.example")
	var out []*arrival.Arrival
	add := func(a *arrival.Arrival) {
		a.ID = fmt.Sprint("a", len(out)+1)
		out = append(out, a)
	}
	for range 30 {
		changes := w.NextDay()
		for n, c := range changes {
			add(&arrival.Arrival{Source: c.App + "/" + c.Kind, Type: "dorfbote.record." + c.Type, Time: c.At.UTC(), Subject: c.Key, Record: c.Record, Before: c.Before, By: c.By})
			if n > 0 {
				continue
			}
			at := c.At.UTC()
			said := func(text string, more map[string]any) {
				key := fmt.Sprint("m", len(out))
				record := map[string]any{"id": key, "text": text, "author": "Vera", "room": "#tours"}
				maps.Copy(record, more)
				add(&arrival.Arrival{Source: "talk/tours", Type: arrival.Created, Time: at, Subject: key, Record: record})
			}
			said("done COL-2001", nil)
			said("it **is** late", map[string]any{"about": map[string]any{"source": "tours/collections", "key": "COL-2001", "workflow": "x"}})
		}
	}
	// What people do seldom, on the last day.
	end := out[len(out)-1].Time
	last := func(source string) *arrival.Arrival {
		for i := len(out) - 1; ; i-- {
			if out[i].Source == source && out[i].Record != nil {
				return out[i]
			}
		}
	}
	change := func(source string, set map[string]any, kind string) {
		was := last(source)
		record := map[string]any{}
		maps.Copy(record, was.Record)
		maps.Copy(record, set)
		a := &arrival.Arrival{Source: source, Type: kind, Time: end.Add(time.Minute), Subject: was.Subject, Record: record, Before: was.Record}
		if kind == arrival.Removed {
			a.Record = nil
		}
		add(a)
	}
	change("workshop/jobs", map[string]any{"estimate": 777.0}, arrival.Updated)
	humidity, _ := value.ReadNumber(last("cellar/batches").Record["humidity"], value.DefaultWorkspace())
	change("cellar/batches", map[string]any{"humidity": humidity.Float + 6}, arrival.Updated)
	change("lab/samples", map[string]any{"verdict": "pending"}, arrival.Updated)
	change("counter/orders", nil, arrival.Removed)
	return out
}

// started is what starts a pattern that waits for somebody, or for a caller.
func started(plan *sheet.Plan, list []*arrival.Arrival) *arrival.Arrival {
	answers := map[string]any{}
	for _, q := range plan.Trigger.Ask {
		switch q.Type {
		case value.Num, value.Money:
			answers[q.Name] = 60000.0
		case value.Text:
			answers[q.Name] = "because"
		}
	}
	last := list[len(list)-1].Time
	a := &arrival.Arrival{ID: "start", Source: plan.Source, Type: "dorfbote.start", Time: last.Add(time.Hour), By: "Marit", Answers: answers}
	for _, r := range list {
		if plan.Source != "" && r.Source == plan.Source && r.Record != nil {
			a.Subject, a.Record = r.Subject, r.Record
		}
	}
	return a
}

// outside makes what a script of a pattern makes: as many as are asked for.
type outside struct{}

func (outside) Script(string, map[string]any) (any, error) {
	return []any{map[string]any{"n": 1.0, "name": "1"}, map[string]any{"n": 2.0, "name": "2"}}, nil
}
func (outside) Fetch(formula.Request) (formula.Answer, error) {
	return formula.Answer{Status: 200}, nil
}
func (outside) Elapsed() time.Duration { return 0 }

// Each pattern lives through a month as it is offered: it tells somebody, nothing of it fails, and what follows can be done.
func TestEveryPatternLives(t *testing.T) {
	all, kinds := offered(t)
	arrivals := month(t)
	for _, p := range all {
		t.Run(p.Name, func(t *testing.T) {
			text, _ := kinds.filled(t, p)
			plan, _, problems := sheet.Compile(text, kinds.known())
			require.NotNil(t, plan, "%v", problems)
			posts, steps, asked := 0, 0, 0
			m := rehearse.NewMachine(plan, nil, func(l rehearse.Line) error {
				assert.NotEqual(t, decide.Failed, l.Verdict, "%s: %s %s", l.Arrival, l.Where, l.Error)
				assert.Empty(t, l.Failures, l.Arrival)
				posts += len(l.Posts)
				for _, s := range l.Steps {
					assert.Empty(t, s.Error, "%s: %s", l.Arrival, s.Name)
					steps++
				}
				if l.Verdict == decide.Asked {
					asked++
				}
				for _, post := range l.Posts {
					assert.NotContains(t, post.Doc.Plain()+post.Doc.Title, "{", "told as it is read")
					assert.NotEmpty(t, post.Doc.Title+post.Doc.Plain())
				}
				return nil
			})
			m.Outside(outside{})
			for _, a := range arrivals {
				require.NoError(t, m.Take(a))
			}
			if plan.AsksFor() {
				require.NoError(t, m.Take(started(plan, arrivals)))
			}
			require.NoError(t, m.Finish())
			assert.Positive(t, posts, "somebody is told")
			assert.Equal(t, len(plan.Questions) > 0, asked > 0)
			done := 0
			for _, f := range plan.Follow {
				if f.How != sheet.FollowTell {
					done++
				}
			}
			assert.Equal(t, done > 0, steps > 0, "what follows is done")
		})
	}
}
