package sheet

import (
	"fmt"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"dorfbote/internal/core/cond"
	"dorfbote/internal/core/message"
	"dorfbote/internal/core/report"
	"dorfbote/internal/core/value"
)

// Read reads a sheet. The sheet is nil only where the text is no YAML object at all; otherwise what
// could be read is given beside the problems.
func Read(src []byte) (*Sheet, report.List) {
	r := &reader{}
	root := r.parse(src)
	if root == nil {
		return nil, r.problems
	}
	if r.follow(root).Kind != yaml.MappingNode {
		r.problems.Add(at(root), "", "", "a sheet starts with names such as dorfbote, name, watch and route, not with %s", shape(root))
		return nil, r.problems
	}
	return r.sheet(root), r.problems
}

func (r *reader) sheet(root *yaml.Node) *Sheet {
	s := &Sheet{}
	seen := map[string]bool{}
	for _, e := range r.object(root, "", "a sheet", "dorfbote", "name", "note", "look", "watch", "tables", "keep", "gather", "ask", "messages", "route", "answer", "pace", "follow") {
		seen[e.name] = true
		switch e.name {
		case "dorfbote":
			switch v := r.text(e.node, "dorfbote", "the version"); {
			case v.S != strconv.Itoa(Version):
				r.problems.Add(v.At, "dorfbote", "1", "this reads version %d of the format, not %q", Version, v.S)
			case e.node.ShortTag() == "!!str":
				r.problems.Add(v.At, "dorfbote", "1", "the version is the number %d, not a text", Version)
			}
		case "name":
			name := r.text(e.node, "name", "the name")
			s.Name = strings.TrimSpace(name.S)
			if s.Name == "" {
				r.problems.Add(name.At, "name", "", "the name is empty")
			}
		case "note":
			s.Note = strings.TrimSpace(r.text(e.node, "note", "the note").S)
		case "look":
			for _, e := range r.object(e.node, "look", "look", "icon", "colour") {
				t := r.text(e.node, "look."+e.name, e.name).S
				if e.name == "icon" {
					s.Look.Icon = t
				} else {
					s.Look.Colour = t
				}
			}
		case "watch":
			r.watch(e.node, s)
		case "keep":
			s.Keep = r.cond(e.node, "keep")
		case "gather":
			r.gather(e.node, s)
		case "ask":
			r.asks(e.node, s)
		case "messages":
			r.messages(e.node, s)
		case "route":
			r.route(e.node, s)
		case "tables":
			r.tables(e.node, s)
		case "answer":
			s.Answer = r.answer(e.node)
		case "pace":
			s.Pace = r.pace(e.node)
		case "follow":
			r.follows(e.node, s)
		}
	}
	r.calledTwice(s)
	if seen["route"] && len(s.Route.Rows) == 0 && s.Route.Otherwise == nil && s.Answer == nil {
		r.problems.Add(s.Route.At, "route", "", "the route has neither rows nor otherwise, so nobody would ever be told")
	}
	for _, need := range []string{"dorfbote", "name", "watch", "route"} {
		if !seen[need] && (need != "route" || !seen["answer"]) {
			hint := ""
			if need == "dorfbote" {
				hint = "dorfbote: 1"
			}
			r.problems.Add(at(root), need, hint, "the sheet has no %s", need)
		}
	}
	return s
}

var groups = []string{"all", "any", "none"}

// cond reads a condition.
func (r *reader) cond(n *yaml.Node, path string) *cond.Spec {
	s := &cond.Spec{At: at(n)}
	if strings.Count(path, "[") > maxNesting {
		r.problems.Add(at(n), path[:strings.IndexByte(path, '[')], "", "conditions are nested deeper than %d levels", maxNesting)
		s.Group = "all"
		return s
	}
	entries := r.object(n, path, "a condition")
	var test []entry
	for _, e := range entries {
		switch {
		case contains(groups, e.name):
			if s.Group != "" || s.Formula != nil {
				r.problems.Add(at(e.key), path, "", "a condition is one of all, any, none, formula or a test; put %s into a list of its own", e.name)
				continue
			}
			s.Group = e.name
			for i, sub := range r.list(e.node, path+"."+e.name, e.name) {
				s.Subs = append(s.Subs, r.cond(sub, fmt.Sprintf("%s.%s[%d]", path, e.name, i)))
			}
			if e.node.Kind == yaml.SequenceNode && len(e.node.Content) == 0 {
				r.problems.Add(at(e.node), path, "", "%s has no conditions in it", e.name)
			}
		case e.name == "formula":
			t := bare(r.text(e.node, path, "a formula"))
			s.Formula = &t
		case e.name == cond.Claimed || e.name == cond.Answered:
			r.happened(s, e, path)
		default:
			test = append(test, e)
		}
	}
	if len(test) > 0 && (s.Group != "" || s.Formula != nil || s.Happened != "") {
		r.problems.Add(at(test[0].key), path, "", "a condition is one of all, any, none, formula or a test; %s does not go with the rest", test[0].name)
		return s
	}
	if s.Group == "" && s.Formula == nil && s.Happened == "" {
		r.test(s, n, test, path)
	}
	return s
}

