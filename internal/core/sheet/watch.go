package sheet

import (
	"strings"
	"time"

	"go.yaml.in/yaml/v3"

	"dorfbote/internal/core/calendar"
	"dorfbote/internal/core/cond"
	"dorfbote/internal/core/report"
	"dorfbote/internal/core/value"
)

// The forms of Watch besides a change of a record.
const (
	Due      = "due"
	Lasts    = "lasts"
	Silent   = "silent"
	Schedule = "schedule"
	Start    = "start"
	Called   = "called"
)

var watchForms = []string{Due, Lasts, Silent, Schedule, Start, Called}

// Watch says what starts the workflow.
type Watch struct {
	At     report.Pos
	Source report.Text
	On     []string // created, updated, removed
	When   *cond.Spec
	Form   string // "" for changes, or one of the forms
	// Command is the first word of the messages of a room that start it; "" for any.
	Command string

	Field    report.Text   // due
	Offset   time.Duration // due
	Late     time.Duration // due; 0 where the sheet does not say
	That     *cond.Spec    // lasts
	For      time.Duration // lasts, silent
	Open     []calendar.Opening
	Schedule ScheduleSpec
	Ask      []Question // start, called
	Confirm  string     // start
}

// ScheduleSpec is a calendar as written.
type ScheduleSpec struct {
	Start  report.Text // wall time, for a rule
	Zone   report.Text
	Rule   report.Text // RFC 5545
	Cron   report.Text
	Except report.Text // a source of calendar events whose days are left out
	Missed string      // once, skip: what becomes of moments that passed while nothing ran
}

// Question is asked of whoever starts a workflow, or is what a call takes.
type Question struct {
	Name     string     `json:"name"`
	Label    string     `json:"label"`
	Type     value.Type `json:"type"`
	Required bool       `json:"required,omitempty"`
	Options  []string   `json:"options,omitempty"`
	Help     string     `json:"help,omitempty"`
}

var changeKinds = []string{"created", "updated", "removed"}

func (r *reader) watch(n *yaml.Node, s *Sheet) {
	w := &s.Watch
	w.At = at(n)
	var first entry
	for _, e := range r.object(n, "watch", "watch", append([]string{"source", "on", "when", "command"}, watchForms...)...) {
		switch e.name {
		case "source":
			w.Source = r.source(e.node, "watch.source")
		case "on":
			r.on(e, w)
		case "when":
			w.When = r.cond(e.node, "watch.when")
		case "command":
			t := r.text(e.node, "watch.command", "the command")
			if w.Command = strings.TrimSpace(t.S); w.Command == "" || strings.ContainsAny(w.Command, " \t\n\"") {
				r.problems.Add(t.At, "watch.command", "", "a command is one word, such as done, not %q", t.S)
			}
		default:
			if w.Form != "" {
				r.problems.Add(at(e.key), "watch", "", "a workflow is started in one way; %s does not go with %s", e.name, w.Form)
				continue
			}
			w.Form, first = e.name, e
			r.form(e, w)
		}
	}
	r.goesWith(n, w, first)
	if len(w.On) == 0 {
		w.On = changeKinds[:2]
	}
}

// goesWith checks that the parts of Watch belong together.
func (r *reader) goesWith(n *yaml.Node, w *Watch, form entry) {
	given := w.Source.S != "" || w.Source.At.Line > 0
	switch w.Form {
	case "", Due, Lasts, Silent:
		if !given {
			r.problems.Add(at(n), "watch.source", "", "watch has no source")
		}
	case Schedule, Called:
		if given {
			r.problems.Add(w.Source.At, "watch.source", "", "%s has no source of its own; take it out", w.Form)
		}
	}
	if w.Form != "" && w.Command != "" {
		r.problems.Add(at(form.key), "watch."+w.Form, "", "a command is one of a room's messages; it does not go with %s", w.Form)
	}
	if w.Form != "" && (len(w.On) > 0 || w.When != nil) {
		r.problems.Add(at(form.key), "watch."+w.Form, "", "%s stands in place of on and when; put further conditions into keep", w.Form)
	}
}

func (r *reader) source(n *yaml.Node, path string) report.Text {
	t := r.text(n, path, "the source")
	if c, k, ok := strings.Cut(t.S, "/"); !ok || c == "" || k == "" {
		r.problems.Add(t.At, path, "", "%q is not a source; write connection/kind, such as tours/collections", t.S)
	}
	return t
}

