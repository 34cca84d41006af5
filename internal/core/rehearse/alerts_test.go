package rehearse

import (
	"cmp"
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	places "dorfbote/internal/core/place"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
)

// lived rehearses the rest of a sheet that watches lab/samples over arrivals written as "id time key field=value …", with what people
// do as JSON without its braces, and gives each line as "time arrival verdict …". What could not count ends the list.
func lived(t *testing.T, rest string, arrivals, answers []string, until string) []string {
	t.Helper()
	var file, given strings.Builder
	for _, line := range arrivals {
		f := strings.Fields(line)
		record := map[string]any{"id": f[2]}
		kind := "updated"
		for _, word := range f[3:] {
			name, v, some := strings.Cut(word, "=")
			if !some {
				kind = name
				continue
			}
			record[name] = v
		}
		raw, _ := json.Marshal(record)
		fmt.Fprintf(&file, `{"specversion":"1.0","id":%q,"source":"lab/samples","type":"dorfbote.record.%s","time":"2026-11-%s:00Z","subject":%q,"data":{"record":%s}}`+"\n", f[0], kind, f[1], f[2], raw)
	}
	for _, line := range answers {
		at, what, _ := strings.Cut(line, " ")
		fmt.Fprintf(&given, `{"at":"2026-11-%s:00Z",%s}`+"\n", at, what)
	}
	reaches := map[string]places.Rule{"square": {Any: true}, "letters": {Kind: "mail", Form: places.Mail, Can: []string{"reply"}}}
	plan, _, problems := sheet.Compile([]byte("dorfbote: 1\nname: T\nwatch: {source: lab/samples}\n"+rest), sheet.Known{
		Workspace: value.DefaultWorkspace(), Reaches: func(c string) (places.Rule, bool) { r, ok := reaches[c]; return r, ok },
	})
	require.NotNil(t, plan, "%v", problems)
	in := strings.NewReader(file.String())
	scout, err := Look(in, nil, func(string) bool { return false })
	require.NoError(t, err)
	var end time.Time
	if until != "" {
		end, err = time.Parse("2006-01-02T15:04", "2026-11-"+until)
		require.NoError(t, err)
	}
	var got, refused []string
	m := NewMachine(plan, nil, func(l Line) error {
		got = append(got, brief(t, l))
		return nil
	})
	list, err := ReadAnswers(strings.NewReader(given.String()))
	require.NoError(t, err)
	m.Answers(list, func(a Answer, why error) { refused = append(refused, "! "+why.Error()) })
	require.NoError(t, scout.Run(in, plan, end, m))
	if until == "" {
		assert.Empty(t, m.queue, "nothing waits any more")
	}
	return append(got, refused...)
}

// brief writes a printed line so that a person can compare it.
func brief(t *testing.T, l Line) string {
	t.Helper()
	var out struct {
		Arrival, At, Verdict, Step, Ask, Where string
		DecidedBy                              string `json:"decided_by"`
		Answers                                map[string]struct{ Choice, By, Comment, At string }
		Posts                                  []struct {
			To, Title, Plain, Edits string
			Under                   *string
			Done                    bool
			Buttons                 []struct{ Text, Does string }
		}
	}
	require.NoError(t, json.Unmarshal(l.AppendJSON(nil), &out))
	at, err := time.Parse(time.RFC3339Nano, out.At)
	require.NoError(t, err)
	s := at.UTC().Format("02T15:04") + " " + out.Arrival + " " + out.Verdict
	for _, x := range []string{out.Step, out.Ask, out.Where, out.DecidedBy} {
		if x != "" {
			s += " " + x
		}
	}
	if v, ok := out.Answers["v"]; ok {
		s += fmt.Sprintf(" (%s by %s: %s)", v.Choice, v.By, v.Comment)
	}
	for _, p := range out.Posts {
		s += " | " + p.To + ": " + cmp.Or(p.Title, p.Plain)
		if p.Edits != "" {
			at, _ := time.Parse(time.RFC3339Nano, p.Edits)
			s += " edits " + at.UTC().Format("02T15:04")
		}
		if p.Done {
			s += " done"
		}
		if p.Under != nil {
			s += " under " + *p.Under
		}
		for _, b := range p.Buttons {
			s += " [" + b.Text + ":" + b.Does + "]"
		}
	}
	return s
}

