package connect

import (
	"fmt"
	"slices"
	"sort"
	"strings"

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
		text = by.within(d.Plain(), longest) // marks that are cut in the middle would be open
	}
	facts, links, mentions := make([]any, len(d.Facts)), []any{}, make([]any, len(d.Mentions))
	for i, f := range d.Facts {
		facts[i] = map[string]any{"label": by.within(f.Label, longest), "value": by.within(f.Value, longest)}
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
		sender = map[string]any{"name": by.Text(d.Sender.Name), "picture": d.Sender.Picture}
	}
	return map[string]any{
		"title": by.Text(d.Title), "text": text, "facts": facts, "tone": d.Tone, "link": link, "links": links, "picture": picture, "sender": sender,
		"mentions": mentions, "place": p.Place, "key": p.Key, "under": "", "all": by.whole(d, text, facts, link, longest),
	}
}

// within writes a text so that it is not longer than a bound, unless that is 0.
func (m Marks) within(s string, longest int) string {
	out := m.Text(s)
	if longest <= 0 || len([]rune(out)) <= longest {
		return out
	}
	// The marks of what stands for itself take room, too.
	n := sort.Search(longest, func(n int) bool { return len([]rune(m.Text(formula.Shorten(s, n+1)))) > longest })
	if n == 0 {
		return ""
	}
	return m.Text(formula.Shorten(s, n))
}

// whole is a post in one text: its title, its text, its facts a line each, and its link. Where that is too long it is shortened before the
// link, without marks.
func (m Marks) whole(d *message.Document, text string, facts []any, link string, longest int) string {
	var lines []string
	for _, f := range facts {
		one, _ := f.(map[string]any)
		lines = append(lines, fmt.Sprint(one["label"], ": ", one["value"]))
	}
	joined := func(parts ...string) string {
		return strings.Join(slices.DeleteFunc(parts, func(s string) bool { return s == "" }), "\n")
	}
	all := joined(m.Text(d.Title), text, strings.Join(lines, "\n"), link)
	if longest <= 0 || len([]rune(all)) <= longest {
		return all
	}
	lines = nil
	for _, f := range d.Facts {
		lines = append(lines, f.Label+": "+f.Value)
	}
	plain := joined(d.Title, d.Plain(), strings.Join(lines, "\n"))
	if left := longest - len([]rune(link)) - 1; link != "" && left > longest/2 {
		return joined(m.within(plain, left), link)
	}
	return m.within(plain, longest)
}