func (r *reader) on(e entry, w *Watch) {
	for _, k := range r.list(e.node, "watch.on", "on") {
		t := r.text(k, "watch.on", "a change")
		if !contains(changeKinds, t.S) {
			r.problems.Add(t.At, "watch.on", value.Nearest(t.S, changeKinds), "on knows created, updated and removed, not %q", t.S)
			continue
		}
		w.On = append(w.On, t.S)
	}
	if e.node.Kind == yaml.SequenceNode && len(e.node.Content) == 0 {
		r.problems.Add(at(e.node), "watch.on", "", "on is empty, so nothing would ever start this; leave it out for created and updated")
	}
}

func (r *reader) form(e entry, w *Watch) {
	path := "watch." + e.name
	switch e.name {
	case Due:
		for _, e := range r.parts(e.node, path, Due, []string{"field"}, "field", "offset", "late") {
			switch e.name {
			case "field":
				w.Field = r.text(e.node, path, "the field")
			case "offset":
				w.Offset = r.span(e.node, path+".offset", true)
			default:
				w.Late = r.span(e.node, path+".late", false)
			}
		}
	case Lasts:
		for _, e := range r.parts(e.node, path, Lasts, []string{"that", "for"}, "that", "for") {
			if e.name == "that" {
				w.That = r.cond(e.node, path+".that")
			} else {
				w.For = r.span(e.node, path+".for", false)
			}
		}
	case Silent:
		for _, e := range r.parts(e.node, path, Silent, []string{"for"}, "for", "open") {
			if e.name == "for" {
				w.For = r.span(e.node, path+".for", false)
			} else {
				w.Open = r.open(e.node, path+".open")
			}
		}
	case Schedule:
		r.schedule(e.node, &w.Schedule)
	case Start:
		for _, e := range r.optional(e.node, path, "start", "source", "ask", "confirm") {
			switch e.name {
			case "source":
				w.Source = r.source(e.node, path+".source")
			case "ask":
				w.Ask = r.questions(e.node, path+".ask")
			default:
				w.Confirm = r.text(e.node, path+".confirm", "confirm").S
			}
		}
	case Called:
		for _, e := range r.optional(e.node, path, "called", "takes") {
			w.Ask = r.questions(e.node, path+".takes")
		}
	}
}

// optional reads an object that may as well be left empty.
func (r *reader) optional(n *yaml.Node, path, what string, names ...string) []entry {
	if isNull(r.follow(n)) {
		return nil
	}
	return r.object(n, path, what, names...)
}

// parts reads an object of which some entries must be there.
func (r *reader) parts(n *yaml.Node, path, what string, needed []string, names ...string) []entry {
	list := r.object(n, path, what, names...)
	if r.follow(n).Kind != yaml.MappingNode {
		return list
	}
	for _, need := range needed {
		found := false
		for _, e := range list {
			found = found || e.name == need
		}
		if !found {
			r.problems.Add(at(n), path, "", "%s has no %s", what, need)
		}
	}
	return list
}

func (r *reader) span(n *yaml.Node, path string, signed bool) time.Duration {
	t := r.text(n, path, "a span of time")
	d, err := value.ParseSpan(t.S)
	switch {
	case err != nil:
		r.problems.Add(t.At, path, "", "%v", err)
	case d <= 0 && !signed:
		r.problems.Add(t.At, path, "", "a span longer than nothing is needed here, not %q", t.S)
	}
	return d
}

// open reads a list of opening hours.
func (r *reader) open(n *yaml.Node, path string) []calendar.Opening {
	var out []calendar.Opening
	items := r.list(n, path, "open")
	if len(items) == 0 && n.Kind == yaml.SequenceNode {
		r.problems.Add(at(n), path, "", "open has no opening hours in it, so it would never be open; leave it out for every hour")
	}
	for _, item := range items {
		o := calendar.Opening{From: 0, To: 24 * 60, Days: [7]bool{true, true, true, true, true, true, true}}
		for _, e := range r.object(item, path, "opening hours", "days", "from", "to") {
			if e.name == "days" {
				o.Days = [7]bool{}
				for _, d := range r.list(e.node, path, "days") {
					t := r.text(d, path, "a day")
					day, ok := cond.Weekday(t.S)
					if !ok {
						r.problems.Add(t.At, path, value.Nearest(t.S, []string{"mon", "tue", "wed", "thu", "fri", "sat", "sun"}), "%q is not a day of the week; write mon, tue, wed, thu, fri, sat or sun", t.S)
					}
					o.Days[day] = true
				}
				continue
			}
			t := r.text(e.node, path+"."+e.name, "a time of day")
			m, err := calendar.ReadClock(t.S)
			if err != nil {
				r.problems.Add(t.At, path+"."+e.name, "", "%v", err)
			}
			if e.name == "from" {
				o.From = m
			} else {
				o.To = m
			}
		}
		out = append(out, o)
	}
	return out
}