const escalating = `
messages:
  m: {title: "${record.id} ${record.status}", buttons: [{text: I take it, claim: true}, {text: Later, later: 1h}]}
  e: {title: "nobody: ${record.id} ${record.status}", tone: "${record.tone}"}
route: {otherwise: {tell: [{to: "square/#tours", message: m}]}}
follow:
  - unless: {claimed: true, within: 15m}
    tell: [{to: "square/#board", message: e}]
  - unless: {any: [{answered: true}, {field: status, is: done}], within: 1h}
    tell: [{to: "letters/duty@lindental.example", message: e}]
`

func TestAlertsThatNobodyTakesAreEscalated(t *testing.T) {
	const told = "20T06:00 a1 told | square/#tours: S-1 late [I take it:claim] [Later:later]"
	arrival := []string{"a1 20T06:00 S-1 status=late"}
	for _, c := range []struct {
		name, rest       string
		arrivals, people []string
		want             []string
	}{
		{"nobody does anything", "", arrival, nil, []string{told,
			"20T06:15 a1 followed follow[0] | square/#board: nobody: S-1 late", "20T07:00 a1 followed follow[1] | letters/duty@lindental.example: nobody: S-1 late"}},
		{"a claim ends what names it", "", arrival, []string{`20T06:15 "arrival":"a1","claim":true,"by":"Vera"`}, []string{told,
			"20T06:15 a1 claimed", "20T07:00 a1 followed follow[1] | letters/duty@lindental.example: nobody: S-1 late"}},
		{"a reply ends the other", "", arrival, []string{`20T06:59 "arrival":"a1","reply":"on my way","by":"Vera"`}, []string{told,
			"20T06:15 a1 followed follow[0] | square/#board: nobody: S-1 late"}},
		{"the record itself, at that very moment", "", append(arrival, "a2 20T07:00 S-1 status=done"), nil, []string{told,
			"20T06:15 a1 followed follow[0] | square/#board: nobody: S-1 late",
			"20T07:00 a2 told | square/#tours: S-1 done [I take it:claim] [Later:later]",
			"20T07:15 a2 followed follow[0] | square/#board: nobody: S-1 done"}},
		{"the second to take it is told who was faster", "", arrival, []string{`20T06:05 "arrival":"a1","button":"i take it","by":"Vera"`, `20T06:06 "arrival":"a1","claim":true,"by":"Jonas"`,
			`20T06:07 "arrival":"zz","claim":true,"by":"Jonas"`, `20T06:08 "arrival":"a1","button":"Nope","by":"Jonas"`}, []string{told, "20T06:05 a1 claimed",
			"20T07:00 a1 followed follow[1] | letters/duty@lindental.example: nobody: S-1 late", "! Vera was faster", "! nothing was told or asked of zz", "! what was told of a1 has no button \"Nope\""}},
		{"later tells it again, unless it is claimed", "", arrival, []string{`20T06:10 "arrival":"a1","button":"Later","by":"V"`, `20T06:12 "arrival":"a1","button":"Later","by":"W"`, `20T07:10 "arrival":"a1","button":"Later","by":"W"`, `20T07:11 "arrival":"a1","button":"Later","by":"W"`, `20T07:12 "arrival":"a1","claim":true,"by":"V"`}, []string{told,
			"20T06:15 a1 followed follow[0] | square/#board: nobody: S-1 late", "20T07:00 a1 followed follow[1] | letters/duty@lindental.example: nobody: S-1 late",
			"20T07:10 a1 told | square/#tours: S-1 late [I take it:claim] [Later:later]", "20T07:12 a1 claimed", "! V was faster", "! V was faster"}},
		{"quiet hours hold it", "pace: {quiet: {open: [{from: \"05:00\", to: \"06:10\"}]}}\n", arrival, nil, []string{told,
			"20T06:15 a1 held follow[0]", "20T07:00 a1 held follow[1]",
			"21T05:00 a1 released follow[0] | square/#board: nobody: S-1 late", "21T05:00 a1 released follow[1] | letters/duty@lindental.example: nobody: S-1 late"}},
		{"what is urgent passes", "pace: {quiet: {open: [{from: \"05:00\", to: \"06:10\"}], urgent: pass}}\n", []string{"a1 20T06:00 S-1 status=late tone=urgent"},
			[]string{`20T06:30 "arrival":"a1","reply":"yes","by":"V"`}, []string{told, "20T06:15 a1 followed follow[0] | square/#board: nobody: S-1 late"}},
		{"it counts from when the post went", "pace: {quiet: {open: [{from: \"08:00\", to: \"09:00\"}]}}\n", arrival, []string{`20T07:00 "arrival":"a1","claim":true,"by":"V"`}, []string{"20T06:00 a1 held", "20T07:00 a1 claimed",
			"20T08:00 a1 released | square/#tours: S-1 late [I take it:claim] [Later:later]", "20T09:00 a1 held follow[1]",
			"21T08:00 a1 released follow[1] | letters/duty@lindental.example: nobody: S-1 late"}},
		{"a repeated arrival starts none", "pace: {repeat: {key: \"${record.id}\", within: 1h}}\n", append(arrival, "a2 20T06:01 S-1 status=late"), []string{`20T06:02 "arrival":"a1","claim":true`, `20T06:02 "arrival":"a1","reply":"x"`}, []string{told, "20T06:01 a2 repeated", "20T06:02 a1 claimed"}},
	} {
		t.Run(c.name, func(t *testing.T) { assert.Equal(t, c.want, lived(t, escalating+c.rest, c.arrivals, c.people, "")) })
	}
}

