package rehearse

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/core/people"
	places "dorfbote/internal/core/place"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
)

// lindental is what posts can go over in these tests, and who is in the people book.
func lindental(t *testing.T) sheet.Known {
	t.Helper()
	list, err := people.ReadCSV("id,name,prefers,mail,phone\nja,Jonas,mail,jonas@l.example,\nle,Lea,phone,lea@l.example,079 123 45 67\np1,Peter,,,\np2,Peter,,,\nno,Nora,phone,,\nxx,Xaver,phone,,12\n")
	require.NoError(t, err)
	book, err := people.New(list)
	require.NoError(t, err)
	rules := map[string]places.Rule{
		"square": {Form: places.Listed, Places: []string{"#tours", "#board"}, Can: []string{"edit"}}, "mail": {Form: places.Mail, Can: []string{"attach", "sender", "picture"}}, "phone": {Form: places.Number},
	}
	return sheet.Known{
		Workspace: value.Workspace{Zone: time.UTC, Locale: "de-CH"}, People: book,
		Reaches:     func(c string) (places.Rule, bool) { r, ok := rules[c]; return r, ok },
		Connections: func() []string { return []string{"square", "mail", "phone"} },
	}
}

// toldOf runs one record through tells, and gives where its posts went, and what the line says beside them.
func toldOf(t *testing.T, known sheet.Known, tells, record string) string {
	t.Helper()
	src := "dorfbote: 1\nname: T\nwatch: {source: a/b}\ngather:\n  - {name: open, value: \"record.open\"}\n" +
		"messages:\n  m: {title: x, body: \"${record.say}\"}\n  l: {title: l, list: {of: open, each: \"${it.id}\"}}\n  i: {title: \"${it.id}\"}\nroute:\n  take: every\n  rows:\n" +
		"    - name: R\n      when: {formula: \"true\"}\n      tell:\n"
	for line := range strings.SplitSeq(tells, "\n") {
		src += "        - " + line + "\n"
	}
	plan, _, problems := sheet.Compile([]byte(src), known)
	require.NotNil(t, plan, "%v", problems)
	scout, err := Look(strings.NewReader(fmt.Sprintf(`{"specversion":"1.0","id":"a1","source":"a/b","type":"dorfbote.record.created","time":"2026-11-20T06:00:00Z","subject":"1","data":{"record":%s}}`, record)), nil, all)
	require.NoError(t, err)
	var out string
	m := NewMachine(plan, nil, func(l Line) error {
		var seen struct {
			Verdict   string
			DecidedBy string `json:"decided_by"`
			Where     string
			Error     string
			More      int
			Failures  []map[string]string
			Posts     []struct{ To, Cc, Bcc, Under string }
		}
		require.NoError(t, json.Unmarshal(l.AppendJSON(nil), &seen))
		out = seen.Verdict + " " + seen.DecidedBy + seen.Where
		for _, p := range seen.Posts {
			out += "; " + strings.TrimSpace(p.To+" "+p.Cc+" "+p.Bcc)
		}
		for _, f := range seen.Failures {
			out += "; ! " + f["where"] + " " + f["error"]
		}
		if seen.More > 0 {
			out += fmt.Sprintf("; %d more", seen.More)
		}
		if seen.Error != "" {
			out += "; " + seen.Error
		}
		return nil
	})
	m.People(known.People)
	require.NoError(t, scout.Run(strings.NewReader(fmt.Sprintf(`{"specversion":"1.0","id":"a1","source":"a/b","type":"dorfbote.record.created","time":"2026-11-20T06:00:00Z","subject":"1","data":{"record":%s}}`, record)), plan, time.Time{}, m))
	return out
}

