package proof

import (
	"context"
	"sort"
	"sync"
	"time"

	"dorfbote/internal/core/arrival"
	"dorfbote/internal/core/cond"
	"dorfbote/internal/core/decide"
	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/rehearse"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
	"dorfbote/internal/engine/sources"
	"dorfbote/internal/store"
)

// trailLength is how many of a source's last arrivals stand in the trail.
const trailLength = 1000

// TrailMark is one arrival of the trail.
type TrailMark struct {
	Seq     int64     `json:"seq"`
	At      time.Time `json:"at"`
	Key     string    `json:"key"`
	Verdict string    `json:"verdict"`
	Row     string    `json:"row"`
	Tick    string    `json:"tick" doc:"due, lasts, silent or schedule, where a timer made it; its record is that of the arrival"`
	Later   bool      `json:"later,omitempty" doc:"told by the pace at a moment of its own: what was held, or a digest"`
	Was     string    `json:"was,omitempty" doc:"what the version that is on makes of it, where that differs"`
}

func (m *TrailMark) outcome() string {
	if m.Row == "" {
		return m.Verdict
	}
	return m.Verdict + " (" + m.Row + ")"
}

// trail draws the last arrivals. A timed sheet starts on none of them; its timers are run over them, and each tick
// stands behind the arrival whose record it found. What a pace tells at a moment of its own stands there too, until now.
func trail(plan *sheet.Plan, now time.Time, recent []PastArrival, reach formula.Reach, counts *decide.Counts) []TrailMark {
	marks := make([]TrailMark, 0, len(recent))
	if plan.AsksFor() || !plan.Timed() && plan.Pace == nil {
		for _, r := range recent {
			sc := decide.NewScope(decide.Occasion(plan, r.Arrival, r.Arrival.Time))
			sc.Reach = reach
			o := decide.Decide(plan, sc)
			if counts != nil {
				counts.See(plan, sc)
			}
			marks = append(marks, TrailMark{Seq: r.Row.Seq, At: r.Row.Time, Key: r.Row.Subject, Verdict: string(o.Verdict), Row: o.Row})
		}
		return marks
	}
	var came *PastArrival
	byID, last := map[string]*PastArrival{}, map[string]int64{}
	m := rehearse.NewMachine(plan, nil, func(l rehearse.Line) error {
		mark := TrailMark{At: l.At, Key: l.Arrival, Verdict: string(l.Verdict), Row: l.Row, Tick: l.Tick, Later: l.Later}
		switch of := byID[l.Arrival]; {
		case l.Tick == "" && of != nil:
			mark.Seq, mark.Key = of.Row.Seq, of.Row.Subject
		case l.Arrival == "" && came != nil:
			mark.Seq = came.Row.Seq
		default:
			mark.Seq = last[l.Arrival]
		}
		marks = append(marks, mark)
		return nil
	})
	m.Know(rehearse.Fixed(reach.Find))
	m.Past(reach.Took)
	m.Outside(reach.Outside)
	m.People(reach.People)
	if counts != nil {
		m.Count(counts)
	}
	for i := range recent {
		r := &recent[i]
		_ = m.Advance(r.Arrival.Time.Add(-time.Nanosecond))
		came, byID[r.Arrival.ID] = r, r
		_ = m.Take(r.Arrival)
		last[r.Row.Subject] = r.Row.Seq
	}
	_ = m.Advance(now)
	if len(marks) > trailLength {
		marks = marks[len(marks)-trailLength:]
	}
	return marks
}

// compare notes on each mark what the version that is on makes of it, where that differs.
func (s *Proof) compare(ctx context.Context, workflow int64, now time.Time, recent []PastArrival, marks []TrailMark) {
	if workflow == 0 {
		return
	}
	on, err := s.Engine.Workflows.PlanOn(ctx, workflow)
	if on == nil || err != nil {
		return
	}
	type place struct {
		seq   int64
		at    time.Time
		later bool
	}
	was := map[place]string{}
	for _, m := range trail(on, now, recent, s.Reach(ctx, sources.AskNothing), nil) {
		was[place{m.Seq, m.At, m.Later}] = m.outcome()
	}
	for i := range marks {
		m := &marks[i]
		before, ok := was[place{m.Seq, m.At, m.Later}]
		if !ok {
			before = "nothing"
		}
		if before != m.outcome() {
			m.Was = before
		}
	}
}

// The most different values of one field that are counted, and that are offered.
const (
	mostValues    = 5000
	valuesOffered = 60
)

// seenValues counts the values that the fields had which conditions look at, or by which something is looked up in a table.
func seenValues(sh *sheet.Sheet, recent []PastArrival) map[string][]sheet.Tally {
	out := map[string][]sheet.Tally{}
	tally := func(name string) {
		if _, done := out[name]; done || name == "" {
			return
		}
		path, counts := value.ParsePath(name), map[string]int{}
		add := func(v any) {
			if _, nested := v.(map[string]any); !nested && !value.Empty(v) && len(counts) < mostValues {
				counts[formula.Show(v, value.DefaultWorkspace())]++
			}
		}
		for _, r := range recent {
			switch v, _ := path.Get(r.Arrival.Record); x := v.(type) {
			case []any:
				for _, e := range x {
					add(e)
				}
			default:
				add(v)
			}
		}
		list := make([]sheet.Tally, 0, len(counts))
		for v, n := range counts {
			list = append(list, sheet.Tally{Value: v, Count: n})
		}
		sort.Slice(list, func(i, j int) bool {
			a, b := list[i], list[j]
			return a.Count > b.Count || a.Count == b.Count && a.Value < b.Value
		})
		out[name] = list
	}
	sh.Conditions(func(c *cond.Spec, _ string) { tally(c.Field.S) })
	for _, l := range sh.LookedUp() {
		tally(l.Field)
	}
	return out
}

// PastArrival is a stored arrival that has been read.
type PastArrival struct {
	Row     store.Arrival
	Arrival *arrival.Arrival
}

// trailCache keeps the last arrivals of the sources being edited for a moment, so that an edit costs
// deciding and no reading.
type trailCache struct {
	mu       sync.Mutex
	bySource map[string]cachedTrail
}

type cachedTrail struct {
	ListOf []PastArrival
	at     time.Time
}

const (
	trailHolds = time.Second
	trailsKept = 32
)

func (c *trailCache) get(ctx context.Context, st *store.Store, source string) ([]PastArrival, error) {
	c.mu.Lock()
	have, ok := c.bySource[source]
	c.mu.Unlock()
	if ok && time.Since(have.at) < trailHolds {
		return have.ListOf, nil
	}
	rows, err := st.RecentArrivals(ctx, source, trailLength)
	if err != nil {
		return nil, err
	}
	read := map[int64]*arrival.Arrival{}
	for _, p := range have.ListOf {
		read[p.Row.Seq] = p.Arrival
	}
	list := make([]PastArrival, len(rows))
	for i, row := range rows {
		a := read[row.Seq]
		if a == nil {
			if a, err = row.Core(); err != nil {
				return nil, err
			}
		}
		list[len(rows)-1-i] = PastArrival{row, a}
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.bySource == nil || len(c.bySource) > trailsKept {
		c.bySource = map[string]cachedTrail{}
	}
	c.bySource[source] = cachedTrail{list, time.Now()}
	return list, nil
}
