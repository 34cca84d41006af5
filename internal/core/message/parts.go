package message

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/people"
	"dorfbote/internal/core/report"
	"dorfbote/internal/core/value"
)

// Sender is who a message is shown as coming from, where the other side lets that be chosen.
type Sender struct {
	Name    string `json:"name,omitempty"`
	Picture string `json:"picture,omitempty"` // its address
	Made    []byte `json:"-"`                 // what was fetched from there, as PNG or JPEG
}

// Picture is a picture of a message, with what it shows in words.
type Picture struct {
	From string `json:"from"` // its address; "" where it is drawn
	Text string `json:"text"`
	// Held is what it is named by where it lies at the record's source, as [HeldAt] makes it; From is empty then.
	Held string `json:"held,omitempty"`
	// Chart or Grid is what is drawn, and Made what was drawn of it, as PNG, or the picture that was held, as PNG or JPEG.
	Chart *Chart `json:"chart,omitempty"`
	Grid  *Grid  `json:"grid,omitempty"`
	Made  []byte `json:"-"`
}

// Mentioned is a person whom a message speaks to.
type Mentioned struct {
	Name string `json:"name"`
	// To is the person's address on the connection that the message goes over, "" where there is none.
	To     string `json:"to,omitempty"`
	person *people.Person
}

// File is a file that goes with a message.
type File struct {
	Name  string `json:"name"`
	Media string `json:"media"`
	Data  []byte `json:"data,omitempty"`
	Size  int    `json:"size,omitempty"` // in bytes, where Data is left out
	// From is the address of a file that is fetched when the message is sent.
	From string `json:"from,omitempty"`
	// Held is the same of a file that lies at the record's source, as [HeldAt] makes it.
	Held string `json:"held,omitempty"`
	// Cells are those of a workbook, which is made when the message is sent; the first row is the heads.
	Cells [][]any `json:"cells,omitempty"`
}

// MostFiles is how many files go with a message at most; those beyond are left out.
const MostFiles = 20

// Workbook is the type of .xlsx files, by ECMA-376.
const Workbook = "application/vnd.openxmlformats-officedocument.spreadsheetml.sheet"

// SenderSpec, PictureSpec and FileSpec are these parts as written on a sheet.
type (
	SenderSpec  struct{ Name, Picture *report.Text }
	PictureSpec struct {
		At         report.Pos
		From, Text *report.Text
		Chart      *ChartSpec
		Table      *TableSpec
		Most       int // of the rows of the table
	}
	FileSpec struct {
		At    report.Pos
		Name  report.Text // may be left out where there is From: the end of the address is the name then
		From  *report.Text
		Table *TableSpec // what is attached where there is no From
	}
)

// PartsSpec are the parts of a message beyond its text, as written.
type PartsSpec struct {
	Sender  *SenderSpec
	Links   []LinkSpec
	Picture *PictureSpec
	Mention []report.Text
	Attach  []FileSpec
	Buttons []ButtonSpec
}

func (s *PartsSpec) texts(each func(*report.Text)) {
	some := func(list ...*report.Text) {
		for _, t := range list {
			if t != nil {
				each(t)
			}
		}
	}
	if s.Sender != nil {
		some(s.Sender.Name, s.Sender.Picture)
	}
	if s.Picture != nil {
		some(s.Picture.From, s.Picture.Text)
		if c := s.Picture.Chart; c != nil {
			some(&c.Of, c.Title)
		}
		if t := s.Picture.Table; t != nil {
			some(&t.Of)
		}
	}
	for i := range s.Links {
		some(&s.Links[i].Text, &s.Links[i].To)
	}
	for i := range s.Mention {
		some(&s.Mention[i])
	}
	for i := range s.Attach {
		if some(&s.Attach[i].Name, s.Attach[i].From); s.Attach[i].Table != nil {
			some(&s.Attach[i].Table.Of)
		}
	}
	s.buttonTexts(each)
}

// parts are a message's parts made ready.
type parts struct {
	sender  struct{ name, picture *formula.Template }
	links   []linkTemplate
	picture struct {
		from, text *formula.Template
		chart      *chartTemplate
		table      *table
		most       int
	}
	mention []*formula.Template
	attach  []fileTemplate
	buttons []buttonTemplate
}

type fileTemplate struct {
	name, from *formula.Template
	table      *table // nil where there is from
}

