package webhook

import (
	"strings"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/value"
)

// answer is what an answer of the other side means.
type answer struct {
	accepted, words, id, link, picture pick
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
		into       *pick
	}{{"accepted", strings.TrimSpace(path), &a.accepted}, {"words", settings["words"], &a.words}, {"id", settings["id"], &a.id}, {"link", settings["link"], &a.link}, {"picture_name", settings["picture_name"], &a.picture}} {
		if p.text == "" {
			continue
		}
		if *p.into, err = readPick(p.text); err != nil {
			return a, fault.At(p.name, "%v", err)
		}
	}
	return a, nil
}

// judge reads an answer: whether the other side has the post, what it calls it, and its words.
func (a answer) judge(raw []byte, d *connect.Delivery) {
	v := &answered{raw: raw}
	if words := first(a.words, v); words != "" {
		d.Answer = connect.Kept([]byte(words))
	}
	if !d.Taken {
		return
	}
	if ok, readable := a.accepts(v); a.accepted.set() && !ok {
		d.Taken, d.Final = false, true
		if !readable {
			d.Answer = "the answer is not " + a.accepted.what() + ": " + d.Answer
		} else if first(a.words, v) == "" {
			d.Answer = "it was not accepted: " + d.Answer
		}
		return
	}
	d.ID, d.Link = first(a.id, v), first(a.link, v)
}

// accepts tells whether the test holds; readable is false where the answer is not what the test reads.
func (a answer) accepts(v *answered) (ok, readable bool) {
	found, readable := a.accepted.get(v)
	switch {
	case found == nil:
		return false, readable
	case a.equals != nil:
		return value.EqualFolded(text(found), value.Fold(*a.equals)), readable
	}
	return !value.Empty(found) && found != false, readable
}

// first is the first thing at a path, as text.
func first(p pick, v *answered) string {
	if found, _ := p.get(v); found != nil {
		return text(found)
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
	return first(a.picture, &answered{raw: raw})
}
