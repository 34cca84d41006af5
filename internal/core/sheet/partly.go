package sheet

import (
	"fmt"
	"slices"
	"strings"

	"dorfbote/internal/core/cond"
	"dorfbote/internal/core/message"
	"dorfbote/internal/core/report"
)

// CompilePartly is [Compile] for the proof of a sheet that is being written: where parts of it are wrong, the plan is of
// the rest, and frozen names, by their paths, the parts that it is without, and those that depend on them. The plan is nil
// where what starts the workflow is wrong. It is never to be run live.
func CompilePartly(src []byte, known Known) (p *Plan, frozen []string, s *Sheet, problems []report.Problem) {
	p, s, problems = Compile(src, known)
	if p != nil || s == nil {
		return p, nil, s, problems
	}
	rest, _ := Read(src)
	known.Destinations, known.Lenient = nil, true // a place that there is not changes nothing of what would be told
	wrong := problems
	for range 8 { // what is left out may leave others without what they name
		for _, e := range wrong {
			if e.Warning {
				continue
			}
			part, ok := rest.leaveOut(e.Path)
			if !ok {
				return nil, nil, s, problems
			}
			if !slices.Contains(frozen, part) {
				frozen = append(frozen, part)
			}
		}
		var list report.List
		if p = rest.compile(known, &list); !list.Failed() {
			slices.Sort(frozen)
			return p, frozen, s, problems
		}
		wrong = list.Problems
	}
	return nil, nil, s, problems
}

// leaveOut takes the part that a path lies in off the sheet, and gives the part's own path; ok is false where the sheet is
// nothing without it.
func (s *Sheet) leaveOut(path string) (part string, ok bool) {
	var i int
	head, rest, _ := strings.Cut(path, ".")
	switch {
	case head == "keep" || strings.HasPrefix(head, "keep["):
		s.Keep = nil
		return "keep", true
	case path == "watch.when" || strings.HasPrefix(path, "watch.when."):
		s.Watch.When = nil
		return "watch.when", true
	case head == "pace":
		s.Pace = nil
		return "pace", true
	case head == "messages":
		name, _, _ := strings.Cut(rest, ".")
		for _, m := range s.Messages {
			if m.Name == name {
				m.Body, m.Facts, m.Tone, m.Link, m.List, m.PartsSpec = nil, nil, nil, nil, nil, message.PartsSpec{}
				m.Title = &report.Text{S: "…"}
				return "messages." + name, true
			}
		}
	case scan(head, "gather[%d]", &i) && i < len(s.Gather):
		s.Gather[i].LeftOut = true
		return fmt.Sprintf("gather[%d]", i), true
	case scan(head, "ask[%d]", &i) && i < len(s.Asks):
		s.Asks[i].LeftOut = true
		return fmt.Sprintf("ask[%d]", i), true
	case scan(head, "follow[%d]", &i) && i < len(s.Follow):
		s.Follow[i].LeftOut = true
		return fmt.Sprintf("follow[%d]", i), true
	case head == "route" && strings.HasPrefix(rest, "otherwise") && s.Route.Otherwise != nil:
		s.Route.Otherwise.Tell = whole(s.Route.Otherwise.Tell, s)
		return "route.otherwise.tell", true
	case scan(rest, "rows[%d]", &i) && head == "route" && i < len(s.Route.Rows):
		row := &s.Route.Rows[i]
		if strings.Contains(rest, "].tell") {
			row.Tell = whole(row.Tell, s)
			return fmt.Sprintf("route.rows[%d].tell", i), true
		}
		row.When = &cond.Spec{Formula: &report.Text{S: "false"}}
		return fmt.Sprintf("route.rows[%d].when", i), true
	}
	return "", false
}

// whole are the destinations of a branch that are chosen and whose messages there are; what is wrong with the others is
// said beside them.
func whole(list []Tell, s *Sheet) []Tell {
	var out []Tell
	for _, t := range list {
		has := func(name string) bool {
			for _, m := range s.Messages {
				if m.Name == name {
					return true
				}
			}
			return false
		}
		if connection, channel, ok := strings.Cut(t.To.S, "/"); ok && connection != "" && channel != "" && has(t.Message.S) && (t.Reply == nil || has(t.Reply.S)) {
			t.To = report.Text{S: t.To.S}
			out = append(out, t)
		}
	}
	return out
}

func scan(text, format string, i *int) bool {
	n, err := fmt.Sscanf(text, format, i)
	return err == nil && n == 1 && *i >= 0
}
