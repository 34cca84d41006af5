package sheet

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/place"
	"dorfbote/internal/core/value"
)

// The key of a table's row that never came while one like it did is doubted, and so is what its connection knows no place by.
func TestTablesAreDoubted(t *testing.T) {
	rules := map[string]place.Rule{
		"square": {Form: place.Listed, Places: []string{"#tours", "#lab"}}, "far": {Form: place.Room, Rooms: "rooms.chat.example"}, "desk": {Form: place.Mail},
	}
	seen := map[string][]Tally{"room": {{"tours", 40}, {"#lab", 3}}, "by": {{"lena@chat.example", 4}}}
	for _, c := range []struct {
		rows, tell string
		want       []string
	}{
		{`{from: tours, to: "#lab"}`, `{to: "square/${rooms[record.room].to}"}`, nil},
		{`{from: "tours@rooms.chat.example", to: "#lab"}, {from: lab, to: "#tours"}, {from: quiet, to: "#tours"}`, `{to: "square/${rooms[record.room].to}"}`, []string{
			`tables.rooms[0].from: no recent record has room "tours@rooms.chat.example", by which rooms is looked up in; 40 have "tours"; did you mean tours?`,
			`tables.rooms[1].from: no recent record has room "lab", by which rooms is looked up in; 3 have "#lab"; did you mean #lab?`,
		}},
		{`{from: "#tours", to: lab}, {from: tours, to: square/#lab}, {from: tours, to: far/lab}, {from: tours, to: nowhere}`, `{to: "square/${it.to}", each: "${rows(rooms, record.room)}"}`, []string{
			`tables.rooms[0].to: square cannot be told: "lab" is none of its places; did you mean #lab?`,
			`tables.rooms[1].to: square cannot be told: "square/#lab" is none of its places; did you mean #lab?`,
			`tables.rooms[2].to: square cannot be told: "far/lab" is none of its places; it is a place of far, which needs a column and a tell of its own`,
			`tables.rooms[3].to: square cannot be told: "nowhere" is none of its places`,
			`tables.rooms[0].from: no recent record has room "#tours", by which rooms is looked up in; 40 have "tours"; did you mean tours?`,
		}},
		{`{from: tours, far: lab, desk: ann@x.example}, {from: tours, far: "#lab", desk: "ann at x"}, {from: tours}`, `{to: "far/${it.far}", each: "${rows(rooms, record.room)}", if_empty: skip}, {to: "desk/${it.desk}", each: "${rows(rooms, record.room)}", if_empty: skip}`, []string{
			`tables.rooms[1].desk: desk cannot be told: "ann at x" is no mail address`,
		}},
		{`{from: "lena@elsewhere.example", to: "#lab"}`, `{to: "square/${rooms[record.by].to}"}`, nil},
		{`{from: nobody, to: "#lab"}`, `{to: "square/#lab"}`, nil},
	} {
		_, sh, problems := Compile([]byte("dorfbote: 1\nname: T\nwatch: {source: a/b}\ntables: {rooms: ["+c.rows+"]}\nmessages: {m: {title: x}}\nroute: {otherwise: {tell: ["+
			strings.ReplaceAll(c.tell, "{to:", "{message: m, to:")+"]}}\n"), Known{Workspace: value.DefaultWorkspace(),
			Reaches: func(c string) (place.Rule, bool) { r, ok := rules[c]; return r, ok }, Connections: func() []string { return []string{"square", "far", "desk"} }})
		require.NotNil(t, sh, "%v", problems)
		var got []string
		for _, p := range append(problems, sh.Doubts(&formula.Words{Workspace: value.DefaultWorkspace()}, func(f string) []Tally { return seen[f] })...) {
			assert.True(t, p.Warning, "%v", p)
			got = append(got, p.Path+": "+p.Message)
			if p.Suggestion != "" {
				got[len(got)-1] += "; did you mean " + p.Suggestion + "?"
				assert.Equal(t, p.Path, p.Mend.Path)
				assert.Equal(t, p.Suggestion, p.Mend.Put)
			}
		}
		assert.Equal(t, c.want, got, c.rows)
	}
}
