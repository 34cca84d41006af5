package route

import "math/bits"

// set is a set of a field's cases, by their numbers.
type set []uint64

func newSet(n int) set { return make(set, (n+63)/64) }

func (s set) add(i int)      { s[i/64] |= 1 << (i % 64) }
func (s set) has(i int) bool { return s[i/64]&(1<<(i%64)) != 0 }

func (s set) empty() bool {
	for _, w := range s {
		if w != 0 {
			return false
		}
	}
	return true
}

func (s set) first() int {
	for i, w := range s {
		if w != 0 {
			return i*64 + bits.TrailingZeros64(w)
		}
	}
	return -1
}

func (s set) and(t set) set {
	out := make(set, len(s))
	for i := range s {
		out[i] = s[i] & t[i]
	}
	return out
}

func (s set) minus(t set) set {
	out := make(set, len(s))
	for i := range s {
		out[i] = s[i] &^ t[i]
	}
	return out
}

func (s set) within(t set) bool {
	for i := range s {
		if s[i]&^t[i] != 0 {
			return false
		}
	}
	return true
}

// box is a set of cases for each field; nil is all of a field's. No set in it is empty.
type box []set

// meet is what two boxes share; ok is false where that is nothing.
func meet(a, b box) (out box, ok bool) {
	out = make(box, len(a))
	for f := range a {
		switch {
		case a[f] == nil:
			out[f] = b[f]
		case b[f] == nil:
			out[f] = a[f]
		default:
			if out[f] = a[f].and(b[f]); out[f].empty() {
				return nil, false
			}
		}
	}
	return out, true
}

// inside tells whether a lies wholly in b.
func inside(a, b box, full []set) bool {
	for f := range a {
		if b[f] == nil {
			continue
		}
		s := a[f]
		if s == nil {
			s = full[f]
		}
		if !s.within(b[f]) {
			return false
		}
	}
	return true
}

// region is a union of boxes; they may overlap.
type region []box

// search looks for what some boxes leave of a box, within a number of steps.
type search struct {
	full  []set
	steps int
}

// rest finds a box of from that lies in none of the others, nil where there is none. It is only to be believed while
// steps are left.
func (s *search) rest(from box, others region) box {
	if s.steps--; s.steps < 0 {
		return nil
	}
	var near region // those that share something with from
	for _, o := range others {
		if inside(from, o, s.full) {
			return nil
		}
		if _, ok := meet(from, o); ok {
			near = append(near, o)
		}
	}
	if len(near) == 0 {
		return from
	}
	// Cut along the box that leaves the fewest pieces.
	best, pieces := 0, 1<<30
	for i, o := range near {
		n := 0
		for f := range o {
			if o[f] != nil && !s.of(from, f).within(o[f]) {
				n++
			}
		}
		if n < pieces {
			best, pieces = i, n
		}
	}
	cut := near[best]
	near[best] = near[len(near)-1]
	near = near[:len(near)-1]
	left := append(box(nil), from...)
	for f := range cut {
		if cut[f] == nil {
			continue
		}
		have := s.of(left, f)
		if out := have.minus(cut[f]); !out.empty() {
			piece := append(box(nil), left...)
			piece[f] = out
			if found := s.rest(piece, near); found != nil || s.steps < 0 {
				return found
			}
		}
		left[f] = have.and(cut[f])
	}
	return nil
}

func (s *search) of(b box, f int) set {
	if b[f] == nil {
		return s.full[f]
	}
	return b[f]
}
