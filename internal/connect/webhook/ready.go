package webhook

import (
	"dorfbote/internal/connect"
	"dorfbote/internal/core/message"
)

// ready are the shapes that can be chosen, named for what they are.
var ready = []struct {
	name, body string
	form       bool
}{
	{name: "text only", body: `{"text": "${post.all}"}`},
	{name: "title, text and facts", body: `{
		"title": "${post.title}", "text": "${post.text}", "tone": "${post.tone}",
		"facts": [{"$each": "${post.facts}", "$as": {"title": "${it.label}", "value": "${it.value}"}}],
		"link": {"$when": "${post.link}", "$then": "${post.link}"}}`},
	{name: "sections", body: `{"sections": [
		{"$when": "${post.title}", "$then": {"kind": "heading", "text": "${post.title}"}},
		{"$when": "${post.text}", "$then": {"kind": "text", "text": "${post.text}"}},
		{"$each": "${post.facts}", "$as": {"kind": "fact", "label": "${it.label}", "text": "${it.value}"}},
		{"$each": "${post.links}", "$as": {"kind": "link", "label": "${it.text}", "to": "${it.to}"}}]}`},
	{name: "form fields", form: true, body: `{"title": "${post.title}", "text": "${post.text}", "tone": "${post.tone}", "link": "${post.link}",
		"fact": [{"$each": "${post.facts}", "$as": "${it.label}: ${it.value}"}]}`},
}

func readyNames() []string {
	out := make([]string, len(ready))
	for i, r := range ready {
		out[i] = r.name
	}
	return out
}

// exampleDoc is a post that the proof makes a body of.
var exampleDoc = &message.Document{
	Title: "An example", Tone: "plain", Facts: []message.Fact{{Label: "Fact", Value: "its value"}}, Link: &message.Link{Text: "Open", To: "https://example.org/record"},
	Body: []message.Block{{Kind: message.Paragraph, Inlines: []message.Inline{{Kind: message.Text, Text: "This is what a post looks like."}}}},
}

// bareDoc is a post of which there is only a title.
var bareDoc = &message.Document{Title: "An example", Tone: "plain"}

var bare = connect.Seen(connect.Post{Place: "place", Key: "key", Doc: bareDoc}, connect.NoMarks, 0)

var example = connect.Seen(connect.Post{Place: "place", Key: "key", Doc: exampleDoc}, connect.NoMarks, 0)
