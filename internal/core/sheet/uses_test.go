package sheet

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/core/report"
)

const everything = `dorfbote: 1
name: Everything
watch: {source: shop/orders, on: [updated], when: {any: [{field: f1.deep, is: x}, {formula: "record.f2 > 1 or before[\"f 3\"] == 2"}]}}
keep: {all: [{field: f4, above: "${record.f5}"}]}
gather:
  - {name: a, value: "record?.f6"}
  - {name: b, script: "result = record.f7", if_fails: {tell: [{to: chat/fails, message: m}]}}
  - {name: c, http: {url: "https://x.example/${record.f8}", headers: {X-A: "${record.f9}"}, method: POST, body: {one: ["${record.f10}", {two: "${before.f11}"}]}}}
  - {name: d, summary: {of: [record.f12.deep, f13, "${record.f14} and more"]}}
  - {name: e, find: {source: shop/people, where: {all: [{field: foreign, is: "${record.f15}"}, {formula: "it.x == record.f16"}]}}}
messages:
  m:
    title: "${record.f17}"
    body: "${upper(record.f18)}"
    facts: [{label: "${record.f19}", value: "${record.f20}"}]
    link: {text: "${record.f21}", to: "${record.f22}"}
    tone: "${record.f23}"
    list: {of: record.f24, each: "${it.own} ${record.f25}"}
route:
  rows:
    - {name: r, when: {none: [{field: f26, empty: true}]}, tell: [{to: chat/rows, message: m, reply: m}]}
  otherwise: {tell: [{to: chat/otherwise, message: m}]}
pace: {repeat: {key: "${record.f27}", within: 1h}}
follow:
  - {when: {field: f28, is: x}, change: {source: shop/orders, key: "${record.f29}", set: {note: "${record.f30}"}}, if_fails: {tell: [{to: chat/follow, message: m}]}}
  - {add: {source: shop/log, set: {what: "${record.f31}"}}}
`

func TestFieldsThatASheetSpeaksOf(t *testing.T) {
	sh, problems := Read([]byte(everything))
	require.False(t, problems.Failed(), "%v", problems.Problems)
	want := []string{"f 3"}
	for _, n := range []string{"1", "2", "4", "5", "6", "7", "8", "9", "10", "11", "12", "13", "14", "15", "16", "17", "18", "19", "20", "21", "22", "23", "24", "25", "26", "27", "28", "29", "30", "31"} {
		want = append(want, "f"+n)
	}
	assert.ElementsMatch(t, want, sh.Fields())
}

func TestNamesThatASheetNames(t *testing.T) {
	sh, _ := Read([]byte(everything))
	sources, destinations := sh.Names()
	texts := func(list []report.Text) (out []string) {
		for _, n := range list {
			out = append(out, n.S)
			line := strings.Split(everything, "\n")[n.At.Line-1]
			assert.True(t, strings.HasPrefix(line[n.At.Column-1:], n.S), "the place of %s", n.S)
		}
		return out
	}
	assert.ElementsMatch(t, []string{"shop/orders", "shop/people", "shop/orders", "shop/log"}, texts(sources))
	assert.ElementsMatch(t, []string{"chat/rows", "chat/otherwise", "chat/fails", "chat/follow"}, texts(destinations))
	sh, _ = Read([]byte("dorfbote: 1\nname: n\nwatch: {schedule: {cron: \"0 7 * * *\", except: house/holidays}}\nmessages: {m: {title: x}}\nroute: {otherwise: {tell: [{to: a/b, message: m}]}}\n"))
	sources, _ = sh.Names()
	assert.Equal(t, []string{"house/holidays"}, func() (out []string) {
		for _, s := range sources {
			out = append(out, s.S)
		}
		return out
	}())
	assert.Empty(t, sh.Fields())
}

// Every name that a sheet names moves with its connection, and nothing else does.
func TestMovingMovesWhatIsNamed(t *testing.T) {
	out, moved, err := Move([]byte(everything), "shop", "store")
	require.NoError(t, err)
	assert.Len(t, moved, 4)
	sh, problems := Read(out)
	require.False(t, problems.Failed())
	sources, destinations := sh.Names()
	for _, s := range sources {
		assert.True(t, strings.HasPrefix(s.S, "store/"), s.S)
	}
	for _, d := range destinations {
		assert.True(t, strings.HasPrefix(d.S, "chat/"), d.S)
	}
	back, _, err := Move(out, "store", "shop")
	require.NoError(t, err)
	assert.Equal(t, everything, string(back))
	same, moved, err := Move([]byte(everything), "nobody", "else")
	require.NoError(t, err)
	assert.Empty(t, moved)
	assert.Equal(t, everything, string(same))
	_, _, err = Move([]byte("{"), "a", "b")
	assert.Error(t, err)
}

