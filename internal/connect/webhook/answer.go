package webhook

import (
	"strings"

	"github.com/ohler55/ojg/jp"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/value"
)

// answer is what an answer of the other side means.
type answer struct {
	accepted, words, id, link, picture jp.Expr
	equals                             *string // what stands at accepted, where that must be one value
}

func answerOf(settings map[string]string) (a answer, err error) {
	path, want, has := strings.Cut(settings["accepted"], "==")
	if has {
		want = strings.Trim(strings.TrimSpace(want), `"'`)
		a.equals = &want
	}
	for _, p := range []struct {
		name, text string
		into       *jp.Expr
	}{{"accepted", strings.TrimSpace(path), &a.accepted}, {"words", settings["words"], &a.words}, {"id", settings["id"], &a.id}, {"link", settings["link"], &a.link}, {"picture_name", settings["picture_name"], &a.picture}} {
		if p.text == "" {
			continue
		}
		if !strings.HasPrefix(p.text, "$") {
			return a, fault.At(p.name, "%q is no JSONPath; write it like $.id", p.text)
		}
		if *p.into, err = jp.ParseString(p.text); err != nil {
			return a, fault.At(p.name, "the JSONPath %s cannot be read: %v; write it like $.id", p.text, err)
		}
	}
	return a, nil
}

// judge reads an answer: whether the other side has the post, what it calls it, and its words.
func (a answer) judge(raw []byte, d *connect.Delivery) {
	v, err := value.ReadJSON(raw)
	if words := first(a.words, v); words != "" {
		d.Answer = connect.Kept([]byte(words))
	}
	if !d.Taken {
		return
	}
	if a.accepted != nil && (err != nil || !a.accepts(v)) {
		d.Taken, d.Final = false, true
		if first(a.words, v) == "" {
			d.Answer = "it was not accepted: " + d.Answer
		}
		return
	}
	d.ID, d.Link = first(a.id, v), first(a.link, v)
}

func (a answer) accepts(v any) bool {
	found := a.accepted.Get(v)
	switch {
	case len(found) == 0:
		return false
	case a.equals != nil:
		return value.EqualFolded(text(found[0]), value.Fold(*a.equals))
	}
	return !value.Empty(found[0]) && found[0] != false
}

// first is the first thing at a path, as text.
func first(path jp.Expr, v any) string {
	if path == nil {
		return ""
	}
	if found := path.Get(v); len(found) > 0 {
		return text(found[0])
	}
	return ""
}

func text(v any) string {
	switch x := v.(type) {
	case string:
		return x
	case float64:
		return value.NumberText(x)
	case bool:
		if x {
			return "true"
		}
		return "false"
	}
	return formula.Show(v, value.DefaultWorkspace())
}

// pictureIn is what an answer names a picture by.
func (a answer) pictureIn(raw []byte) string {
	v, err := value.ReadJSON(raw)
	if err != nil {
		return ""
	}
	return first(a.picture, v)
}
