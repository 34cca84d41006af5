package message

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"
)

// How a record says by what marks its text was written, in the field [TextMarks], where that is not CommonMark.
const (
	TextMarks = "text_marks"
	Styling   = "XEP-0393" // message styling: *bold*, _italics_, `code`, > quotes
	Unmarked  = "none"     // its signs are only signs
)

// ReadMarked reads a text by the marks that it was written in; CommonMark where marks names no others.
func ReadMarked(text, marks string) []Block {
	switch marks {
	case Styling:
		return ReadStyling(text)
	case Unmarked:
		return []Block{TextBlock(text)}
	}
	return ReadMarkdown(text)
}

// signsOfStyling are those of which spans are made: [Document] knows no struck text, which stays as it was written.
const signsOfStyling = "*_~`"

// deepestQuote bounds quotes within quotes.
const deepestQuote = 8

var (
	listed = regexp.MustCompile(`^(?:([-*•])|([0-9]{1,9})[.)])[ \t]+(\S.*)$`)
	bare   = regexp.MustCompile(`https?://[^\s<>"]+`)
)

// ReadStyling reads a text that is marked by XEP-0393. Lists and links, of which it knows nothing, are read as people write them.
func ReadStyling(source string) []Block {
	return styledBlocks(strings.Split(strings.NewReplacer("\r\n", "\n", "\r", "\n").Replace(source), "\n"), 0)
}

func styledBlocks(lines []string, deep int) []Block {
	var out []Block
	var said []Inline // of the paragraph that is being read
	end := func() {
		if len(said) > 0 {
			out = append(out, Block{Kind: Paragraph, Inlines: said})
		}
		said = nil
	}
	for i := 0; i < len(lines); i++ {
		line := lines[i]
		switch m := listed.FindStringSubmatch(line); {
		case strings.TrimSpace(line) == "":
			end()
		case strings.HasPrefix(line, "```"):
			end()
			from := i + 1
			for i++; i < len(lines) && strings.TrimRight(lines[i], " \t") != "```"; i++ {
			}
			out = append(out, Block{Kind: CodeBlock, Code: strings.Join(lines[min(from, len(lines)):min(i, len(lines))], "\n")})
		case line[0] == '>' && deep < deepestQuote:
			end()
			var quoted []string
			for ; i < len(lines) && strings.HasPrefix(lines[i], ">"); i++ {
				quoted = append(quoted, strings.TrimPrefix(lines[i][1:], " "))
			}
			i--
			if within := styledBlocks(quoted, deep+1); len(within) > 0 {
				out = append(out, Block{Kind: Quote, Blocks: within})
			} else {
				out = append(out, TextBlock(line))
			}
		case m != nil:
			end()
			item := [][]Block{{{Kind: Paragraph, Inlines: styledSpans(m[3])}}}
			if n := len(out); n > 0 && i > 0 && listed.MatchString(lines[i-1]) && out[n-1].Kind == ListBlock && out[n-1].Ordered == (m[1] == "") {
				out[n-1].Items = append(out[n-1].Items, item...)
				continue
			}
			b := Block{Kind: ListBlock, Ordered: m[1] == "", Items: item}
			if b.Ordered {
				b.Start, _ = strconv.Atoi(m[2])
			}
			out = append(out, b)
		default:
			if len(said) > 0 {
				said = append(said, Inline{Kind: Break})
			}
			said = append(said, styledSpans(line)...)
		}
	}
	end()
	return out
}

// styledSpans reads the spans of a line.
func styledSpans(line string) []Inline {
	var out []Inline
	runes, from := []rune(line), 0
	last := lastEnds(runes)
	for i := 0; i < len(runes); i++ {
		j := spanEnd(runes, i, last)
		if j < 0 || runes[i] == '~' {
			continue
		}
		out = append(out, linked(string(runes[from:i]))...)
		inner := string(runes[i+1 : j])
		switch runes[i] {
		case '`':
			out = append(out, Inline{Kind: Code, Text: inner})
		case '*':
			out = append(out, Inline{Kind: Strong, Subs: styledSpans(inner)})
		default:
			out = append(out, Inline{Kind: Emph, Subs: styledSpans(inner)})
		}
		i, from = j, j+1
	}
	return append(out, linked(string(runes[from:]))...)
}

