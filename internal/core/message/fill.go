package message

import (
	"cmp"
	"fmt"
	"html"
	"strconv"
	"strings"

	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/value"
)

func entity(m string) string { return html.UnescapeString(m) }

// Fill makes the document for one arrival. The error names the part that failed.
func (m *Message) Fill(sc *formula.Scope) (*Document, error) {
	d := &Document{Tone: "plain"}
	f := &filling{sc: sc, words: m.words}
	d.Title = f.line("title", m.title)
	if tone := value.Fold(f.text("tone", m.tone)); known(tone) {
		d.Tone = tone
	}
	for i, fact := range m.facts {
		part := fmt.Sprintf("facts[%d]", i)
		if v := f.text(part, fact.value); v != "" {
			d.Facts = append(d.Facts, Fact{Label: f.line(part, fact.label), Value: v})
		}
	}
	if m.link != nil {
		d.Link = f.link("link", *m.link)
	}
	if f.err != nil {
		return nil, f.err
	}
	var err error
	values := make([]any, len(m.chips))
	for i, chip := range m.chips {
		if values[i], err = chip.Run(sc); err != nil {
			return nil, fault.In("body", err)
		}
	}
	d.Body = (&filler{values: values, words: m.words}).blocks(m.body)
	if m.list != nil {
		blocks, err := m.list.fill(sc, m.words)
		if err != nil {
			return nil, fault.In("list", err)
		}
		d.Body = append(d.Body, blocks...)
	}
	if m.like != nil {
		if err := m.like.fill(d, f); err != nil {
			return nil, fault.In("like", err)
		}
	}
	m.parts.fill(d, f)
	return d, f.err
}

// filling fills the parts of a message in, up to the first that fails.
type filling struct {
	sc    *formula.Scope
	words *formula.Words
	err   error // names the part
}

// fail notes that a part failed.
func (f *filling) fail(part string, err error) {
	if err != nil && f.err == nil {
		f.err = fault.In(part, err)
	}
}

func (f *filling) text(part string, t *formula.Template) string {
	if t == nil || f.err != nil {
		return ""
	}
	s, err := t.Text(f.sc, f.words)
	f.fail(part, err)
	return strings.TrimSpace(s)
}

func (f *filling) line(part string, t *formula.Template) string { return oneLine(f.text(part, t)) }

// address fills in an address that can be called or followed, "" where there is none.
func (f *filling) address(part string, t *formula.Template) string {
	if t == nil || f.err != nil {
		return ""
	}
	s, err := t.Address(f.sc, f.words)
	f.fail(part, err)
	return SafeAddress(s)
}

// link fills in a link; nil where it leads nowhere.
func (f *filling) link(part string, l linkTemplate) *Link {
	if l.share != nil {
		if f.err != nil {
			return nil
		}
		return &Link{Text: cmp.Or(f.line(part, l.text), "See more"), Share: l.share.fill(f.sc, f.words)}
	}
	to := f.address(part, l.to)
	if text := f.line(part, l.text); to != "" {
		return &Link{Text: cmp.Or(text, to), To: to}
	}
	return nil
}

func oneLine(s string) string { return strings.Join(strings.Fields(s), " ") }

type filler struct {
	values []any
	words  *formula.Words
}

func (f *filler) blocks(in []Block) []Block {
	out := make([]Block, 0, len(in))
	for _, b := range in {
		if list, ok := f.onlyBullets(b); ok {
			if len(list.Items) > 0 {
				out = append(out, list)
			}
			continue
		}
		b.Inlines = f.inlines(b.Inlines)
		b.Blocks = f.blocks(b.Blocks)
		b.Code = f.text(b.Code)
		items := make([][]Block, len(b.Items))
		for i := range b.Items {
			items[i] = f.blocks(b.Items[i])
		}
		b.Items = items
		if b.Kind == Paragraph && blank(b.Inlines) {
			continue
		}
		out = append(out, b)
	}
	return out
}

