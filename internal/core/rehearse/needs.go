package rehearse

import (
	"time"

	"dorfbote/internal/core/decide"
)

// Need is an alert that somebody made use of. What a timer told of has no arrival that a rehearsal knows by its id; it is
// known by its record and its moment.
type Need struct {
	Arrival string
	Tick    bool
	Key     string
	At      time.Time
}

// Miss is an alert that was of use and would not be told.
type Miss struct {
	Key string    `json:"key"`
	At  time.Time `json:"at"`
}

// mostMisses is how many of those are named.
const mostMisses = 20

// Needs says what of what was told somebody made use of, to be looked for in what would be told. It is called before the first
// arrival.
func (c *Comparer) Needs(list []Need) {
	u := use{needs: list, heard: make([]bool, len(list)), wasHeard: make([]bool, len(list)), byID: map[string][]int{}}
	for i, n := range list {
		id := n.Arrival
		if n.Tick {
			id = tickID(n.Key, n.At)
		}
		u.byID[id] = append(u.byID[id], i)
	}
	c.use = u
}

// use is what was of use, and what of it would be told.
type use struct {
	needs           []Need
	byID            map[string][]int // by the arrival, or by the record and moment of a tick
	heard, wasHeard []bool           // what would be told, and what the other version would have told
}

func tickID(key string, at time.Time) string {
	return "\x00" + key + "\x00" + at.UTC().Format(time.RFC3339)
}

// hear notes what a line tells of. What is held is told later, whenever that is: it is never lost.
func (u *use) hear(l Line, heard []bool) {
	if len(u.needs) == 0 || len(l.Posts) == 0 && l.Verdict != decide.Held && l.Verdict != decide.Asked {
		return
	}
	if l.Tick != "" {
		u.mark(tickID(l.Arrival, l.At), heard)
		return
	}
	u.mark(l.Arrival, heard)
	for _, id := range l.Arrivals {
		u.mark(id, heard)
	}
}

func (u *use) mark(id string, heard []bool) {
	for _, i := range u.byID[id] {
		heard[i] = true
	}
}

// sum counts what was of use and what of it would not be told. Where two versions are compared, what the other does not tell
// either is left out: a version of before told it, or the stretch begins too late for it.
func (u *use) sum(compared bool) (needed, missed int, misses []Miss) {
	misses = []Miss{}
	for i, heard := range u.heard {
		if compared && !u.wasHeard[i] {
			continue
		}
		if needed++; heard {
			continue
		}
		if missed++; len(misses) < mostMisses {
			misses = append(misses, Miss{u.needs[i].Key, u.needs[i].At})
		}
	}
	return needed, missed, misses
}