func compileParts(s *PartsSpec, words *formula.Words, path string, problems *report.List) parts {
	var p parts
	tmpl := func(t *report.Text, path string) *formula.Template {
		if t == nil {
			return nil
		}
		return parse(*t, words, path, problems)
	}
	if s.Sender != nil {
		p.sender.name, p.sender.picture = tmpl(s.Sender.Name, path+".sender.name"), tmpl(s.Sender.Picture, path+".sender.picture")
	}
	for i := range s.Links {
		at := fmt.Sprintf("%s.links[%d]", path, i)
		p.links = append(p.links, linkTemplate{text: tmpl(&s.Links[i].Text, at+".text"), to: tmpl(&s.Links[i].To, at+".to")})
		if len(s.Links[i].Share) > 0 {
			p.links[i].share = compileShare(&s.Links[i], words, at, problems)
			p.links[i].share.givesAway(p.links[i].text, s.Links[i].Text, at+".text", problems)
		}
	}
	if s.Picture != nil {
		p.picture.from, p.picture.text = tmpl(s.Picture.From, path+".picture.from"), tmpl(s.Picture.Text, path+".picture.text")
		if s.Picture.Chart != nil {
			p.picture.chart = compileChart(s.Picture.Chart, words, path+".picture.chart", problems)
		}
		if s.Picture.Table != nil {
			p.picture.table, p.picture.most = compileTable(s.Picture.Table, words, path+".picture.table", problems), s.Picture.Most
		}
	}
	for i := range s.Mention {
		p.mention = append(p.mention, tmpl(&s.Mention[i], fmt.Sprintf("%s.mention[%d]", path, i)))
	}
	for i := range s.Attach {
		f, at := &s.Attach[i], fmt.Sprintf("%s.attach[%d]", path, i)
		if f.Table == nil {
			one := fileTemplate{from: tmpl(f.From, at+".from")}
			if f.Name.S != "" {
				one.name = tmpl(&f.Name, at+".name")
			}
			p.attach = append(p.attach, one)
			continue
		}
		name := tmpl(&f.Name, at+".name")
		if lower := strings.ToLower(strings.TrimSpace(f.Name.S)); name != nil && !strings.HasSuffix(lower, ".csv") && !strings.HasSuffix(lower, ".xlsx") {
			problems.Add(f.Name.At, at+".name", "", "a table is attached as .csv or .xlsx; the name ends so")
		}
		p.attach = append(p.attach, fileTemplate{name, nil, compileTable(f.Table, words, at+".table", problems)})
	}
	p.buttons = compileButtons(s.Buttons, words, path, problems)
	return p
}

func (p *parts) usesIt() bool {
	list := []*formula.Template{p.sender.name, p.sender.picture, p.picture.from, p.picture.text}
	for _, l := range p.links {
		list = append(list, l.text, l.to)
	}
	list = append(list, p.mention...)
	for i := range p.buttons {
		list = append(list, p.buttons[i].templates()...)
	}
	if c := p.picture.chart; c != nil && (c.of != nil && c.of.UsesIt() || c.title.UsesIt()) {
		return true
	}
	if t := p.picture.table; t != nil && t.of != nil && t.of.UsesIt() {
		return true
	}
	for _, a := range p.attach {
		if list = append(list, a.name, a.from); a.table != nil && a.table.of != nil && a.table.of.UsesIt() {
			return true
		}
	}
	return slices.ContainsFunc(list, (*formula.Template).UsesIt)
}

// UsesIt tells whether the message speaks of the element of a list outside of a list of its own, so that it can be told only
// for each of a list.
func (m *Message) UsesIt() bool {
	list := []*formula.Template{m.title, m.tone}
	for _, f := range m.facts {
		list = append(list, f.label, f.value)
	}
	if m.link != nil {
		list = append(list, m.link.text, m.link.to)
	}
	if l := m.like; l != nil {
		if list = append(list, l.header, l.footer); l.of != nil && l.of.UsesIt() {
			return true
		}
	}
	if m.list != nil {
		if list = append(list, m.list.empty); m.list.of != nil && m.list.of.UsesIt() {
			return true
		}
	}
	return slices.ContainsFunc(list, (*formula.Template).UsesIt) || slices.ContainsFunc(m.chips, (*formula.Formula).UsesIt) || m.parts.usesIt()
}

// Part is a part of a message that not every destination can take.
type Part string

// The parts.
const (
	PartSender  Part = "sender"
	PartPicture Part = "picture"
	PartMention Part = "mention"
	PartAttach  Part = "attach"
	PartButtons Part = "buttons"
)

// Parts lists the parts that the message has.
func (m *Message) Parts() []Part {
	var out []Part
	add := func(has bool, p Part) {
		if has {
			out = append(out, p)
		}
	}
	add(m.parts.sender.name != nil || m.parts.sender.picture != nil, PartSender)
	add(m.parts.picture.from != nil || m.parts.picture.chart != nil || m.parts.picture.table != nil, PartPicture)
	add(len(m.parts.mention) > 0, PartMention)
	add(len(m.parts.attach) > 0, PartAttach)
	add(len(m.parts.buttons) > 0, PartButtons)
	return out
}