// What cannot be gathered, asked or addressed at an escalation's moment tells once too often rather than not at all, and says what failed;
// a claim ends it all the same.
func TestEscalationsThatFail(t *testing.T) {
	const messages = `
messages: {m: {title: "${record.id}"}, e: {title: "nobody: ${record.id}"}}
route: {rows: [{name: A, when: {field: n, is: "1"}, tell: [{to: "square/#tours", message: m}]}]}
`
	// The record that starts it can be told of; what it is when the moment comes cannot.
	arrivals := []string{"a1 20T06:00 S-1 n=1 who=a@x.example", "a2 20T06:05 S-1 n=bad who=nobody"}
	claim := []string{`20T06:01 "arrival":"a1","claim":true,"by":"V"`}
	for _, c := range []struct {
		name, rest string
		people     []string
		want       []string
	}{
		{"what is gathered fails", `gather: [{name: n, value: "record.n == 'bad' ? int(record.n) : 1"}]` + messages + `follow: [{unless: {claimed: true, within: 15m}, tell: [{to: "square/#board", message: e}]}]`, nil,
			[]string{"20T06:00 a1 told | square/#tours: S-1", "20T06:05 a2 failed gather[0]", "20T06:15 a1 failed follow[0] gather[0]"}},
		{"but it was taken", `gather: [{name: n, value: "record.n == 'bad' ? int(record.n) : 1"}]` + messages + `follow: [{unless: {claimed: true, within: 15m}, tell: [{to: "square/#board", message: e}]}]`, claim,
			[]string{"20T06:00 a1 told | square/#tours: S-1", "20T06:01 a1 claimed", "20T06:05 a2 failed gather[0]"}},
		{"a claim among others ends it, too", `gather: [{name: n, value: "record.n == 'bad' ? int(record.n) : 1"}]` + messages + `follow: [{unless: {any: [{claimed: true}, {answered: true}], within: 15m}, tell: [{to: "square/#board", message: e}]}]`, claim,
			[]string{"20T06:00 a1 told | square/#tours: S-1", "20T06:01 a1 claimed", "20T06:05 a2 failed gather[0]"}},
		{"what is gathered fails, and somebody is told of that", `gather: [{name: n, value: "record.n == 'bad' ? int(record.n) : 1", if_fails: {tell: [{to: "square/#lab", message: e}]}}]` + messages + `follow: [{unless: {claimed: true, within: 15m}, tell: [{to: "square/#board", message: e}]}]`, nil,
			[]string{"20T06:00 a1 told | square/#tours: S-1", "20T06:05 a2 told gather[0] | square/#lab: nobody: S-1", "20T06:15 a1 followed follow[0] gather[0] | square/#lab: nobody: S-1",
				"20T06:20 a2 followed follow[0] gather[0] | square/#lab: nobody: S-1"}},
		{"its condition fails", strings.TrimPrefix(messages, "\n") + `follow: [{unless: {formula: "int(record.n) > 5", within: 15m}, tell: [{to: "square/#board", message: e}]}]`, nil,
			[]string{"20T06:00 a1 told | square/#tours: S-1", "20T06:05 a2 unrouted", "20T06:15 a1 followed follow[0] | square/#board: nobody: S-1"}},
		{"its address fails", strings.TrimPrefix(messages, "\n") + `follow: [{unless: {claimed: true, within: 15m}, tell: [{to: "letters/${record.who}", message: e}]}]`, nil,
			[]string{"20T06:00 a1 told | square/#tours: S-1", "20T06:05 a2 unrouted", "20T06:15 a1 failed follow[0] follow[0].tell[0].to"}},
		{"one of two addresses fails", strings.TrimPrefix(messages, "\n") + `follow: [{unless: {claimed: true, within: 15m}, tell: [{to: "letters/${record.who}", message: e}, {to: "square/#board", message: e}]}]`, nil,
			[]string{"20T06:00 a1 told | square/#tours: S-1", "20T06:05 a2 unrouted", "20T06:15 a1 followed follow[0] | square/#board: nobody: S-1"}},
	} {
		t.Run(c.name, func(t *testing.T) { assert.Equal(t, c.want, lived(t, c.rest, arrivals, c.people, "")) })
	}
}

