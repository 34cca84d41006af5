package outbox

import (
	"slices"
	"sync"
	"time"
)

// How many of one connection's places are sent to at once by one process: a connection that hangs must not hold up the others. One
// that has lately been slow, or has not answered, gets a few only until it answers again.
const (
	shareOfMany = 32
	shareOfFew  = 4
	slowAfter   = 3 * time.Second
	slowFor     = time.Minute
)

// berths bounds how many places of each connection are sent to at once. Who finds none waits here, and holds nothing.
type berths struct {
	mu     sync.Mutex
	of     map[string]*share
	places map[string]bool // those that are sent to; true where somebody asked for it meanwhile
}

// share is what one connection has of the berths.
type share struct {
	busy  int
	queue []string  // places that wait for a berth
	slow  time.Time // until when it gets only a few
}

// enter takes a berth for a place. Where its connection has none left, the place waits until leave gives it one, and ok is false. Where
// the place has one already, it is false too, and leave gives it the place once more.
func (b *berths) enter(connection, place string, now time.Time) (ok bool) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.of == nil {
		b.of, b.places = map[string]*share{}, map[string]bool{}
	}
	s := b.of[connection]
	if s == nil {
		s = &share{}
		b.of[connection] = s
	}
	if _, there := b.places[place]; there {
		b.places[place] = true
		return false
	}
	if s.busy >= s.most(now) {
		if !slices.Contains(s.queue, place) {
			s.queue = append(s.queue, place)
		}
		return false
	}
	s.busy++
	b.places[place] = false
	return true
}

// leave gives a berth back, and says which place may have it.
func (b *berths) leave(connection, place string, now time.Time) (next string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	s := b.of[connection]
	s.busy--
	if b.places[place] {
		s.queue = append(s.queue, place)
	}
	delete(b.places, place)
	if len(s.queue) > 0 && s.busy < s.most(now) {
		next, s.queue = s.queue[0], s.queue[1:]
	}
	if s.busy == 0 && len(s.queue) == 0 && next == "" && !s.slow.After(now) {
		delete(b.of, connection)
	}
	return next
}

// took notes how long an answer was in coming, and whether there was one.
func (b *berths) took(connection string, took time.Duration, answered bool, now time.Time) {
	b.mu.Lock()
	defer b.mu.Unlock()
	s := b.of[connection]
	switch {
	case s == nil:
	case took > slowAfter || !answered:
		s.slow = now.Add(slowFor)
	default:
		s.slow = time.Time{}
	}
}

func (s *share) most(now time.Time) int {
	if s.slow.After(now) {
		return shareOfFew
	}
	return shareOfMany
}