func TestAddressesThatARecordGives(t *testing.T) {
	known := lindental(t)
	for _, c := range []struct{ tells, record, want string }{
		{`{to: "mail/${record.email}", message: m}`, `{"email":"a@x.example"}`, "told ; mail/a@x.example"},
		{`{to: "mail/${record.email}", cc: "mail/desk@l.example", bcc: "mail/${record.boss}", message: m}`, `{"email":["a@x.example","b@x.example"],"boss":""}`, "told ; mail/a@x.example, b@x.example mail/desk@l.example"},
		{`{to: "mail/${record.email}", cc: "mail/${record.boss}", message: m}`, `{"email":"a@x.example","boss":"no address"}`, `failed route.rows[0].tell[0].cc; "no address" is no mail address`},
		{`{to: "mail/${record.email}", message: m}`, `{"email":""}`, "failed route.rows[0].tell[0].to; the address is empty"},
		{`{to: "mail/${record.email}", message: m, if_empty: skip}`, `{"email":" , "}`, "dropped route.rows[0].tell[0]"},
		{`{to: "mail/${record.email}", message: m, if_empty: skip}`, `{"email":"nothing"}`, `failed route.rows[0].tell[0].to; "nothing" is no mail address`},
		{"{to: \"mail/${record.email}\", message: m}\n{to: \"square/#tours\", message: m}", `{}`, "told ; square/#tours; ! route.rows[0].tell[0].to the address is empty"},
		{"{to: \"mail/${record.email}\", message: m, if_empty: skip}\n{to: \"square/#tours\", message: m}", `{}`, "told ; square/#tours"},
		{"{to: \"mail/${record.email}\", message: m, if_empty: skip}\n{to: \"mail/${record.none}\", message: m}", `{}`, "failed route.rows[0].tell[1].to; the address is empty"},
		{`{to: "square/${record.room}", message: m}`, `{"room":"#board"}`, "told ; square/#board"},
		{`{to: "square/${record.room}", message: m}`, `{"room":"#Board"}`, `failed route.rows[0].tell[0].to; "#Board" is none of its places`},
		{`{to: "phone/${phone(record.mobile, \"CH\")}", message: m}`, `{"mobile":"079 123 45 67"}`, "told ; phone/+41791234567"},
		{`{to: "phone/${record.mobile}", message: m}`, `{"mobile":"044/123 45 67"}`, "told ; phone/+41441234567"},
		{`{to: "phone/${phone(record.mobile, \"CH\")}", message: m}`, `{"mobile":"1"}`, `failed route.rows[0].tell[0].to; phone(record.mobile, "CH"): "1" is not a possible telephone number in CH`},
		// Several tells of one message to one address make one post.
		{"{to: \"mail/a@x.example\", cc: \"mail/b@x.example\", message: m}\n{to: \"mail/${record.email}\", cc: \"mail/c@x.example, b@x.example\", message: m}", `{"email":"a@x.example"}`, "told ; mail/a@x.example mail/b@x.example, c@x.example"},
		// People.
		{`{to: "person/${record.owner}", message: m}`, `{"owner":"JONAS"}`, "told ; mail/jonas@l.example"},
		{`{to: "person/${record.owner}", message: m}`, `{"owner":{"id":"le","name":"whatever"}}`, "told ; phone/+41791234567"},
		{`{to: "person/${record.owner}", message: m}`, `{"owner":"Peter"}`, `failed route.rows[0].tell[0].to; several in the people book are called "Peter"; name one by the id`},
		{`{to: "person/${record.owner}", message: m}`, `{"owner":"Nora"}`, `failed route.rows[0].tell[0].to; Nora prefers phone, but has no address there in the people book`},
		{`{to: "person/${record.owner}", message: m}`, `{"owner":"xx"}`, `failed route.rows[0].tell[0].to; Xaver of the people book: "12" is not a possible telephone number in CH; one of elsewhere begins with +`},
		{`{to: "person/${record.owner}", message: m, if_empty: skip}`, `{"owner":""}`, "dropped route.rows[0].tell[0]"},
		{`{to: "person/${record.owner}", message: m, if_empty: skip}`, `{"owner":"Zed"}`, `failed route.rows[0].tell[0].to; nobody in the people book is called "Zed"`},
		{`{to: "person/${record.owner}", cc: "person/${record.boss}", message: m}`, `{"owner":"ja","boss":"ja"}`, "told ; mail/jonas@l.example mail/jonas@l.example"},
		{`{to: "person/${record.owner}", cc: "person/${record.boss}", message: m}`, `{"owner":"ja","boss":"le"}`, "failed route.rows[0].tell[0].cc; phone/+41791234567 goes over phone, which has no cc for what goes over mail"},
	} {
		assert.Equal(t, c.want, toldOf(t, known, c.tells, c.record), "%s of %s", c.tells, c.record)
	}
	anybody := sheet.Known{Workspace: known.Workspace}
	assert.Equal(t, "told ; person/Zed", toldOf(t, anybody, `{to: "person/${record.owner}", message: m}`, `{"owner":"Zed"}`), "without a people book it stands as it is")
	assert.Equal(t, "told ; nowhere/x", toldOf(t, anybody, `{to: "nowhere/${record.owner}", message: m}`, `{"owner":"x"}`))
}

