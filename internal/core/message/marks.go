package message

import (
	"encoding/json"
	"fmt"
	"html"
	"strings"
	"unicode"

	"dorfbote/internal/core/fault"
)

// Escaping is how the other side has a sign stand for itself.
type Escaping string

// The ways.
const (
	Backslash Escaping = "backslash" // \* stands for *
	Entities  Escaping = "entities"  // &#42; stands for *
	Wide      Escaping = "wide"      // there is no way: a sign that marks use is written in its wide form, as ＊
)

// Marks is how another side writes bold, links and the like, as a small table. A pair is an opening and a closing mark.
type Marks struct {
	Bold    [2]string `json:"bold"`
	Italic  [2]string `json:"italic"`
	Code    [2]string `json:"code"`
	Link    string    `json:"link"`    // with {text} and {to}
	Mention string    `json:"mention"` // with {to}, and {text} where it likes; "" names persons
	List    string    `json:"list"`    // stands before each line of a list
	Quote   string    `json:"quote"`   // stands before each line of a quote
	Line    string    `json:"line"`    // ends a line; "" is a line feed
	Escape  Escaping  `json:"escape"`
}

// ReadMarks reads a table as JSON. The error is a [*fault.Fault] whose place is the mark.
func ReadMarks(text string) (*Marks, error) {
	var m Marks
	dec := json.NewDecoder(strings.NewReader(text))
	dec.DisallowUnknownFields()
	if err := dec.Decode(&m); err != nil {
		return nil, fmt.Errorf("the marks cannot be read: %w", err)
	}
	if m.Line == "" {
		m.Line = "\n"
	}
	switch m.Escape {
	case Backslash, Entities, Wide:
	case "":
		m.Escape = Wide
	default:
		return nil, fault.At("escape", "it is backslash, entities or wide, not %q", string(m.Escape))
	}
	for _, p := range m.pairs() {
		if p.open == "" && p.end == "" {
			continue
		}
		if !signed(p.open) || !signed(p.end) {
			return nil, fault.At(p.name, "a mark holds a sign of punctuation, such as * or [b], so that it can be told from text; and it has an end")
		}
	}
	if m.Link != "" && (!strings.Contains(m.Link, "{text}") || !strings.Contains(m.Link, "{to}") || !signed(m.Link)) {
		return nil, fault.At("link", "a link is written with {text} and {to}, such as [{text}]({to})")
	}
	if m.Mention != "" && (!strings.Contains(m.Mention, "{to}") || !signed(m.Mention)) {
		return nil, fault.At("mention", "a mention is written with {to}, such as <@{to}>")
	}
	for name, s := range map[string]string{"list": m.List, "quote": m.Quote} {
		if s != "" && (bareRune([]rune(s)[0]) || strings.ContainsAny(s, "\r\n")) { // a text that begins with a letter could not stand for itself
			return nil, fault.At(name, "what stands before a line begins with a sign, such as - or >")
		}
	}
	if len(m.Line) > 20 || strings.TrimSpace(strings.Trim(m.Line, "\r\n")) != "" && !signed(m.Line) {
		return nil, fault.At("line", "a line ends with a line feed, or with a mark such as <br>")
	}
	return &m, nil
}

// bareRune tells whether a character may begin any text.
func bareRune(r rune) bool { return unicode.IsSpace(r) || unicode.IsLetter(r) || unicode.IsDigit(r) }

type pair struct{ name, open, end string }

func (m *Marks) pairs() []pair {
	return []pair{{"bold", m.Bold[0], m.Bold[1]}, {"italic", m.Italic[0], m.Italic[1]}, {"code", m.Code[0], m.Code[1]}}
}

// around is what stands around the places of a link or a mention.
func around(pattern string) string {
	return strings.NewReplacer("{text}", "", "{to}", "").Replace(pattern)
}

func sign(r rune) bool { return r > ' ' && r < 0x7F && !unicode.IsLetter(r) && !unicode.IsDigit(r) }

func signed(mark string) bool { return strings.IndexFunc(around(mark), sign) >= 0 }

