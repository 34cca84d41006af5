package calendar

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Open time, added up minute by minute around changes of the clocks, comes to what After says at once.
func TestOpenTimeAgainstCountingMinutes(t *testing.T) {
	zones := []*time.Location{zone(t, "Europe/Zurich"), zone(t, "America/St_Johns"), zone(t, "Australia/Lord_Howe"), zone(t, "Asia/Kolkata")}
	around := []time.Time{wall("2026-03-28T00:00"), wall("2026-10-24T00:00"), wall("2026-03-07T00:00"), wall("2026-04-04T12:00"), wall("2026-10-31T12:00")}
	for seed := range uint64(200) {
		rnd := rand.New(rand.NewPCG(seed, 3))
		h := Hours{Zone: zones[rnd.IntN(len(zones))]}
		for range 1 + rnd.IntN(3) {
			var o Opening
			for d := range o.Days {
				o.Days[d] = rnd.IntN(3) > 0
			}
			o.From, o.To = rnd.IntN(96)*15, rnd.IntN(97)*15
			h.Spans = append(h.Spans, o)
		}
		at := around[rnd.IntN(len(around))].Add(time.Duration(rnd.IntN(48*60)) * time.Minute)
		d := time.Duration(rnd.IntN(20*60)) * time.Minute
		then, ok := h.After(at, d)
		if !ok {
			require.False(t, h.Open(at), "seed %d: it is open, and never opens", seed)
			continue
		}
		open, m := time.Duration(0), at
		for ; m.Before(then); m = m.Add(time.Minute) {
			if h.Open(m) {
				open += time.Minute
			}
		}
		require.Equal(t, d, open, "seed %d: %s and %s later in %s, by %+v, is said to be %s", seed, at, d, h.Zone, h.Spans, then)
		if d > 0 {
			require.True(t, h.Open(then.Add(-time.Minute)), "seed %d: the last minute that counts is an open one", seed)
		} else {
			require.True(t, h.Open(then), "seed %d", seed)
		}
	}
}

// A rule by the hour of the day runs once a day whatever the clocks do: at its wall time, later by the gap where the
// time is skipped, and the first time where it comes twice.
func TestDailyRulesAgainstTheWallClock(t *testing.T) {
	for _, name := range []string{"Europe/Zurich", "America/St_Johns", "Australia/Lord_Howe", "Africa/Casablanca", "Asia/Kolkata"} {
		z := zone(t, name)
		for hour := range 24 {
			start := time.Date(2026, 1, 1, hour, 15, 0, 0, time.UTC)
			s, err := ByRule(start, "FREQ=DAILY", z)
			require.NoError(t, err)
			days := s.Upcoming(time.Date(2025, 12, 30, 0, 0, 0, 0, time.UTC), 365, nil)
			require.Len(t, days, 365)
			for i, got := range days {
				want := start.AddDate(0, 0, i)
				seen := Wall(got.In(z))
				switch gap := seen.Sub(want); gap {
				case 0: // the first of two: half an hour or an hour before, the wall showed another time
					for _, back := range []time.Duration{30 * time.Minute, time.Hour} {
						require.NotEqual(t, want, Wall(got.Add(-back).In(z)), "%s %s is the second time", name, got)
					}
				default: // skipped: no moment of that day shows the time
					_, before := got.Add(-2 * time.Hour).In(z).Zone()
					_, after := got.In(z).Zone()
					require.Equal(t, time.Duration(after-before)*time.Second, gap, "%s %s for %s", name, got, want)
				}
			}
		}
	}
}