// spanEnd gives where the span ends that begins at a place of a line; -1 where none does. Its mark stands at the beginning, behind a blank, or
// right behind another that begins a span, the inside of which [styledSpans] reads as a line of its own. last is [lastEnds] of the line.
func spanEnd(line []rune, at int, last map[rune]int) int {
	c := line[at]
	if last[c] < at+2 {
		return -1
	}
	if !strings.ContainsRune(signsOfStyling, c) || at > 0 && !unicode.IsSpace(line[at-1]) || at+1 >= len(line) || unicode.IsSpace(line[at+1]) || line[at+1] == c {
		return -1
	}
	for j := at + 2; j < len(line); j++ {
		if line[j] == c && !unicode.IsSpace(line[j-1]) {
			return j
		}
	}
	return -1
}

// lastEnds gives where on a line each sign stands last so that it may end a span. With it, looking for ends takes no longer than the line.
func lastEnds(line []rune) map[rune]int {
	last := map[rune]int{}
	for i := 1; i < len(line); i++ {
		if strings.ContainsRune(signsOfStyling, line[i]) && !unicode.IsSpace(line[i-1]) {
			last[line[i]] = i
		}
	}
	return last
}

// linked makes links of the addresses in a text.
func linked(text string) (out []Inline) {
	for text != "" {
		m := bare.FindStringIndex(text)
		if m == nil {
			return append(out, Inline{Kind: Text, Text: text})
		}
		to := strings.TrimRight(text[m[0]:m[1]], ".,;:!?'")
		for strings.HasSuffix(to, ")") && strings.Count(to, ")") > strings.Count(to, "(") {
			to = strings.TrimRight(to[:len(to)-1], ".,;:!?'")
		}
		if m[0] > 0 {
			out = append(out, Inline{Kind: Text, Text: text[:m[0]]})
		}
		out = append(out, Inline{Kind: Anchor, To: to, Subs: []Inline{{Kind: Text, Text: to}}})
		text = text[m[0]+len(to):]
	}
	return out
}

// WriteStyling writes blocks marked by XEP-0393. It knows no escaping: where a text's own sign would mark something, it stands in its wide
// form, as ＊, so that a text is only text there, too.
func WriteStyling(blocks []Block) string { return strings.Join(styledLines(written(blocks)), "\n") }

func styledLines(blocks []Block) []string {
	var out []string
	for i, b := range blocks {
		if i > 0 {
			out = append(out, "")
		}
		switch b.Kind {
		case Heading:
			out = append(out, spansLines([]Inline{{Kind: Strong, Subs: b.Inlines}})...)
		case ListBlock:
			for n, item := range b.Items {
				mark := "• "
				if b.Ordered {
					mark = fmt.Sprintf("%d. ", b.Start+n)
				}
				for k, line := range styledLines(item) {
					if k > 0 {
						mark = "  "
					}
					out = append(out, strings.TrimRight(mark+line, " "))
				}
			}
		case Quote:
			for _, line := range styledLines(b.Blocks) {
				out = append(out, strings.TrimRight("> "+line, " "))
			}
		case CodeBlock:
			out = append(out, "```")
			for line := range strings.SplitSeq(b.Code, "\n") {
				if strings.TrimRight(line, " \t") == "```" {
					line = wideOf(line)
				}
				out = append(out, line)
			}
			out = append(out, "```")
		case Rule:
			if i > 0 {
				out = out[:len(out)-1]
			}
		default:
			out = append(out, spansLines(b.Inlines)...)
		}
	}
	return out
}

func wideOf(s string) string {
	return strings.Map(func(r rune) rune { return []rune(wide(r))[0] }, s)
}

// run is a piece of a line that is marked in one way.
type run struct {
	text  string
	marks string // of *, _ and `, the outermost first
}