// What follows on what was held until its moment is in its place, also where the clock stops.
func TestWhatFollowsOnWhatWasHeld(t *testing.T) {
	const rest = `
messages: {m: {title: "${record.id}", buttons: [{text: Later, later: 30m}]}, e: {title: "nobody: ${record.id}"}}
route: {otherwise: {tell: [{to: "square/#a", message: m}]}}
follow: [{unless: {claimed: true, within: 1h}, tell: [{to: "square/#b", message: e}]}]
pace: {digest: {every: 2h}}
`
	arrivals := []string{"a1 20T06:00 S-1", "a2 20T06:10 S-2", "a3 20T09:30 S-3"}
	want := []string{"20T06:00 a1 held", "20T06:10 a2 held", "20T08:00 a1 digest | square/#a: T: 2 messages",
		"20T09:00 a1 followed follow[0] | square/#b: nobody: S-1", "20T09:00 a2 followed follow[0] | square/#b: nobody: S-2",
		"20T09:30 a3 held", "20T11:30 a3 digest | square/#a: T: 1 message", "20T12:30 a3 followed follow[0] | square/#b: nobody: S-3"}
	assert.Equal(t, want, lived(t, rest, arrivals, nil, ""))
	for until, n := range map[string]int{"21T00:00": 8, "20T11:00": 6, "20T09:00": 5, "20T08:30": 3} {
		assert.Equal(t, want[:n], lived(t, rest, arrivals, nil, until), until)
	}
}

// A button of later tells again what has it, as it was, unless what the post follows its record until has come true.
func TestLaterAndWhatFollowsItsRecord(t *testing.T) {
	const rest = `
messages: {m: {title: "${record.id} ${record.status}", buttons: [{text: Later, later: 1h}]}, d: {title: more}}
route: {otherwise: {tell: [{to: "square/#tours", message: m, reply: d, keep_up: {until: {field: status, is: done}}}]}}
`
	later := []string{`20T06:10 "arrival":"a1","button":"Later","by":"V"`}
	got := lived(t, rest, []string{"a1 20T06:00 S-1 status=late"}, later, "")
	require.Len(t, got, 2)
	assert.Equal(t, "20T07:10 a1 told | square/#tours: S-1 late [Later:later]", strings.SplitN(got[1], " | square/#tours: more", 2)[0])
	got = lived(t, rest, []string{"a1 20T06:00 S-1 status=late", "a2 20T06:30 S-1 status=done"}, later, "")
	assert.Len(t, got, 2, "it is done meanwhile: %v", got)
	assert.Contains(t, got[1], "edits 20T06:00 done")
	got = lived(t, rest, []string{"a1 20T06:00 S-1 status=late", "a2 20T06:30 S-1 removed status=late"}, later, "")
	assert.Len(t, got, 2, "it is gone: %v", got)
	got = lived(t, rest, []string{"a1 20T06:00 S-1 status=late"}, append(later, `20T06:20 "arrival":"a1","button":"Later","by":"W"`), "")
	require.Len(t, got, 3, "once")
	assert.Equal(t, "! V was faster", got[2])

	// Who is called by a place presses there alone; and it is told again as it went.
	const two = `
messages: {m: {title: "${record.id} ${record.status}", tone: "${record.tone}", buttons: [{text: Later, later: 1h}]}}
route: {otherwise: {tell: [{to: "square/#a", message: m}, {to: "square/#b", message: m}]}}
pace: {quiet: {open: [{from: "08:00", to: "20:00"}], urgent: pass}, repeat: {key: "${record.id}", within: 9h, then: update}}
`
	got = lived(t, two, []string{"a1 20T06:00 S-1 status=late", "a2 20T06:30 S-1 status=worse tone=urgent"}, []string{`20T07:10 "arrival":"a1","button":"Later","by":"square/#b"`}, "")
	require.Len(t, got, 5)
	assert.Equal(t, "20T08:10 a1 told | square/#b: S-1 worse [Later:later]", got[4])
}

