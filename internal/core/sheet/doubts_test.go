package sheet

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/value"
)

// A text that never came, while one like it did, is doubted, and mended where it stands.
func TestDoubts(t *testing.T) {
	schema := &value.Schema{Learnt: true, Fields: []value.Field{
		{Name: "state", Type: value.Text}, {Name: "code", Type: value.Text}, {Name: "tags", Type: value.List, Of: value.Text}, {Name: "valley", Type: value.Choice, Options: []string{"Upper", "Mill"}},
		{Name: "litres", Type: value.Num},
	}}
	seen := map[string][]Tally{
		"state": {{"Past due", 31}, {"open", 9}}, "code": {{"1,240.5", 4}, {"7", 2}}, "tags": {{"organic", 5}}, "valley": {{"Upper", 9}}, "litres": {{"5", 1}},
	}
	for _, c := range []struct{ keep, want string }{
		{"{field: state, is: past due}", ""},
		{"{field: state, is: Past-due}", `keep: no recent record has state "Past-due"; 31 have "Past due"; did you mean Past due? map[field:state is:Past due]`},
		{"{field: state, is_not: pastdue}", `keep: no recent record has state "pastdue"; 31 have "Past due"; did you mean Past due? map[field:state is_not:Past due]`},
		{"{field: state, one_of: [opne, closed]}", `keep: no recent record has state "opne"; 9 have "open"; did you mean open? map[field:state one_of:[open closed]]`},
		{"{all: [{field: state, became: closed}, {any: [{field: state, was: opn}]}]}", `keep.all[1].any[0]: no recent record has state "opn"; 9 have "open"; did you mean open? map[field:state was:open]`},
		{"{field: state, contains: past_due}", ""},
		{"{field: state, is: \"${record.code}\"}", ""},
		{"{field: code, is: 1240.5}", `keep: code is text, so "1240.5" is compared letter by letter, and the records write that number as "1,240.5"; did you mean 1,240.5? map[field:code is:1,240.5]`},
		{"{field: code, is: 7}", ""},
		{"{field: code, is: 8}", ""},
		{"{field: tags, has_any: [orgnic]}", `keep: no recent record has tags "orgnic"; 5 have "organic"; did you mean organic? map[field:tags has_any:[organic]]`},
		{"{field: valley, is: Uper}", ""}, // its choices are known: that is another warning
		{"{field: litres, is: 6}", ""},
		{"{field: other, is: x}", ""},
	} {
		t.Run(c.keep, func(t *testing.T) {
			_, sh, problems := Compile([]byte("dorfbote: 1\nname: T\nwatch: {source: a/b}\nkeep: "+c.keep+"\nmessages: {m: {title: x}}\nroute: {otherwise: {tell: [{to: c/d, message: m}]}}\n"), Known{Workspace: value.DefaultWorkspace(), Schema: func(string) *value.Schema { return schema }})
			require.NotNil(t, sh, "%v", problems)
			got := ""
			for _, p := range sh.Doubts(&formula.Words{Workspace: value.DefaultWorkspace(), Schema: schema}, func(f string) []Tally { return seen[f] }) {
				assert.True(t, p.Warning)
				got += fmt.Sprintf("%s: %s %v", p.Path, p.String()[len("warning: "):], p.Mend.Put)
				assert.Equal(t, p.Path, p.Mend.Path)
			}
			assert.Equal(t, c.want, got)
		})
	}
}
