package outbox

import (
	"context"
	"slices"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/message"
	"dorfbote/internal/engine/links"
	"dorfbote/internal/store"
)

// why gives a post the quiet link to the page that says why it was told. The kinds that have a place of their own for it put it
// there; elsewhere it is a last line of the message, where the connection's settings want it.
func (o *Outbox) why(ctx context.Context, c *store.Connection, p *store.Post, doc *message.Document) (*message.Document, string, error) {
	if p.Trial || !o.Links.Lead() {
		return doc, "", nil
	}
	root, err := o.Async.RootOf(ctx, p)
	if err != nil {
		return nil, "", err
	}
	to, err := o.Links.Address(ctx, links.Link{For: links.Why, ID: root, Until: p.CreatedAt.Add(links.Lasts)})
	if err != nil {
		return nil, "", err
	}
	if c.Settings[connect.WhySetting] != "yes" {
		return doc, to, nil
	}
	out := *doc
	out.Body = append(slices.Clip(doc.Body), message.Block{Kind: message.Paragraph, Inlines: []message.Inline{
		{Kind: message.Anchor, To: to, Subs: []message.Inline{{Kind: message.Text, Text: connect.WhyWords}}}}})
	return &out, to, nil
}
