package sheet

import (
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"dorfbote/internal/core/calendar"
	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/report"
	"dorfbote/internal/core/value"
)

// What becomes of an arrival that repeats an earlier one.
const (
	FoldDrop   = "drop"   // nothing more is told
	FoldUpdate = "update" // the earlier post is brought up to date in its place
	FoldReply  = "reply"  // it is told in the thread of the earlier post
)

// Pace is how often, and at what hours, a workflow may tell anything.
type Pace struct {
	Repeat *Repeat
	Quiet  *Quiet
	Limit  *Limit
	Digest *Digest
	// UsefulFor is how long after its arrival a post that could not be sent is still worth sending; 0 is for ever.
	UsefulFor time.Duration
}

// Repeat folds arrivals with the same key into the post that told of the first.
type Repeat struct {
	Key    report.Text
	Within time.Duration
	Then   string
}

// Quiet holds posts back outside the opening hours.
type Quiet struct {
	At     report.Pos
	Open   []calendar.Opening
	Urgent bool // posts of the tone "urgent" go out at once all the same
}

// Limit is how many posts a destination gets in a span that begins with the first of them. The rest is told in one
// digest at its end.
type Limit struct {
	Posts int
	Per   time.Duration
}

// Digest tells everything in one post for a destination: at the end of a span that begins with the first, or at times
// of the day.
type Digest struct {
	Every time.Duration
	Times []int // minutes from midnight
}

func (r *reader) pace(n *yaml.Node) *Pace {
	p := &Pace{}
	for _, e := range r.object(n, "pace", "pace", "repeat", "quiet", "limit", "digest", "useful_for") {
		path := "pace." + e.name
		switch e.name {
		case "repeat":
			p.Repeat = r.repeat(e.node, path)
		case "quiet":
			p.Quiet = r.quiet(e.node, path)
		case "limit":
			p.Limit = r.limit(e.node, path)
		case "digest":
			p.Digest = r.digest(e.node, path)
		case "useful_for":
			p.UsefulFor = r.span(e.node, path, false)
		}
	}
	if p.Digest != nil && p.Limit != nil {
		r.problems.Add(at(n), "pace", "", "digest gathers everything, so that a limit beside it would never be reached; keep one of the two")
	}
	return p
}

func (r *reader) repeat(n *yaml.Node, path string) *Repeat {
	out := &Repeat{Then: FoldDrop}
	for _, e := range r.parts(n, path, "repeat", []string{"key", "within"}, "key", "within", "then") {
		switch e.name {
		case "key":
			out.Key = r.text(e.node, path+".key", "the key")
			if strings.TrimSpace(out.Key.S) == "" {
				r.problems.Add(out.Key.At, path+".key", "${record.id}", "the key is empty")
			}
		case "within":
			out.Within = r.span(e.node, path+".within", false)
		case "then":
			out.Then = r.oneOf(e, path+".then", FoldDrop, FoldUpdate, FoldReply)
		}
	}
	return out
}

// oneOf reads one of some words.
func (r *reader) oneOf(e entry, path string, words ...string) string {
	t := r.text(e.node, path, e.name)
	if !contains(words, t.S) {
		r.problems.Add(t.At, path, value.Nearest(t.S, words), "%s is %s or %s, not %q", e.name, strings.Join(words[:len(words)-1], ", "), words[len(words)-1], t.S)
		return words[0]
	}
	return t.S
}

// yesNo reads what is true or false.
func (r *reader) yesNo(e entry, path string) bool {
	b, ok := r.value(e.node).(bool)
	if !ok {
		r.problems.Add(at(e.node), path, "true", "%s is true or false", e.name)
	}
	return b
}

func (r *reader) quiet(n *yaml.Node, path string) *Quiet {
	q := &Quiet{At: at(n)}
	for _, e := range r.parts(n, path, "quiet", []string{"open"}, "open", "urgent") {
		switch e.name {
		case "open":
			q.Open = r.open(e.node, path+".open")
		case "urgent":
			q.Urgent = r.oneOf(e, path+".urgent", "hold", "pass") == "pass"
		}
	}
	return q
}