func TestPostsFollowTheirRecord(t *testing.T) {
	sheet := func(to, rest string) string {
		return `
keep: {field: status, one_of: [late, later]}
messages: {m: {title: "${record.id} ${record.status}"}, n: {title: "other ${record.status}"}}
route:
  rows: [{when: {field: status, is: late}, tell: [{to: "` + to + `", message: m, keep_up: {until: {field: status, one_of: [done, gone]}}}]}]
  otherwise: {tell: [{to: "square/#b", message: n}]}
` + rest
	}
	for _, c := range []struct {
		name, to, rest string
		arrivals       []string
		want           []string
	}{
		{"until it is done", "square/#a", "", []string{"a1 20T06:00 S-1 status=late", "a2 20T06:10 S-1 status=on", "a3 20T06:11 S-1 status=on", "a4 20T06:20 S-1 status=done", "a5 20T06:30 S-1 status=on", "a6 20T06:40 S-1 status=late"}, []string{
			"20T06:00 a1 told | square/#a: S-1 late", "20T06:10 a2 dropped keep | square/#a: S-1 on edits 20T06:00", "20T06:11 a3 dropped keep",
			"20T06:20 a4 dropped keep | square/#a: S-1 done edits 20T06:00 done", "20T06:30 a5 dropped keep", "20T06:40 a6 told | square/#a: S-1 late"}},
		{"a start meanwhile edits it, whatever row would hold", "square/#a", "", []string{"a1 20T06:00 S-1 status=late", "a2 20T06:10 S-1 status=later", "a3 20T06:20 S-2 status=later"}, []string{
			"20T06:00 a1 told | square/#a: S-1 late", "20T06:10 a2 repeated | square/#a: S-1 later edits 20T06:00", "20T06:20 a3 told | square/#b: other later"}},
		{"a removal is the last, as it was", "square/#a", "", []string{"a1 20T06:00 S-1 status=late", "a2 20T06:10 S-1 status=on removed", "a3 20T06:20 S-1 status=on"}, []string{
			"20T06:00 a1 told | square/#a: S-1 late", "20T06:10 a2 ignored watch.on | square/#a: S-1 on edits 20T06:00 done", "20T06:20 a3 dropped keep"}},
		{"one that changes nothing ends in silence", "square/#a", "", []string{"a1 20T06:00 S-1 status=late", "a2 20T06:10 S-1 status=late removed", "a3 20T06:20 S-1 status=on"}, []string{
			"20T06:00 a1 told | square/#a: S-1 late", "20T06:10 a2 ignored watch.on", "20T06:20 a3 dropped keep"}},
		{"one reply where there are no edits", "letters/a@x.example", "", []string{"a1 20T06:00 S-1 status=late", "a2 20T06:10 S-1 status=on", "a3 20T06:20 S-1 status=gone"}, []string{
			"20T06:00 a1 told | letters/a@x.example: S-1 late", "20T06:10 a2 dropped keep", "20T06:20 a3 dropped keep | letters/a@x.example: S-1 gone done under m"}},
		{"what is held is changed where it waits", "square/#a", "pace: {quiet: {open: [{from: \"08:00\", to: \"09:00\"}]}}\n", []string{"a1 20T06:00 S-1 status=late", "a2 20T06:10 S-1 status=on", "a3 20T10:20 S-1 status=off"}, []string{
			"20T06:00 a1 held", "20T06:10 a2 dropped keep", "20T08:00 a1 released | square/#a: S-1 on", "20T10:20 a3 dropped keep | square/#a: S-1 off edits 20T08:00"}},
		{"what went in a digest is not kept up", "square/#a", "pace: {digest: {every: 1h}}\n", []string{"a1 20T06:00 S-1 status=late", "a2 20T06:10 S-1 status=on", "a3 20T10:20 S-1 status=off"}, []string{
			"20T06:00 a1 held", "20T06:10 a2 dropped keep", "20T07:00 a1 digest | square/#a: T: 1 message", "20T10:20 a3 dropped keep"}},
		{"repeat does not touch them", "square/#a", "pace: {repeat: {key: \"${record.id}\", within: 1h, then: reply}, limit: {posts: 1, per: 1h}}\n", []string{"a1 20T06:00 S-1 status=late", "a2 20T06:10 S-1 status=later", "a3 20T06:20 S-1 status=on"}, []string{
			"20T06:00 a1 told | square/#a: S-1 late", "20T06:10 a2 repeated | square/#a: S-1 later edits 20T06:00", "20T06:20 a3 dropped keep | square/#a: S-1 on edits 20T06:00"}},
	} {
		t.Run(c.name, func(t *testing.T) { assert.Equal(t, c.want, lived(t, sheet(c.to, c.rest), c.arrivals, nil, "")) })
	}
	assert.Equal(t, []string{"20T06:00 a1 told | square/#a: S-1 late", "20T06:10 a2 dropped keep"},
		lived(t, strings.Replace(sheet("square/#a", ""), "gone]}", "gone]}, for: 5m", 1), []string{"a1 20T06:00 S-1 status=late", "a2 20T06:10 S-1 status=on"}, nil, ""), "it ends")
	assert.Equal(t, []string{"20T06:00 a1 told | square/#a: S-1 late", "20T06:10 a2 told | square/#a: S-1 late", "20T06:12 a3 dropped keep | square/#a: S-1 on edits 20T06:10"},
		lived(t, strings.Replace(sheet("square/#a", ""), "gone]}", "gone]}, for: 5m", 1), []string{"a1 20T06:00 S-1 status=late", "a2 20T06:10 S-1 status=late", "a3 20T06:12 S-1 status=on"}, nil, ""), "and what comes after it is told")
	assert.Equal(t, []string{"20T06:00 a1 told | square/#a: S-1 late", "20T06:10 a2 dropped keep"},
		lived(t, strings.Replace(sheet("square/#a", ""), "one_of: [done, gone]", "is_not: x", 1), []string{"a1 20T06:00 S-1 status=late", "a2 20T06:10 S-1 status=on"}, nil, ""), "it was over when the post was made")
}

