package message

import (
	"fmt"
	"html"
	"net/url"
	"slices"
	"sort"
	"strings"
	"unicode"
	"unicode/utf16"
	"unicode/utf8"
)

// Dialect is what a kind of destination takes.
type Dialect string

// The dialects.
const (
	Rich  Dialect = "rich"  // CommonMark with facts, a tone and a link of their own: team chat
	Plain Dialect = "plain" // text of limited length
	Light Dialect = "light" // text of limited length with the marks of XEP-0393
	Mail  Dialect = "mail"  // a subject, and HTML beside plain text
	Short Dialect = "short" // a text message to a phone
)

// Dialects lists them in the order in which they are offered.
var Dialects = []Dialect{Rich, Light, Plain, Mail, Short}

// How long messages may be, in characters; and a text message in parts.
const (
	plainLimit   = 1000
	subjectLimit = 150
	shortParts   = 3
)

// Rendered is a message as a kind of destination gets it.
type Rendered struct {
	Dialect Dialect `json:"dialect"`
	Subject string  `json:"subject,omitempty"` // mail
	Text    string  `json:"text"`              // CommonMark of a rich message, else plain text
	HTML    string  `json:"html,omitempty"`    // mail
	Parts   int     `json:"parts,omitempty"`   // of a text message
	// Lost says in plain words what does not get there, or is shortened.
	Lost []string `json:"lost"`
}

// Render writes a document in a dialect. Whatever its texts hold, they are text there too.
func Render(d *Document, to Dialect) Rendered {
	r := Rendered{Dialect: to, Lost: []string{}}
	switch to {
	case Plain:
		r.Lost = d.flattened()
		r.Text = cut(d.allPlain(), plainLimit, &r, "characters")
	case Light:
		r.Text = d.allOf(onlyLines, WriteStyling)
		if utf8.RuneCountInString(r.Text) > plainLimit { // what is cut off could be the end of a mark
			r = Render(d, Plain)
			r.Dialect = Light
			return r
		}
		r.Lost = slices.DeleteFunc(d.flattened(), func(s string) bool { return s == marksAreLost })
	case Mail:
		r.Subject = cut(OneLine(d.Title), subjectLimit, &r, "characters of its subject")
		if r.Subject == "" {
			r.Subject = cut(OneLine(d.Plain()), 80, &Rendered{}, "")
		}
		r.Text, r.HTML = d.allPlain(), d.html()
	case Short:
		d.short(&r)
	default:
		r.Text = d.Markdown()
	}
	return r
}

const marksAreLost = "bold, italics and headings are plain"

// flattened says what plain text has no way to show.
func (d *Document) flattened() []string {
	lost := []string{}
	marks, links := 0, 0
	d.each(func(in Inline) {
		switch in.Kind {
		case Strong, Emph, Code:
			marks++
		case Anchor:
			links++
		}
	})
	if marks > 0 || slices.ContainsFunc(d.Body, func(b Block) bool { return b.Kind == Heading || b.Kind == Quote }) {
		lost = append(lost, marksAreLost)
	}
	if links > 0 || len(d.AllLinks()) > 0 {
		lost = append(lost, "links are written out")
	}
	if d.Tone != "" && d.Tone != "plain" {
		lost = append(lost, "the tone is not shown")
	}
	return lost
}

func (d *Document) each(see func(Inline)) {
	var inlines func(list []Inline)
	inlines = func(list []Inline) {
		for _, in := range list {
			see(in)
			inlines(in.Subs)
		}
	}
	var blocks func(list []Block)
	blocks = func(list []Block) {
		for _, b := range list {
			inlines(b.Inlines)
			blocks(b.Blocks)
			for _, item := range b.Items {
				blocks(item)
			}
		}
	}
	blocks(d.Body)
}

// allPlain is the whole message as plain text.
func (d *Document) allPlain() string {
	return d.allOf(func(s string) string { return s }, func(blocks []Block) string { return plainBlocks(written(blocks)) })
}

// onlyLines writes a text so that none of its signs is a mark of XEP-0393.
func onlyLines(s string) string {
	return strings.Join(spansLines([]Inline{{Kind: Text, Text: s}}), "\n")
}

