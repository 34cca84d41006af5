package rehearse

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/core/arrival"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
)

func compare(t *testing.T, now, was string, arrivals []*arrival.Arrival, until time.Time) (Comparison, []Line) {
	t.Helper()
	plan := func(src string) *sheet.Plan {
		if src == "" {
			return nil
		}
		p, _, problems := sheet.Compile([]byte(src), sheet.Known{Workspace: value.DefaultWorkspace()})
		require.NotNil(t, p, "%v", problems)
		return p
	}
	var lines []Line
	c := NewComparer(plan(now), plan(was), time.UTC, nil, nil, func(*Machine, *sheet.Plan) {}, func(l Line, _ string) error {
		lines = append(lines, l)
		return nil
	})
	for _, a := range arrivals {
		require.NoError(t, c.Take(a))
	}
	require.NoError(t, c.Finish(until))
	return c.Sum(), lines
}

func TestComparing(t *testing.T) {
	const base = `dorfbote: 1
name: T
watch: {source: tours/collections}
keep: {all: [{field: litres, above: 100}]}
messages:
  m: {title: "${record.id}", body: "${record.litres} litres"}
route:
  rows:
    - {name: Much, when: {field: litres, at_least: 2000}, tell: [{to: square/#board, message: m}]}
    - {name: Some, when: {field: litres, at_least: 500}, tell: [{to: square/#tours, message: m}]}
`
	at := time.Date(2026, 11, 20, 6, 0, 0, 0, time.UTC)
	var arrivals []*arrival.Arrival
	for i, litres := range []float64{50, 300, 600, 1600, 2500, 600} {
		key := fmt.Sprint("C", i)
		if i == 5 {
			key = "C2"
		}
		arrivals = append(arrivals, &arrival.Arrival{ID: fmt.Sprint("a", i), Source: "tours/collections", Type: arrival.Created, Subject: key, Time: at.Add(time.Duration(i) * 10 * time.Hour),
			Record: map[string]any{"id": key, "litres": litres}})
	}
	until := at.Add(72 * time.Hour)
	differs := func(c Comparison) []string {
		out := []string{}
		for _, d := range c.Differs {
			out = append(out, strings.TrimSpace(fmt.Sprint(d.Kind, " ", d.Key, " ", d.To, " ", d.WasTo)))
		}
		return out
	}
	for _, c := range []struct {
		name, old, new string
		posts          int
		differs        []string
	}{
		{"nothing", "", "", 4, []string{}},
		{"a threshold lowered moves posts", "at_least: 2000", "at_least: 1500", 4, []string{"moved C3 square/#board square/#tours"}},
		{"a threshold raised silences", "at_least: 500", "at_least: 1000", 2, []string{"gone C2 square/#tours", "gone C2 square/#tours"}},
		{"a row widened tells more", "at_least: 500", "at_least: 300", 5, []string{"new C1 square/#tours"}},
		{"words", " litres\"", " l\"", 4, []string{"changed C2 square/#tours", "changed C3 square/#tours", "changed C4 square/#board", "changed C2 square/#tours"}},
		{"a repeat folded", "route:", "pace: {repeat: {key: \"${record.id}\", within: 3d}}\nroute:", 3, []string{"gone C2 square/#tours"}},
		{"held until the morning", "route:", "pace: {quiet: {open: [{days: [mon,tue,wed,thu,fri,sat,sun], from: \"06:00\", to: \"12:00\"}]}}\nroute:", 4,
			[]string{"gone C2 square/#tours", "new C2 square/#tours", "gone C3 square/#tours", "new C3 square/#tours", "gone C4 square/#board", "new C4 square/#board"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			sum, lines := compare(t, strings.Replace(base, c.old, c.new, 1), base, arrivals, until)
			assert.Equal(t, 4, sum.Was)
			assert.Equal(t, c.posts, sum.Posts)
			assert.ElementsMatch(t, c.differs, differs(sum))
			total, days := 0, 0
			for _, p := range sum.Places {
				for i := range sum.Days {
					days += p.ByDay[i]
				}
				total += p.Posts
			}
			assert.Equal(t, sum.Posts, total)
			assert.Equal(t, sum.Posts, days, "every post has its day")
			posts := 0
			for _, l := range lines {
				posts += len(l.Posts)
			}
			assert.Equal(t, posts, sum.Posts)
		})
	}
	sum, _ := compare(t, base, "", arrivals, until)
	assert.False(t, sum.Compared)
	assert.Equal(t, []Unheard{
		{"dropped", "keep.all[0]", "litres is above 100", 1, []string{"C0"}},
		{"unrouted", "", "", 1, []string{"C1"}},
	}, sum.Unheard)
	assert.Equal(t, Noisy{"C2", 2}, sum.Noisiest[0])
	assert.Equal(t, []string{"2026-11-20", "2026-11-21", "2026-11-22"}, sum.Days)
	assert.Equal(t, map[string]int{"told": 4, "dropped": 1, "unrouted": 1}, sum.Verdicts)
}

