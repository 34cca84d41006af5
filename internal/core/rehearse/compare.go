package rehearse

import (
	"bytes"
	"encoding/json"
	"maps"
	"sort"
	"strings"
	"time"

	"dorfbote/internal/core/arrival"
	"dorfbote/internal/core/decide"
	"dorfbote/internal/core/sheet"
)

// Comparison is what a rehearsal found out: what would have been told, and how that differs from what another version
// would have.
type Comparison struct {
	Arrivals int            `json:"arrivals"`
	From     *time.Time     `json:"from" doc:"of the first arrival"`
	To       *time.Time     `json:"to" doc:"of the last arrival"`
	Verdicts map[string]int `json:"verdicts"`
	Posts    int            `json:"posts"`
	Was      int            `json:"was" doc:"posts by the version that is on"`
	Compared bool           `json:"compared"`
	Places   []PlaceCount   `json:"places"`
	Days     []string       `json:"days" doc:"dates in the workspace's zone, with none left out"`
	Unheard  []Unheard      `json:"unheard"`
	Noisiest []Noisy        `json:"noisiest"`
	Told     []Told         `json:"told" doc:"the first posts"`
	Differs  []Difference   `json:"differs" doc:"the first differences"`
	Differ   int            `json:"differ" doc:"all differences"`
	Needed   int            `json:"needed" doc:"alerts of the stretch that somebody made use of, and that the version that is on tells"`
	Missed   int            `json:"missed" doc:"of these, what would not be told any more"`
	Misses   []Miss         `json:"misses" doc:"the newest of those"`
	Waits    []Waits        `json:"waits" doc:"of each question that would be put"`
	Steps    []Escalations  `json:"steps" doc:"that would tell others where nobody takes care"`
}

// PlaceCount is how many posts a destination would get, by day.
type PlaceCount struct {
	To     string `json:"to"`
	Posts  int    `json:"posts"`
	Was    int    `json:"was"`
	ByDay  []int  `json:"by_day"`
	WasDay []int  `json:"was_by_day"`
}

// Unheard are arrivals that nobody would hear of, for one reason.
type Unheard struct {
	Verdict   string   `json:"verdict"`
	DecidedBy string   `json:"decided_by"`
	Words     string   `json:"words" doc:"of the condition that decided, or the error"`
	Count     int      `json:"count"`
	Keys      []string `json:"keys" doc:"of the last records"`
}

// Noisy is a record of which much would be told.
type Noisy struct {
	Key   string `json:"key"`
	Posts int    `json:"posts"`
}

// Told is one post.
type Told struct {
	Arrival string    `json:"arrival"`
	Key     string    `json:"key"`
	At      time.Time `json:"at"`
	Verdict string    `json:"verdict"`
	Row     string    `json:"row"`
	To      string    `json:"to"`
	Message string    `json:"message"`
	Title   string    `json:"title"`
	Plain   string    `json:"plain"`
	Reply   bool      `json:"reply,omitempty"`
	Updates bool      `json:"updates,omitempty"`
}

// The kinds of differences.
const (
	NewPost     = "new"     // told only now
	GonePost    = "gone"    // told only before
	ChangedPost = "changed" // told with other words
	MovedPost   = "moved"   // told somewhere else
)

// Difference is a post that differs.
type Difference struct {
	Kind string `json:"kind"`
	Told
	WasTo    string `json:"was_to,omitempty"`
	WasTitle string `json:"was_title,omitempty"`
	WasPlain string `json:"was_plain,omitempty"`
}

// How much of each list is kept.
const (
	mostTold    = 500
	mostDiffers = 500
	mostNoisy   = 20
	mostKeys    = 5
	mostReasons = 50
)

// Comparer runs two versions of a sheet over the same arrivals, in step, and sums up.
type Comparer struct {
	now, was       *Machine
	plan           *sheet.Plan
	zone           *time.Location
	emit           func(Line, string) error // each line of the first, with its record's key; may be nil
	lines, wasLine []Line
	out            Comparison
	subjects       map[string]string // of arrivals that something may still be told of
	places         map[string]*placeDays
	reasons        map[[2]string]*Unheard
	noise          map[string]int
	firstDay       time.Time
	use            use
	waiting        waiting
}

type placeDays struct {
	posts, was   int
	days, before map[int]int
}

// NewComparer prepares to rehearse a sheet, and another version of it unless that is nil. ready is called for each of
// their machines, to hand in what it knows.
func NewComparer(now, was *sheet.Plan, zone *time.Location, skip, wasSkip decide.Skip, ready func(*Machine, *sheet.Plan), emit func(l Line, key string) error) *Comparer {
	c := &Comparer{plan: now, zone: zone, emit: emit, subjects: map[string]string{}, places: map[string]*placeDays{}, reasons: map[[2]string]*Unheard{}, noise: map[string]int{}}
	c.out.Verdicts = map[string]int{}
	c.now = NewMachine(now, skip, func(l Line) error { c.lines = append(c.lines, l); return nil })
	ready(c.now, now)
	if was != nil {
		c.out.Compared = true
		c.was = NewMachine(was, wasSkip, func(l Line) error { c.wasLine = append(c.wasLine, l); return nil })
		ready(c.was, was)
	}
	return c
}

