package sheet

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/core/value"
)

// afterwards is a sheet of all that comes after an alert, of which one line is exchanged for another.
const afterwards = `dorfbote: 1
name: T
watch: {source: tours/collections, on: [created, updated]}
tables: {rooms: [{from: a, to: b}]}
gather: [{name: open, find: {source: tours/collections, take: all}}]
ask: [{name: verdict, of: square/#board, message: q, choices: [yes, no], within: 2d, remind: 1d, otherwise: no}]
messages:
  q: {title: "?"}
  m: {title: "${record.id}", picture: {table: {of: open, columns: [id, litres]}}, buttons: [{text: Take, claim: true}]}
route: {otherwise: {tell: [{to: square/#tours, message: m, keep_up: {until: {field: status, is: done}}}]}}
follow: [{unless: {claimed: true, within: 15m}, tell: [{to: square/#board, message: m}]}]
`

// checked compiles that sheet with a line exchanged, and gives what is said of it.
func checked(t *testing.T, with string) string {
	t.Helper()
	text := afterwards
	if with != "" {
		name, _, _ := strings.Cut(with, ":")
		from := strings.Index("\n"+text, "\n"+name+":")
		require.GreaterOrEqual(t, from, 0, "there is no line %s", name)
		to := from + strings.IndexByte(text[from:], '\n')
		text = text[:from] + with + text[to:]
	}
	_, _, problems := Compile([]byte(text), Known{Workspace: value.DefaultWorkspace(), Workflows: func() []string { return []string{"Ask the board"} }, Schema: func(s string) *value.Schema {
		return &value.Schema{Fields: []value.Field{{Name: "id", Type: value.Text}, {Name: "status", Type: value.Choice, Options: []string{"late", "done"}}, {Name: "litres", Type: value.Num}}}
	}})
	said := ""
	for _, p := range problems {
		said += p.String() + "\n"
	}
	return said
}