// onlyBullets turns a paragraph that is one bullets() chip into a list.
func (f *filler) onlyBullets(b Block) (Block, bool) {
	if b.Kind != Paragraph || len(b.Inlines) != 1 || b.Inlines[0].Kind != Text {
		return b, false
	}
	m := chipMark.FindStringSubmatch(b.Inlines[0].Text)
	if m == nil || strings.TrimSpace(b.Inlines[0].Text) != m[0] {
		return b, false
	}
	list, ok := f.value(m[1]).(formula.Bullets)
	if !ok {
		return b, false
	}
	return Block{Kind: ListBlock, Items: itemsOf(list, f.words)}, true
}

func (f *filler) value(index string) any {
	i, err := strconv.Atoi(index)
	if err != nil || i >= len(f.values) {
		return nil
	}
	return f.values[i]
}

func (f *filler) text(s string) string {
	return chipMark.ReplaceAllStringFunc(s, func(m string) string {
		return f.words.Show(f.value(m[len(chipOpen) : len(m)-len(chipClose)]))
	})
}

func (f *filler) inlines(in []Inline) []Inline {
	out := make([]Inline, 0, len(in))
	for _, n := range in {
		switch n.Kind {
		case Text:
			out = append(out, f.pieces(n.Text)...)
		case Code:
			n.Text = f.text(n.Text)
			out = append(out, n)
		case Anchor:
			n.Subs = f.inlines(n.Subs)
			n.To = SafeAddress(f.address(n.To))
			if n.To == "" {
				out = append(out, n.Subs...)
			} else {
				out = append(out, n)
			}
		default:
			n.Subs = f.inlines(n.Subs)
			out = append(out, n)
		}
	}
	return out
}

// address fills chips into a link's address: a chip that is the whole address or its beginning
// stands as it is, one inside is escaped for its place.
func (f *filler) address(to string) string {
	var b strings.Builder
	rest := to
	for {
		loc := chipMark.FindStringSubmatchIndex(rest)
		if loc == nil {
			b.WriteString(rest)
			return b.String()
		}
		b.WriteString(rest[:loc[0]])
		b.WriteString(formula.EscapeIn(b.String(), f.words.Show(f.value(rest[loc[2]:loc[3]]))))
		rest = rest[loc[1]:]
	}
}

func (f *filler) pieces(s string) []Inline {
	var out []Inline
	add := func(n Inline) {
		if last := len(out) - 1; n.Kind == Text && last >= 0 && out[last].Kind == Text {
			out[last].Text += n.Text
		} else if n.Kind != Text || n.Text != "" {
			out = append(out, n)
		}
	}
	rest := s
	for {
		loc := chipMark.FindStringSubmatchIndex(rest)
		if loc == nil {
			add(Inline{Kind: Text, Text: rest})
			return out
		}
		add(Inline{Kind: Text, Text: rest[:loc[0]]})
		switch v := f.value(rest[loc[2]:loc[3]]).(type) {
		case formula.Anchor:
			text := Inline{Kind: Text, Text: v.Text}
			if to := SafeAddress(v.To); to != "" {
				add(Inline{Kind: Anchor, To: to, Subs: []Inline{text}})
			} else {
				add(text)
			}
		case formula.Mention:
			if v.Person == nil {
				add(Inline{Kind: Text, Text: v.Text})
			} else {
				add(Inline{Kind: MentionInline, Text: v.Text, person: v.Person})
			}
		default:
			add(Inline{Kind: Text, Text: f.words.Show(v)})
		}
		rest = rest[loc[1]:]
	}
}

func blank(in []Inline) bool {
	for _, n := range in {
		if n.Kind == Break {
			continue
		}
		if n.Kind == Code || n.Kind == MentionInline || strings.TrimSpace(n.Text) != "" || !blank(n.Subs) {
			return false
		}
	}
	return true
}
