package place

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/core/value"
)

func TestTaking(t *testing.T) {
	zurich, err := time.LoadLocation("Europe/Zurich")
	require.NoError(t, err)
	ws := value.Workspace{Zone: zurich, Locale: "en"}
	listed, mail, numbers, room, rooms, anything := Rule{Form: Listed, Places: []string{"#tours"}}, Rule{Form: Mail}, Rule{Form: Number}, Rule{Form: Room}, Rule{Form: Room, Rooms: "rooms.example"}, Rule{Any: true}
	for _, c := range []struct {
		rule           Rule
		in, want, fail string
	}{
		{listed, "#tours", "#tours", ""}, {listed, "#Tours", "", `"#Tours" is none of its places`}, {listed, "", "", ""},
		{mail, "a@x.example", "a@x.example", ""}, {mail, " a@x.example , ,b@y.example,", "a@x.example, b@y.example", ""},
		{mail, "a@x.example, A@x.example", "a@x.example", ""}, {mail, " , ", "", ""}, {mail, "käse@höfe.example", "käse@höfe.example", ""},
		{mail, "a@x.example; b@x.example", "", "is no mail address"}, {mail, "Ann <a@x.example>", "a@x.example", ""}, {mail, `"Aven, Marit" <m@x.example>, <b@x.example>, c@x.example`, "m@x.example, b@x.example, c@x.example", ""}, {mail, `"Aven <m@x.example>`, "", "is no mail address"}, {mail, "Ann <a@x.example> b", "", "is no mail address"}, {mail, "a b@x.example", "", "is no mail address"},
		{mail, "a@x..example", "", "is no mail address"}, {mail, "a@", "", "is no mail address"}, {mail, "a@x.example\r\nBcc: b@x.example", "", "line end"},
		{mail, "a@x.example, nobody", "", `"nobody" is no mail address`}, {mail, strings.Repeat("a", 330) + "@x.example", "", "is no mail address"},
		{mail, "a@x.example\x00", "", "line end"},
		{numbers, "079 123 45 67", "+41791234567", ""}, {numbers, "+49 170 1234567", "+491701234567", ""}, {numbers, "0041 79 123 45 67", "+41791234567", ""},
		{numbers, "12", "", `"12" is not a possible telephone number in CH`}, {numbers, "", "", ""}, {numbers, "call me", "", "is not a possible telephone number"},
		{room, "tours@rooms.example", "tours@rooms.example", ""}, {room, "ann@x.example/phone", "ann@x.example", ""}, {room, "tours", "", "is no address of a room or a person"},
		{room, "a@b@c", "", "is no address"}, {rooms, "tours", "tours@rooms.example", ""}, {rooms, "#tours", "tours@rooms.example", ""}, {rooms, "ann@x.example", "ann@x.example", ""},
		{rooms, "upper tours", "", "is no address"}, {rooms, "#", "", "is no address"}, {rooms, "##tours", "", "is no address"}, {Rule{}, " any thing ", "any thing", ""}, {Rule{}, strings.Repeat("x", 3000), "", "too long"},
		{anything, "a@x.example,b@x.example", "a@x.example, b@x.example", ""}, {anything, "a, b", "a, b", ""}, {anything, "x\ny", "", "line end"},
	} {
		got, err := c.rule.Take(c.in, ws)
		if c.fail != "" {
			require.ErrorContains(t, err, c.fail, "%q", c.in)
			assert.Empty(t, got, c.in)
			continue
		}
		require.NoError(t, err, c.in)
		assert.Equal(t, c.want, got, c.in)
	}
	_, err = numbers.Take("079 123 45 67", value.DefaultWorkspace())
	assert.ErrorContains(t, err, "begin it with + and the country's code")
}

// Whatever comes in, what is taken is taken again as it is, and holds no line end: nobody gets into a header by an address.
func FuzzTaking(f *testing.F) {
	for _, s := range []string{"a@x.example, b@x.example", "079 123 45 67", "#tours", "tours@rooms.example/x", "a@x\r\nBcc: y@z"} {
		f.Add(s)
	}
	ws := value.Workspace{Locale: "de-CH"}
	f.Fuzz(func(t *testing.T, text string) {
		for _, rule := range []Rule{{Form: Mail}, {Form: Number}, {Form: Room}, {Any: true}, {}} {
			got, err := rule.Take(text, ws)
			if err != nil {
				require.Empty(t, got)
				continue
			}
			require.NotContains(t, got, "\n")
			require.NotContains(t, got, "\r")
			again, err := rule.Take(got, ws)
			require.NoError(t, err, "%q of %q", got, text)
			require.Equal(t, got, again)
		}
	})
}
