package message

import (
	"errors"
	"fmt"

	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/report"
	"dorfbote/internal/core/value"
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
	v, err := l.of.Run(sc)
	if err != nil {
		return nil, err
	}
	list, ok := v.([]any)
	if !ok && !value.Empty(v) {
		return nil, fmt.Errorf("%s gave %s where a list was needed", l.of, formula.Show(v, words.Workspace))
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
	block := Block{Kind: ListBlock}
	for _, line := range lines {
		block.Items = append(block.Items, paragraph(line))
	}
	out := []Block{block}
	if more := len(list) - len(shown); more > 0 {
		out = append(out, paragraph(fmt.Sprintf("and %d more", more))...)
	}
	return out, nil
}

func paragraph(text string) []Block {
	if text == "" {
		return nil
	}
	return []Block{{Kind: Paragraph, Inlines: []Inline{{Kind: Text, Text: text}}}}
}