func TestEachOfAList(t *testing.T) {
	known := lindental(t)
	items := func(rooms ...string) string {
		var list []string
		for i, r := range rooms {
			list = append(list, fmt.Sprintf(`{"id":"j%d","room":%q}`, i+1, r))
		}
		return `{"open":[` + strings.Join(list, ",") + `]}`
	}
	tell := func(more string) string { return `{each: "${open}", to: "square/${it.room}", message: i` + more + `}` }
	for _, c := range []struct{ tells, record, want string }{
		{tell(""), items("#tours", "#board", "#tours"), "told ; square/#tours; square/#board; square/#tours"}, // each is one, always
		{tell(", most: 2"), items("#tours", "#board", "#tours", "#board"), "told ; square/#tours; square/#board; 2 more"},
		{tell(", most: 2, if_empty: skip"), items("#tours", "", "", "#tours", "#board", ""), "told ; square/#tours; square/#tours; 1 more"}, // counted after those left out
		{tell(""), items("#tours", "", "#no"), `told ; square/#tours; ! route.rows[0].tell[0].to item 2: the address is empty; ! route.rows[0].tell[0].to item 3: "#no" is none of its places`},
		{tell(", if_empty: skip"), items("", ""), "dropped route.rows[0].tell[0]"},
		{tell(""), items(""), "failed route.rows[0].tell[0].to; item 1: the address is empty"},
		{tell(""), `{"open":[]}`, "dropped route.rows[0].tell[0]"},
		{tell(""), `{}`, "dropped route.rows[0].tell[0]"},
		{tell(""), `{"open":"many"}`, "failed route.rows[0].tell[0].each; open gave many where a list was needed"},
		{tell(", reply: i"), items("#tours"), "told ; square/#tours; square/#tours"},
		{"{to: \"square/#tours\", message: m}\n" + tell(""), `{"open":[]}`, "told ; square/#tours"},
	} {
		assert.Equal(t, c.want, toldOf(t, known, c.tells, c.record), "%s of %s", c.tells, c.record)
	}
	many := make([]string, 60)
	for i := range many {
		many[i] = "#tours"
	}
	assert.True(t, strings.HasSuffix(toldOf(t, known, tell(""), items(many...)), "; 10 more"), "50 where nothing is said")
}