// Take hands in the next arrival, in the order of time.
func (c *Comparer) Take(a *arrival.Arrival) error {
	at := a.Time
	if c.out.To = &at; c.out.From == nil {
		c.out.From = &at
	}
	if a.Source == c.plan.Source || c.plan.Source == "" {
		c.out.Arrivals++
	}
	c.subjects[a.ID] = a.Subject
	if err := c.now.Take(a); err != nil {
		return err
	}
	if c.was != nil {
		if err := c.was.Take(a); err != nil {
			return err
		}
	}
	return c.step()
}

// Finish moves the clock to the end.
func (c *Comparer) Finish(until time.Time) error {
	for _, m := range []*Machine{c.now, c.was} {
		if m == nil {
			continue
		}
		if moments := m.plan.Trigger.Moments; moments != nil && c.out.From == nil {
			m.Begin(until.AddDate(0, 0, -7))
		}
		if err := m.Advance(until); err != nil {
			return err
		}
	}
	return c.step()
}

// step sums up what both versions made of the last arrival, and of the time before it.
func (c *Comparer) step() error {
	for _, l := range c.lines {
		key := c.key(l)
		c.count(l, key)
		if c.emit != nil {
			if err := c.emit(l, key); err != nil {
				return err
			}
		}
	}
	if c.was != nil {
		c.compare()
	}
	c.lines, c.wasLine = c.lines[:0], c.wasLine[:0]
	return nil
}

func (c *Comparer) key(l Line) string {
	if l.Tick != "" {
		return l.Arrival
	}
	return c.subjects[l.Arrival]
}

func (c *Comparer) count(l Line, key string) {
	c.out.Verdicts[string(l.Verdict)]++
	c.use.hear(l, c.use.heard)
	c.waiting.note(c.plan, l)
	at := l.At
	if c.out.From == nil { // a calendar needs no arrivals
		c.out.From = &at
	}
	if c.out.To == nil || at.After(*c.out.To) {
		c.out.To = &at
	}
	if len(l.Posts) == 0 && l.Verdict != decide.Held {
		c.reason(l, key)
	}
	for _, f := range l.Failures {
		c.unheard(string(decide.Failed), f.Where, f.Error, key)
	}
	for _, p := range l.Posts {
		c.place(p.To).add(c.day(l.At), false)
		c.out.Posts++
		c.noise[key]++
		if len(c.out.Told) < mostTold {
			c.out.Told = append(c.out.Told, told(l, p, key))
		}
	}
}

func told(l Line, p decide.Post, key string) Told {
	return Told{l.Arrival, key, l.At, string(l.Verdict), l.Row, p.To, p.Message, p.Doc.Title, p.Doc.Plain(), p.Under >= 0 || p.UnderRef != "", p.Updates != ""}
}

func (c *Comparer) reason(l Line, key string) {
	by, words := l.DecidedBy, ""
	if l.Verdict == decide.Failed {
		by, words = l.Where, l.Error
	}
	c.unheard(string(l.Verdict), by, words, key)
}

// unheard counts one reason for which somebody was not told.
func (c *Comparer) unheard(verdict, by, words, key string) {
	id := [2]string{verdict, by}
	u := c.reasons[id]
	if u == nil {
		if len(c.reasons) >= mostReasons {
			return
		}
		if words == "" {
			words = c.plan.Words(by)
		}
		u = &Unheard{Verdict: verdict, DecidedBy: by, Words: words}
		c.reasons[id] = u
	}
	if u.Count++; key != "" && (len(u.Keys) == 0 || u.Keys[len(u.Keys)-1] != key) {
		if u.Keys = append(u.Keys, key); len(u.Keys) > mostKeys {
			u.Keys = u.Keys[1:]
		}
	}
}

// mostPlaces is how many destinations are counted by themselves; the rest of a connection's are counted as one.
const (
	mostPlaces   = 500
	restOfPlaces = "…"
)

func (c *Comparer) place(to string) *placeDays {
	p := c.places[to]
	if p == nil && len(c.places) >= mostPlaces { // addresses that records give may be as many as there are records
		connection, _, _ := strings.Cut(to, "/")
		to = connection + "/" + restOfPlaces
		p = c.places[to]
	}
	if p == nil {
		p = &placeDays{days: map[int]int{}, before: map[int]int{}}
		c.places[to] = p
	}
	return p
}

func (p *placeDays) add(day int, was bool) {
	if was {
		p.was++
		p.before[day]++
		return
	}
	p.posts++
	p.days[day]++
}

// day counts the days since that of the first arrival.
func (c *Comparer) day(at time.Time) int {
	y, m, d := at.In(c.zone).Date()
	date := time.Date(y, m, d, 12, 0, 0, 0, time.UTC)
	if c.firstDay.IsZero() {
		first := at
		if c.out.From != nil {
			first = *c.out.From
		}
		y, m, d = first.In(c.zone).Date()
		c.firstDay = time.Date(y, m, d, 12, 0, 0, 0, time.UTC)
	}
	return max(0, int(date.Sub(c.firstDay)/(24*time.Hour)))
}