// allOf is the whole message, with its texts and its body as they are written.
func (d *Document) allOf(text func(string) string, body func([]Block) string) string {
	var parts []string
	add := func(s string) {
		if s = strings.TrimSpace(s); s != "" {
			parts = append(parts, s)
		}
	}
	add(text(d.Title))
	add(body(d.Body))
	facts := make([]string, len(d.Facts))
	for i, f := range d.Facts {
		facts[i] = text(f.Label + ": " + f.Value)
	}
	add(strings.Join(facts, "\n"))
	for _, l := range d.AllLinks() {
		add(strings.TrimPrefix(l.Text+": "+l.To, l.To+": "))
	}
	return strings.Join(parts, "\n\n")
}

// written puts the addresses of links behind their texts.
func written(blocks []Block) []Block {
	return mapInlines(blocks, func(in Inline) []Inline {
		if in.Kind == Anchor && plainInlines(in.Subs) != in.To {
			return []Inline{in, {Kind: Text, Text: " (" + in.To + ")"}}
		}
		return []Inline{in}
	})
}

// mapInlines gives the blocks with something else in the place of each piece of a line, those within it first.
func mapInlines(blocks []Block, to func(Inline) []Inline) []Block {
	var inlines func(list []Inline) []Inline
	inlines = func(list []Inline) []Inline {
		out := make([]Inline, 0, len(list))
		for _, in := range list {
			in.Subs = inlines(in.Subs)
			out = append(out, to(in)...)
		}
		return out
	}
	out := make([]Block, len(blocks))
	for i, b := range blocks {
		b.Inlines, b.Blocks = inlines(b.Inlines), mapInlines(b.Blocks, to)
		items := make([][]Block, len(b.Items))
		for j, item := range b.Items {
			items[j] = mapInlines(item, to)
		}
		b.Items, out[i] = items, b
		out[i] = b
	}
	return out
}

// OneLine is a text on one line, without what no line shows: control characters, and those that turn the order of what is read around.
func OneLine(s string) string {
	return strings.Join(strings.Fields(strings.Map(func(r rune) rune {
		switch {
		case unicode.IsSpace(r):
			return ' '
		case unicode.IsControl(r), r >= 0x202A && r <= 0x202E, r >= 0x2066 && r <= 0x2069, r == 0x200E, r == 0x200F, r == 0x061C:
			return -1
		}
		return r
	}, s)), " ")
}

// cut shortens text to so many characters, and says so.
func cut(s string, limit int, r *Rendered, of string) string {
	n := utf8.RuneCountInString(s)
	if n <= limit {
		return s
	}
	r.Lost = append(r.Lost, fmt.Sprintf("shortened: %d of %d %s are left out", n-limit+1, n, of))
	return strings.TrimSpace(string([]rune(s)[:limit-1])) + "…"
}

// gsm is what a text message holds 160 of; with any other character it holds 70.
const gsm = "@£$¥èéùìòÇ\nØø\rÅåΔ_ΦΓΛΩΠΨΣΘΞÆæßÉ !\"#¤%&'()*+,-./0123456789:;<=>?¡ABCDEFGHIJKLMNOPQRSTUVWXYZÄÖÑÜ§¿abcdefghijklmnopqrstuvwxyzäöñüà"

// Parts counts the parts that a text message is sent in: one of 160 characters of GSM 03.38, or of 153 each where there are
// several; with any other character 70, or 67 each (UCS-2, in which a character beyond the basic plane counts for two). A few
// signs of GSM 03.38 count for two, too.
func Parts(text string) int {
	if text == "" {
		return 0
	}
	n, one, part := 0, 160, 153
	for _, c := range text {
		switch {
		case strings.ContainsRune(gsm, c):
			n++
		case strings.ContainsRune(gsmTwo, c):
			n += 2
		default:
			one, part = 70, 67
		}
	}
	if one == 70 {
		n = len(utf16.Encode([]rune(text)))
	}
	if n <= one {
		return 1
	}
	return (n + part - 1) / part
}

// gsmTwo are the characters of the extension table, which take two.
const gsmTwo = "^{}\\[~]|€\f"

// short writes a text message: the title, the text, the facts, as much as fits, and the link.
func (d *Document) short(r *Rendered) {
	r.Lost = d.flattened()
	var words []string
	for _, s := range []string{d.Title, d.Plain()} {
		if s = OneLine(s); s != "" {
			words = append(words, s)
		}
	}
	text := strings.ReplaceAll(strings.Join(words, ": "), "• ", "- ") // which a phone counts as one of the 160
	for _, f := range d.Facts {
		text += ". " + OneLine(f.Label+" "+f.Value)
	}
	link := ""
	if d.Link != nil && d.Link.To != "" {
		link = " " + d.Link.To
	}
	if Parts(text+link) > shortParts && Parts(link) >= shortParts { // the link alone is too long to send along
		r.Lost = append(r.Lost, "the link is left out, since it is too long")
		link = ""
	}
	if Parts(text+link) > shortParts {
		text = fitting(text, link, r)
	}
	r.Text = text + link
	r.Parts = Parts(r.Text)
}

