package message

import (
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/report"
)

// ListSpec is a list part as written: one line for each of many records.
type ListSpec struct {
	At    report.Pos
	Of    report.Text // a formula that gives the list
	Each  report.Text // what stands for each, which is called "it"
	Most  int         // 0: all of them
	Say   bool        // whether an empty list is told of, instead of there being no message
	Empty report.Text // what is told of an empty list
}

// ErrSkip means that a message's list is empty, so that there is no message at all.
var ErrSkip = errors.New("the list is empty, so nothing is sent")

type listTemplate struct {
	of    *formula.Formula
	each  *formula.Template
	most  int
	say   bool
	empty *formula.Template
}

func compileList(s *ListSpec, words *formula.Words, path string, problems *report.List) *listTemplate {
	l := &listTemplate{most: s.Most, say: s.Say, each: parse(s.Each, words, path+".each", problems)}
	if s.Empty.S != "" {
		l.empty = parse(s.Empty, words, path+".empty", problems)
	}
	l.of = formula.Read(s.Of, s.Of.S, 0, words, path+".of", problems)
	return l
}

// fill makes the list's blocks. What is beyond the most is counted.
func (l *listTemplate) fill(sc *formula.Scope, words *formula.Words) ([]Block, error) {
	list, err := l.of.List(sc)
	if err != nil {
		return nil, err
	}
	if len(list) == 0 {
		if !l.say {
			return nil, ErrSkip
		}
		if l.empty == nil {
			return nil, nil
		}
		text, err := l.empty.Text(sc, words)
		return paragraph(text), err
	}
	shown := list
	if l.most > 0 && len(list) > l.most {
		shown = list[:l.most]
	}
	lines, err := words.Each(shown, l.each, sc)
	if err != nil {
		return nil, err
	}
	block := Block{Kind: ListBlock, Items: itemsOf(lines, words)}
	out := []Block{block}
	if more := len(list) - len(shown); more > 0 {
		out = append(out, paragraph(fmt.Sprintf("and %d more", more))...)
	}
	return out, nil
}

// lineStart stands before a line while its markup is read, so that what a line begins with, such as a number and a dot,
// makes it no heading or list.
const lineStart = "\uE002"

// itemsOf makes the items of a list of lines. Each line is a template like a text: its markup is read, and its links stay
// links.
func itemsOf(lines []formula.Line, words *formula.Words) [][]Block {
	read := map[string][]Block{} // lines of one template are read once
	out := make([][]Block, 0, len(lines))
	for _, line := range lines {
		var src strings.Builder
		src.WriteString(lineStart)
		var values []any
		for _, p := range line {
			if !p.Filled {
				src.WriteString(private.Replace(p.Text))
				continue
			}
			src.WriteString(chipOpen + strconv.Itoa(len(values)) + chipClose)
			values = append(values, p.Value)
		}
		blocks, ok := read[src.String()]
		if !ok {
			blocks = withoutStart(ReadMarkdown(src.String()))
			read[src.String()] = blocks
		}
		if filled := (&filler{values: values, words: words}).blocks(blocks); len(filled) > 0 {
			out = append(out, filled)
		}
	}
	return out
}

// withoutStart takes the mark of a line's start out again.
func withoutStart(blocks []Block) []Block {
	if len(blocks) > 0 && len(blocks[0].Inlines) > 0 {
		blocks[0].Inlines = slices.Clone(blocks[0].Inlines)
		first := &blocks[0].Inlines[0]
		first.Text = strings.TrimPrefix(first.Text, lineStart)
		if first.Kind == Text && first.Text == "" {
			blocks[0].Inlines = blocks[0].Inlines[1:]
		}
	}
	return blocks
}

func paragraph(text string) []Block {
	if text == "" {
		return nil
	}
	return []Block{TextBlock(text)}
}
