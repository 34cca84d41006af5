package rehearse

import (
	"bufio"
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"sort"
	"time"

	"dorfbote/internal/core/decide"
	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/message"
	"dorfbote/internal/core/value"
)

// Answer is something that a person does with an alert or a question: an answer, a claim, a reply, a button that is pressed.
type Answer struct {
	Arrival string // its id; of a tick, the record's key
	Ask     string
	Choice  string
	Comment string
	By      string
	At      time.Time
	Claim   bool
	Reply   *string
	Button  string
	line    int
}

// String names it for a person.
func (a Answer) String() string {
	what := "the answer to " + a.Ask
	switch {
	case a.Claim:
		what = "the claim"
	case a.Reply != nil:
		what = "the reply"
	case a.Button != "":
		what = fmt.Sprintf("the button %q", a.Button)
	}
	return fmt.Sprintf("line %d: %s of %s at %s", a.line, what, a.Arrival, a.At.UTC().Format(time.RFC3339))
}

// ReadAnswers reads a file of answers, a JSON object a line.
func ReadAnswers(file io.Reader) ([]Answer, error) {
	var out []Answer
	lines := bufio.NewScanner(file)
	lines.Buffer(nil, MaxLine)
	for n := 1; lines.Scan(); n++ {
		raw := bytes.TrimSpace(lines.Bytes())
		if len(raw) == 0 {
			continue
		}
		a, err := readAnswer(raw)
		if err != nil {
			return nil, fault.In(fmt.Sprintf("line %d", n), err)
		}
		a.line = n
		out = append(out, a)
	}
	if err := lines.Err(); err != nil {
		return nil, err
	}
	sort.SliceStable(out, func(i, j int) bool { return out[i].At.Before(out[j].At) })
	return out, nil
}

func readAnswer(raw []byte) (Answer, error) {
	var in struct {
		Arrival, Ask, Choice, Comment, By, Button string
		At                                        string
		Claim                                     bool
		Reply                                     *string
	}
	dec := json.NewDecoder(bytes.NewReader(raw))
	dec.DisallowUnknownFields()
	if err := dec.Decode(&in); err != nil {
		return Answer{}, fmt.Errorf("this is no answer: %w", err)
	}
	a := Answer{Arrival: in.Arrival, Ask: in.Ask, Choice: in.Choice, Comment: in.Comment, By: in.By, Claim: in.Claim, Reply: in.Reply, Button: in.Button}
	at, err := time.Parse(time.RFC3339Nano, in.At)
	ways := 0
	for _, has := range []bool{in.Ask != "", in.Claim, in.Reply != nil, in.Button != ""} {
		if has {
			ways++
		}
	}
	switch {
	case in.Arrival == "":
		return a, errors.New("arrival: is missing")
	case in.At == "":
		return a, errors.New("at: is missing")
	case err != nil:
		return a, fmt.Errorf("at: %q is no moment; write it like 2026-11-20T06:41:07Z", in.At)
	case ways != 1:
		return a, errors.New("an answer has exactly one of ask with choice, claim, reply and button")
	}
	a.At = at
	return a, nil
}

// Answers hands in what people do, in the order of time, before the clock begins. refused is called with what cannot count, and why.
func (m *Machine) Answers(list []Answer, refused func(a Answer, why error)) {
	m.answers, m.refused = list, refused
	for _, a := range list {
		m.named[a.Arrival] = true
	}
}

// take takes what a person does.
func (m *Machine) take(a Answer) error {
	why, err := m.answer(a)
	if why != nil && m.refused != nil {
		m.refused(a, why)
	}
	return err
}

// answer does what an answer does: why it cannot count, or what went wrong.
func (m *Machine) answer(a Answer) (why, err error) {
	al := m.alerts[a.Arrival]
	switch {
	case al == nil:
		return fmt.Errorf("nothing was told or asked of %s", a.Arrival), nil
	case a.Ask != "":
		return m.reply(al, a)
	case a.Claim && (al.asking != nil || m.waits[al.cause] == al): // before it has gone
		return m.claim(al, a)
	case !al.told:
		return fmt.Errorf("nothing has been told of %s yet", a.Arrival), nil
	case a.Reply != nil:
		al.replied = true
		return nil, nil
	case a.Claim:
		return m.claim(al, a)
	}
	posts := al.pressedOn(a.By)
	for _, p := range posts {
		for _, b := range p.Doc.Buttons {
			if value.Fold(b.Text) == value.Fold(a.Button) {
				return m.press(al, posts, a, b)
			}
		}
	}
	return fmt.Errorf("what was told of %s has no button %q", a.Arrival, a.Button), nil
}

func (m *Machine) reply(al *alert, a Answer) (why, err error) {
	q := al.asking
	if q == nil || q.Name != a.Ask {
		return fmt.Errorf("%s is not being asked of %s", a.Ask, a.Arrival), nil
	}
	decided, why := q.Take(decide.PlanAskNamed(m.plan, q.Name), decide.Given{Place: a.By, By: a.By, Choice: a.Choice, Comment: a.Comment, At: a.At})
	if why != nil || decided == nil {
		return why, nil
	}
	return nil, m.decided(al, q, *decided, a.At)
}

// pressedOn gives the posts on which somebody presses a button: those of the place that they are called by, with what is in their threads,
// or else all.
func (al *alert) pressedOn(by string) []decide.Post {
	var out []decide.Post
	for _, p := range al.posts {
		if p.To != by {
			continue
		}
		if p.Under >= 0 { // its own post is of the same place
			p.Under = slices.IndexFunc(out, func(o decide.Post) bool { return o.Ref == al.posts[p.Under].Ref })
		}
		out = append(out, p)
	}
	if len(out) == 0 {
		return al.posts
	}
	return out
}

func (m *Machine) claim(al *alert, a Answer) (why, err error) {
	if al.claimed != "" && al.claimed == a.By {
		return fmt.Errorf("%s has taken it already", a.By), nil
	}
	if al.claimed != "" {
		return fmt.Errorf("%s was faster", al.claimed), nil
	}
	if al.claimed = a.By; a.By == "" {
		al.claimed = "somebody"
	}
	line := al.line
	line.At, line.Outcome = a.At, decide.Outcome{Verdict: decide.Claimed}
	return nil, m.emit(line)
}

// pressing names a button of what was told at a place.
func pressing(b message.Button, to string) string { return value.Fold(b.Text) + "\n" + to }

func (m *Machine) press(al *alert, posts []decide.Post, a Answer, b message.Button) (why, err error) {
	switch b.Does {
	case message.DoesClaim:
		return m.claim(al, a)
	case message.DoesLater:
		at := pressing(b, posts[0].To)
		if first, done := al.pressed[at]; done && first == a.By {
			return fmt.Errorf("%s has pressed it already", a.By), nil
		} else if done {
			return fmt.Errorf("%s was faster", first), nil
		}
		if al.pressed == nil {
			al.pressed = map[string]string{}
		}
		al.pressed[at] = cmp.Or(a.By, "somebody")
		due := a.At.Add(b.Span()).UTC()
		m.at(al, due, func() error { return m.later(al, posts, b, due) })
	}
	return nil, nil
}
