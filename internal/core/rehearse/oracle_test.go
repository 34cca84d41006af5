package rehearse

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// minute is a moment of the made-up histories, counted from their beginning.
func minute(m int) time.Time {
	return time.Date(2026, 11, 20, 5, 0, 0, 0, time.UTC).Add(time.Duration(m) * time.Minute)
}

func stamp(m int) string { return minute(m).Format("01-02T15:04") }

const (
	historyKeys = 3
	historyEnd  = 240 // the last minute in which something comes in
	clockEnd    = 900 // by when every timer has run out
)

// Dates that records come due by, moved about at random, fire as a clock that looks at every record once a minute would.
func TestDueAgainstAClockThatLooksEveryMinute(t *testing.T) {
	const watch = "watch: {source: cellar/batches, due: {field: due, offset: -2h, late: 20m}}\nkeep: {field: status, is_not: done}"
	for seed := range uint64(150) {
		rnd := rand.New(rand.NewPCG(seed, 1))
		type state struct {
			at   int // the minute it comes due; -1: none
			fire int // the minute in which it starts what it starts; -1: nothing is waited for
			done bool
		}
		now := [historyKeys]state{{-1, -1, false}, {-1, -1, false}, {-1, -1, false}}
		var arrivals, want []string
		for m := range clockEnd {
			for m < historyEnd && rnd.IntN(4) == 0 {
				k := rnd.IntN(historyKeys)
				s := &now[k]
				key := fmt.Sprintf("B%d", k)
				if rnd.IntN(8) == 0 {
					*s = state{-1, -1, false}
					arrivals = append(arrivals, stamp(m)+" "+key+" type=removed")
					continue
				}
				was := s.at
				switch rnd.IntN(5) {
				case 0, 1: // moved: soon, later, or to what has passed
					if s.at = m + rnd.IntN(200) - 40; s.at == m {
						s.at++
					}
				case 2:
					s.at = -1
				}
				s.done = rnd.IntN(3) == 0
				due, status := "", "open"
				if s.at >= 0 {
					due = minute(s.at + 120).Format(time.RFC3339)
				}
				if s.done {
					status = "done"
				}
				s.at = max(s.at, -1)
				switch {
				case s.at == was:
				case s.at >= m:
					s.fire = s.at
				case s.at >= 0 && m-s.at <= 20: // has just passed: at once
					s.fire = m
				default:
					s.fire = -1
				}
				arrivals = append(arrivals, stamp(m)+" "+key+" due="+due+" status="+status)
			}
			for k, s := range now {
				switch {
				case s.fire == m && s.done:
					want = append(want, fmt.Sprintf("%s due:B%d dropped keep", stamp(m), k))
				case s.fire == m:
					want = append(want, fmt.Sprintf("%s due:B%d told", stamp(m), k))
				}
			}
		}
		if !assert.Equal(t, want, rehearsed(t, watch, "", nil, arrivals...), "seed %d:\n%s", seed, strings.Join(arrivals, "\n")) {
			return
		}
	}
}

// States that last, broken and begun anew at random, fire once for each unbroken stretch.
func TestLastsAgainstAClockThatLooksEveryMinute(t *testing.T) {
	const watch = "watch: {source: cellar/batches, lasts: {that: {field: humidity, below: 80}, for: 45m}}"
	for seed := range uint64(150) {
		rnd := rand.New(rand.NewPCG(seed, 2))
		since := [historyKeys]int{-1, -1, -1} // the minute the stretch began; -1: it does not hold
		var arrivals, want []string
		for m := range clockEnd {
			for m < historyEnd && rnd.IntN(10) == 0 {
				k := rnd.IntN(historyKeys)
				humidity := 70 + rnd.IntN(13)
				switch {
				case rnd.IntN(12) == 0:
					since[k] = -1
					arrivals = append(arrivals, fmt.Sprintf("%s B%d type=removed", stamp(m), k))
					continue
				case humidity >= 80:
					since[k] = -1
				case since[k] < 0:
					since[k] = m
				}
				arrivals = append(arrivals, fmt.Sprintf("%s B%d humidity=%d", stamp(m), k, humidity))
			}
			for k, s := range since {
				if s >= 0 && m == s+45 {
					want = append(want, fmt.Sprintf("%s lasts:B%d told", stamp(m), k))
				}
			}
		}
		if !assert.Equal(t, want, rehearsed(t, watch, "", nil, arrivals...), "seed %d:\n%s", seed, strings.Join(arrivals, "\n")) {
			return
		}
	}
}
