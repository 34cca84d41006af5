package decide

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"dorfbote/internal/core/sheet"
)

// What is said below a question, or with what it is about, answers it; what is only talk does not.
func TestAnswersThatAreSaid(t *testing.T) {
	choices := []sheet.Choice{{Name: "approve", Text: "Approve"}, {Name: "decline", Text: "Not now"}, {Name: "never", Text: "Not now or later"}, {Name: "yes", Text: "Yes!"}}
	for _, c := range []struct{ text, key, want string }{
		{"approve", "", "approve|"},
		{"  APPROVE. ", "", "approve|"},
		{"Approve: looks fine", "", "approve|looks fine"},
		{"decline: too far\nfor us", "", "decline|too far for us"},
		{`/decline "too far"`, "", "decline|too far"},
		{"@dorfbote approve looks fine", "", "approve|looks fine"},
		{"Dorfbote: not now, we are away", "", "decline|we are away"},
		{"dorfbote, Not now or later", "", "never|"},
		{"not now", "", "decline|"},
		{"yes", "", "yes|"},
		{"Yes!", "", "yes|"},
		{"yes, but let us wait", "", ""},
		{"approve it, I would say", "", ""},
		{"I would approve", "", ""},
		{"@desk approve looks fine", "", "approve|looks fine"},
		{"@desk, approve", "", "approve|"},
		{"@jonas approve looks fine", "", ""},
		{"@jonas approve", "", ""},
		{"@dorfbote", "", ""},
		{"@dorfbote perhaps", "", ""},
		{"", "", ""},
		{":", "", ""},
		{"/", "", ""},
		{"approve REQ-1", "REQ-1", "approve|"},
		{"approve req-1: fine", "REQ-1", "approve|fine"},
		{"@dorfbote decline REQ-1 too far", "REQ-1", "decline|too far"},
		{"approve REQ-1 if you like", "REQ-1", ""},
		{"approve REQ-2", "REQ-1", ""},
		{"approve", "REQ-1", ""},
	} {
		said, ok := Spoken(choices, c.text, c.key, strings.HasPrefix(c.text, "@desk"))
		got := ""
		if ok {
			got = said.Choice.Name + "|" + said.Comment
		}
		assert.Equal(t, c.want, got, "%q %q", c.text, c.key)
	}
}

func FuzzSpoken(f *testing.F) {
	f.Add("@dorfbote approve: x", "REQ-1")
	f.Fuzz(func(t *testing.T, text, key string) {
		said, ok := Spoken([]sheet.Choice{{Name: "approve", Text: "Yes, go on"}, {Name: text, Text: key}}, text, key, len(text)%2 == 0)
		if ok && (said.Choice == nil || len(said.Comment) > len(strings.Join(Words(text), " "))) {
			t.Fatal(said)
		}
	})
}
