package sheet

import (
	"fmt"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/message"
	"dorfbote/internal/core/place"
	"dorfbote/internal/core/report"
	"dorfbote/internal/core/value"
)

// Tell is one destination with what it is told.
type Tell struct {
	At      report.Pos
	To      report.Text // connection/place; the place may hold formulas
	Cc, Bcc *report.Text
	Message report.Text
	Reply   *report.Text // a message told in the thread of the first
	Each    *report.Text // a formula that gives a list: one post for each item, which is called "it"
	Most    int          // how many of them; 0 is DefaultMost
	Skip    bool         // where the address is empty, nothing is told, which is no failure
	KeepUp  *KeepUp      // nil: the post stays as it is
}

// How many posts one tell makes of a list.
const (
	DefaultMost = 50
	MaxMost     = 200
)

// PlanTell is one destination with its messages.
type PlanTell struct {
	Path    string
	To      Address
	Cc, Bcc *Address         // nil: none
	Message *message.Message // what is told
	Reply   *message.Message // nil: none
	Each    *formula.Formula // nil: one post
	Most    int
	Skip    bool
	KeepUp  *PlanKeepUp // nil: the post stays as it is
}

// Address is a destination made ready: a connection, and its place as a text with formulas.
type Address struct {
	Connection string
	Place      *formula.Template
	// Fixed is the whole destination where its place holds no formula, as it is written down; "" elsewhere.
	Fixed string
	// Rule is what the connection takes for a place.
	Rule place.Rule
	Path string // on the sheet
}

// Connections that are none: a person of the people book, and whoever looks.
const (
	Person = "person"
	Me     = "me"
)

func (r *reader) tell(n *yaml.Node, path string) []Tell {
	var out []Tell
	for i, t := range r.list(n, path, "tell") {
		out = append(out, r.oneTell(t, fmt.Sprintf("%s[%d]", path, i)))
	}
	return out
}

func (r *reader) oneTell(n *yaml.Node, path string) Tell {
	tell := Tell{At: at(n)}
	for _, e := range r.object(n, path, "a destination", "to", "cc", "bcc", "each", "most", "if_empty", "message", "reply", "keep_up") {
		if e.name == "keep_up" {
			tell.KeepUp = r.keepUp(e.node, path+".keep_up")
			continue
		}
		x := r.text(e.node, path+"."+e.name, e.name)
		switch e.name {
		case "to":
			tell.To = x
		case "cc":
			tell.Cc = &x
		case "bcc":
			tell.Bcc = &x
		case "message":
			tell.Message = x
		case "reply":
			tell.Reply = &x
		case "each":
			if _, ok := formula.IsWhole(x.S); !ok {
				r.problems.Add(x.At, path+".each", "${"+strings.Trim(x.S, "${} ")+"}", `each is a formula that gives a list, such as "${open}", not %q`, x.S)
				continue
			}
			x = bare(x)
			tell.Each = &x
		case "most":
			tell.Most = r.whole(x, path, "most", MaxMost)
		case "if_empty":
			if tell.Skip = x.S == "skip"; !tell.Skip && x.S != "fail" {
				r.problems.Add(x.At, path+".if_empty", value.Nearest(x.S, []string{"skip", "fail"}), "if_empty is skip or fail, not %q", x.S)
			}
		}
	}
	where := tell.To.At
	if where.Line == 0 {
		where = at(n)
	}
	r.address(&tell.To, path, where)
	connection, _, _ := strings.Cut(tell.To.S, "/")
	for i, t := range []*report.Text{tell.Cc, tell.Bcc} {
		if t == nil {
			continue
		}
		name := []string{"cc", "bcc"}[i]
		r.address(t, path+"."+name, t.At)
		if c, _, ok := strings.Cut(t.S, "/"); ok && c != connection && c != "" {
			r.problems.Add(t.At, path+"."+name, connection, "%s goes over the connection of to, which is %s, not over %s", name, connection, c)
		}
	}
	if tell.Most > 0 && tell.Each == nil {
		r.problems.Add(at(n), path+".most", "", "most goes with each, which there is none of")
	}
	if tell.Message.At.Line == 0 {
		r.problems.Add(at(n), path, "", "the destination has no message")
	}
	return tell
}

// address refuses what is no destination. The connection stands before the first slash and is never computed.
func (r *reader) address(t *report.Text, path string, where report.Pos) {
	switch c, ch, ok := strings.Cut(t.S, "/"); {
	case t.S == "":
		r.problems.Add(where, path, "", "no channel has been chosen yet; choose one, or take this out")
	case strings.Contains(c, "${"):
		r.problems.Add(where, path, "", "the connection of %q is computed; it is written as it is, and only the place behind it may be a formula, such as mail/${record.email}", t.S)
	case !ok || strings.TrimSpace(c) == "" || strings.TrimSpace(ch) == "":
		r.problems.Add(where, path, "", "%q is not a destination; write connection/channel, such as square/#tours", t.S)
	}
}

