package outbox

import (
	"context"
	"encoding/json"
	"slices"
	"time"

	"github.com/xuri/excelize/v2"

	"dorfbote/internal/core/message"
	"dorfbote/internal/engine/links"
	"dorfbote/internal/store"
)

// shared makes the pages that a post's links share, and gives the links their addresses. An edit of a post renews what the pages of the
// first show. Without an address by which the outside reaches this installation, the links are left out.
func (o *Outbox) shared(ctx context.Context, p *store.Post, doc *message.Document) (*message.Document, error) {
	if !slices.ContainsFunc(doc.Links, func(l message.Link) bool { return l.Share != nil }) {
		return doc, nil
	}
	root, err := o.Async.RootOf(ctx, p)
	if err != nil {
		return nil, err
	}
	out := *doc
	out.Links = nil
	for n, l := range doc.Links {
		if l.Share == nil {
			out.Links = append(out.Links, l)
			continue
		}
		if !o.Links.Lead() {
			continue
		}
		lasts, err := time.ParseDuration(l.Share.For)
		if err != nil {
			lasts = message.SharedFor
		}
		raw, err := json.Marshal(l.Share.Fields)
		if err != nil {
			return nil, err
		}
		ends := p.CreatedAt.Add(lasts)
		if err := o.Async.PutShare(ctx, store.Share{Post: root, N: n, Workflow: p.Workflow, Arrival: p.Arrival, Text: l.Text, Title: doc.Title, Fields: raw, EndsAt: ends}); err != nil {
			return nil, err
		}
		to, err := o.Links.Address(ctx, links.Link{For: links.Shared, ID: root, N: n, Until: ends})
		if err != nil {
			return nil, err
		}
		out.Links = append(out.Links, message.Link{Text: l.Text, To: to})
	}
	return &out, nil
}

// workbooks makes the workbooks that are attached to a message.
func workbooks(doc *message.Document) (*message.Document, error) {
	if !slices.ContainsFunc(doc.Attach, func(f message.File) bool { return f.Cells != nil }) {
		return doc, nil
	}
	out := *doc
	out.Attach = slices.Clone(doc.Attach)
	for i := range out.Attach {
		f := &out.Attach[i]
		if f.Cells == nil {
			continue
		}
		raw, err := Workbook(f.Cells)
		if err != nil {
			return nil, err
		}
		f.Data, f.Cells = raw, nil
	}
	return &out, nil
}

// Workbook writes cells as .xlsx; the first row is the heads. A text stays a text, whatever it begins with.
func Workbook(cells [][]any) ([]byte, error) {
	book := excelize.NewFile()
	defer func() { _ = book.Close() }()
	w, err := book.NewStreamWriter("Sheet1")
	if err != nil {
		return nil, err
	}
	bold, err := book.NewStyle(&excelize.Style{Font: &excelize.Font{Bold: true}})
	if err != nil {
		return nil, err
	}
	for i, row := range cells {
		at, err := excelize.CoordinatesToCellName(1, i+1)
		if err != nil {
			return nil, err
		}
		if i == 0 {
			row = slices.Clone(row)
			for j := range row {
				row[j] = excelize.Cell{StyleID: bold, Value: row[j]}
			}
		}
		if err := w.SetRow(at, row); err != nil {
			return nil, err
		}
	}
	if err := w.Flush(); err != nil {
		return nil, err
	}
	b, err := book.WriteToBuffer()
	if err != nil {
		return nil, err
	}
	return b.Bytes(), nil
}
