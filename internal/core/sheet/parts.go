package sheet

import (
	"fmt"
	"strings"

	"go.yaml.in/yaml/v3"

	"dorfbote/internal/core/message"
	"dorfbote/internal/core/report"
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
		m.Picture = &message.PictureSpec{}
		for _, p := range r.parts(e.node, path, "a picture", []string{"from"}, "from", "text") {
			if t := some(p.node, path+"."+p.name, p.name); p.name == "from" {
				m.Picture.From = t
			} else {
				m.Picture.Text = t
			}
		}
	case "mention":
		if e.node.Kind == yaml.ScalarNode {
			m.Mention = []report.Text{r.text(e.node, path, "mention")}
			return
		}
		for i, n := range r.list(e.node, path, "mention") {
			m.Mention = append(m.Mention, r.text(n, fmt.Sprintf("%s[%d]", path, i), "a mention"))
		}
	case "attach":
		for i, n := range r.list(e.node, path, "attach") {
			m.Attach = append(m.Attach, r.attach(n, fmt.Sprintf("%s[%d]", path, i)))
		}
	}
}

func (r *reader) attach(n *yaml.Node, path string) message.FileSpec {
	f := message.FileSpec{At: at(n)}
	for _, p := range r.parts(n, path, "an attachment", []string{"name", "table"}, "name", "table") {
		if p.name == "name" {
			f.Name = r.text(p.node, path+".name", "the name")
			continue
		}
		f.Table = r.table(p.node, path+".table")
	}
	return f
}

func (r *reader) table(n *yaml.Node, path string) message.TableSpec {
	t := message.TableSpec{At: at(n)}
	for _, p := range r.parts(n, path, "a table", []string{"of", "columns"}, "of", "columns") {
		if p.name == "of" {
			t.Of = bare(r.text(p.node, path+".of", "of"))
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