// What was of use is found in what would be told: at once, in a digest, or by a timer; and what would not be is named.
func TestWhatWasOfUseIsStillTold(t *testing.T) {
	const base = `dorfbote: 1
name: T
watch: {source: tours/collections%s}
messages:
  m: {title: "${record.id}"}
route: {otherwise: {tell: [{to: square/#tours, message: m}]}}
%s
`
	at := time.Date(2026, 11, 20, 6, 0, 0, 0, time.UTC)
	var arrivals []*arrival.Arrival
	for i := range 4 {
		key, when := fmt.Sprint("C", i), at.Add(time.Duration(i)*time.Hour)
		arrivals = append(arrivals, &arrival.Arrival{ID: fmt.Sprint("a", i), Source: "tours/collections", Type: arrival.Created, Subject: key, Time: when,
			Record: map[string]any{"id": key, "litres": float64(i), "due": when.Add(30 * time.Minute).Format(time.RFC3339)}})
	}
	tick := Need{Tick: true, Key: "C2", At: at.Add(150 * time.Minute)}
	for _, c := range []struct {
		name, watch, rest string
		was               string
		needs             []Need
		needed            int
		misses            []string
	}{
		{"told at once", "", "", "", []Need{{Arrival: "a1", Key: "C1"}, {Arrival: "a3", Key: "C3"}}, 2, nil},
		{"held until the digest", "", `pace: {digest: {at: "08:00"}}`, "", []Need{{Arrival: "a1", Key: "C1"}, {Arrival: "a3", Key: "C3"}}, 2, nil},
		{"left out", "", "keep: {field: litres, above: 2}", "", []Need{{Arrival: "a1", Key: "C1"}, {Arrival: "a3", Key: "C3"}}, 2, []string{"C1"}},
		{"told by a timer", ", due: {field: due}", "", "", []Need{tick}, 1, nil},
		{"at another moment it is another", ", due: {field: due, offset: 1h}", "", "", []Need{tick}, 1, []string{"C2"}},
		{"what the version that is on does not tell either is not looked for", "", "keep: {field: litres, above: 2}", "keep: {field: litres, above: 0}", []Need{{Arrival: "a0", Key: "C0"}, {Arrival: "a1", Key: "C1"}}, 1, []string{"C1"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			plan := func(rest string) *sheet.Plan {
				p, _, problems := sheet.Compile(fmt.Appendf(nil, base, c.watch, rest), sheet.Known{Workspace: value.DefaultWorkspace()})
				require.NotNil(t, p, "%v", problems)
				return p
			}
			var was *sheet.Plan
			if c.was != "" {
				was = plan(c.was)
			}
			m := NewComparer(plan(c.rest), was, time.UTC, nil, nil, func(*Machine, *sheet.Plan) {}, nil)
			m.Needs(c.needs)
			for _, a := range arrivals {
				require.NoError(t, m.Take(a))
			}
			require.NoError(t, m.Finish(at.Add(5*time.Hour)))
			sum := m.Sum()
			var misses []string
			for _, miss := range sum.Misses {
				misses = append(misses, miss.Key)
			}
			assert.Equal(t, []int{c.needed, len(c.misses)}, []int{sum.Needed, sum.Missed})
			assert.Equal(t, c.misses, misses)
		})
	}
}

// What would wait for answers, and for how long; and how often others would be told, since nobody took care.
func TestWhatWouldWait(t *testing.T) {
	const text = `dorfbote: 1
name: T
watch: {source: tours/collections}
ask:
  - {name: verdict, of: square/#board, message: m, choices: [{name: go, text: Go on}, {name: stay, text: Leave it}], within: 2d, remind: 1d, otherwise: stay}
  - {name: never, when: {field: verdict.choice, is: go}, of: square/#board, message: m, choices: [a, b]}
messages: {m: {title: "${record.id}"}}
route: {otherwise: {tell: [{to: square/#tours, message: m}]}}
follow:
  - {unless: {claimed: true, within: 15m}, tell: [{to: square/#board, message: m}]}
  - {unless: {any: [{answered: true}, {field: id, is: C1}], within: 1h}, tell: [{to: square/#board, message: m}]}
pace: {quiet: {open: [{from: "05:00", to: "20:00"}]}}
`
	at := time.Date(2026, 11, 20, 6, 0, 0, 0, time.UTC)
	var arrivals []*arrival.Arrival
	for i, hours := range []int{0, 1, 16, 60} { // the third when nobody is asked, the last too late to be decided
		key := fmt.Sprint("C", i)
		arrivals = append(arrivals, &arrival.Arrival{ID: fmt.Sprint("a", i), Source: "tours/collections", Type: arrival.Created, Subject: key, Time: at.Add(time.Duration(hours) * time.Hour), Record: map[string]any{"id": key}})
	}
	got, _ := compare(t, text, "", arrivals, at.Add(90*time.Hour))
	assert.Equal(t, []Waits{{Ask: "verdict", Put: 4, Reminders: 4, Open: 1, Longest: "2 d 7 h", Otherwise: "Leave it"}}, got.Waits)
	assert.Equal(t, []Escalations{
		{Step: "follow[0]", Words: "somebody takes it", After: "15 min", Told: 3},
		{Step: "follow[1]", Words: "at least one of (somebody answers; id is C1)", After: "1 h", Told: 2},
	}, got.Steps)
	got, _ = compare(t, strings.Replace(text, "route:", "keep: {field: id, is: none}\nroute:", 1), "", arrivals, at.Add(90*time.Hour))
	assert.Empty(t, got.Waits)
	assert.Empty(t, got.Steps)
}
