package report

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestListsOfProblems(t *testing.T) {
	var l List
	assert.False(t, l.Failed())
	l.Warn(Pos{3, 1}, "keep", "", "worth %s", "a look")
	l.Unfinished(Pos{2, 5}, "route", "there is no message yet")
	assert.False(t, l.Failed(), "what is worth a look, or missing, keeps nothing from being proved")
	assert.True(t, l.Problems[1].Warning && l.Problems[1].Unfinished)
	l.Add(Pos{2, 4}, "name", "late", "there is no %q", "lat")
	l.Within(7)
	l.Mend("Write late", "name", "late")
	assert.True(t, l.Failed())
	l.Add(Pos{}, "", "", "somewhere")
	l.Sort()
	var order []string
	for _, p := range l.Problems {
		order = append(order, p.String())
	}
	assert.Equal(t, []string{"somewhere", `there is no "lat"; did you mean late?`, "warning: there is no message yet", "warning: worth a look"}, order)
	p := l.Problems[1]
	assert.Equal(t, 7, *p.Offset)
	assert.Equal(t, &Mend{"Write late", "name", "late"}, p.Mend)
	assert.Nil(t, l.Problems[0].Offset)
}

func TestPlacesWithinTexts(t *testing.T) {
	at := Pos{4, 9}
	assert.Equal(t, at, Text{S: "x", At: at}.In(3), "where nothing is known of the inside, the text's own")
	text := Text{S: "abc", At: at, Within: func(o int) Pos { return Pos{at.Line, at.Column + o} }}
	assert.Equal(t, Pos{4, 11}, text.In(2))
}
