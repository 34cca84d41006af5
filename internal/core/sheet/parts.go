package sheet

import (
	"fmt"
	"strings"

	"go.yaml.in/yaml/v3"

	"dorfbote/internal/core/message"
	"dorfbote/internal/core/report"
	"dorfbote/internal/core/value"
)

// messagePart reads a part of a message beyond its text.
func (r *reader) messagePart(m *message.Spec, e entry, path string) {
	some := func(n *yaml.Node, path, what string) *report.Text {
		t := r.text(n, path, what)
		return &t
	}
	switch e.name {
	case "sender":
		m.Sender = &message.SenderSpec{}
		for _, p := range r.object(e.node, path, "a sender", "name", "picture") {
			if t := some(p.node, path+"."+p.name, "the "+p.name); p.name == "name" {
				m.Sender.Name = t
			} else {
				m.Sender.Picture = t
			}
		}
	case "links":
		for i, n := range r.list(e.node, path, "links") {
			m.Links = append(m.Links, *r.link(n, fmt.Sprintf("%s[%d]", path, i)))
		}
	case "picture":
		m.Picture = r.picture(e.node, path)
	case "mention":
		if e.node.Kind == yaml.ScalarNode {
			m.Mention = []report.Text{r.text(e.node, path, "mention")}
			return
		}
		for i, n := range r.list(e.node, path, "mention") {
			m.Mention = append(m.Mention, r.text(n, fmt.Sprintf("%s[%d]", path, i), "a mention"))
		}
	case "buttons":
		for i, n := range r.list(e.node, path, "buttons") {
			if i >= message.MostButtons {
				r.problems.Add(at(n), path, "", "a message has at most %d buttons", message.MostButtons)
				return
			}
			m.Buttons = append(m.Buttons, r.button(n, fmt.Sprintf("%s[%d]", path, i)))
		}
	case "attach":
		for i, n := range r.list(e.node, path, "attach") {
			m.Attach = append(m.Attach, r.attach(n, fmt.Sprintf("%s[%d]", path, i)))
		}
	}
}

func (r *reader) attach(n *yaml.Node, path string) message.FileSpec {
	f := message.FileSpec{At: at(n)}
	for _, p := range r.object(n, path, "an attachment", "name", "table", "from") {
		switch p.name {
		case "name":
			f.Name = r.text(p.node, path+".name", "the name")
		case "from":
			t := r.text(p.node, path+".from", "the address")
			f.From = &t
		default:
			t := r.table(p.node, path+".table")
			f.Table = &t
		}
	}
	switch {
	case f.Table == nil && f.From == nil:
		r.problems.Add(f.At, path, "", "an attachment is a table, or a file from an address; give one of table and from")
		f.Table = &message.TableSpec{}
	case f.Table != nil && f.From != nil:
		r.problems.Add(f.At, path, "", "an attachment is a table or a file from an address, not both; take out table or from")
		f.From = nil
	case f.Table != nil && f.Name.S == "":
		r.problems.Add(f.At, path+".name", "", "a table that is attached needs a name that ends in .csv or .xlsx")
	}
	return f
}

// picture reads a picture, which is exactly one of an address, a chart and a table.
func (r *reader) picture(n *yaml.Node, path string) *message.PictureSpec {
	out := &message.PictureSpec{At: at(n)}
	way := ""
	for _, p := range r.object(n, path, "a picture", "from", "chart", "table", "text") {
		if p.name != "text" {
			if way != "" {
				r.problems.Add(at(p.key), path, "", "a picture is one of from, chart and table; %s comes second, after %s", p.name, way)
				continue
			}
			way = p.name
		}
		at := path + "." + p.name
		switch p.name {
		case "from", "text":
			t := r.text(p.node, at, p.name)
			if p.name == "from" {
				out.From = &t
			} else {
				out.Text = &t
			}
		case "chart":
			out.Chart = r.chart(p.node, at)
		case "table":
			t := r.tableOf(p.node, at, &out.Most)
			out.Table = &t
		}
	}
	if way == "" && r.follow(n).Kind == yaml.MappingNode {
		r.problems.Add(out.At, path, "", "a picture has from, chart or table")
	}
	return out
}