// fill fills the parts in.
func (p *parts) fill(d *Document, f *filling) {
	if s := (Sender{Name: f.line("sender", p.sender.name), Picture: f.address("sender", p.sender.picture)}); s.Name != "" || s.Picture != "" {
		d.Sender = &s
	}
	for i, l := range p.links {
		if l := f.link(fmt.Sprintf("links[%d]", i), l); l != nil {
			if l.Share != nil {
				l.Share.N = &i
			}
			d.Links = append(d.Links, *l)
		}
	}
	if pic := pictureIn(f.lying("picture", p.picture.from), cmp.Or(f.line("picture", p.picture.text), d.Title)); pic != nil {
		d.Picture = pic
	}
	if c := p.picture.chart; c != nil && f.err == nil {
		title := f.line("picture.chart.title", c.title)
		chart, err := c.figures(f.sc, f.words, title)
		if f.fail("picture.chart", err); err == nil {
			d.Picture = &Picture{Chart: chart, Text: cmp.Or(f.line("picture", p.picture.text), chart.Words())}
		}
	}
	if t := p.picture.table; t != nil && f.err == nil {
		grid, err := t.grid(f.sc, f.words, p.picture.most, "")
		if f.fail("picture.table", err); err == nil {
			d.Picture = &Picture{Grid: grid, Text: cmp.Or(f.line("picture", p.picture.text), grid.Words())}
		}
	}
	for i, m := range p.mention {
		if m == nil || f.err != nil {
			return
		}
		f.fail(fmt.Sprintf("mention[%d]", i), p.mentioned(d, m, f.sc, f.words))
	}
	for i, a := range p.attach {
		part := fmt.Sprintf("attach[%d]", i)
		said := f.line(part, a.name)
		if a.table == nil {
			list := f.lying(part, a.from)
			if len(list) > 1 {
				said = "" // each has a name of its own
			}
			for _, l := range list {
				if len(d.Attach) < MostFiles {
					d.Attach = append(d.Attach, l.file(said))
				}
			}
			continue
		}
		name := fileName(said)
		if f.err != nil {
			return
		}
		if strings.HasSuffix(strings.ToLower(name), ".xlsx") {
			cells, err := a.table.cells(f.sc, f.words)
			f.fail(part, err)
			d.Attach = append(d.Attach, File{Name: name, Media: Workbook, Cells: cells})
			continue
		}
		data, err := a.table.csv(f.sc, f.words)
		f.fail(part, err)
		d.Attach = append(d.Attach, File{Name: name, Media: "text/csv; charset=utf-8", Data: data})
	}
	for i := range p.buttons {
		d.Buttons = append(d.Buttons, f.button(fmt.Sprintf("buttons[%d]", i), &p.buttons[i]))
	}
}

// plainName takes out of a name what would make a path of it.
func plainName(r rune) rune {
	if r < ' ' || strings.ContainsRune(`/\:*?"<>|`, r) {
		return '-'
	}
	return r
}

// fileName makes a file's name of what a record may have brought: nothing that is a path.
func fileName(s string) string {
	s = strings.TrimSpace(strings.Map(plainName, s))
	if strings.Trim(strings.TrimSuffix(s, ".xlsx"), ".- ") == "" {
		return "table.xlsx"
	}
	if strings.Trim(strings.TrimSuffix(s, ".csv"), ".- ") == "" {
		return "table.csv"
	}
	return s
}

func (p *parts) mentioned(d *Document, t *formula.Template, sc *formula.Scope, words *formula.Words) error {
	add := func(v any) {
		m := words.MentionOf(v, sc.People)
		same := func(o Mentioned) bool { return o.Name == m.Text && o.person == m.Person }
		if m.Text = oneLine(m.Text); m.Text != "" && !slices.ContainsFunc(d.Mentions, same) {
			d.Mentions = append(d.Mentions, Mentioned{Name: m.Text, person: m.Person})
		}
	}
	f := t.Whole()
	if f == nil {
		s, err := t.Text(sc, words)
		add(s)
		return err
	}
	v, err := f.Run(sc)
	if err != nil {
		return err
	}
	list, many := v.([]any)
	if !many {
		list = []any{v}
	}
	for _, e := range list {
		if !value.Empty(e) {
			add(e)
		}
	}
	return nil
}

// For is the document as it goes over one connection: each person who is mentioned has the address there.
func (d *Document) For(connection string) *Document {
	out := *d
	out.Mentions = slices.Clone(d.Mentions)
	for i, m := range out.Mentions {
		if m.person != nil {
			out.Mentions[i].To = m.person.On(connection)
		}
	}
	named := false
	d.each(func(in Inline) { named = named || in.person != nil })
	if named {
		out.Body = mapInlines(d.Body, func(in Inline) []Inline {
			if in.person != nil {
				in.To = in.person.On(connection)
			}
			return []Inline{in}
		})
	}
	return &out
}

// AllLinks are the message's links, its own first.
func (d *Document) AllLinks() []Link {
	var out []Link
	if d.Link != nil && d.Link.To != "" {
		out = append(out, Link{Text: cmp.Or(d.Link.Text, d.Link.To), To: d.Link.To})
	}
	return append(out, d.Links...)
}