func (r *reader) limit(n *yaml.Node, path string) *Limit {
	l := &Limit{}
	for _, e := range r.parts(n, path, "limit", []string{"posts", "per"}, "posts", "per") {
		switch e.name {
		case "posts":
			l.Posts = r.whole(r.text(e.node, path+".posts", "posts"), path, "posts", 0)
		case "per":
			l.Per = r.span(e.node, path+".per", false)
		}
	}
	return l
}

func (r *reader) digest(n *yaml.Node, path string) *Digest {
	d := &Digest{}
	for _, e := range r.object(n, path, "digest", "every", "at") {
		switch e.name {
		case "every":
			d.Every = r.span(e.node, path+".every", false)
		case "at":
			list := []*yaml.Node{e.node}
			if e.node.Kind == yaml.SequenceNode {
				list = r.list(e.node, path+".at", "at")
			}
			for _, item := range list {
				t := r.text(item, path+".at", "a time of day")
				m, err := calendar.ReadClock(t.S)
				if err != nil || m == 24*60 {
					r.problems.Add(t.At, path+".at", "", "%q is not a time of day; write it like 07:00, in quotes", t.S)
				}
				d.Times = append(d.Times, m)
			}
		}
	}
	if (d.Every == 0) == (len(d.Times) == 0) {
		r.problems.Add(at(n), path, "", "digest is told every so often (every: 4h) or at times of the day (at: [\"07:00\"]): say one of the two")
	}
	return d
}

// PlanPace is a pace made ready to run.
type PlanPace struct {
	Key       *formula.Template // nil: nothing is a repeat
	Within    time.Duration
	Then      string
	Open      calendar.Hours
	Urgent    bool
	Posts     int // of a limit; 0 where there is none
	Per       time.Duration
	Digest    bool
	Every     time.Duration
	Times     calendar.Hours // its spans' beginnings are the moments of a digest
	UsefulFor time.Duration
}

func (s *Sheet) paced(p *Plan, known Known, problems *report.List) {
	if s.Pace == nil {
		return
	}
	out := &PlanPace{UsefulFor: s.Pace.UsefulFor}
	zone := known.Workspace.Location()
	if r := s.Pace.Repeat; r != nil {
		out.Within, out.Then = r.Within, r.Then
		key := formula.ReadTemplate(r.Key, p.Terms, "pace.repeat.key", problems)
		out.Key = key
		if key != nil && key.Constant() && r.Key.S != "" {
			near, field := "", strings.TrimPrefix(r.Key.S, "record.")
			if p.Terms.Schema != nil {
				if _, _, ok := p.Terms.Schema.Find(value.ParsePath(field)); ok {
					near = "${record." + field + "}"
				}
			}
			problems.Warn(r.Key.At, "pace.repeat.key", near, "the key %q is the same for every arrival, so each would repeat the one before", r.Key.S)
		}
	}
	if q := s.Pace.Quiet; q != nil {
		out.Open, out.Urgent = calendar.Hours{Zone: zone, Spans: q.Open}, q.Urgent
		if _, ok := out.Open.NextOpen(time.Unix(0, 0)); !ok {
			problems.Add(q.At, "pace.quiet.open", "", "these hours never open, so nothing would ever be told")
		}
	}
	if l := s.Pace.Limit; l != nil {
		out.Posts, out.Per = l.Posts, l.Per
	}
	if d := s.Pace.Digest; d != nil {
		out.Digest, out.Every = true, d.Every
		out.Times.Zone = zone
		for _, m := range d.Times {
			out.Times.Spans = append(out.Times.Spans, calendar.Opening{Days: [7]bool{true, true, true, true, true, true, true}, From: m, To: m + 1})
		}
	}
	p.Pace = out
}

// DigestAt is when what is held at a moment is told in a digest that is told at times of the day.
func (p *PlanPace) DigestAt(from time.Time) time.Time {
	next := from
	if p.Times.Open(from) { // within the minute of a digest: this one has been told
		next = from.Truncate(time.Minute).Add(time.Minute)
	}
	at, _ := p.Times.NextOpen(next)
	return at
}