// compare finds the posts that only one of the versions tells, or that they tell with other words. Both have come to the
// same moment, so that what is told of the same thing stands in the same step.
func (c *Comparer) compare() {
	type place struct {
		arrival, tick string
		at            int64
		to, message   string
		n             int
	}
	was, seen := map[place]int{}, map[place]int{}
	var old []Told
	var docs []decide.Post
	name := func(l Line, p decide.Post, n map[place]int) place {
		id := place{l.Arrival, l.Tick, l.At.UnixNano(), p.To, p.Message, 0}
		n[id]++
		id.n = n[place{id.arrival, id.tick, id.at, id.to, id.message, 0}]
		return id
	}
	counted := map[place]int{}
	for _, l := range c.wasLine {
		c.use.hear(l, c.use.wasHeard)
		for _, p := range l.Posts {
			c.place(p.To).add(c.day(l.At), true)
			c.out.Was++
			was[name(l, p, counted)] = len(old)
			old, docs = append(old, told(l, p, c.key(l))), append(docs, p)
		}
	}
	matched := make([]bool, len(old))
	var fresh []Told
	for _, l := range c.lines {
		for _, p := range l.Posts {
			i, ok := was[name(l, p, seen)]
			if !ok {
				fresh = append(fresh, told(l, p, c.key(l)))
				continue
			}
			if matched[i] = true; !same(docs[i], p) {
				c.differ(Difference{Kind: ChangedPost, Told: told(l, p, c.key(l)), WasTitle: old[i].Title, WasPlain: old[i].Plain})
			}
		}
	}
	for _, t := range fresh {
		d := Difference{Kind: NewPost, Told: t}
		for i, o := range old { // what the same thing told somewhere else
			if !matched[i] && o.Arrival == t.Arrival && o.At.Equal(t.At) && o.Message == t.Message {
				matched[i] = true
				d.Kind, d.WasTo, d.WasTitle, d.WasPlain = MovedPost, o.To, o.Title, o.Plain
				break
			}
		}
		c.differ(d)
	}
	for i, t := range old {
		if !matched[i] {
			c.differ(Difference{Kind: GonePost, Told: t})
		}
	}
}

func same(a, b decide.Post) bool {
	x, _ := json.Marshal(a.Doc)
	y, _ := json.Marshal(b.Doc)
	return bytes.Equal(x, y) && (a.Under >= 0) == (b.Under >= 0) && (a.Updates != "") == (b.Updates != "")
}

func (c *Comparer) differ(d Difference) {
	if c.out.Differ++; len(c.out.Differs) < mostDiffers {
		c.out.Differs = append(c.out.Differs, d)
	}
}

// Sum is what has been found out so far.
func (c *Comparer) Sum() Comparison {
	out := c.out
	out.Waits, out.Steps = c.waiting.sum(c.plan)
	out.Told, out.Differs = append([]Told{}, c.out.Told...), append([]Difference{}, c.out.Differs...)
	out.Verdicts = map[string]int{}
	maps.Copy(out.Verdicts, c.out.Verdicts)
	last := 0
	for _, p := range c.places {
		for _, m := range []map[int]int{p.days, p.before} {
			for d := range m {
				last = max(last, d)
			}
		}
	}
	if c.out.To != nil {
		last = max(last, c.day(*c.out.To))
	}
	out.Days, out.Places, out.Unheard, out.Noisiest = []string{}, []PlaceCount{}, []Unheard{}, []Noisy{}
	if c.out.To != nil {
		for d := 0; d <= last; d++ {
			out.Days = append(out.Days, c.firstDay.AddDate(0, 0, d).Format(time.DateOnly))
		}
	}
	for to, p := range c.places {
		pc := PlaceCount{To: to, Posts: p.posts, Was: p.was, ByDay: make([]int, len(out.Days)), WasDay: make([]int, len(out.Days))}
		for d := range out.Days {
			pc.ByDay[d], pc.WasDay[d] = p.days[d], p.before[d]
		}
		out.Places = append(out.Places, pc)
	}
	sort.Slice(out.Places, func(i, j int) bool { return out.Places[i].To < out.Places[j].To })
	for _, u := range c.reasons {
		copied := *u
		copied.Keys = append([]string{}, u.Keys...)
		out.Unheard = append(out.Unheard, copied)
	}
	sort.Slice(out.Unheard, func(i, j int) bool {
		a, b := out.Unheard[i], out.Unheard[j]
		return a.Count > b.Count || a.Count == b.Count && a.Verdict+a.DecidedBy < b.Verdict+b.DecidedBy
	})
	for key, n := range c.noise {
		out.Noisiest = append(out.Noisiest, Noisy{key, n})
	}
	sort.Slice(out.Noisiest, func(i, j int) bool {
		a, b := out.Noisiest[i], out.Noisiest[j]
		return a.Posts > b.Posts || a.Posts == b.Posts && a.Key < b.Key
	})
	out.Noisiest = out.Noisiest[:min(len(out.Noisiest), mostNoisy)]
	out.Needed, out.Missed, out.Misses = c.use.sum(c.was != nil)
	return out
}