// signs are those that mean something anywhere in a text, and those that do at the beginning of a line.
func (m *Marks) signs() (anywhere, first string) {
	all := around(m.Link) + around(m.Mention) + strings.Trim(m.Line, "\r\n")
	for _, p := range m.pairs() {
		all += p.open + p.end
	}
	switch m.Escape {
	case Backslash:
		all += `\`
	case Entities:
		all += "&<>"
	}
	return strings.Map(func(r rune) rune {
		if sign(r) {
			return r
		}
		return -1
	}, all), firstOf(m.List) + firstOf(m.Quote)
}

func firstOf(s string) string {
	for _, r := range s {
		return string(r)
	}
	return ""
}

// writer writes documents by a table of marks.
type writer struct {
	m               *Marks
	anywhere, first string
}

func (m *Marks) writer() *writer {
	w := &writer{m: m}
	w.anywhere, w.first = m.signs()
	return w
}

// Write writes the body of a document. A record's text is only text in it, whatever it holds.
func (m *Marks) Write(d *Document) string {
	return m.writer().blocks(d.Body)
}

// Text writes one text, such as a title.
func (m *Marks) Text(s string) string {
	return m.writer().text(s)
}

func (w *writer) escaped(r rune) string {
	switch {
	case w.m.Escape == Backslash && r < 0x80:
		return `\` + string(r)
	case w.m.Escape == Entities:
		if s := html.EscapeString(string(r)); s != string(r) {
			return s
		}
		return fmt.Sprintf("&#%d;", r)
	}
	return wide(r)
}

// wide is a sign in its wide form, which no mark is made of.
func wide(r rune) string {
	if r > ' ' && r < 0x7F {
		return string(r - '!' + '！')
	}
	return string(r)
}

// text writes a text that is only text. Its lines end as the other side has them end.
func (w *writer) text(s string) string {
	var b strings.Builder
	start := true
	for _, r := range strings.NewReplacer("\r\n", "\n", "\r", "\n").Replace(s) {
		switch {
		case r == '\n':
			b.WriteString(w.m.Line)
			start = true
			continue
		case r < ' ':
			r = ' '
		}
		if strings.ContainsRune(w.anywhere, r) || start && strings.ContainsRune(w.first, r) {
			b.WriteString(w.escaped(r))
		} else {
			b.WriteRune(r)
		}
		start = start && r == ' '
	}
	return b.String()
}

// code writes text between the marks of code, within which nothing is escaped: signs of marks are written in their wide form.
func (w *writer) code(s string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r == '\n' || r == '\r' || r == '\t':
			return ' '
		case strings.ContainsRune(w.anywhere, r):
			return []rune(wide(r))[0]
		}
		return r
	}, s)
}

// address writes an address within a link: a sign of marks in it, which might end the link, is written by its number.
func (w *writer) address(to string) string {
	signs := w.anywhere
	var b strings.Builder
	for i := range len(to) {
		if c := to[i]; c <= ' ' || strings.IndexByte(signs, c) >= 0 && strings.IndexByte(":/?&=#%.-", c) < 0 {
			fmt.Fprintf(&b, "%%%02X", c)
		} else {
			b.WriteByte(c)
		}
	}
	return b.String()
}

func (w *writer) inlines(list []Inline) string {
	var b strings.Builder
	for _, in := range list {
		switch in.Kind {
		case Text:
			b.WriteString(w.text(in.Text))
		case Break:
			b.WriteString(w.m.Line)
		case Code:
			b.WriteString(w.m.Code[0] + w.code(in.Text) + w.m.Code[1])
		case Strong:
			b.WriteString(w.wrap(w.m.Bold, in.Subs))
		case Emph:
			b.WriteString(w.wrap(w.m.Italic, in.Subs))
		case Anchor:
			b.WriteString(w.link(w.inlines(in.Subs), in.To))
		case MentionInline:
			b.WriteString(w.mention(in.Text, in.To))
		}
	}
	return b.String()
}

func (w *writer) link(text, to string) string {
	if w.m.Link == "" {
		if text == w.text(to) {
			return w.text(to)
		}
		return text + " (" + w.text(to) + ")"
	}
	return strings.NewReplacer("{text}", text, "{to}", w.address(to)).Replace(w.m.Link)
}

func (w *writer) mention(name, to string) string {
	if w.m.Mention == "" || to == "" {
		return w.text(name)
	}
	return strings.NewReplacer("{text}", w.text(name), "{to}", w.code(to)).Replace(w.m.Mention)
}

// MentionOf writes a mention of a person, "" where the table has none.
func (m *Marks) MentionOf(p Mentioned) string {
	return m.writer().mention(p.Name, p.To)
}

// wrap puts marks around text, with the blanks at its ends outside, where marks would not hold.
func (w *writer) wrap(marks [2]string, subs []Inline) string {
	inner := w.inlines(subs)
	core := strings.TrimSpace(inner)
	if core == "" || marks[0] == "" {
		return inner
	}
	head, tail, _ := strings.Cut(inner, core)
	return head + marks[0] + core + marks[1] + tail
}

func (w *writer) blocks(blocks []Block) string {
	parts := make([]string, 0, len(blocks))
	for _, bl := range blocks {
		switch bl.Kind {
		case Heading:
			parts = append(parts, w.wrap(w.m.Bold, bl.Inlines))
		case ListBlock:
			lines := make([]string, 0, len(bl.Items))
			for i, item := range bl.Items {
				mark := w.m.List
				if bl.Ordered {
					mark = w.text(fmt.Sprintf("%d. ", bl.Start+i))
				}
				lines = append(lines, mark+w.blocks(item))
			}
			parts = append(parts, strings.Join(lines, w.m.Line))
		case Quote:
			parts = append(parts, w.m.Quote+strings.ReplaceAll(w.blocks(bl.Blocks), w.m.Line, w.m.Line+w.m.Quote))
		case CodeBlock:
			lines := strings.Split(bl.Code, "\n")
			for i := range lines {
				lines[i] = w.m.Code[0] + w.code(lines[i]) + w.m.Code[1]
			}
			parts = append(parts, strings.Join(lines, w.m.Line))
		case Rule:
		default:
			parts = append(parts, w.inlines(bl.Inlines))
		}
	}
	return strings.Join(parts, w.m.Line+w.m.Line)
}