// runs takes what stands within a paragraph apart into lines of runs.
func runs(list []Inline, marks string, lines [][]run) [][]run {
	add := func(text, marks string) {
		for i, part := range strings.Split(text, "\n") {
			if i > 0 {
				lines = append(lines, nil)
			}
			last := &lines[len(lines)-1]
			if n := len(*last); n > 0 && (*last)[n-1].marks == marks {
				(*last)[n-1].text += part
			} else if part != "" {
				*last = append(*last, run{part, marks})
			}
		}
	}
	with := func(mark string) string {
		if strings.Contains(marks, mark) {
			return marks
		}
		return marks + mark
	}
	for _, in := range list {
		switch in.Kind {
		case Break:
			lines = append(lines, nil)
		case Code:
			add(strings.ReplaceAll(in.Text, "\n", " "), with("`"))
		case Strong:
			lines = runs(in.Subs, with("*"), lines)
		case Emph:
			lines = runs(in.Subs, with("_"), lines)
		case Anchor:
			lines = runs(in.Subs, marks, lines)
		default:
			add(strings.NewReplacer("\r\n", "\n", "\r", "\n").Replace(in.Text), marks)
		}
	}
	return lines
}

// spansLines writes the lines of a paragraph.
func spansLines(list []Inline) []string {
	lines := runs(list, "", [][]run{nil})
	out := make([]string, len(lines))
	for i, line := range lines {
		out[i] = styledLine(line)
	}
	return out
}

// glyph is a character of a line: own where it stands for itself.
type glyph struct {
	r    rune
	own  bool
	code bool // within code, where nothing is read
}

// lineWriter writes the runs of a line one after the other. A span stays open as long as its runs have its mark.
type lineWriter struct {
	out   []glyph
	open  []glyph // the marks that are open, the outermost first; own is true of one that would not have held, and was not written
	blank string  // what stands between what was written and what follows
}

func styledLine(line []run) string {
	var w lineWriter
	for _, r := range line {
		text := strings.TrimSpace(r.text)
		if text == "" {
			w.blank += r.text
			continue
		}
		head, tail, _ := strings.Cut(r.text, text)
		marks := []rune(r.marks)
		shared := 0
		for shared < min(len(marks), len(w.open)) && w.open[shared].r == marks[shared] {
			shared++
		}
		w.close(shared)
		w.put(w.blank + head)
		w.blank = tail
		for _, m := range marks[shared:] {
			n := len(w.out)
			holds := n == 0 || unicode.IsSpace(w.out[n-1].r) || len(w.open) > 0 && w.out[n-1] == w.open[len(w.open)-1]
			w.open = append(w.open, glyph{r: m, own: !holds})
			if holds {
				w.out = append(w.out, glyph{r: m})
			}
		}
		w.put(text)
	}
	w.close(0)
	w.put(w.blank)
	return onlyText(w.out)
}

// close ends all but so many of the open spans.
func (w *lineWriter) close(but int) {
	for _, m := range slices.Backward(w.open[but:]) {
		if !m.own {
			w.out = append(w.out, m)
		}
	}
	w.open = w.open[:but]
}

// put writes a text. A sign that would end a span before its time stands in its wide form.
func (w *lineWriter) put(s string) {
	code := slices.Contains(w.open, glyph{r: '`'})
	for _, r := range s {
		if slices.Contains(w.open, glyph{r: r}) {
			r = []rune(wide(r))[0]
		}
		w.out = append(w.out, glyph{r: r, own: true, code: code})
	}
}

// onlyText has every sign that is a text's own, and would be read as a mark, in its wide form.
func onlyText(glyphs []glyph) string {
	runes := make([]rune, len(glyphs))
	for i, c := range glyphs {
		runes[i] = c.r
	}
	last := lastEnds(runes)
	for i, c := range glyphs {
		if !c.own || c.code {
			continue
		}
		begins := i == 0 || unicode.IsSpace(runes[i-1]) || strings.ContainsRune(signsOfStyling, runes[i-1])
		ends := i+1 < len(runes) && !unicode.IsSpace(runes[i+1]) && last[c.r] > i+1
		if strings.ContainsRune(signsOfStyling, c.r) && begins && ends || i == 0 && c.r == '>' || i == 0 && strings.HasPrefix(string(runes[:min(3, len(runes))]), "```") {
			runes[i] = []rune(wide(c.r))[0]
		}
	}
	return string(runes)
}