// Posts of a list follow its items, each by its address: what is still there is made anew, what is new is told, and of what went stays
// what was told. A copy of a message that is taken back says so.
func TestPostsFollowTheItemsOfAList(t *testing.T) {
	const each = `
tables: {rooms: [{from: "r", to: "#a"}, {from: "r", to: "#b"}, {from: "s", to: "#b"}, {from: "s", to: "#c"}]}
messages: {m: {title: "${it.to} ${record.text}"}, d: {title: "more of ${it.to}"}}
route: {otherwise: {tell: [{to: "square/${it.to}", message: m, reply: d, each: "${rows(rooms, record.room)}", most: 2, keep_up: {until: {field: text, is: end}}}]}}
`
	const first = "20T06:00 a1 told | square/#a: #a x | square/#a: more of #a under m | square/#b: #b x | square/#b: more of #b under m"
	for _, c := range []struct {
		name, sheet string
		arrivals    []string
		want        []string
	}{
		{"each by its address", each, []string{"a1 20T06:00 S-1 room=r text=x", "a2 20T06:10 S-1 room=r text=y", "a3 20T06:20 S-1 room=r text=y", "a4 20T06:30 S-1 room=r text=end", "a5 20T06:40 S-1 room=r text=z removed"}, []string{first,
			"20T06:10 a2 repeated | square/#a: #a y edits 20T06:00 | square/#b: #b y edits 20T06:00", "20T06:20 a3 repeated",
			"20T06:30 a4 repeated | square/#a: #a end edits 20T06:00 done | square/#b: #b end edits 20T06:00 done", "20T06:40 a5 ignored watch.on"}},
		{"what is new is told, what went stays", each, []string{"a1 20T06:00 S-1 room=r text=x", "a2 20T06:10 S-1 room=s text=x", "a3 20T06:20 S-1 room=r text=z", "a4 20T06:30 S-1 room=s text=w removed"}, []string{first,
			"20T06:10 a2 repeated | square/#c: #c x | square/#c: more of #c under m", "20T06:20 a3 repeated | square/#a: #a z edits 20T06:00 | square/#b: #b z edits 20T06:00",
			"20T06:30 a4 ignored watch.on | square/#b: #b w edits 20T06:00 done | square/#c: #c w edits 20T06:10 done"}},
		{"what is new waits for the hours", each + "pace: {quiet: {open: [{from: \"06:00\", to: \"06:05\"}]}}\n", []string{"a1 20T06:00 S-1 room=r text=x", "a2 20T06:10 S-1 room=s text=y", "a3 20T06:30 S-1 room=s text=z", "a4 21T06:30 S-1 room=s text=w"}, []string{first,
			"20T06:10 a2 repeated | square/#b: #b y edits 20T06:00", "20T06:30 a3 repeated | square/#b: #b z edits 20T06:00",
			"21T06:00 a2 released | square/#c: #c z | square/#c: more of #c under m", "21T06:30 a4 repeated | square/#b: #b w edits 20T06:00 | square/#c: #c w edits 21T06:00"}},
		{"a copy that is taken back", `
tables: {rooms: [{from: "r", to: "#a"}, {from: "r", to: "#b"}, {from: "s", to: "#a"}]}
messages: {m: {like: {of: "${record}", author: true}}}
route: {otherwise: {tell: [{to: "square/${it.to}", message: m, each: "${rows(rooms, record.room)}", keep_up: {until: {field: id, empty: true}}}]}}
`, []string{"a1 20T06:00 S-1 room=r text=x", "a2 20T06:10 S-1 room=r text=y", "a3 20T06:20 S-1 room=s text=y removed", "a4 20T06:30 S-2 room=s text=q", "a5 20T06:40 S-2 removed"}, []string{
			"20T06:00 a1 told | square/#a: x | square/#b: x", "20T06:10 a2 repeated | square/#a: y edits 20T06:00 | square/#b: y edits 20T06:00",
			"20T06:20 a3 ignored watch.on | square/#a: taken back edits 20T06:00 done | square/#b: taken back edits 20T06:00 done",
			"20T06:30 a4 told | square/#a: q", "20T06:40 a5 ignored watch.on | square/#a: taken back edits 20T06:30 done"}},
		{"one whose side does not edit", `
messages: {m: {like: {of: "${record}"}}}
route: {otherwise: {tell: [{to: "letters/a@x.example", message: m, keep_up: {until: {field: id, empty: true}}}]}}
`, []string{"a1 20T06:00 S-1 text=x", "a2 20T06:10 S-1 text=y", "a3 20T06:20 S-1 text=y removed"}, []string{
			"20T06:00 a1 told | letters/a@x.example: x", "20T06:10 a2 repeated", "20T06:20 a3 ignored watch.on | letters/a@x.example: taken back done under m"}},
	} {
		t.Run(c.name, func(t *testing.T) { assert.Equal(t, c.want, lived(t, c.sheet, c.arrivals, nil, "")) })
	}
}

