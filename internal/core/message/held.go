package message

import (
	"cmp"
	"net/url"
	"path"
	"strings"

	"dorfbote/internal/core/formula"
)

// heldScheme begins what a record names a file by that lies where the record came from.
const heldScheme = "held:"

// HeldAt makes what a record names a file by that lies at its source, such as one that came with a mail. It leads nowhere outside:
// only what is told of a record of that source can have it, and it is fetched when it is told.
func HeldAt(source, ref string) string { return heldScheme + source + "#" + ref }

// HeldIn takes apart what [HeldAt] made.
func HeldIn(address string) (source, ref string, ok bool) {
	rest, ok := strings.CutPrefix(address, heldScheme)
	if !ok {
		return "", "", false
	}
	source, ref, ok = strings.Cut(rest, "#")
	return source, ref, ok && source != "" && ref != ""
}

// lying is a file that a sheet names: by its address, or as a record's list of files has it.
type lying struct {
	to, held    string // exactly one
	name, media string // "" where they are not known
}

// lying finds the files that a part names. A formula may give an address, a file with its address, however apps call that, or a list of
// either; what may not be fetched is left out.
func (f *filling) lying(part string, t *formula.Template) []lying {
	if t == nil || f.err != nil {
		return nil
	}
	if whole := t.Whole(); whole != nil {
		v, err := whole.Run(f.sc)
		f.fail(part, err)
		return f.files(v)
	}
	s, err := t.Address(f.sc, f.words)
	f.fail(part, err)
	return f.files(s)
}

func (f *filling) files(v any) []lying {
	switch v := v.(type) {
	case []any:
		var out []lying
		for _, e := range v {
			out = append(out, f.files(e)...)
		}
		return out
	case map[string]any:
		text := func(names ...string) string {
			for _, n := range names {
				if s, ok := v[n].(string); ok && strings.TrimSpace(s) != "" {
					return strings.TrimSpace(s)
				}
			}
			return ""
		}
		out := f.files(text("address", "url", "href", "link", "src"))
		for i := range out {
			out[i].name, out[i].media = cmp.Or(text("name", "filename", "file_name", "title"), out[i].name), text("media", "media_type", "content_type", "mime_type")
		}
		return out
	}
	address := strings.TrimSpace(formula.Show(v, f.words.Workspace))
	if _, _, ok := HeldIn(address); ok {
		return []lying{{held: address}}
	}
	to := SafeAddress(address)
	if !strings.HasPrefix(to, "http://") && !strings.HasPrefix(to, "https://") {
		return nil
	}
	l := lying{to: to}
	if u, err := url.Parse(to); err == nil {
		l.name = path.Base(u.Path)
	}
	return []lying{l}
}

// file is such a file as one that goes with a message.
func (l lying) file(name string) File {
	name = strings.TrimSpace(strings.Map(plainName, cmp.Or(name, l.name)))
	if strings.Trim(name, ".- ") == "" {
		name = "file"
	}
	return File{Name: name, From: l.to, Held: l.held}
}

// isPicture tells whether it may be a picture: what is known to be something else is none.
func (l lying) isPicture() bool { return l.media == "" || strings.HasPrefix(l.media, "image/") }

// pictureIn gives the first of several files that may be a picture; nil where there is none.
func pictureIn(list []lying, text string) *Picture {
	for _, l := range list {
		if l.isPicture() {
			return &Picture{From: l.to, Held: l.held, Text: text}
		}
	}
	return nil
}
