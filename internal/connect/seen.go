package connect

import (
	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/message"
)

// Marks are how the other side writes bold, links and the like.
type Marks struct {
	Text    func(string) string // a text that is only text
	Body    func(*message.Document) string
	Mention func(message.Mentioned) string
}

// NoMarks writes plain text.
var NoMarks = Marks{func(s string) string { return s }, (*message.Document).Plain, func(m message.Mentioned) string { return m.Name }}

// Seen is a post as shapes and other systems see it. Its texts are written by the other side's marks, in which a record's text is
// only text; a text longer than longest, unless that is 0, is shortened.
func Seen(p Post, by Marks, longest int) map[string]any {
	d := p.Doc
	text := by.Body(d)
	if longest > 0 && len([]rune(text)) > longest {
		text = by.Text(formula.Shorten(d.Plain(), longest)) // marks that are cut in the middle would be open
	}
	facts, links, mentions := make([]any, len(d.Facts)), []any{}, make([]any, len(d.Mentions))
	for i, f := range d.Facts {
		facts[i] = map[string]any{"label": by.Text(f.Label), "value": by.Text(f.Value)}
	}
	link := ""
	for i, l := range d.AllLinks() {
		if links = append(links, map[string]any{"text": by.Text(l.Text), "to": l.To}); i == 0 {
			link = l.To
		}
	}
	for i, m := range d.Mentions {
		mentions[i] = by.Mention(m)
	}
	picture, sender := "", map[string]any{"name": "", "picture": ""}
	if d.Picture != nil {
		picture = d.Picture.From
	}
	if d.Sender != nil {
		sender = map[string]any{"name": d.Sender.Name, "picture": d.Sender.Picture}
	}
	return map[string]any{
		"title": by.Text(d.Title), "text": text, "facts": facts, "tone": d.Tone, "link": link, "links": links, "picture": picture, "sender": sender,
		"mentions": mentions, "place": p.Place, "key": p.Key, "under": "",
	}
}