// happened reads what people may have done with an alert, of which only what follows on it may speak.
func (r *reader) happened(s *cond.Spec, e entry, path string) {
	switch b, isBool := r.value(e.node).(bool); {
	case !r.followed:
		r.problems.Add(at(e.key), path, "", "whether an alert is %s is known only in follow, in unless", e.name)
	case s.Group != "" || s.Formula != nil || s.Happened != "":
		r.problems.Add(at(e.key), path, "", "unless has one condition; put %s into a list of its own, such as any", e.name)
	case !isBool:
		r.problems.Add(at(e.node), path, "true", "%s is true or false", e.name)
	default:
		s.Value = b
	}
	s.Happened = e.name
}

// whole reads a whole number from 1 on, to most unless that is 0.
func (r *reader) whole(t report.Text, path, name string, most int) int {
	n, err := strconv.Atoi(strings.TrimSpace(t.S))
	if err == nil && n >= 1 && (most == 0 || n <= most) {
		return n
	}
	if most == 0 {
		r.problems.Add(t.At, path+"."+name, "", "%s is a whole number of at least 1, not %q", name, t.S)
	} else {
		r.problems.Add(t.At, path+"."+name, "", "%s is a whole number from 1 to %d, not %q", name, most, t.S)
	}
	return 0
}

// bare takes the markers around a whole formula away, which are let pass.
func bare(t report.Text) report.Text {
	if src, ok := cutMarkers(t.S); ok {
		within, skip := t.Within, strings.Index(t.S, "${")+2
		t.S, t.Within = src, func(o int) report.Pos { return within(o + skip) }
	}
	return t
}

func cutMarkers(s string) (string, bool) {
	t := strings.TrimSpace(s)
	if strings.HasPrefix(t, "${") && strings.HasSuffix(t, "}") {
		return t[2 : len(t)-1], true
	}
	return s, false
}

// test reads {field: f, operator: value}.
func (r *reader) test(s *cond.Spec, n *yaml.Node, entries []entry, path string) {
	for _, e := range entries {
		if e.name == "field" {
			s.Field = r.text(e.node, path, "a field")
			continue
		}
		if s.Op.S != "" {
			r.problems.Add(at(e.key), path, "", "a test has exactly one operator; %s comes second, after %s", e.name, s.Op.S)
			continue
		}
		s.Op = r.textOf(e.key)
		s.Value = r.value(e.node)
		s.ValueAt = report.Text{At: at(e.node)}
		if e.node.Kind == yaml.ScalarNode {
			s.ValueAt = r.textOf(e.node)
		}
	}
	switch {
	case len(entries) == 0:
		return
	case s.Field.S == "" && s.Field.At.Line == 0:
		_, isOp := cond.OpNamed(s.Op.S)
		if near := value.Nearest(s.Op.S, append(groups, "formula", "field")); near != "" && !isOp {
			r.problems.Add(s.Op.At, path, near, "a condition has no part %q", s.Op.S)
			s.Op.S = ""
			s.Group = "all" // so that it is not looked at again
			return
		}
		r.problems.Add(at(n), path, "", "the test has no field")
	case s.Op.S == "":
		r.problems.Add(at(n), path, "", "the test of %s has no operator, such as is, above or became", s.Field.S)
		s.Group = "all"
	}
}

func (r *reader) messages(n *yaml.Node, s *Sheet) {
	for _, e := range r.object(n, "messages", "messages") {
		path := "messages." + e.name
		m := &message.Spec{At: at(e.key), Name: e.name}
		for _, p := range r.object(e.node, path, "a message", "title", "body", "facts", "tone", "link", "list", "sender", "links", "picture", "mention", "attach", "buttons", "like") {
			switch p.name {
			case "title":
				t := r.text(p.node, path+".title", "the title")
				m.Title = &t
			case "body":
				t := r.text(p.node, path+".body", "the body")
				m.Body = &t
			case "tone":
				t := r.text(p.node, path+".tone", "the tone")
				m.Tone = &t
			case "facts":
				for i, f := range r.list(p.node, path+".facts", "facts") {
					m.Facts = append(m.Facts, r.fact(f, fmt.Sprintf("%s.facts[%d]", path, i)))
				}
			case "link":
				m.Link = r.link(p.node, path+".link")
			case "list":
				m.List = r.messageList(p.node, path+".list")
			case "like":
				m.Like = r.like(p.node, path+".like")
			default:
				r.messagePart(m, p, path+"."+p.name)
			}
		}
		s.Messages = append(s.Messages, m)
	}
}

