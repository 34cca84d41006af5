package message

import (
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/yuin/goldmark"
	"github.com/yuin/goldmark/ast"
	"github.com/yuin/goldmark/text"

	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/report"
	"dorfbote/internal/core/value"
)

// Spec is a message as written on a sheet.
type Spec struct {
	At    report.Pos
	Name  string
	Title *report.Text
	Body  *report.Text
	Facts []FactSpec
	Tone  *report.Text
	Link  *LinkSpec
	List  *ListSpec
	Like  *LikeSpec // in the place of body, facts and list
	// Grouped is the list of whose groups the message is told for each, "" where there is none.
	Grouped string
	PartsSpec
}

// Texts hands on every text in which formulas may stand.
func (s *Spec) Texts(each func(*report.Text)) {
	for _, t := range []*report.Text{s.Title, s.Body, s.Tone} {
		if t != nil {
			each(t)
		}
	}
	for i := range s.Facts {
		each(&s.Facts[i].Label)
		each(&s.Facts[i].Value)
	}
	if s.List != nil {
		each(&s.List.Each)
		each(&s.List.Of)
		each(&s.List.Empty)
	}
	if s.Link != nil {
		each(&s.Link.Text)
		each(&s.Link.To)
	}
	if s.Like != nil {
		each(&s.Like.Of)
		for _, t := range []*report.Text{s.Like.Header, s.Like.Footer} {
			if t != nil {
				each(t)
			}
		}
	}
	s.texts(each)
}

// FactSpec is a fact as written.
type FactSpec struct{ Label, Value report.Text }

// LinkSpec is a link as written.
type LinkSpec struct {
	Text, To report.Text
	Share    []report.Text // fields that a page of its own shows; to is left out then
	For      time.Duration // how long that page is shown
}

// Message is a compiled message.
type Message struct {
	Name  string
	words *formula.Words
	title *formula.Template
	body  []tblock
	chips []*formula.Formula
	facts []factTemplate
	tone  *formula.Template
	link  *linkTemplate
	list  *listTemplate
	like  *likeTemplate
	parts parts
}

type factTemplate struct{ label, value *formula.Template }
type linkTemplate struct {
	text, to *formula.Template
	share    *shareTemplate
}

// Compile makes a message ready to be filled in. Problems go to the list.
func Compile(s *Spec, words *formula.Words, path string, problems *report.List) *Message {
	if s.Grouped != "" {
		own := *words
		own.Group = schemaOf(words, s.Grouped)
		words = &own
	}
	m := &Message{Name: s.Name, words: words}
	tmpl := func(t *report.Text, path string) *formula.Template {
		if t == nil {
			return nil
		}
		return parse(*t, words, path, problems)
	}
	m.title = tmpl(s.Title, path+".title")
	if body := tmpl(s.Body, path+".body"); body != nil {
		m.readBody(body)
	}
	for i, f := range s.Facts {
		at := fmt.Sprintf("%s.facts[%d]", path, i)
		m.facts = append(m.facts, factTemplate{tmpl(&f.Label, at+".label"), tmpl(&f.Value, at+".value")})
	}
	if m.tone = tmpl(s.Tone, path+".tone"); m.tone != nil && m.tone.Constant() {
		if tone := value.Fold(s.Tone.S); !known(tone) {
			problems.Add(s.Tone.At, path+".tone", value.Nearest(tone, Tones), "there is no tone %s; it is one of %s", s.Tone.S, strings.Join(Tones, ", "))
		}
	}
	if s.Link != nil {
		m.link = &linkTemplate{text: tmpl(&s.Link.Text, path+".link.text"), to: tmpl(&s.Link.To, path+".link.to")}
	}
	if s.List != nil {
		m.list = compileList(s.List, words, path+".list", problems)
	}
	if s.Like != nil {
		m.like = compileLike(s.Like, words, path+".like", problems)
		if s.Body != nil || len(s.Facts) > 0 || s.List != nil {
			problems.Add(s.Like.At, path+".like", "", "like copies a message whole; body, facts and list do not go with it")
		}
	}
	m.parts = compileParts(&s.PartsSpec, words, path, problems)
	if m.title == nil && s.Body == nil && len(s.Facts) == 0 && s.List == nil && s.Like == nil {
		problems.Add(s.At, path, "", "the message is empty; give it a title or a body")
	}
	return m
}

