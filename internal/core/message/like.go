package message

import (
	"cmp"
	"errors"
	"fmt"
	"strings"

	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/report"
	"dorfbote/internal/core/value"
)

// LikeSpec is a copy of a chat message, as written.
type LikeSpec struct {
	At             report.Pos
	Of             report.Text // a formula that gives the message's record
	Header, Footer *report.Text
	Author         bool // who said it stands before it
}

type likeTemplate struct {
	of             *formula.Formula
	header, footer *formula.Template
	author         bool
}

func compileLike(s *LikeSpec, words *formula.Words, path string, problems *report.List) *likeTemplate {
	l := &likeTemplate{author: s.Author, of: formula.Read(s.Of, s.Of.S, 0, words, path+".of", problems)}
	if s.Header != nil {
		l.header = parse(*s.Header, words, path+".header", problems)
	}
	if s.Footer != nil {
		l.footer = parse(*s.Footer, words, path+".footer", problems)
	}
	return l
}

// fill copies a message: its text with its marks, its pictures, who said it. A link that leads to nothing safe is its words.
func (l *likeTemplate) fill(d *Document, f *filling) error {
	v, err := l.of.Run(f.sc)
	if err != nil {
		return err
	}
	record, ok := v.(map[string]any)
	if !ok {
		return fmt.Errorf("%s gave %s where a chat message was needed, such as record", l.of, formula.Shorten(formula.Show(v, f.words.Workspace), 80))
	}
	show := func(names ...string) string {
		for _, n := range names {
			if s := strings.TrimSpace(formula.Show(record[n], f.words.Workspace)); s != "" {
				return s
			}
		}
		return ""
	}
	marks, _ := record[TextMarks].(string)
	body := safe(ReadMarked(private.Replace(show("text", "body", "subject")), marks))
	if by := oneLine(show("author", "from_name", "from")); l.author && by != "" {
		name := Inline{Kind: Strong, Subs: []Inline{{Kind: Text, Text: by}}}
		if len(body) > 0 && body[0].Kind == Paragraph {
			body[0].Inlines = append([]Inline{name, {Kind: Text, Text: ": "}}, body[0].Inlines...)
		} else {
			body = append([]Block{{Kind: Paragraph, Inlines: []Inline{name, {Kind: Text, Text: ":"}}}}, body...)
		}
	}
	d.Body = append(append(paragraph(f.line("like.header", l.header)), body...), paragraph(f.line("like.footer", l.footer))...)
	d.Talk = talkOf(record)
	images, _ := record["images"].([]any)
	for i, e := range images {
		to, _ := e.(string)
		switch to = SafeAddress(to); {
		case to == "" || strings.HasPrefix(to, "mailto:") || strings.HasPrefix(to, "tel:"):
		case d.Picture == nil:
			d.Picture = &Picture{From: to, Text: "a picture"}
		default:
			d.Links = append(d.Links, Link{Text: fmt.Sprintf("picture %d", i+1), To: to})
		}
	}
	for _, file := range f.files(record["files"]) {
		switch {
		case d.Picture == nil && file.media != "" && file.isPicture():
			d.Picture = &Picture{From: file.to, Held: file.held, Text: cmp.Or(file.name, "a picture")}
		case len(d.Attach) < MostFiles:
			d.Attach = append(d.Attach, file.file(""))
		}
	}
	if len(d.Body) == 0 && d.Picture == nil && len(d.Attach) == 0 && value.Empty(record["text"]) {
		return errors.New("the message has neither text nor a picture")
	}
	return nil
}

// Copies tells whether the message is a copy of a chat message.
func (m *Message) Copies() bool { return m.like != nil }

// TakenBack stands in the place of a copy whose original was taken back, where the other side cannot take the copy back itself.
func TakenBack() *Document {
	d := Saying("")
	d.Withdrawn, d.Body = true, []Block{{Kind: Paragraph, Inlines: []Inline{{Kind: Emph, Subs: []Inline{{Kind: Text, Text: "taken back"}}}}}}
	return d
}

// talkOf finds what a message answered; nil where it answered nothing.
func talkOf(record map[string]any) *Talk {
	var t Talk
	t.Thread, _ = record["thread"].(string)
	if about, ok := record["about"].(map[string]any); ok {
		t.Source, _ = about["source"].(string)
		t.Key, _ = about["key"].(string)
	}
	if t.Thread == "" && t.Key == "" {
		return nil
	}
	return &t
}

// safe takes links away that lead to nothing that may stand in a message.
func safe(blocks []Block) []Block {
	return mapInlines(blocks, func(in Inline) []Inline {
		if in.Kind != Anchor {
			return []Inline{in}
		}
		if in.To = SafeAddress(in.To); in.To == "" {
			return in.Subs
		}
		return []Inline{in}
	})
}
