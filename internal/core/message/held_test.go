package message

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

// A picture and a file are named by an address, by a file of the record, or by a list of either; what may not be fetched is left out,
// and no name is a path.
func TestFilesThatLieElsewhere(t *testing.T) {
	const held = "held:desk/inbox#7-1/2"
	file := func(name, media, address string) map[string]any {
		return map[string]any{"name": name, "media": media, "address": address}
	}
	pdf, jpg := file("../etc/plan.pdf", "application/pdf", held), file("hose.jpg", "image/jpeg", "https://x.example/1")
	record := map[string]any{
		"plan": "https://x.example/a/plan.pdf?x=1", "files": []any{pdf, jpg}, "one": pdf, "bad": []any{"javascript:alert(1)", "mailto:a@x.example", nil, 4.0, file("x", "", "file:///etc/passwd"), "held:desk", "held:#"},
		"apps":  []any{map[string]any{"filename": "a.pdf", "url": "https://x.example/1", "content_type": "application/pdf"}, map[string]any{"title": "b", "href": "https://x.example/2.png"}, map[string]any{"id": 7.0}},
		"texts": []any{"https://x.example/a", held}, "id": "K 1/2", "none": nil,
	}
	for _, c := range []struct {
		from, name string
		files      []File
		picture    *Picture
	}{
		{"${record.plan}", "", []File{{Name: "plan.pdf", From: "https://x.example/a/plan.pdf?x=1"}}, &Picture{From: "https://x.example/a/plan.pdf?x=1", Text: "T"}},
		{"https://x.example/${record.id}", "${record.id}.pdf", []File{{Name: "K 1-2.pdf", From: "https://x.example/K%201%2F2"}}, &Picture{From: "https://x.example/K%201%2F2", Text: "T"}},
		{"${record.files}", "all", []File{{Name: "..-etc-plan.pdf", Held: held}, {Name: "hose.jpg", From: "https://x.example/1"}}, &Picture{From: "https://x.example/1", Text: "T"}},
		{"${record.one}", "plan", []File{{Name: "plan", Held: held}}, nil},
		{"${record.files[0].address}", "", []File{{Name: "file", Held: held}}, &Picture{Held: held, Text: "T"}},
		{"${record.texts}", "", []File{{Name: "a", From: "https://x.example/a"}, {Name: "file", Held: held}}, &Picture{From: "https://x.example/a", Text: "T"}},
		{"${record.apps}", "", []File{{Name: "a.pdf", From: "https://x.example/1"}, {Name: "b", From: "https://x.example/2.png"}}, &Picture{From: "https://x.example/2.png", Text: "T"}},
		{"${record.bad}", "x", nil, nil},
		{"${record.none}", "x", nil, nil},
	} {
		d := fill(t, &Spec{Title: str("T"), PartsSpec: PartsSpec{
			Attach: []FileSpec{{From: str(c.from), Name: *str(c.name)}}, Picture: &PictureSpec{From: str(c.from)},
		}}, record)
		assert.Equal(t, c.files, d.Attach, c.from)
		assert.Equal(t, c.picture, d.Picture, c.from)
	}
	d := fill(t, &Spec{Like: &LikeSpec{Of: *str("record")}}, map[string]any{"subject": "Photos", "files": []any{pdf, jpg, jpg}})
	assert.Equal(t, "Photos", d.Plain())
	assert.Equal(t, &Picture{From: "https://x.example/1", Text: "hose.jpg"}, d.Picture, "a copy has the first picture as a picture")
	assert.Len(t, d.Attach, 2, "and what else there is as files")
}
