package message

import (
	"fmt"
	"strings"
)

// Plain is the body's text with markup taken away.
func (d *Document) Plain() string { return plainBlocks(d.Body) }

func plainBlocks(blocks []Block) string {
	parts := make([]string, 0, len(blocks))
	for _, b := range blocks {
		switch b.Kind {
		case ListBlock:
			lines := make([]string, 0, len(b.Items))
			for i, item := range b.Items {
				mark := "• "
				if b.Ordered {
					mark = fmt.Sprintf("%d. ", b.Start+i)
				}
				lines = append(lines, mark+strings.ReplaceAll(plainBlocks(item), "\n", "\n  "))
			}
			parts = append(parts, strings.Join(lines, "\n"))
		case Quote:
			parts = append(parts, plainBlocks(b.Blocks))
		case CodeBlock:
			parts = append(parts, b.Code)
		case Rule:
		default:
			parts = append(parts, strings.TrimSpace(plainInlines(b.Inlines)))
		}
	}
	return strings.Join(parts, "\n\n")
}

func plainInlines(in []Inline) string {
	var b strings.Builder
	for _, n := range in {
		switch n.Kind {
		case Break:
			b.WriteByte('\n')
		case Text, Code, MentionInline:
			b.WriteString(n.Text)
		default:
			b.WriteString(plainInlines(n.Subs))
		}
	}
	return b.String()
}

// Markdown is the body as CommonMark in which every text is escaped: read again, it gives this very
// document.
func (d *Document) Markdown() string { return markdownBlocks(d.Body) }

func markdownBlocks(blocks []Block) string {
	parts := make([]string, 0, len(blocks))
	for i, b := range blocks {
		switch b.Kind {
		case Heading:
			parts = append(parts, strings.Repeat("#", b.Level)+" "+strings.ReplaceAll(markdownInlines(b.Inlines), "\\\n", " "))
		case ListBlock:
			// Two lists in a row would read as one; another mark keeps them apart.
			second := i > 0 && blocks[i-1].Kind == ListBlock
			parts = append(parts, markdownList(b, second))
		case Quote:
			parts = append(parts, "> "+strings.ReplaceAll(markdownBlocks(b.Blocks), "\n", "\n> "))
		case CodeBlock:
			fence := "```"
			for strings.Contains(b.Code, fence) {
				fence += "`"
			}
			parts = append(parts, fence+"\n"+b.Code+"\n"+fence)
		case Rule:
			parts = append(parts, "---")
		default:
			parts = append(parts, markdownInlines(b.Inlines))
		}
	}
	return strings.Join(parts, "\n\n")
}

func markdownList(b Block, second bool) string {
	lines := make([]string, 0, len(b.Items))
	for i, item := range b.Items {
		mark := "- "
		switch {
		case b.Ordered && second:
			mark = fmt.Sprintf("%d) ", b.Start+i)
		case b.Ordered:
			mark = fmt.Sprintf("%d. ", b.Start+i)
		case second:
			mark = "* "
		}
		indent := "\n" + strings.Repeat(" ", len(mark))
		lines = append(lines, mark+strings.ReplaceAll(markdownBlocks(item), "\n", indent))
	}
	return strings.Join(lines, "\n")
}

func markdownInlines(in []Inline) string {
	var b strings.Builder
	for _, n := range in {
		switch n.Kind {
		case Text, MentionInline:
			b.WriteString(EscapeMarkdown(n.Text))
		case Break:
			b.WriteString("\\\n")
		case Code:
			b.WriteString(codeSpan(n.Text))
		case Strong:
			wrap(&b, "**", n.Subs)
		case Emph:
			wrap(&b, "*", n.Subs)
		case Anchor:
			b.WriteString("[" + markdownInlines(n.Subs) + "](<" + n.To + ">)")
		}
	}
	return strings.TrimSuffix(b.String(), "\\\n")
}

// wrap puts marks around text, with the blanks at its ends outside, where the marks would not hold.
func wrap(b *strings.Builder, mark string, subs []Inline) {
	inner := markdownInlines(subs)
	core := strings.TrimSpace(inner)
	if core == "" {
		b.WriteString(inner)
		return
	}
	head, tail, _ := strings.Cut(inner, core)
	b.WriteString(head + mark + core + mark + tail)
}

func codeSpan(s string) string {
	s = strings.ReplaceAll(s, "\n", " ")
	fence := "`"
	for strings.Contains(s, fence) {
		fence += "`"
	}
	if strings.HasPrefix(s, "`") || strings.HasSuffix(s, "`") {
		s = " " + s + " "
	}
	return fence + s + fence
}

// EscapeMarkdown writes text so that a CommonMark reader gives back the same text and nothing else.
// Every ASCII punctuation mark is escaped; line ends become hard breaks.
func EscapeMarkdown(s string) string {
	var b strings.Builder
	b.Grow(len(s) + len(s)/8)
	lineStart := false
	for _, r := range strings.ReplaceAll(s, "\r\n", "\n") {
		switch {
		case r == '\n' || r == '\r':
			if !lineStart {
				b.WriteString("\\\n")
			}
			lineStart = true
			continue
		case r < ' ':
			r = ' '
		case r == '\\': // not all readers take an escaped one before a hard break
			b.WriteString("&#92;")
			lineStart = false
			continue
		case r < 0x80 && strings.ContainsRune("!\"#$%&'()*+,-./:;<=>?@[\\]^_`{|}~", r) && !strings.ContainsRune(",;'\"%/?", r):
			b.WriteByte('\\')
		}
		if lineStart && (r == ' ' || r == '\t') {
			continue
		}
		lineStart = false
		b.WriteRune(r)
	}
	return strings.TrimSuffix(b.String(), "\\\n")
}