func known(tone string) bool {
	return slices.Contains(Tones, tone)
}

// forgotten finds text that looks like a reference whose markers were forgotten or mistyped.
var forgotten = regexp.MustCompile(`\{\{?\s*(?:record\.)?([A-Za-z_][\w.]*)\s*\}?\}|\$([A-Za-z_][\w.]*)|\[\s*(?:record\.)?([A-Za-z_][\w.]*)\s*\]\(?|<(?:record\.)?([A-Za-z_][\w.]*)>|\brecord\.([A-Za-z_][\w.]*)`)

func parse(t report.Text, words *formula.Words, path string, problems *report.List) *formula.Template {
	tmpl := formula.ReadTemplate(t, words, path, problems)
	if tmpl == nil {
		return nil
	}
	for _, p := range tmpl.Parts() {
		if p.Formula != nil {
			continue
		}
		for _, m := range forgotten.FindAllStringSubmatch(p.Text, -1) {
			name := m[1] + m[2] + m[3] + m[4] + m[5]
			want, ok := reference(name, words)
			if !ok && (words.Schema != nil || m[5] == "") || strings.HasSuffix(m[0], "](") { // that is a link
				continue
			}
			problems.Warn(t.In(len([]rune(t.S[:strings.Index(t.S, m[0])]))), path, want, "%q will be sent as these very words; it looks like a field", m[0])
			problems.Mend(want, path, strings.Replace(t.S, m[0], want, 1))
		}
	}
	return tmpl
}

// A chip's place is kept through the markup reader by its number between two private characters.
const chipOpen, chipClose = "\uE000", "\uE001"

// private takes the characters out of texts that mean something of their own here.
var private = strings.NewReplacer(chipOpen, "", chipClose, "", lineStart, "")

var chipMark = regexp.MustCompile(chipOpen + `(\d+)` + chipClose)

// tblock and tinline are the document's shapes with chips still open in their texts.
type tblock = Block

func (m *Message) readBody(t *formula.Template) {
	var src strings.Builder
	for _, p := range t.Parts() {
		if p.Formula == nil {
			src.WriteString(private.Replace(p.Text))
			continue
		}
		src.WriteString(chipOpen + strconv.Itoa(len(m.chips)) + chipClose)
		m.chips = append(m.chips, p.Formula)
	}
	m.body = ReadMarkdown(src.String())
}

// ReadMarkdown reads CommonMark into blocks. HTML in it is kept as the text it is.
func ReadMarkdown(source string) []Block {
	src := []byte(source)
	root := goldmark.New().Parser().Parse(text.NewReader(src))
	return readBlocks(root, src)
}

func readBlocks(parent ast.Node, src []byte) []Block {
	var out []Block
	for n := parent.FirstChild(); n != nil; n = n.NextSibling() {
		switch x := n.(type) {
		case *ast.Heading:
			out = append(out, Block{Kind: Heading, Level: x.Level, Inlines: readInlines(n, src)})
		case *ast.List:
			b := Block{Kind: ListBlock, Ordered: x.IsOrdered(), Start: x.Start}
			for item := n.FirstChild(); item != nil; item = item.NextSibling() {
				b.Items = append(b.Items, readBlocks(item, src))
			}
			out = append(out, b)
		case *ast.Blockquote:
			out = append(out, Block{Kind: Quote, Blocks: readBlocks(n, src)})
		case *ast.CodeBlock, *ast.FencedCodeBlock:
			out = append(out, Block{Kind: CodeBlock, Code: strings.TrimSuffix(string(n.Lines().Value(src)), "\n")})
		case *ast.HTMLBlock:
			out = append(out, Block{Kind: Paragraph, Inlines: []Inline{{Kind: Text, Text: strings.TrimSpace(string(n.Lines().Value(src)))}}})
		case *ast.ThematicBreak:
			out = append(out, Block{Kind: Rule})
		default:
			if in := readInlines(n, src); len(in) > 0 {
				out = append(out, Block{Kind: Paragraph, Inlines: in})
			}
		}
	}
	return out
}

