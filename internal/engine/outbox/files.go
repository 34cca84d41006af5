package outbox

import (
	"context"
	"errors"
	"fmt"
	"mime"
	"net/http"
	"path"
	"slices"
	"strings"

	"dorfbote/internal/connect"
	"dorfbote/internal/connect/kinds"
	"dorfbote/internal/core/message"
	"dorfbote/internal/engine/links"
	"dorfbote/internal/engine/sources"
	"dorfbote/internal/store"
)

// Bounds of the files that are fetched to go with one message, in bytes; the files beyond them are links.
const (
	largestFile = 10 << 20
	largestAll  = 20 << 20
)

// File makes or fetches a file that goes with a post: a table, what lies at an address, through the guard, or what lies at the source of
// the post's record.
func (o *Outbox) File(ctx context.Context, p *store.Post, f message.File) (message.File, error) {
	var raw []byte
	var err error
	switch {
	case f.Cells != nil:
		f.Data, err = Workbook(f.Cells)
		f.Cells = nil
		return f, err
	case f.Held != "":
		raw, f.Media, err = o.held(ctx, p.Arrival, f.Held, largestFile)
	case f.From != "":
		raw, err = connect.Fetch(ctx, o.Env, f.From, nil, largestFile)
	default:
		return f, nil
	}
	if err != nil {
		return f, err
	}
	if known := mime.TypeByExtension(path.Ext(f.Name)); known != "" {
		f.Media = known
	} else if f.Media == "" {
		f.Media = http.DetectContentType(raw)
	}
	f.Data, f.From, f.Held = raw, "", ""
	return f, nil
}

// errNotItsOwn refuses files of other sources than the one that the record came from: its text may name what it likes.
var errNotItsOwn = errors.New("this file does not belong to the record that the alert is about")

// itsOwn takes apart where a file lies, if that is where an arrival's record came from.
func (o *Outbox) itsOwn(ctx context.Context, arrival int64, address string) (source, ref string, err error) {
	source, ref, ok := message.HeldIn(address)
	if !ok {
		return "", "", errNotItsOwn
	}
	of, err := o.Store.ArrivalsBySeq(ctx, []int64{arrival})
	if err == nil && (len(of) == 0 || of[0].Source != source) {
		err = errNotItsOwn
	}
	return source, ref, err
}

// held fetches a file that lies where an arrival's record came from.
func (o *Outbox) held(ctx context.Context, arrival int64, address string, most int64) ([]byte, string, error) {
	source, ref, err := o.itsOwn(ctx, arrival, address)
	if err != nil {
		return nil, "", err
	}
	var src store.Source
	if err := o.Store.DB.WithContext(ctx).First(&src, "name = ?", source).Error; err != nil {
		return nil, "", fmt.Errorf("the source %s: %w", source, err)
	}
	var c store.Connection
	if err := o.Store.DB.WithContext(ctx).First(&c, "id = ?", src.Connection).Error; err != nil {
		return nil, "", err
	}
	conn, err := o.Sources.OpenConn(&c)
	if err != nil {
		return nil, "", err
	}
	defer conn.Close()
	holder, ok := conn.(connect.Holder)
	if !ok {
		return nil, "", errNotItsOwn
	}
	return holder.Held(ctx, sources.SourceOf(&src), ref, most)
}

// carried has the files of a message go along: those that lie elsewhere are fetched, workbooks are made. One that cannot be had, or
// that this kind of connection does not carry, is a link, or its name where none can be given: that is no reason not to tell. What lies elsewhere
// is fetched within fetch.
func (o *Outbox) carried(ctx, fetch context.Context, c *store.Connection, p *store.Post, doc *message.Document, room *claim) (*message.Document, error) {
	if len(doc.Attach) == 0 {
		return doc, nil
	}
	carries := false
	if k := kinds.Named(c.Kind); k != nil && k.Sends != nil {
		carries = slices.Contains(k.Can(c.Settings), connect.CanAttach)
	}
	out := *doc
	out.Attach, out.Links = nil, slices.Clone(doc.Links)
	left := largestAll
	var named, linked []string
	for n, f := range doc.Attach {
		if f.Held != "" {
			if _, _, err := o.itsOwn(ctx, p.Arrival, f.Held); errors.Is(err, errNotItsOwn) {
				named = append(named, f.Name)
				continue
			} else if err != nil {
				return nil, err
			}
		}
		if carries {
			file, err := o.take(fetch, p, f, &left, room)
			if err == nil {
				out.Attach = append(out.Attach, file)
				continue
			}
			o.Log.Warn("a file does not go along; it is told as a link", "post", p.ID, "error", err)
		}
		to := f.From
		if to == "" {
			var err error
			if to, err = o.Links.Address(ctx, links.Link{For: links.File, ID: p.ID, N: n, Until: p.CreatedAt.Add(links.Lasts)}); err != nil {
				return nil, err
			}
		}
		if to == "" {
			named = append(named, f.Name)
			continue
		}
		if carries {
			linked = append(linked, f.Name)
		}
		out.Links = append(out.Links, message.Link{Text: f.Name, To: to})
	}
	if len(linked) > 0 {
		out.Body = append(slices.Clip(out.Body), message.TextBlock("Not attached, but behind a link: "+strings.Join(linked, ", ")))
	}
	if len(named) > 0 {
		out.Body = append(slices.Clip(out.Body), message.TextBlock("Not attached: "+strings.Join(named, ", ")))
	}
	return &out, nil
}

// take has one file at hand, of those that lie elsewhere as many as there is room left for.
func (o *Outbox) take(ctx context.Context, p *store.Post, f message.File, left *int, room *claim) (message.File, error) {
	elsewhere := f.From != "" || f.Held != ""
	if elsewhere && *left <= 0 {
		return f, errNoRoom
	}
	if !elsewhere {
		return o.File(ctx, p, f)
	}
	var file message.File
	err := room.fetch(ctx, largestFile, func() (int, error) {
		var err error
		file, err = o.File(ctx, p, f)
		return len(file.Data), err
	})
	if err != nil {
		return file, err
	}
	if *left -= len(file.Data); *left < 0 {
		return f, errNoRoom
	}
	return file, nil
}

// errNoRoom leaves out what would be too much for one message.
var errNoRoom = fmt.Errorf("the files of one message are more than %d MiB", largestAll>>20)