// What a formula names moves too, on one line or in a block, and words that only look like it do not.
func TestMovingWithinFormulas(t *testing.T) {
	src := `dorfbote: 1
name: n
watch: {source: shop/orders}
messages:
  m:
    title: "on ${on_duty(\"rota/events\").name} # person(x).rota"
    body: |
      ${person(or(record.who, 'x')).rota}: ${record.rota} rota/events
      ${person("a").rota2}
route: {otherwise: {tell: [{to: "rota/${person(record.buyer).rota}, ${on_duty('rota/events').rota}", message: m}]}}
`
	out, moved, err := Move([]byte(src), "rota", "plan")
	require.NoError(t, err)
	want := strings.NewReplacer(`on_duty(\"rota/`, `on_duty(\"plan/`, `person(x).rota`, `person(x).plan`, `'x')).rota`, `'x')).plan`, `to: "rota/${person(record.buyer).rota}, ${on_duty('rota/`, `to: "plan/${person(record.buyer).plan}, ${on_duty('plan/`).Replace(src)
	assert.Equal(t, want, string(out))
	assert.Len(t, moved, 6)
	back, _, err := Move(out, "plan", "rota")
	require.NoError(t, err)
	assert.Equal(t, src, string(back))
}

func TestWhatStartsASheet(t *testing.T) {
	for watch, form := range map[string]string{
		"{source: a/b}":                   "",
		"{source: a/b, due: {field: at}}": Due,
		"{source: a/b, lasts: {that: {field: x, is: y}, for: 1h}}": Lasts,
		"{source: a/b, silent: {for: 1h}}":                         Silent,
		"{schedule: {cron: \"0 7 * * *\"}}":                        Schedule,
		"{start: {source: a/b}}":                                   Start,
		"{called: {takes: []}}":                                    Called,
	} {
		assert.Equal(t, form, FormOf("dorfbote: 1\nname: n\nwatch: "+watch+"\n"), watch)
	}
	assert.Empty(t, FormOf("["))
}

// What cannot be read as a sheet is told with its place, and what could be read beside it is kept.
func TestSheetsThatAreRefused(t *testing.T) {
	const tail = "messages: {m: {title: x}}\nroute: {otherwise: {tell: [{to: a/b, message: m}]}}\n"
	for name, c := range map[string]struct {
		text, words string
		line        int
	}{
		"a list":                    {"- a\n", "a sheet starts with names such as dorfbote, name, watch and route", 1},
		"a text":                    {"hello\n", "a sheet starts with names", 1},
		"no name":                   {"dorfbote: 1\nname: \"\"\nwatch: {source: a/b}\n" + tail, "the name is empty", 2},
		"two kinds of condition":    {"dorfbote: 1\nname: n\nwatch: {source: a/b}\nkeep: {all: [{field: x, is: y}], any: [{field: x, is: y}]}\n" + tail, "a condition is one of all, any, none, formula or a test", 4},
		"an empty group":            {"dorfbote: 1\nname: n\nwatch: {source: a/b}\nkeep: {all: []}\n" + tail, "all has no conditions in it", 4},
		"a test without operator":   {"dorfbote: 1\nname: n\nwatch: {source: a/b}\nkeep: {field: x}\n" + tail, "has no operator", 4},
		"a destination without way": {"dorfbote: 1\nname: n\nwatch: {source: a/b}\nmessages: {m: {title: x}}\nroute: {otherwise: {tell: [{to: board, message: m}]}}\n", "is not a destination", 5},
		"a list's emptiness":        {"dorfbote: 1\nname: n\nwatch: {source: a/b}\nmessages: {m: {title: x, list: {of: record.l, each: \"${it.a}\", when_empty: skp}}}\nroute: {otherwise: {tell: [{to: a/b, message: m}]}}\n", "when_empty is skip or say", 4},
		"two things that follow":    {"dorfbote: 1\nname: n\nwatch: {source: a/b}\n" + tail + "follow:\n  - {add: {source: a/c, set: {x: y}}, call: {workflow: z}}\n", "an entry does one thing", 7},
		"nothing that follows":      {"dorfbote: 1\nname: n\nwatch: {source: a/b}\n" + tail + "follow:\n  - {name: x}\n", "nothing follows here", 7},
		"nothing gathered":          {"dorfbote: 1\nname: n\nwatch: {source: a/b}\ngather:\n  - {name: x}\n" + tail, "gathers nothing", 5},
	} {
		_, _, problems := Compile([]byte(c.text), Known{})
		found := false
		for _, p := range problems {
			found = found || strings.Contains(p.Message, c.words) && p.At.Line == c.line
		}
		assert.True(t, found, "%s: %v", name, problems)
	}
	deep := strings.Repeat("{all: [", 60) + "{field: x, is: y}" + strings.Repeat("]}", 60)
	_, _, problems := Compile([]byte("dorfbote: 1\nname: n\nwatch: {source: a/b}\nkeep: "+deep+"\n"+tail), Known{})
	require.NotEmpty(t, problems)
	assert.Contains(t, problems[0].Message, "nested deeper")
}

// Markers around a whole formula are let pass, and a fault within it is placed all the same.
func TestMarkersAroundAFormula(t *testing.T) {
	const text = "dorfbote: 1\nname: n\nwatch: {source: a/b}\nkeep: {formula: \"${ record.x > }\"}\nmessages: {m: {title: x}}\nroute: {otherwise: {tell: [{to: a/b, message: m}]}}\n"
	_, _, problems := Compile([]byte(text), Known{})
	require.NotEmpty(t, problems)
	assert.Equal(t, 4, problems[0].At.Line)
	assert.Greater(t, problems[0].At.Column, 20)
	p, _, problems := Compile([]byte(strings.Replace(text, "record.x > }", "record.x > 1 }", 1)), Known{})
	require.NotNil(t, p, "%v", problems)
}