func readInlines(parent ast.Node, src []byte) []Inline {
	var out []Inline
	add := func(s string) {
		if s == "" {
			return
		}
		if n := len(out); n > 0 && out[n-1].Kind == Text {
			out[n-1].Text += s
		} else {
			out = append(out, Inline{Kind: Text, Text: s})
		}
	}
	for n := parent.FirstChild(); n != nil; n = n.NextSibling() {
		switch x := n.(type) {
		case *ast.Text:
			add(unescape(string(x.Segment.Value(src)), x.IsRaw()))
			if x.SoftLineBreak() || x.HardLineBreak() {
				out = append(out, Inline{Kind: Break})
			}
		case *ast.String:
			add(string(x.Value))
		case *ast.CodeSpan:
			code := ""
			for c := n.FirstChild(); c != nil; c = c.NextSibling() {
				if t, ok := c.(*ast.Text); ok {
					code += string(t.Segment.Value(src))
				}
			}
			out = append(out, Inline{Kind: Code, Text: strings.ReplaceAll(code, "\n", " ")})
		case *ast.Emphasis:
			kind := Emph
			if x.Level == 2 {
				kind = Strong
			}
			out = append(out, Inline{Kind: kind, Subs: readInlines(n, src)})
		case *ast.Link:
			out = append(out, Inline{Kind: Anchor, To: unescape(string(x.Destination), false), Subs: readInlines(n, src)})
		case *ast.AutoLink:
			to := string(x.URL(src))
			if x.AutoLinkType == ast.AutoLinkEmail {
				to = "mailto:" + to
			}
			out = append(out, Inline{Kind: Anchor, To: to, Subs: []Inline{{Kind: Text, Text: string(x.Label(src))}}})
		case *ast.RawHTML:
			add(string(x.Segments.Value(src)))
		case *ast.Image:
			out = append(out, readInlines(n, src)...)
		}
	}
	return out
}

var escape = regexp.MustCompile("\\\\([!-/:-@\\[-`{-~])|&(?:#[0-9]{1,7}|#[xX][0-9a-fA-F]{1,6}|[A-Za-z][A-Za-z0-9]{1,31});")

// unescape takes backslash escapes and character references out, as CommonMark does.
func unescape(s string, raw bool) string {
	if raw {
		return s
	}
	return escape.ReplaceAllStringFunc(s, func(m string) string {
		if m[0] == '\\' {
			return m[1:]
		}
		return entity(m)
	})
}

// SafeAddress gives back an address that may stand in a message: http, https, mailto or tel. Others,
// such as scripts, give "".
func SafeAddress(s string) string {
	s = strings.TrimSpace(s)
	u, err := url.Parse(s)
	if err != nil || strings.ContainsAny(s, "\r\n\t <>\"") {
		return ""
	}
	switch strings.ToLower(u.Scheme) {
	case "http", "https":
		if u.Host == "" {
			return ""
		}
		return s
	case "mailto", "tel":
		return s
	}
	return ""
}

// reference is how a text refers to a name; ok is false where the name is not known.
func reference(name string, words *formula.Words) (ref string, ok bool) {
	first, rest, _ := strings.Cut(name, ".")
	for _, g := range words.Gathered {
		if g.Name != first {
			continue
		}
		_, _, known := g.Schema.Find(value.ParsePath(rest))
		return "${" + name + "}", rest == "" || g.Schema == nil || known
	}
	_, _, ok = words.Schema.Find(value.ParsePath(name))
	return "${record." + name + "}", ok
}
