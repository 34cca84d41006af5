package decide

import (
	"sort"
	"time"
)

// Recall is a pace's memory that lasts as long as it is held: of a rehearsal, a trail or a proof.
type Recall struct {
	told    map[string]remembered
	ends    []ending // of what is told, by their ends
	windows map[string]Window
	held    map[string]Waiting
	byDue   []string // refs, sorted when asked for
	sorted  bool
	order   int64
}

type remembered struct {
	Earlier
	until time.Time
}

type ending struct {
	at  time.Time
	key string
}

// NewRecall makes an empty memory.
func NewRecall() *Recall {
	return &Recall{told: map[string]remembered{}, windows: map[string]Window{}, held: map[string]Waiting{}}
}

// Told gives what was last told under a key.
func (r *Recall) Told(key string) (Earlier, bool) {
	t, ok := r.told[key]
	return t.Earlier, ok
}

// SetTold keeps what was told, and forgets what ended before it.
func (r *Recall) SetTold(key string, t Earlier, until time.Time) {
	n := 0
	for ; n < len(r.ends) && r.ends[n].at.Before(t.At); n++ {
		if r.told[r.ends[n].key].until.Equal(r.ends[n].at) { // not told anew since
			delete(r.told, r.ends[n].key)
		}
	}
	r.ends = append(r.ends[n:], ending{until, key})
	r.told[key] = remembered{t, until}
}

// Window gives a destination's window.
func (r *Recall) Window(to string) (Window, bool) {
	w, ok := r.windows[to]
	return w, ok
}

// SetWindow keeps a destination's window.
func (r *Recall) SetWindow(to string, w Window) { r.windows[to] = w }

// Held gives what is held under a ref.
func (r *Recall) Held(ref string) (Waiting, bool) {
	w, ok := r.held[ref]
	return w, ok
}

// Hold holds a post, or puts another in its place.
func (r *Recall) Hold(w Waiting) {
	if was, ok := r.held[w.Ref]; ok {
		w.Order = was.Order
		r.sorted = r.sorted && was.Due.Equal(w.Due)
	} else {
		r.order++
		w.Order = r.order
		r.byDue, r.sorted = append(r.byDue, w.Ref), false
	}
	r.held[w.Ref] = w
}

// Ever counts what has ever been held.
func (r *Recall) Ever() int64 { return r.order }

// Unhold takes away what is no longer held.
func (r *Recall) Unhold(ref string) {
	delete(r.held, ref)
	for i, have := range r.byDue {
		if have == ref {
			r.byDue = append(r.byDue[:i], r.byDue[i+1:]...)
			return
		}
	}
}

// Due lists what is held up to a moment.
func (r *Recall) Due(upTo time.Time) []Waiting {
	r.sort()
	var out []Waiting
	for _, ref := range r.byDue {
		w := r.held[ref]
		if w.Due.After(upTo) {
			break
		}
		out = append(out, w)
	}
	return out
}

// NextDue is when the first of what is held is due; ok is false where nothing is.
func (r *Recall) NextDue() (at time.Time, ok bool) {
	if len(r.byDue) == 0 {
		return time.Time{}, false
	}
	r.sort()
	return r.held[r.byDue[0]].Due, true
}

func (r *Recall) sort() {
	if r.sorted {
		return
	}
	sort.Slice(r.byDue, func(i, j int) bool {
		a, b := r.held[r.byDue[i]], r.held[r.byDue[j]]
		if !a.Due.Equal(b.Due) {
			return a.Due.Before(b.Due)
		}
		return a.Order < b.Order
	})
	r.sorted = true
}