func TestPartsOfAMessage(t *testing.T) {
	known := lindental(t)
	src := `dorfbote: 1
name: T
watch: {source: a/b}
gather: [{name: open, value: "record.open"}]
messages:
  m:
    title: "Hello ${mention(record.who)}"
    body: "Ask ${mention(record.owner)}, ${mention(record.who)}."
    sender: {name: "Desk ${record.id}", picture: "${record.logo}"}
    link: {text: Open, to: "https://x.example/${record.name}"}
    links: [{text: More, to: "${record.more}?q=${record.name}&z=1"}, {text: None, to: "${record.none}"}, {to: "${record.bad}"}]
    picture: {from: "${record.photo}", text: "the hose"}
    mention: ["${record.owner}", "${record.all}", "Zed", "${record.none}", "jonas"]
    attach: [{name: "a/b ${record.id}.csv", table: {of: open, columns: [id, {field: due, format: "d MMM", label: Due on}, sub.note]}}, {from: "${record.photo}"}, {name: "../plan ${record.id}.pdf", from: "${record.more}"}, {from: "${record.none}"}, {from: "${record.bad}"}]
route: {otherwise: {tell: [{to: mail/a@x.example, message: m}]}}
`
	schema := &value.Schema{Open: true, Fields: []value.Field{{Name: "open", Type: value.List, Fields: []value.Field{{Name: "due", Type: value.Date}}}}}
	known.Schema = func(string) *value.Schema { return schema }
	plan, _, problems := sheet.Compile([]byte(src), known)
	require.NotNil(t, plan, "%v", problems)
	line := `{"specversion":"1.0","id":"a1","source":"a/b","type":"dorfbote.record.created","time":"2026-11-20T06:00:00Z","subject":"1","data":{"record":{"id":"7","name":"Ann & Bo/?z=2","owner":"JA","who":"Zed","all":["le","Lea"],"bad":"javascript:alert(1)","logo":"file:///etc/passwd","more":"https://x.example/more","photo":"https://x.example/p.png",` +
		`"open":[{"id":"=1+1","due":"2026-11-02","sub":{"note":"a \"b\", c\nd"}},{"id":"-5","due":null,"n":-5},{"id":-5}]}}}`
	scout, err := Look(strings.NewReader(line), nil, all)
	require.NoError(t, err)
	m := NewMachine(plan, nil, func(l Line) error {
		p := l.Posts[0]
		var seen struct{ Posts []map[string]any }
		require.NoError(t, json.Unmarshal(l.AppendJSON(nil), &seen))
		got := seen.Posts[0]
		assert.Equal(t, "Ask Jonas, Zed.", got["plain"])
		assert.Equal(t, map[string]any{"name": "Desk 7"}, got["sender"], "a picture has an address that can be called")
		assert.Equal(t, []any{map[string]any{"text": "Open", "to": "https://x.example/Ann%20&%20Bo%2F%3Fz=2"}, map[string]any{"text": "More", "to": "https://x.example/more?q=Ann%20%26%20Bo%2F%3Fz%3D2&z=1"}}, got["links"],
			"each value is escaped for its place")
		assert.Equal(t, map[string]any{"text": "the hose"}, got["picture"])
		assert.Equal(t, []any{"Jonas", "Lea", "Zed"}, got["mentions"])
		assert.Equal(t, []any{"a-b 7.csv", "p.png", "..-plan 7.pdf"}, got["attach"], "what is no address that can be called is left out")
		assert.Equal(t, "https://x.example/more", p.Doc.Attach[2].From)
		assert.Equal(t, "jonas@l.example", p.Doc.Mentions[0].To, "the address on the connection that it goes over")
		assert.Equal(t, "jonas@l.example", p.Doc.Body[0].Inlines[1].To)
		assert.Equal(t, "\uFEFFId,Due on,Note\r\n'=1+1,2 Nov.,\"a \"\"b\"\", c\r\nd\"\r\n'-5,,\r\n-5,,\r\n", string(p.Doc.Attach[0].Data))
		return nil
	})
	m.People(known.People)
	require.NoError(t, scout.Run(strings.NewReader(line), plan, time.Time{}, m))
}