func (r *reader) messageList(n *yaml.Node, path string) *message.ListSpec {
	l := &message.ListSpec{At: at(n)}
	for _, e := range r.parts(n, path, "a list part", []string{"of", "each"}, "of", "each", "most", "when_empty", "empty") {
		t := r.text(e.node, path+"."+e.name, e.name)
		switch e.name {
		case "of":
			l.Of = bare(t)
		case "each":
			l.Each = t
		case "most":
			l.Most = r.whole(t, path, "most", 0)
		case "when_empty":
			if l.Say = t.S == "say"; t.S != "skip" && t.S != "say" {
				r.problems.Add(t.At, path+".when_empty", value.Nearest(t.S, []string{"skip", "say"}), "when_empty is skip or say, not %q", t.S)
			}
		case "empty":
			l.Empty = t
		}
	}
	return l
}

func (r *reader) fact(n *yaml.Node, path string) message.FactSpec {
	var f message.FactSpec
	for _, e := range r.object(n, path, "a fact", "label", "value") {
		if t := r.text(e.node, path+"."+e.name, "the "+e.name); e.name == "label" {
			f.Label = t
		} else {
			f.Value = t
		}
	}
	return f
}

var linkSchemes = []string{"http", "https", "mailto", "tel"}

func (r *reader) link(n *yaml.Node, path string) *message.LinkSpec {
	l := &message.LinkSpec{}
	for _, e := range r.object(n, path, "a link", "text", "to", "share", "for") {
		switch e.name {
		case "share":
			for i, item := range r.oneOrMore(e.node, path+".share") {
				l.Share = append(l.Share, r.text(item, fmt.Sprintf("%s.share[%d]", path, i), "a field"))
			}
			continue
		case "for":
			l.For = r.span(e.node, path+".for", false)
			continue
		}
		if t := r.text(e.node, path+"."+e.name, "the "+e.name); e.name == "text" {
			l.Text = t
		} else {
			l.To = t
		}
	}
	switch {
	case len(l.Share) > 0 && l.To.At.Line > 0:
		r.problems.Add(l.To.At, path+".to", "", "a link goes to an address, or it shares fields; to and share do not go together")
	case len(l.Share) > 0 && strings.HasSuffix(path, ".link"):
		r.problems.Add(at(n), path, "", "a shared page is one of links; link is the message's own address")
	case len(l.Share) > 0:
		return l
	case l.For > 0:
		r.problems.Add(at(n), path+".for", "", "for goes with share, which there is none of")
	}
	if l.To.At.Line == 0 {
		r.problems.Add(at(n), path, "", "the link has no address; give it as to")
	}
	if scheme, _, ok := strings.Cut(strings.TrimSpace(l.To.S), ":"); ok && !strings.ContainsAny(scheme, "$/?#") && !contains(linkSchemes, strings.ToLower(scheme)) {
		r.problems.Add(l.To.At, path+".to", value.Nearest(scheme, linkSchemes), "a link goes to http, https, mailto or tel, not to %s", scheme)
	}
	return l
}

func (r *reader) route(n *yaml.Node, s *Sheet) {
	s.Route.At = at(n)
	for _, e := range r.object(n, "route", "route", "take", "rows", "otherwise") {
		switch e.name {
		case "take":
			t := r.text(e.node, "route.take", "take")
			if t.S != "first" && t.S != "every" {
				r.problems.Add(t.At, "route.take", value.Nearest(t.S, []string{"first", "every"}), "take is first or every, not %q", t.S)
			}
			s.Route.Every = t.S == "every"
		case "rows":
			for i, row := range r.list(e.node, "route.rows", "rows") {
				s.Route.Rows = append(s.Route.Rows, r.row(row, fmt.Sprintf("route.rows[%d]", i)))
			}
		case "otherwise":
			if isNull(e.node) {
				continue
			}
			b := &Branch{At: at(e.node)}
			for _, p := range r.object(e.node, "route.otherwise", "otherwise", "tell") {
				b.Tell = r.tell(p.node, "route.otherwise.tell")
			}
			if len(b.Tell) == 0 {
				r.problems.Add(b.At, "route.otherwise", "", "otherwise tells nobody; give it a destination, or leave it out")
			}
			s.Route.Otherwise = b
		}
	}
}

func (r *reader) row(n *yaml.Node, path string) Row {
	row := Row{Branch: Branch{At: at(n)}}
	for _, e := range r.object(n, path, "a row", "name", "when", "tell") {
		switch e.name {
		case "name":
			row.Name = r.text(e.node, path+".name", "the name").S
		case "when":
			row.When = r.cond(e.node, path+".when")
		case "tell":
			row.Tell = r.tell(e.node, path+".tell")
		}
	}
	if row.When == nil {
		r.problems.Add(at(n), path, "", "the row has no condition; what holds for all the rest goes into otherwise")
	}
	if len(row.Tell) == 0 {
		r.problems.Add(at(n), path, "", "the row tells nobody; give it a destination, or take the row out")
	}
	return row
}

// FormOf is what starts a sheet, as far as its text can be read: the empty text for changes, and where it cannot.
func FormOf(text string) string {
	s, _ := Read([]byte(text))
	if s == nil {
		return ""
	}
	return s.Watch.Form
}
