package outbox

import (
	"context"
	"mime"
	"net/http"
	"path"
	"slices"

	"dorfbote/internal/connect"
	"dorfbote/internal/connect/kinds"
	"dorfbote/internal/core/message"
	"dorfbote/internal/store"
)

// largestFile bounds a file that is fetched to go with a message, in bytes.
const largestFile = 10 << 20

// File fetches a file that lies at an address, through the guard.
func (o *Outbox) File(ctx context.Context, f message.File) (message.File, error) {
	raw, err := connect.Fetch(ctx, o.Env, f.From, nil, largestFile)
	if err != nil {
		return f, err
	}
	if f.Media = mime.TypeByExtension(path.Ext(f.Name)); f.Media == "" {
		f.Media = http.DetectContentType(raw)
	}
	f.Data, f.From = raw, ""
	return f, nil
}

// fetched has the files that lie at addresses go with a message. One that cannot be had, or that this kind of connection does not
// carry, is a link: that is no reason not to tell.
func (o *Outbox) fetched(ctx context.Context, c *store.Connection, doc *message.Document) *message.Document {
	if !slices.ContainsFunc(doc.Attach, func(f message.File) bool { return f.From != "" }) {
		return doc
	}
	carries := false
	if k := kinds.Named(c.Kind); k != nil && k.Sends != nil {
		carries = slices.Contains(k.Can(c.Settings), connect.CanAttach)
	}
	out := *doc
	out.Attach, out.Links = nil, slices.Clone(doc.Links)
	for _, f := range doc.Attach {
		if f.From == "" {
			out.Attach = append(out.Attach, f)
			continue
		}
		file, err := f, error(nil)
		if carries {
			file, err = o.File(ctx, f)
		}
		if !carries || err != nil {
			out.Links = append(out.Links, message.Link{Text: f.Name, To: f.From})
			continue
		}
		out.Attach = append(out.Attach, file)
	}
	return &out
}