// What is wrong in what comes after an alert is said with its place, and what to do.
func TestWhatComesAfterIsChecked(t *testing.T) {
	require.Empty(t, checked(t, ""), "the sheet as it stands is in order")
	for with, want := range map[string]string{
		// Questions.
		`ask: [{name: verdict, of: [], message: q, choices: [yes, no]}]`:                                                                                                    "nobody is asked; name a person, or a place",
		`ask: [{name: verdict, of: square/#board, message: q, choices: [yes]}]`:                                                                                             "a question has at least two choices",
		`ask: [{name: verdict, of: square/#board, message: q, choices: [yes, yes]}]`:                                                                                        "two choices are called yes",
		`ask: [{name: verdict, of: square/#board, message: q, choices: [{text: Yes}, no]}]`:                                                                                 "a choice has no name",
		`ask: [{name: verdict, of: square/#board, message: q, choices: [{name: yes, comment: must}, no]}]`:                                                                  "must",
		`ask: [{name: verdict, of: square/#board, message: q, choices: [yes, no], otherwise: noo}]`:                                                                         "there is no choice noo; did you mean no?",
		`ask: [{name: verdict, of: square/#board, message: q, choices: [yes, no], within: 1h, remind: 2h}]`:                                                                 "when the time for an answer",
		`ask: [{name: verdict, of: square/#board, message: q, choices: [yes, no], within: soon}]`:                                                                           "soon",
		`ask: [{name: verdict, of: square/#board, message: q, choices: [yes, no], all: maybe}]`:                                                                             "all is true or false",
		`ask: [{name: verdict, of: square/#board, message: gone, choices: [yes, no]}]`:                                                                                      "gone",
		`ask: [{name: verdict, message: q, choices: [yes, no]}]`:                                                                                                            "has no of",
		`ask: [{name: verdict, of: square/#board, choices: [yes, no]}]`:                                                                                                     "has no message",
		`ask: [{name: verdict, of: square/#board, message: q}]`:                                                                                                             "has no choices",
		`ask: [{of: square/#board, message: q, choices: [yes, no]}]`:                                                                                                        "has no name",
		`ask: [{name: open, of: square/#board, message: q, choices: [yes, no]}]`:                                                                                            "two things are called open",
		`ask: [{name: record, of: square/#board, message: q, choices: [yes, no]}]`:                                                                                          "record",
		`ask: [{name: verdict, of: square/#board, message: q, choices: [yes, no], whithin: 1d}]`:                                                                            "did you mean within?",
		`route: {otherwise: {tell: [{to: square/#tours, message: m}]}, rows: [{name: A, when: {field: verdict.choise, is: yes}, tell: [{to: square/#tours, message: m}]}]}`: "did you mean verdict.choice?",
		// Steps that tell where nobody takes it.
		`follow: [{tell: [{to: square/#board, message: m}]}]`:                                                                                    "tell in follow needs unless",
		`follow: [{unless: {claimed: true, within: 15m}}]`:                                                                                       "nothing follows here; give it add, change, call, or unless with tell",
		`follow: [{unless: {claimed: true}, tell: [{to: square/#board, message: m}]}]`:                                                           "unless has no within",
		`follow: [{unless: {within: 15m}, tell: [{to: square/#board, message: m}]}]`:                                                             "unless has no condition",
		`follow: [{unless: soon, tell: [{to: square/#board, message: m}]}]`:                                                                      "unless is written as a condition with within",
		`follow: [{unless: {claimed: true, field: status, is: done, within: 15m}, tell: [{to: square/#board, message: m}]}]`:                     "does not go with the rest",
		`follow: [{unless: {claimed: true, answered: true, within: 15m}, tell: [{to: square/#board, message: m}]}]`:                              "unless has one condition; put answered into a list of its own",
		`follow: [{unless: {claimed: soon, within: 15m}, tell: [{to: square/#board, message: m}]}]`:                                              "claimed is true or false",
		`follow: [{unless: {claimed: true, within: 15m}, tell: [{to: square/#board, message: m}], if_fails: stop}]`:                              "an entry with unless has tell, and nothing else",
		`follow: [{unless: {claimed: true, within: 15m}, tell: [{to: square/#board, message: m, keep_up: {until: {field: status, is: done}}}]}]`: "keep_up goes with what a row tells",
		`follow: [{unless: {field: staus, is: done, within: 15m}, tell: [{to: square/#board, message: m}]}]`:                                     "did you mean status?",
		`follow: [{add: {source: tours/collections, set: {id: x}}, when: {claimed: true}}]`:                                                      "is known only in follow, in unless",
		`watch: {source: tours/collections, when: {answered: true}}`:                                                                             "is known only in follow, in unless",
		// Posts that follow their record.
		`route: {otherwise: {tell: [{to: square/#tours, message: m, keep_up: {for: 1d}}]}}`:                                      "has no until",
		`route: {otherwise: {tell: [{to: square/#tours, message: m, keep_up: {until: {field: status, is: done}, for: never}}]}}`: "never",
		`route: {otherwise: {tell: [{to: square/#tours, message: m, keep_up: {until: {field: litres, contains: x}}}]}}`:          "contains",
		`watch: {schedule: {cron: "0 7 * * 1", zone: UTC}}`:                                                                      "there is nothing to keep up with",
		// Buttons.
		`  m: {title: x, buttons: [{text: Take}]}`:                                        "the button does nothing; give it change, claim, later or call",
		`  m: {title: x, buttons: [{claim: true}]}`:                                       "has no text",
		`  m: {title: x, buttons: [{text: Take, claim: false}]}`:                          "claim is true, or the button has another thing to do",
		`  m: {title: x, buttons: [{text: Take, claim: true, later: 1h}]}`:                "a button does one thing; later comes second, after claim",
		`  m: {title: x, buttons: [{text: Take, later: soon}]}`:                           "soon",
		`  m: {title: x, buttons: [{text: Take, change: {set: {}}}]}`:                     "set names no field",
		`  m: {title: x, buttons: [{text: Take, change: {set: {staus: done}}}]}`:          "did you mean status?",
		`  m: {title: x, buttons: [{text: Take, change: {key: x, set: {status: done}}}]}`: "key",
		`  m: {title: x, buttons: [{text: Take, call: {workflow: Ask the bord}}]}`:        "did you mean Ask the board?",
		`  m: {title: x, buttons: [{text: Take, call: {with: {a: 1}}}]}`:                  "has no workflow",
		`  m: {title: x, buttons: [{text: Take, claim: true}], who: Vera}`:                "who",
		// What a message can hold.
		`  m: {title: x, links: [{text: See, to: "https://x.example", share: [id]}]}`:                  "share",
		`  m: {title: x, links: [{text: See, to: "javascript:alert(1)"}]}`:                             "javascript",
		`  m: {title: x, links: [{text: See, share: [staus]}]}`:                                        "did you mean status?",
		`  m: {title: x, links: [{text: "See ${record.status} of ${upper(record.id)}", share: [id]}]}`: "headed by this text, which shows record.status, and that is none of its fields",
		`  m: {title: "${it.key}", picture: {chart: {of: it.records, kind: bars, by: staus, value: count()}}}
route: {otherwise: {tell: [{to: square/#tours, message: m, each: '${group(open, "status")}'}]}}`: "there is no field staus in it.records; did you mean status?",
		`route: {otherwise: {tell: [{to: square/#tours, message: m, each: '${group(open, "staus")}'}]}}`: "there is no field staus in open; did you mean status?",
		`  m: {title: x, picture: {from: "https://x.example/a.png", table: {of: open, columns: [id]}}}`:  "table comes second, after from",
		`  m: {title: x, picture: {text: a hose}}`:                                                       "a picture has from, chart or table",
		`  m: {title: x, picture: {table: {of: open, columns: []}}}`:                                     "the table has no columns",
		`  m: {title: x, picture: {table: {of: open, columns: [ltres]}}}`:                                "did you mean litres?",
		`  m: {title: x, picture: {table: {of: open, columns: [id], most: 1000}}}`:                       "most is a whole number from 1 to 100",
		`  m: {title: x, picture: {chart: {of: open, kind: pie, by: status, value: count()}}}`:           "pie",
		`  m: {title: x, picture: {chart: {of: open, kind: bars, by: staus, value: count()}}}`:           "did you mean status?",
		`  m: {title: x, picture: {chart: {of: open, kind: bars, by: status, value: total(litres)}}}`:    "total",
		`  m: {title: x, picture: {chart: {of: open, kind: bars, by: status, value: sum(ltres)}}}`:       "did you mean litres?",
		`  m: {title: x, like: {of: "${record}"}, body: y}`:                                              "like",
		`  m: {like: {header: y}}`:                 "has no of",
		`  m: {title: x, mention: [], buttons: 7}`: "buttons",
		// Tables of a sheet.
		`tables: {rooms: {from: a}}`:    "a table is a list, not an object",
		`tables: {record: [{from: a}]}`: "record",
		`tables: {open: [{from: a}]}`:   "open",
		`tables: {rooms: [7]}`:          "a row is written as names with values",
	} {
		said := checked(t, with)
		assert.Contains(t, said, want, with)
		assert.NotContains(t, said, "%!", with)
	}
}

// An answer is for callers, and has a status of HTTP.
func TestAnswersAreChecked(t *testing.T) {
	const called = "dorfbote: 1\nname: T\nwatch: {called: {takes: [{name: n, type: number}]}}\n"
	for rest, want := range map[string]string{
		`answer: {status: 200, body: {ok: "${answers.n < 5}", o: "${outcome}"}}`: "",
		`answer: {status: 42}`:                "status is one of HTTP from 200 to 599",
		`answer: {status: soon}`:              "status is one of HTTP from 200 to 599",
		`answer: {body: {x: "${answers.m}"}}`: "there is no field m",
		`answer: {stats: 200}`:                "did you mean status?",
		`route: {rows: []}`:                   "nobody would ever be told",
		`answer: {body: {x: "${outcom}"}}`:    "did you mean outcome?",
	} {
		_, _, problems := Compile([]byte(called+rest+"\n"), Known{Workspace: value.DefaultWorkspace()})
		said := ""
		for _, p := range problems {
			said += p.String() + "\n"
		}
		if want == "" {
			assert.Empty(t, said, rest)
			continue
		}
		assert.Contains(t, said, want, rest)
	}
}
