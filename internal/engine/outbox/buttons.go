package outbox

import (
	"context"
	"slices"
	"strings"

	"dorfbote/internal/connect"
	"dorfbote/internal/connect/kinds"
	"dorfbote/internal/core/message"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/engine/links"
	"dorfbote/internal/store"
)

// pressable gives a post's buttons a way to be pressed: by the other side's own buttons where it has them, else by signed links,
// of which a short message has one for all. Without an address by which the outside reaches this installation, there are none.
//
// The links of a copy let whoever has them look, and act once they have signed in.
func (o *Outbox) pressable(ctx context.Context, c *store.Connection, p *store.Post, doc *message.Document, copied bool) (*message.Document, []connect.Button, error) {
	if len(doc.Buttons) == 0 || p.Trial || p.Done {
		return doc, nil, nil
	}
	kind := kinds.Named(c.Kind)
	if kind == nil || kind.Sends == nil {
		return doc, nil, nil
	}
	doc, err := o.answerUntil(ctx, p, doc)
	if err != nil {
		return nil, nil, err
	}
	doc, err = o.answerable(ctx, c, kind, p, doc)
	if err != nil || !o.Links.Lead() {
		return doc, nil, err
	}
	root, err := o.Async.RootOf(ctx, p)
	if err != nil {
		return nil, nil, err
	}
	settings := map[string]string(c.Settings)
	link := links.Link{For: links.Button, ID: root, Until: p.CreatedAt.Add(links.Lasts), Copy: copied, Native: slices.Contains(kind.Can(settings), connect.CanButtons)}
	address := func(n int) (string, error) {
		link.N = n
		return o.Links.Address(ctx, link)
	}
	if !link.Native && kind.Sends.Dialect == message.Short {
		to, err := address(links.AllButtons)
		out := *doc
		out.Links = append(slices.Clone(doc.Links), message.Link{Text: doc.Buttons[0].Text, To: to})
		if out.Link == nil {
			out.Link = &message.Link{Text: doc.Buttons[0].Text, To: to}
		}
		return &out, nil, err
	}
	out := *doc
	out.Links = slices.Clone(doc.Links)
	var native []connect.Button
	for n, b := range doc.Buttons {
		to, err := address(n)
		if err != nil {
			return nil, nil, err
		}
		if link.Native {
			native = append(native, connect.Button{Text: b.Text, Call: to, Comment: b.Comment})
		} else {
			out.Links = append(out.Links, message.Link{Text: b.Text, To: to})
		}
	}
	return &out, native, nil
}

// answerUntil says with a question until when an answer counts, and what happens then.
func (o *Outbox) answerUntil(ctx context.Context, p *store.Post, doc *message.Document) (*message.Document, error) {
	n := slices.IndexFunc(doc.Buttons, func(b message.Button) bool { return b.Choice != "" })
	if n < 0 {
		return doc, nil
	}
	ends, err := o.Async.AskEnds(ctx, p.Workflow, p.Arrival, doc.Buttons[n].Ask)
	if err != nil || ends == nil {
		return doc, err
	}
	then := "After that, it goes on without an answer."
	for _, b := range doc.Buttons {
		if b.Otherwise {
			then = "After that, \"" + b.Text + "\" counts."
		}
	}
	out := *doc
	out.Body = append(slices.Clip(out.Body), message.TextBlock("Answer by "+ends.In(o.Workspace.Location()).Format("Mon 2 Jan 2006, 15:04 MST")+". "+then))
	return &out, nil
}

// answerable says with a question by which words it can be answered where it stands: in a room that is read, and has no buttons of its own.
func (o *Outbox) answerable(ctx context.Context, c *store.Connection, kind *connect.Kind, p *store.Post, doc *message.Document) (*message.Document, error) {
	if !slices.ContainsFunc(doc.Buttons, func(b message.Button) bool { return b.Choice != "" }) || kind.SaidIn == nil || kind.Hears == nil || slices.Contains(kind.Can(c.Settings), connect.CanButtons) {
		return doc, nil
	}
	var read []store.Source
	if err := o.Async.DB.WithContext(ctx).Where("connection = ?", c.ID).Find(&read).Error; err != nil {
		return nil, err
	}
	before, heard := "", false
	for _, s := range read {
		if kind.SaidIn(s.Settings) != placeOf(p.Destination) {
			continue
		}
		if first, ok := kind.Hears(s.Settings); ok && (!heard || first == "") {
			before, heard = first, true
		}
	}
	if !heard {
		return doc, nil
	}
	var words []string
	for _, b := range doc.Buttons {
		switch {
		case b.Choice == "":
		case b.Comment == sheet.CommentRequired:
			words = append(words, before+b.Choice+": why")
		default:
			words = append(words, before+b.Choice)
		}
	}
	out := *doc
	out.Body = append(slices.Clip(out.Body), message.TextBlock("Or answer below: "+strings.Join(words, " · ")))
	return &out, nil
}