func (r *reader) chart(n *yaml.Node, path string) *message.ChartSpec {
	c := &message.ChartSpec{At: at(n)}
	for _, p := range r.parts(n, path, "a chart", []string{"of", "kind", "by", "value"}, "of", "kind", "at", "by", "value", "split", "title") {
		t := r.text(p.node, path+"."+p.name, p.name)
		switch p.name {
		case "of":
			c.Of = bare(t)
		case "kind":
			c.Kind = t
		case "at":
			c.Field = &t
		case "by":
			c.By = t
		case "value":
			c.Value = bare(t)
		case "split":
			c.Split = &t
		case "title":
			c.Title = &t
		}
	}
	return c
}

func (r *reader) table(n *yaml.Node, path string) message.TableSpec { return r.tableOf(n, path, nil) }

// tableOf reads a table; most, where it is not nil, is how many of its rows are shown.
func (r *reader) tableOf(n *yaml.Node, path string, most *int) message.TableSpec {
	t := message.TableSpec{At: at(n)}
	names := []string{"of", "columns"}
	if most != nil {
		names = append(names, "most", "total")
	}
	for _, p := range r.parts(n, path, "a table", []string{"of", "columns"}, names...) {
		switch p.name {
		case "of":
			t.Of = bare(r.text(p.node, path+".of", "of"))
			continue
		case "most":
			*most = r.whole(r.text(p.node, path+".most", "most"), path, "most", message.MostRows)
			continue
		case "total":
			t.Total = r.yesNo(p, path+".total")
			continue
		}
		for i, c := range r.list(p.node, path+".columns", "columns") {
			at := fmt.Sprintf("%s.columns[%d]", path, i)
			var col message.ColumnSpec
			if c.Kind == yaml.ScalarNode {
				col.Field = r.text(c, at, "a column")
			} else {
				for _, x := range r.parts(c, at, "a column", []string{"field"}, "field", "label", "format") {
					t := r.text(x.node, at+"."+x.name, x.name)
					switch x.name {
					case "field":
						col.Field = t
					case "label":
						col.Label = t
					case "format":
						col.Format = t
					}
				}
			}
			col.Field.S = strings.TrimPrefix(strings.TrimSpace(col.Field.S), "it.")
			t.Columns = append(t.Columns, col)
		}
	}
	if len(t.Columns) == 0 {
		r.problems.Add(t.At, path+".columns", "", "the table has no columns; name the fields that it shows")
	}
	return t
}

// button reads a button: its words, and exactly one thing that it does.
func (r *reader) button(n *yaml.Node, path string) message.ButtonSpec {
	b := message.ButtonSpec{At: at(n)}
	for _, e := range r.parts(n, path, "a button", []string{"text"}, "text", "who", message.DoesChange, message.DoesClaim, message.DoesLater, message.DoesCall) {
		at := path + "." + e.name
		switch e.name {
		case "text":
			b.Text = r.text(e.node, at, "the text")
			continue
		case "who":
			t := r.text(e.node, at, "who")
			b.Who = &t
			continue
		}
		if b.Does != "" {
			r.problems.Add(report.Pos{Line: e.key.Line, Column: e.key.Column}, path, "", "a button does one thing; %s comes second, after %s", e.name, b.Does)
			continue
		}
		b.Does = e.name
		r.buttonDoes(e, at, &b)
	}
	if b.Does == "" && n.Kind == yaml.MappingNode {
		r.problems.Add(b.At, path, "", "the button does nothing; give it change, claim, later or call")
	}
	return b
}

