package rehearse

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"hash/maphash"
	"io"
	"sort"
	"time"

	"dorfbote/internal/core/arrival"
	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
)

// MaxLine is the longest line read of a file of arrivals.
const MaxLine = 4 << 20

// Scout is what a first look over a file finds out: what its records look like, and whether it can
// be read straight through.
type Scout struct {
	Learners map[string]*value.Learner // by source
	places   []place                   // of every arrival, kept only while the file is out of order
	sorted   bool
	bare     bool // some update does not say what was before
	ahead    Ahead
}

// Ahead reads batches ahead of their use and parses them meanwhile, where there is more than one processor to do so. It
// gives them in their order; stop ends it.
type Ahead func(next func() *Batch) (ahead func() *Batch, stop func())

type place struct {
	at     int64
	offset int64
	line   int32
}

// Look reads the file once. Memory grows with the number of different fields; with the number of
// arrivals only where the file is not in the order of time, by 24 bytes each. ahead, which may be nil, reads ahead, then and
// when the file is run.
func Look(file io.ReadSeeker, ahead Ahead, learn func(source string) bool) (*Scout, error) {
	s := &Scout{Learners: map[string]*value.Learner{}, sorted: true, ahead: ahead}
	last := int64(-1 << 62)
	err := s.lines(file, func(a *arrival.Arrival, p place) error {
		if s.sorted = s.sorted && p.at >= last; s.sorted {
			last = p.at
		}
		if a.Kind() == "updated" && a.Before == nil {
			s.bare = true
		}
		if learn(a.Source) && a.Record != nil {
			l := s.Learners[a.Source]
			if l == nil {
				l = value.NewLearner()
				s.Learners[a.Source] = l
			}
			l.See(a.Record)
		}
		return nil
	})
	if err != nil || s.sorted {
		return s, err
	}
	err = s.lines(file, func(_ *arrival.Arrival, p place) error {
		s.places = append(s.places, p)
		return nil
	})
	sort.SliceStable(s.places, func(i, j int) bool { return s.places[i].at < s.places[j].at })
	return s, err
}

// lines hands on every arrival of the file, with its place.
func (s *Scout) lines(file io.ReadSeeker, each func(*arrival.Arrival, place) error) error {
	if _, err := file.Seek(0, io.SeekStart); err != nil {
		return err
	}
	next, values := batches(file), value.NewReader()
	if s.ahead != nil {
		var stop func()
		next, stop = s.ahead(next)
		defer stop()
	}
	for b := next(); b != nil; b = next() {
		b.Parse(values)
		for i := range b.parsed {
			if err := each(b.parsed[i].arrival, b.parsed[i].place); err != nil {
				return err
			}
		}
		if b.err != nil {
			return b.err
		}
	}
	return nil
}

func readLine(r *bufio.Reader) ([]byte, error) {
	var full []byte
	for {
		part, err := r.ReadSlice('\n')
		if errors.Is(err, bufio.ErrBufferFull) {
			if full = append(full, part...); len(full) > MaxLine {
				return nil, fmt.Errorf("is longer than %d bytes", MaxLine)
			}
			continue
		}
		if full == nil {
			return part, err
		}
		if full = append(full, part...); len(full) > MaxLine {
			return nil, fmt.Errorf("is longer than %d bytes", MaxLine)
		}
		return full, err
	}
}

// Run decides every arrival of the file in the order of time, lets the timers fire that come due meanwhile, and
// hands on each outcome. The clock stops at until; where that is zero, with the last arrival and the last timer of
// a record. An arrival that stands twice counts once. The machine is new; until is where its clock stops.
func (s *Scout) Run(file io.ReadSeeker, p *sheet.Plan, until time.Time, m *Machine) error {
	if err := s.feed(file, p, until, m); err != nil {
		return err
	}
	if until.IsZero() {
		return m.Finish()
	}
	if moments := p.Trigger.Moments; moments != nil && !moments.Start().IsZero() { // a calendar needs no arrivals
		m.Begin(moments.Start())
	}
	return m.Advance(until)
}

func (s *Scout) feed(file io.ReadSeeker, p *sheet.Plan, until time.Time, m *Machine) error {
	seen := newRecent(1 << 18)
	states := map[string]map[string]any{}
	one := func(a *arrival.Arrival, _ place) error {
		if !until.IsZero() && a.Time.After(until) || !seen.add(a.Source, a.ID) {
			return nil
		}
		if s.bare && a.Source == p.Source {
			s.remember(states, a)
		}
		return m.Take(a)
	}
	if s.sorted {
		return s.lines(file, one)
	}
	for _, pl := range s.places {
		if _, err := file.Seek(pl.offset, io.SeekStart); err != nil {
			return err
		}
		raw, err := readLine(bufio.NewReaderSize(file, 4096))
		if err != nil && !errors.Is(err, io.EOF) {
			return err
		}
		a, err := arrival.Read(bytes.TrimSpace(raw))
		if err != nil {
			return fault.In(fmt.Sprintf("line %d", int(pl.line)), err)
		}
		if err := one(a, pl); err != nil {
			return err
		}
	}
	return nil
}

// remember fills in what was before from the arrivals themselves, as taking in does.
func (s *Scout) remember(states map[string]map[string]any, a *arrival.Arrival) {
	if a.Kind() == "updated" && a.Before == nil {
		a.Before = states[a.Subject]
	}
	if a.Kind() == "removed" {
		delete(states, a.Subject)
	} else if a.Record != nil {
		states[a.Subject] = a.Record
	}
}

// recent remembers the last so many arrivals by a hash of source and id, in fixed memory.
type recent struct {
	seed maphash.Seed
	set  map[uint64]struct{}
	ring []uint64
	next int
}

func newRecent(size int) *recent {
	return &recent{seed: maphash.MakeSeed(), set: make(map[uint64]struct{}, 1024), ring: make([]uint64, 0, size)}
}

func (r *recent) add(source, id string) bool {
	var h maphash.Hash
	h.SetSeed(r.seed)
	h.WriteString(source)
	h.WriteByte(0)
	h.WriteString(id)
	sum := h.Sum64()
	if _, ok := r.set[sum]; ok {
		return false
	}
	r.set[sum] = struct{}{}
	if len(r.ring) < cap(r.ring) {
		r.ring = append(r.ring, sum)
		return true
	}
	delete(r.set, r.ring[r.next])
	r.ring[r.next] = sum
	r.next = (r.next + 1) % len(r.ring)
	return true
}
