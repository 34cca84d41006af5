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
	accepted, place          test
	words, id, link, picture pick
}

// test is a question about an answer: something stands there, or one value.
type test struct {
	pick
	equals *string
}

// readTest reads a test, such as $.ok, or $.status == sent.
func readTest(text string) (t test, err error) {
	path, want, has := strings.Cut(text, "==")
	if has {
		want = strings.Trim(strings.TrimSpace(want), `"'`)
		t.equals = &want
	}
	t.pick, err = readPick(strings.TrimSpace(path))
	return t, err
}

func answerOf(settings map[string]string) (a answer, err error) {
	for _, p := range []struct {
		name string
		into *test
	}{{"accepted", &a.accepted}, {"place_fault", &a.place}} {
		if settings[p.name] == "" {
			continue
		}
		if *p.into, err = readTest(settings[p.name]); err != nil {
			return a, fault.At(p.name, "%v", err)
		}
	}
	for _, p := range []struct {
		name string
		into *pick
	}{{"words", &a.words}, {"id", &a.id}, {"link", &a.link}, {"picture_name", &a.picture}} {
		if settings[p.name] == "" {
			continue
		}
		if *p.into, err = readPick(settings[p.name]); err != nil {
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
		a.blame(v, d)
		return
	}
	if ok, readable := a.accepted.holds(v); a.accepted.set() && !ok {
		d.Taken, d.Final = false, true
		a.blame(v, d)
		if !readable {
			d.Answer = "the answer is not " + a.accepted.what() + ": " + d.Answer
		} else if first(a.words, v) == "" {
			d.Answer = "it was not accepted: " + d.Answer
		}
		return
	}
	d.ID, d.Link = first(a.id, v), first(a.link, v)
}

// blame says of a refusal that it is the place's fault, where the test for that holds: then nothing goes there any more, as against this
// post alone being set aside.
func (a answer) blame(v *answered, d *connect.Delivery) {
	if ok, _ := a.place.holds(v); a.place.set() && ok && d.Final {
		d.Place = true
	}
}

// holds tells whether the test does; readable is false where the answer is not what the test reads.
func (t test) holds(v *answered) (ok, readable bool) {
	if !t.set() {
		return false, true
	}
	found, readable := t.get(v)
	switch {
	case found == nil:
		return false, readable
	case t.equals != nil:
		return value.EqualFolded(text(found), value.Fold(*t.equals)), readable
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