// fitting shortens a text so that it fits with its link, and says so.
func fitting(text, link string, r *Rendered) string {
	runes := []rune(text)
	end := "…"
	if !strings.ContainsFunc(text+link, func(c rune) bool { return !strings.ContainsRune(gsm+gsmTwo, c) }) {
		end = "..." // that one sign would have all of it written in the longer letters
	}
	n := sort.Search(len(runes), func(n int) bool { return Parts(strings.TrimSpace(string(runes[:n]))+end+link) > shortParts })
	n = max(n-1, 0)
	r.Lost = append(r.Lost, fmt.Sprintf("shortened: %d of %d characters are left out", len(runes)-n, len(runes)))
	return strings.TrimSpace(string(runes[:n])) + end
}

// html writes the body of a mail.
func (d *Document) html() string {
	var b strings.Builder
	if d.Title != "" {
		fmt.Fprintf(&b, "<h1>%s</h1>\n", html.EscapeString(d.Title))
	}
	htmlBlocks(&b, d.Body)
	if len(d.Facts) > 0 {
		b.WriteString("<table>\n")
		for _, f := range d.Facts {
			fmt.Fprintf(&b, "<tr><th>%s</th><td>%s</td></tr>\n", html.EscapeString(f.Label), html.EscapeString(f.Value))
		}
		b.WriteString("</table>\n")
	}
	for _, l := range d.AllLinks() {
		b.WriteString("<p>" + htmlLink(l.To, html.EscapeString(l.Text)) + "</p>\n")
	}
	return b.String()
}

// HTMLBody writes the body alone as HTML.
func (d *Document) HTMLBody() string {
	var b strings.Builder
	htmlBlocks(&b, d.Body)
	return strings.TrimSpace(b.String())
}

// EscapeHTML writes text so that HTML shows it as it is.
func EscapeHTML(s string) string { return html.EscapeString(s) }

func htmlLink(to, inner string) string {
	u, err := url.Parse(to)
	if err != nil || !slices.Contains([]string{"http", "https", "mailto", "tel"}, u.Scheme) {
		return inner
	}
	return `<a href="` + html.EscapeString(to) + `">` + inner + `</a>`
}

func htmlBlocks(b *strings.Builder, blocks []Block) {
	for _, bl := range blocks {
		switch bl.Kind {
		case Heading:
			level := min(bl.Level+1, 6)
			fmt.Fprintf(b, "<h%d>%s</h%d>\n", level, htmlInlines(bl.Inlines), level)
		case ListBlock:
			open, end := "<ul>", "</ul>"
			if bl.Ordered {
				open, end = fmt.Sprintf(`<ol start="%d">`, bl.Start), "</ol>"
			}
			b.WriteString(open + "\n")
			for _, item := range bl.Items {
				b.WriteString("<li>")
				if len(item) == 1 && item[0].Kind == Paragraph {
					b.WriteString(htmlInlines(item[0].Inlines))
				} else {
					htmlBlocks(b, item)
				}
				b.WriteString("</li>\n")
			}
			b.WriteString(end + "\n")
		case Quote:
			b.WriteString("<blockquote>\n")
			htmlBlocks(b, bl.Blocks)
			b.WriteString("</blockquote>\n")
		case CodeBlock:
			fmt.Fprintf(b, "<pre>%s</pre>\n", html.EscapeString(bl.Code))
		case Rule:
			b.WriteString("<hr>\n")
		default:
			fmt.Fprintf(b, "<p>%s</p>\n", htmlInlines(bl.Inlines))
		}
	}
}

func htmlInlines(list []Inline) string {
	var b strings.Builder
	for _, in := range list {
		inner := html.EscapeString(in.Text) + htmlInlines(in.Subs)
		switch in.Kind {
		case Strong:
			inner = "<strong>" + inner + "</strong>"
		case Emph:
			inner = "<em>" + inner + "</em>"
		case Code:
			inner = "<code>" + inner + "</code>"
		case Anchor:
			inner = htmlLink(in.To, inner)
		case Break:
			inner = "<br>"
		}
		b.WriteString(inner)
	}
	return b.String()
}