func (r *reader) schedule(n *yaml.Node, s *ScheduleSpec) {
	s.Missed = "once"
	const path = "watch.schedule"
	for _, e := range r.object(n, path, "schedule", "start", "zone", "rule", "cron", "except", "missed") {
		t := r.text(e.node, path+"."+e.name, e.name)
		switch e.name {
		case "start":
			s.Start = t
		case "zone":
			s.Zone = t
		case "rule":
			s.Rule = t
		case "cron":
			s.Cron = t
		case "except":
			s.Except = r.source(e.node, path+".except")
		case "missed":
			if s.Missed = t.S; t.S != "once" && t.S != "skip" {
				r.problems.Add(t.At, path+".missed", value.Nearest(t.S, []string{"once", "skip"}), "missed is once or skip, not %q", t.S)
			}
		}
	}
	switch {
	case r.follow(n).Kind != yaml.MappingNode:
	case s.Rule.S == "" && s.Cron.S == "":
		r.problems.Add(at(n), path, "", "schedule has no rule and no cron, so it has no moment")
	case s.Rule.S != "" && s.Cron.S != "":
		r.problems.Add(s.Cron.At, path, "", "a schedule goes by a rule or by cron, not by both")
	case s.Rule.S != "" && s.Start.S == "":
		r.problems.Add(at(n), path, "", "a schedule by a rule has no start; write the first moment, such as start: \"2026-11-03T07:00\"")
	}
}

// questionTypes are what a question may ask for.
var questionTypes = []string{"text", "number", string(WholeNumber), "money", "yes/no", "date", "moment", "span", "choice", "choices", "person", "link"}

func (r *reader) questions(n *yaml.Node, path string) []Question {
	var out []Question
	seen := map[string]bool{}
	for _, item := range r.list(n, path, "the questions") {
		q := Question{Type: value.Text}
		for _, e := range r.parts(item, path, "a question", []string{"name"}, "name", "label", "type", "required", "options", "help") {
			switch e.name {
			case "name":
				t := r.text(e.node, path, "the name")
				if q.Name = t.S; !isName(t.S) {
					r.problems.Add(t.At, path, "", "%q cannot be a question's name; use letters, digits and _, since formulas call it answers.NAME", t.S)
				} else if seen[t.S] {
					r.problems.Add(t.At, path, "", "two questions are called %s", t.S)
				}
				seen[t.S] = true
			case "label":
				q.Label = r.text(e.node, path, "the label").S
			case "help":
				q.Help = r.text(e.node, path, "the help").S
			case "type":
				t := r.text(e.node, path, "the type")
				if q.Type = value.Type(t.S); !contains(questionTypes, t.S) {
					r.problems.Add(t.At, path, value.Nearest(t.S, questionTypes), "there is no type %s", t.S)
				}
			case "required":
				q.Required = r.yesNo(e, path)
			case "options":
				for _, o := range r.list(e.node, path, "options") {
					q.Options = append(q.Options, r.text(o, path, "an option").S)
				}
			}
		}
		if q.Label == "" {
			q.Label = value.LabelOf(q.Name)
		}
		if (q.Type == value.Choice || q.Type == value.Choices) && len(q.Options) == 0 {
			r.problems.Add(at(item), path, "", "the question %s is a choice but has no options", q.Name)
		}
		out = append(out, q)
	}
	return out
}

func isName(s string) bool {
	for i, c := range s {
		if c != '_' && (c < 'a' || c > 'z') && (c < 'A' || c > 'Z') && (i == 0 || c < '0' || c > '9') {
			return false
		}
	}
	return s != ""
}