const asks = `
gather: [{name: twice, value: "record.n + record.n"}]
ask:
  - name: v
    of: ["square/#head", "letters/board@x.example"]
    message: q
    choices: [{name: yes, text: Approve}, {name: no, text: Decline, comment: required}]
    within: 2h
    remind: [30m, 1h]
    otherwise: no
messages: {q: {title: "may ${record.id}?", tone: "${record.tone}"}, m: {title: "${record.id} ${v.choice} by ${v.by}: ${v.comment} ${date(now, 'HH:mm')} ${twice}"}}
route:
  rows: [{when: {field: v.choice, is: "yes"}, tell: [{to: "square/#a", message: m}]}]
  otherwise: {tell: [{to: "square/#b", message: m}]}
`

func TestQuestionsArePutAndAnswered(t *testing.T) {
	asks := strings.Replace(strings.Replace(asks, "{name: yes,", `{name: "yes",`, 1), "{name: no,", `{name: "no",`, 1)
	asks = strings.Replace(asks, "otherwise: no", `otherwise: "no"`, 1)
	all := strings.Replace(asks, "    message: q\n", "    all: true\n    message: q\n", 1)
	const asked = "20T06:00 a1 asked v | square/#head: may S-1? | letters/board@x.example: may S-1?"
	first := []string{asked, "20T06:30 a1 asked v | square/#head: may S-1? | letters/board@x.example: may S-1?", "20T07:00 a1 asked v | square/#head: may S-1? | letters/board@x.example: may S-1?"}
	arrival := []string{"a1 20T06:00 S-1 n=2"}
	for _, c := range []struct {
		name, sheet      string
		arrivals, people []string
		want             []string
	}{
		{"nobody answers", asks, arrival, nil, append(first[:3:3], "20T08:00 a1 told (no by : ) | square/#b: S-1 no by : 08:00 22")},
		{"the first answer counts", asks, arrival, []string{`20T06:10 "arrival":"a1","ask":"v","choice":"yes","by":"square/#head"`, `20T06:11 "arrival":"a1","ask":"v","choice":"no","comment":"x","by":"letters/board@x.example"`},
			[]string{asked, "20T06:10 a1 told (yes by square/#head: ) | square/#a: S-1 yes by square/#head: 06:10 22", "! v is not being asked of a1"}},
		{"what cannot count", asks, arrival, []string{`20T06:10 "arrival":"a1","ask":"v","choice":"no","by":"square/#head"`, `20T06:10 "arrival":"a1","ask":"v","choice":"Yes","by":"square/#head"`,
			`20T06:10 "arrival":"a1","ask":"v","choice":"yes","by":"square/#x"`, `20T06:10 "arrival":"a1","ask":"w","choice":"yes","by":"square/#head"`, `20T06:10 "arrival":"a1","claim":true`,
			`20T08:00 "arrival":"a1","ask":"v","choice":"no","comment":" why ","by":"square/#head"`},
			append([]string{first[0], "20T06:10 a1 claimed", first[1], first[2]}, "20T08:00 a1 told (no by square/#head: why) | square/#b: S-1 no by square/#head: why 08:00 22",
				`! "Decline" needs a comment`, `! there is no choice "Yes"; did you mean yes?`, "! square/#x was not asked; it was put to square/#head, letters/board@x.example", "! w is not being asked of a1")},
		{"everybody has to agree", all, arrival, []string{`20T06:10 "arrival":"a1","ask":"v","choice":"yes","by":"square/#head"`, `20T06:20 "arrival":"a1","ask":"v","choice":"no","comment":"c","by":"square/#head"`, `20T06:40 "arrival":"a1","ask":"v","choice":"yes","comment":"fine","by":"letters/board@x.example"`},
			[]string{asked, "20T06:30 a1 asked v | letters/board@x.example: may S-1?", "20T06:40 a1 told (yes by square/#head, letters/board@x.example: fine) | square/#a: S-1 yes by square/#head, letters/board@x.example: fine 06:40 22", "! square/#head has answered already: yes"}},
		{"any other decides at once", all, arrival, []string{`20T06:10 "arrival":"a1","ask":"v","choice":"no","comment":"c","by":"square/#head"`},
			[]string{asked, "20T06:10 a1 told (no by square/#head: c) | square/#b: S-1 no by square/#head: c 06:10 22"}},
		{"quiet hours hold a question", asks + "pace: {quiet: {open: [{from: \"08:00\", to: \"09:10\"}]}}\n", arrival, []string{`20T07:00 "arrival":"a1","ask":"v","choice":"yes","by":"square/#head"`, `20T09:50 "arrival":"a1","ask":"v","choice":"yes","by":"square/#head"`},
			[]string{"20T06:00 a1 held v", "20T08:00 a1 released v | square/#head: may S-1? | letters/board@x.example: may S-1?", "20T08:30 a1 asked v | square/#head: may S-1? | letters/board@x.example: may S-1?",
				"20T09:00 a1 asked v | square/#head: may S-1? | letters/board@x.example: may S-1?", "20T09:50 a1 held (yes by square/#head: )", "21T08:00 a1 released | square/#a: S-1 yes by square/#head: 09:50 22", "! it was not asked yet"}},
		{"the record is as it was asked about", asks, append(arrival, "a2 20T06:05 S-1 n=9 status=x"), []string{`20T06:10 "arrival":"a1","ask":"v","choice":"yes","by":"square/#head"`, `20T06:10 "arrival":"a2","ask":"v","choice":"yes","by":"square/#head"`},
			[]string{asked, "20T06:05 a2 asked v | square/#head: may S-1? | letters/board@x.example: may S-1?",
				"20T06:10 a1 told (yes by square/#head: ) | square/#a: S-1 yes by square/#head: 06:10 22", "20T06:10 a2 told (yes by square/#head: ) | square/#a: S-1 yes by square/#head: 06:10 99"}},
	} {
		t.Run(c.name, func(t *testing.T) { assert.Equal(t, c.want, lived(t, c.sheet, c.arrivals, c.people, "")) })
	}
	two := strings.Replace(asks, "messages:", `  - {name: w, when: {field: v.choice, is: "yes"}, of: "square/#board", message: q, choices: [up, down]}
messages:`, 1)
	two = strings.Replace(two, "by ${v.by}", "and ${w.choice} by ${v.by}", 1)
	assert.Equal(t, []string{asked, "20T06:10 a1 asked w | square/#board: may S-1?", "20T06:20 a1 told (yes by square/#head: ) | square/#a: S-1 yes and up by square/#head: 06:20 22"},
		lived(t, two, arrival, []string{`20T06:10 "arrival":"a1","ask":"v","choice":"yes","by":"square/#head"`, `20T06:20 "arrival":"a1","ask":"w","choice":"up","by":"square/#board"`}, ""), "one after another")
	assert.Equal(t, []string{asked, "20T06:10 a1 told (no by square/#head: c) | square/#b: S-1 no and by square/#head: c 06:10 22"},
		lived(t, two, arrival, []string{`20T06:10 "arrival":"a1","ask":"v","choice":"no","comment":"c","by":"square/#head"`}, ""), "the second is not put")
	assert.Equal(t, []string{asked}, lived(t, asks, arrival, nil, "20T06:29"), "what waits, waits")
}