// tell makes one destination ready.
func (p *Plan) tell(t Tell, path string, known Known, used map[string]bool, problems *report.List) PlanTell {
	pt := PlanTell{Path: path, Message: p.message(t.Message, path, used, problems), Most: t.Most, Skip: t.Skip}
	if pt.Most == 0 {
		pt.Most = DefaultMost
	}
	if t.Reply != nil {
		pt.Reply = p.message(*t.Reply, path+".reply", used, problems)
	}
	pt.To = p.address(t.To, path, known, problems)
	for _, c := range []struct {
		name string
		text *report.Text
		into **Address
	}{{"cc", t.Cc, &pt.Cc}, {"bcc", t.Bcc, &pt.Bcc}} {
		if c.text == nil {
			continue
		}
		a := p.address(*c.text, path+"."+c.name, known, problems)
		if *c.into = &a; pt.To.Connection == a.Connection && known.Reaches != nil && a.Connection != Person && pt.To.Rule.Form != place.Mail {
			problems.Add(c.text.At, path+"."+c.name, "", "%s has no %s; only mail does", a.Connection, c.name)
		}
	}
	if t.KeepUp != nil {
		pt.KeepUp = p.keepUp(t, path+".keep_up", problems)
	}
	if t.Each != nil {
		pt.Each = formula.Read(*t.Each, t.Each.S, 0, p.Terms, path+".each", problems)
		return pt
	}
	for i, a := range []*Address{&pt.To, pt.Cc, pt.Bcc} {
		if a != nil && a.Place.UsesIt() {
			problems.Add(t.At, path+"."+[]string{"to", "cc", "bcc"}[i], "", `it is known only where the tell has each, such as each: "${open}"`)
		}
	}
	for _, m := range []*message.Message{pt.Message, pt.Reply} {
		if m != nil && m.UsesIt() {
			problems.Add(t.At, path, "", `the message %s speaks of it, so it can be told only with each, such as each: "${open}"`, m.Name)
		}
	}
	return pt
}

// address makes a destination ready, and says what is wrong with one that is fixed.
func (p *Plan) address(t report.Text, path string, known Known, problems *report.List) Address {
	connection, rest, _ := strings.Cut(t.S, "/")
	a := Address{Connection: connection, Rule: place.Rule{Any: true}, Path: path}
	inner := t
	skip := len([]rune(connection)) + 1
	if inner.S = rest; t.Within != nil {
		inner.Within = func(o int) report.Pos { return t.Within(o + skip) }
	}
	a.Place = formula.ReadTemplate(inner, p.Terms, path, problems)
	written, fixed := a.Place.Written()
	if fixed {
		a.Fixed = connection + "/" + written
	}
	switch {
	case connection == Me:
		problems.Add(t.At, path, "", "me/ is whoever looks, and is for trials only; name a person, or a place")
		return a
	case connection == Person:
		if fixed && known.People != nil && known.People.Find(written) == nil {
			problems.Add(t.At, path, "", "%s", place.Nobody(written, known.People))
		}
		return a
	case known.Reaches == nil || t.S == "":
		return a
	case known.Lenient:
		if rule, ok := known.Reaches(connection); ok {
			a.Rule = rule
		}
		return a
	}
	rule, ok := known.Reaches(connection)
	if !ok {
		if known.Connections != nil && !strings.Contains(connection, "${") {
			problems.Add(t.At, path, value.Nearest(connection, known.Connections()), "there is no connection %s that posts can go over", connection)
		}
		return a
	}
	if a.Rule = rule; !fixed {
		return a
	}
	normal, err := rule.Take(written, p.Terms.Workspace)
	if err != nil || normal == "" {
		near := ""
		if rule.Form == place.Listed {
			near = value.Nearest(t.S, prefixed(connection, rule.Places))
			problems.Add(t.At, path, near, "there is no destination %s", t.S)
			return a
		}
		words := "the address is empty"
		if err != nil {
			words = err.Error()
		}
		problems.Add(t.At, path, near, "%s", words)
		return a
	}
	a.Fixed = connection + "/" + normal
	return a
}

func prefixed(connection string, places []string) []string {
	out := make([]string, len(places))
	for i, p := range places {
		out[i] = connection + "/" + p
	}
	return out
}

// lost warns of parts of a message that a destination has no room for.
func (p *Plan) lost(t Tell, pt PlanTell, path string, problems *report.List) {
	if pt.Message == nil || pt.To.Rule.Any || pt.To.Connection == Person {
		return
	}
	words := map[message.Part]string{
		message.PartSender: "it does not show another sender", message.PartPicture: "the picture is told as its words and its address",
		message.PartMention: "persons are named, and not spoken to", message.PartAttach: "its files are links to them", message.PartButtons: "its buttons are links to a page",
	}
	var lost []string
	for _, part := range pt.Message.Parts() {
		if !slices.Contains(pt.To.Rule.Can, string(part)) {
			lost = append(lost, words[part])
		}
	}
	if len(lost) > 0 {
		problems.Warn(t.To.At, path, "", "%s cannot take all of the message %s: %s", pt.To.Connection, t.Message.S, strings.Join(lost, "; "))
	}
}

// grouped notes of messages that are told for each group of a list which list that is.
func (s *Sheet) grouped() {
	for _, b := range s.branches() {
		for _, t := range b.Tell {
			if t.Each == nil {
				continue
			}
			for _, m := range s.Messages {
				if m.Name == t.Message.S || t.Reply != nil && m.Name == t.Reply.S {
					m.Grouped = formula.GroupedBy(t.Each.S)
				}
			}
		}
	}
}

// pacedEach refuses what would have a repeated arrival change, or reply to, one of many posts.
func (s *Sheet) pacedEach(p *Plan, problems *report.List) {
	if s.Pace == nil || s.Pace.Repeat == nil || p.Pace == nil || p.Pace.Then == FoldDrop {
		return
	}
	for _, b := range s.branches() {
		for _, t := range b.Tell {
			if t.Each != nil {
				problems.Add(t.Each.At, "pace.repeat.then", FoldDrop, "a tell with each makes many posts, none of which a repeated arrival can %s; have pace.repeat drop it", p.Pace.Then)
			}
		}
	}
}