func (r *reader) buttonDoes(e entry, path string, b *message.ButtonSpec) {
	switch e.name {
	case message.DoesClaim:
		if v, ok := r.value(e.node).(bool); !ok || !v {
			r.problems.Add(at(e.node), path, "true", "claim is true, or the button has another thing to do")
		}
	case message.DoesLater:
		b.After = r.span(e.node, path, false)
	case message.DoesChange:
		for _, p := range r.parts(e.node, path, "change", []string{"set"}, "set") {
			b.SetAt = at(p.node)
			if b.Set = r.sets(p.node, path+".set"); len(b.Set) == 0 {
				r.problems.Add(at(p.node), path+".set", "", "set names no field")
			}
		}
	case message.DoesCall:
		for _, p := range r.parts(e.node, path, "call", []string{"workflow"}, "workflow", "with") {
			if p.name == "workflow" {
				b.Workflow = r.text(p.node, path+".workflow", "the workflow's name")
			} else {
				b.SetAt, b.Set = at(p.node), r.sets(p.node, path+".with")
			}
		}
	}
}

// sets reads names with values.
func (r *reader) sets(n *yaml.Node, path string) []message.SetSpec {
	var out []message.SetSpec
	for _, e := range r.object(n, path, "set") {
		s := message.SetSpec{Name: e.name}
		if text, ok := scalar(e.node).(string); ok && e.node.Kind == yaml.ScalarNode && e.node.ShortTag() == "!!str" {
			t := r.textOf(e.node)
			t.S = text
			s.Text = &t
		} else {
			s.Raw = r.value(e.node)
		}
		out = append(out, s)
	}
	return out
}

// buttons checks what buttons do against what there is to be done.
func (s *Sheet) buttons(p *Plan, known Known, problems *report.List) {
	for _, m := range s.Messages {
		for i := range m.Buttons {
			b, path := &m.Buttons[i], fmt.Sprintf("messages.%s.buttons[%d]", m.Name, i)
			switch b.Does {
			case message.DoesChange:
				s.changes(p, b, path+".change", known, problems)
			case message.DoesCall:
				if p.Buttons = append(p.Buttons, b.Workflow.S); known.Workflows != nil {
					mustKnow(problems, b.Workflow, path+".call.workflow", known.Workflows(), "there is no workflow %q that is started by a call")
				}
			}
		}
	}
}

// changes checks a button that changes the arrival's own record.
func (s *Sheet) changes(p *Plan, b *message.ButtonSpec, path string, known Known, problems *report.List) {
	if !p.HasRecord() {
		problems.Add(b.At, path, "", "this workflow starts without a record, so there is nothing that a button could change")
		return
	}
	if known.Unwritable != nil {
		if why := known.Unwritable(p.Source, true); why != "" {
			problems.Unfinished(b.At, path, "%s", why)
		}
	}
	for _, f := range b.Set {
		if k := p.Terms.Schema; k != nil && (!k.Learnt || value.Nearest(f.Name, k.Names()) != "") {
			knows(problems, k, report.Text{S: f.Name, At: b.SetAt}, f.Name, "", path+".set."+f.Name)
		}
	}
}

// like reads what copies a chat message: the message alone, or with what stands before and behind it.
func (r *reader) like(n *yaml.Node, path string) *message.LikeSpec {
	l := &message.LikeSpec{At: at(n), Author: true}
	if r.follow(n).Kind == yaml.ScalarNode {
		l.Of = bare(r.text(n, path, "like"))
		return l
	}
	for _, p := range r.parts(n, path, "like", []string{"of"}, "of", "header", "footer", "author") {
		switch at := path + "." + p.name; p.name {
		case "author":
			l.Author = r.yesNo(p, at)
		case "of":
			l.Of = bare(r.text(p.node, at, "of"))
		default:
			t := r.text(p.node, at, p.name)
			if p.name == "header" {
				l.Header = &t
			} else {
				l.Footer = &t
			}
		}
	}
	return l
}