func TestWhatCannotBeTold(t *testing.T) {
	known := lindental(t)
	for tell, want := range map[string]string{
		`{to: "${record.a}/x", message: m}`:                             "the connection of \"${record.a}/x\" is computed",
		`{to: "sqare/#tours", message: m}`:                              "there is no connection sqare that posts can go over; did you mean square?",
		`{to: "square/#tuors", message: m}`:                             "there is no destination square/#tuors; did you mean square/#tours?",
		`{to: "mail/nobody", message: m}`:                               `"nobody" is no mail address`,
		`{to: "phone/12", message: m}`:                                  `"12" is not a possible telephone number in CH`,
		`{to: "me/", message: m}`:                                       "is not a destination",
		`{to: "me/x", message: m}`:                                      "me/ is whoever looks, and is for trials only",
		`{to: "person/Zed", message: m}`:                                `nobody in the people book is called "Zed"`,
		`{to: "person/Peter", message: m}`:                              `several in the people book are called "Peter"`,
		`{to: "mail/a@x.example", cc: "post/b@x.example", message: m}`:  "cc goes over the connection of to, which is mail, not over post; did you mean mail?",
		`{to: "square/#tours", cc: "square/#board", message: m}`:        "square has no cc; only mail does",
		`{to: "mail/${it.mail}", message: m}`:                           "it is known only where the tell has each",
		`{to: "square/#tours", message: i}`:                             "the message i speaks of it, so it can be told only with each",
		`{to: "square/#tours", each: open, message: m}`:                 "each is a formula that gives a list",
		`{to: "square/#tours", each: "${open}", most: 201, message: m}`: "most is a whole number from 1 to 200",
		`{to: "square/#tours", most: 2, message: m}`:                    "most goes with each",
		`{to: "square/#tours", if_empty: drop, message: m}`:             "if_empty is skip or fail",
		`{to: "square/#tours", message: f}`:                             "warning: square cannot take all of the message f: its files are links to them",
		`{to: "square/#tours", message: b}`:                             "warning: square cannot take all of the message b: its buttons are links to a page",
		`{to: "person/${on_duty(record.x).id}", message: m}`:            "on_duty() takes a calendar's source",
	} {
		src := "dorfbote: 1\nname: T\nwatch: {source: a/b}\ngather: [{name: open, value: \"record.open\"}]\nmessages:\n  m: {title: x}\n  i: {title: x, mention: [\"${it.owner}\"]}\n" +
			"  b: {title: x, buttons: [{text: I take it, claim: true}]}\n" +
			"  f: {title: x, attach: [{name: x.csv, table: {of: open, columns: [id]}}]}\n" +
			"route: {otherwise: {tell: [" + tell + "]}}\n"
		_, _, problems := sheet.Compile([]byte(src), known)
		var said []string
		for _, p := range problems {
			said = append(said, p.String())
			assert.Positive(t, p.At.Line, "%s: %s", tell, p)
		}
		assert.Contains(t, strings.Join(said, "\n"), want, tell)
	}
	paced := "dorfbote: 1\nname: T\nwatch: {source: a/b}\nmessages: {m: {title: x}}\nroute: {otherwise: {tell: [{to: \"square/#tours\", each: \"${record.open}\", message: m}]}}\npace: {repeat: {key: \"${record.id}\", within: 2h, then: %s}}\n"
	for then, fine := range map[string]bool{"drop": true, "update": false, "reply": false} {
		plan, _, problems := sheet.Compile([]byte(fmt.Sprintf(paced, then)), known)
		assert.Equal(t, fine, plan != nil, "%s: %v", then, problems)
	}
}

// One post goes out for each group of a list, with a chart, a table and a list of its records.
func TestEachGroup(t *testing.T) {
	known := lindental(t)
	known.Schema = func(string) *value.Schema {
		return &value.Schema{Open: true, Fields: []value.Field{{Name: "open", Type: value.List}}}
	}
	plan, _, problems := sheet.Compile([]byte(`dorfbote: 1
name: T
watch: {source: a/b}
gather: [{name: open, value: "record.open"}]
messages:
  m:
    title: "${or(it.key, \"no valley\")}: ${len(it.records)}"
    list: {of: it.records, each: "${it.id}"}
    picture: {chart: {of: it.records, kind: bars, by: id, value: sum(litres)}}
    attach: [{name: "${it.key}.csv", table: {of: it.records, columns: [id, litres]}}]
route: {otherwise: {tell: [{each: "${group(open, \"valley\")}", to: "square/#tours", message: m}]}}
`), known)
	require.NotNil(t, plan, "%v", problems)
	line := `{"specversion":"1.0","id":"a1","source":"a/b","type":"dorfbote.record.created","time":"2026-11-20T06:00:00Z","subject":"1","data":{"record":{"open":[{"id":"A","valley":"Upper","litres":4},{"id":"B","litres":2},{"id":"C","valley":"Upper","litres":1.5}]}}}`
	scout, err := Look(strings.NewReader(line), nil, all)
	require.NoError(t, err)
	var got []string
	require.NoError(t, scout.Run(strings.NewReader(line), plan, time.Time{}, NewMachine(plan, nil, func(l Line) error {
		for _, p := range l.Posts {
			got = append(got, p.Doc.Title+" | "+p.Doc.Plain()+" | "+p.Doc.Picture.Text+" | "+string(p.Doc.Attach[0].Data))
		}
		return nil
	})))
	assert.Equal(t, []string{
		"Upper: 2 | • A\n• C | A 4; C 1.50 | \uFEFFId,Litres\r\nA,4\r\nC,1.5\r\n",
		"no valley: 1 | • B | B 2 | \uFEFFId,Litres\r\nB,2\r\n",
	}, got)
}
