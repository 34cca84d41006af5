package sentence

import (
	"encoding/json"
	"fmt"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/core/people"
	"dorfbote/internal/core/place"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
)

var schemas = map[string]*value.Schema{
	"lab/samples": {Fields: []value.Field{
		{Name: "id", Label: "Sample", Type: value.Text}, {Name: "taken", Label: "Taken", Type: value.Moment}, {Name: "cells", Label: "Cells", Type: value.Num}, {Name: "fat", Label: "Fat", Type: value.Num},
		{Name: "verdict", Label: "Verdict", Type: value.Choice, Options: []string{"pending", "clear", "watch", "blocked"}}, {Name: "valley", Label: "Valley", Type: value.Choice, Options: []string{"Upper", "Middle", "Mill"}},
		{Name: "link", Label: "Link", Type: value.Link},
	}},
	"tours/collections": {Fields: []value.Field{
		{Name: "id", Label: "Collection", Type: value.Text}, {Name: "litres", Label: "Litres", Type: value.Num}, {Name: "due", Label: "Due", Type: value.Moment}, {Name: "driver", Label: "Driver", Type: value.Text},
		{Name: "status", Label: "Status", Type: value.Choice, Options: []string{"planned", "on the way", "collected", "late", "refused"}}, {Name: "valley", Label: "Valley", Type: value.Choice, Options: []string{"Upper", "Middle", "Mill"}},
	}},
	"shop/prices":    {Fields: []value.Field{{Name: "id", Label: "Id", Type: value.Text}, {Name: "article", Label: "Article", Type: value.Text}, {Name: "buyer", Label: "Buyer", Type: value.Person}, {Name: "valid_until", Label: "Valid until", Type: value.Date}}},
	"shop/invoices":  {Fields: []value.Field{{Name: "id", Label: "Id", Type: value.Text}, {Name: "sent", Label: "Sent", Type: value.Moment}, {Name: "paid", Label: "Paid", Type: value.Moment}}},
	"counter/orders": {Fields: []value.Field{{Name: "number", Label: "Number", Type: value.Text}, {Name: "amount", Label: "Amount", Type: value.Money}, {Name: "status", Label: "Status", Type: value.Text}}},
}

func world() World {
	w := World{Now: time.Date(2026, 11, 26, 18, 0, 0, 0, time.UTC), Channels: []Channel{{"square/#tours", "#tours"}, {"square/#lab", "#lab"}, {"square/#board", "#board"}}}
	for _, name := range value.SortedKeys(schemas) {
		s := KnownSource{Name: name, Key: schemas[name].Fields[0].Name}
		for _, f := range schemas[name].Fields {
			field := Field{Field: f}
			switch name + f.Name {
			case "tours/collectionsdriver":
				field.Values = []string{"Jonas Frei", "Ana"}
			case "counter/ordersstatus":
				field.Values = []string{"new", "disputed", "Past due"}
			}
			s.Fields = append(s.Fields, field)
		}
		w.Sources = append(w.Sources, s)
	}
	return w
}

func TestSentences(t *testing.T) {
	for _, c := range []struct {
		text string
		want string // watch | keep | route | pace
		ask  string
	}{
		{"tell #lab when a sample is blocked in the Upper valley, at once; over 10 samples a day to #board",
			`{"source":"lab/samples","when":{"became":"blocked","field":"verdict"}} | {"all":[{"field":"valley","is":"Upper"}]} | every All→square/#lab Over 10 a day→square/#board | null`, ""},
		{"Tell #tours when a collection becomes late and has more than 500 litres.",
			`{"source":"tours/collections","when":{"became":"late","field":"status"}} | {"all":[{"above":500,"field":"litres"}]} | otherwise→square/#tours | null`, ""},
		{"tell #tours when a collection is late; litres over 2000 to #board; the rest to #lab",
			`{"source":"tours/collections","when":{"became":"late","field":"status"}} | null | first Litres above 2000→square/#tours Litres above 2000→square/#board otherwise→square/#tours otherwise→square/#lab | null`, ""},
		{"tell #board if an order is past due, only once",
			`{"source":"counter/orders","when":{"became":"Past due","field":"status"}} | null | otherwise→square/#board | {"repeat":{"key":"${record.number}","within":"1d"}}`, ""},
		{"tell #tours 2 hours before due when a collection is planned",
			`{"due":{"field":"due","offset":"-2h"},"source":"tours/collections"} | {"all":[{"field":"status","is":"planned"}]} | otherwise→square/#tours | null`, ""},
		{"tell #lab when a sample is pending for 45 minutes",
			`{"lasts":{"for":"45m","that":{"field":"verdict","is":"pending"}},"source":"lab/samples"} | null | otherwise→square/#lab | null`, ""},
		{"post to #board every morning the collections of Jonas Frei",
			`{"source":"tours/collections"} | {"all":[{"field":"driver","is":"Jonas Frei"}]} | otherwise→square/#board | {"digest":{"at":["07:00"]}}`, ""},
		{"tell #lab when a sample is not clear",
			`{"source":"lab/samples"} | {"all":[{"field":"verdict","is_not":"clear"}]} | otherwise→square/#lab | null`, ""},
		// Nothing is drafted of what was not understood: it would be told of everything.
		{"tell #lab when a sample is blockd", "null", `blockd: [blocked]`},
		{"tell #nobody when a sample is blocked", "null", `: [tell #tours tell #lab tell #board]`},
		{"tell #lab when a new sample is blocked", `{"on":["created"],"source":"lab/samples","when":{"became":"blocked","field":"verdict"}} | null | otherwise→square/#lab | null`, ""},
		{"tell #lab when a sample comes in from the Mill valley", `{"on":["created"],"source":"lab/samples"} | {"all":[{"field":"valley","is":"Mill"}]} | otherwise→square/#lab | null`, ""},
		{"tell #board when an order is new", `{"source":"counter/orders","when":{"became":"new","field":"status"}} | null | otherwise→square/#board | null`, ""},
		{"tell #board of new orders over 500", `{"on":["created"],"source":"counter/orders"} | {"all":[{"above":500,"field":"amount"}]} | otherwise→square/#board | null`, ""},
		{"tell #tours when a collection is due", `{"due":{"field":"due"},"source":"tours/collections"} | null | otherwise→square/#tours | null`, ""},
		{"tell #tours when a planned collection is overdue", `{"due":{"field":"due"},"source":"tours/collections"} | {"all":[{"field":"status","is":"planned"}]} | otherwise→square/#tours | null`, ""},
		{"tell #tours when a collection is due in 30 minutes", `{"due":{"field":"due","offset":"-30m"},"source":"tours/collections"} | null | otherwise→square/#tours | null`, ""},
		{"tell #board when a price row is past due", `{"due":{"field":"valid_until","offset":"1d"},"source":"shop/prices"} | null | otherwise→square/#board | null`, ""},
		{"tell #board when an invoice is past due", "null", "past due: [past Sent past Paid]"},
		{"tell #board when an invoice is past Paid", `{"due":{"field":"paid"},"source":"shop/invoices"} | null | otherwise→square/#board | null`, ""},
		{"mail the buyer when a price row is past due", "null", "mail the buyer: [tell #tours tell #lab tell #board]"},
		{"mail vera@lindental.example and jon@lindental.example when an order is disputed", "null", "mail vera@lindental.example and jon@lindental.example: [tell #tours tell #lab tell #board]"},
		{"tell #board every weekday at 7 the orders that are disputed",
			`{"schedule":{"cron":"0 7 * * 1-5"}} | null | otherwise→square/#board | null | orders {"source":"counter/orders","take":"all","where":{"all":[{"field":"status","is":"disputed"}]}}`, ""},
		{"every Monday and Thursday at 16:30 tell #tours the late collections; over 10 collections a day to #board",
			`{"schedule":{"cron":"30 16 * * 1,4"}} | null | first Over 10 a day→square/#board otherwise→square/#tours | null | collections {"source":"tours/collections","take":"all","where":{"all":[{"field":"status","is":"late"}]}}`, ""},
		{"tell #lab every second Tuesday at 3 pm the pending samples",
			`{"schedule":{"rule":"FREQ=WEEKLY;INTERVAL=2;BYDAY=TU","start":"2026-12-01T15:00"}} | null | otherwise→square/#lab | null | samples {"source":"lab/samples","take":"all","where":{"all":[{"field":"verdict","is":"pending"}]}}`, ""},
		// Words that deny, except or join are read, or asked about: they are never passed over.
		{"tell #tours when a collection is late with no more than 1,500 litres", `{"source":"tours/collections","when":{"became":"late","field":"status"}} | {"all":[{"at_most":1500,"field":"litres"}]} | otherwise→square/#tours | null`, ""},
		{"over 50000 to #board and #lab the rest when an order is disputed", `{"source":"counter/orders","when":{"became":"disputed","field":"status"}} | null | first Amount above 50000→square/#board otherwise→square/#lab | null`, ""},
		{"tell #tours when a collection is late and in the Upper valley; the rest to #lab", `{"source":"tours/collections","when":{"became":"late","field":"status"}} | null | first Valley is Upper→square/#tours otherwise→square/#lab | null`, ""},
		{"tell #tours when a collection is refused, otherwise #lab", "null", "otherwise: [and]"},
		{"tell #board and #lab the rest of collections", "null", "the rest: [and]"},
		{"tell #tours of collections and #board the rest", "null", "the rest: [and]"},
		{"tell #tours when a collection is late except in the Mill valley and has over 500 litres", "null", "except in the Mill valley and has over 500 litres: [except in the Mill valley and except over 500 litres and over 500 litres except in the Mill valley]"},
		{"tell #tours when a collection is overdue by 3 days", `{"due":{"field":"due","offset":"3d"},"source":"tours/collections"} | {"all":[{"field":"status","is_not":"collected"}]} | otherwise→square/#tours | null`, ""},
		{"tell #tours half an hour before a collection is due", `{"due":{"field":"due","offset":"-30m"},"source":"tours/collections"} | null | otherwise→square/#tours | null`, ""},
		{"tell #tours when a collection is due within an hour", `{"due":{"field":"due","offset":"-1h"},"source":"tours/collections"} | null | otherwise→square/#tours | null`, ""},
		{"tell #lab when a sample is no longer blocked", `{"source":"lab/samples","when":{"all":[{"field":"verdict","was":"blocked"},{"field":"verdict","is_not":"blocked"}]}} | null | otherwise→square/#lab | null`, ""},
		{"tell #lab when a sample stays blocked for 2 hours", `{"lasts":{"for":"2h","that":{"field":"verdict","is":"blocked"}},"source":"lab/samples"} | null | otherwise→square/#lab | null`, ""},
		{"tell #board a list each morning of the late collections", `{"schedule":{"cron":"0 7 * * 0,1,2,3,4,5,6"}} | null | otherwise→square/#board | null | collections {"source":"tours/collections","take":"all","where":{"all":[{"field":"status","is":"late"}]}}`, ""},
		{"tell #tours on working days when a collection is late", "null", "on working days: [in office hours every working day at 7]"},
		{"tell #board when an order is over 5.000", "null", "5.000: [5000 5]"},
		{"tell #board when an order is over 5k", "null", "5k: [5000 5]"},
		{"tell #board when an order is over 5'000", "null", "5'000: [5000]"},
		{"never tell #tours when a collection is late", "null", "never: []"},
		{"tell #tours about late and refused collections", "null", "late and refused: [late or refused]"},
		{"tell #tours of late collections", "null", "late collections: [collections that become late late collections at each change]"},
		{"tell #tours of collections that become late", `{"source":"tours/collections","when":{"became":"late","field":"status"}} | null | otherwise→square/#tours | null`, ""},
		{"tell #tours of late collections at each change", `{"source":"tours/collections"} | {"all":[{"field":"status","is":"late"}]} | otherwise→square/#tours | null`, ""},
		{"tell #tours of each late collection", "null", "late collection: [collection that becomes late late collection at each change]"},
		{"tell #lab when a sampel is blocked", "null", "sampel: [sample collection invoice order price]"},
		{"tell #lab when it rains", "null", ": [collection invoice order price sample]"},
		{"", "null", ": [collection invoice order price sample]"},
	} {
		reads(t, c.text, world(), c.want, c.ask)
	}
}

// reads reads a sentence: what is drafted of it, or what is asked first.
func reads(t *testing.T, text string, w World, want, ask string) {
	t.Run(text, func(t *testing.T) {
		r := Read(text, w)
		assert.Equal(t, want, brief(r))
		words := []string{}
		for _, word := range r.Words {
			words = append(words, word.Text)
			assert.NotEmpty(t, word.As)
		}
		plain := regexp.MustCompile(`[,;.]( |$)`).ReplaceAllString(text, "$1")
		assert.Equal(t, plain, strings.Join(words, " "), "every word is accounted for")
		asked := ""
		for _, q := range r.Questions {
			if asked == "" {
				asked = fmt.Sprint(q.About, ": ", q.Choices)
			}
		}
		assert.Equal(t, ask, asked)
		compiles(t, r)
	})
}

// reaching is a world in which mail and text messages can be sent, with a people book.
func reaching(t testing.TB) World {
	w := world()
	w.Senders = []Sender{{"mail", place.Mail}, {"phone", place.Number}}
	book, err := people.New([]people.Person{
		{ID: "vera", Name: "Vera Lindt", Addresses: []people.Address{{Connection: "mail", Address: "vera@lindental.example"}}},
		{ID: "jon", Name: "Jonas Frei", Addresses: []people.Address{{Connection: "phone", Address: "+436641234567"}}},
	})
	require.NoError(t, err)
	w.People = book
	w.Sources = append(w.Sources,
		KnownSource{Name: "crm/visit_requests", Key: "id", Fields: []Field{{Field: value.Field{Name: "id", Label: "Id", Type: value.Text}}, {Field: value.Field{Name: "visitor", Label: "Visitor", Type: value.Text}}, {Field: value.Field{Name: "visitor_mobile", Label: "Mobile", Type: value.Text}}, {Field: value.Field{Name: "text", Label: "Text", Type: value.Text}}}},
		KnownSource{Name: "crm/farmers", Key: "id", Fields: []Field{{Field: value.Field{Name: "id", Label: "Id", Type: value.Text}}, {Field: value.Field{Name: "name", Label: "Name", Type: value.Text}}, {Field: value.Field{Name: "reach", Label: "Reach", Type: value.Text}, Values: []string{"ann@farm.example", "bo@farm.example"}}}})
	return w
}

// Somebody is asked first, and what is told waits for it; others are told only where nobody takes it in time.
func TestAskedFirstAndEscalated(t *testing.T) {
	ask := func(of string) string {
		return `[{"choices":[{"name":"approve","text":"Approve"},{"comment":"required","name":"decline","text":"Decline"}],"message":"question","name":"verdict","of":` + of + `,"within":"2d"}]`
	}
	late := func(within, to string) string {
		return `[{"tell":[{"message":"alert","to":"` + to + `"}],"unless":{"claimed":true,"within":"` + within + `"}}]`
	}
	for _, c := range []struct{ text, route, ask, follow string }{
		{"ask #board before telling #tours when an order is disputed", "Approved→square/#tours", ask(`"square/#board"`), "null"},
		{"when an order is disputed, ask the board first and tell #tours", "Approved→square/#tours", ask(`"square/#board"`), "null"},
		{"Ask Vera Lindt and #board before you tell #tours when an order is disputed.", "Approved→square/#tours", ask(`["person/vera","square/#board"]`), "null"},
		{"ask the board before telling #tours when a collection is late; litres over 2000 to #lab", "every All→square/#tours Litres above 2000→square/#lab", ask(`"square/#board"`), "null"},
		{"tell #tours when a collection is late; tell #board if nobody takes it within 15 minutes", "otherwise→square/#tours", "null", late("15m", "square/#board")},
		{"tell #tours when a collection is late, and tell #board if nobody takes it within an hour", "otherwise→square/#tours", "null", late("1h", "square/#board")},
		{"tell #tours when a collection is late; if nobody takes it within 2 hours, mail vera@lindental.example", "otherwise→square/#tours", "null", late("2h", "mail/vera@lindental.example")},
		{"tell #tours when a collection is late; unless somebody takes it within 30 minutes tell the board", "otherwise→square/#tours", "null", late("30m", "square/#board")},
		{"tell #tours when a collection is late; tell #board if nobody takes it", "otherwise→square/#tours", "null", late("15m", "square/#board")},
		{"ask #board before telling #tours when a collection is late; tell #lab if nobody takes it within 10 minutes", "Approved→square/#tours", ask(`"square/#board"`), late("10m", "square/#lab")},
	} {
		t.Run(c.text, func(t *testing.T) {
			r := Read(c.text, reaching(t))
			require.Empty(t, r.Questions, "%+v", r.Words)
			compiles(t, r)
			parts := strings.Split(brief(r), " | ")
			assert.Equal(t, c.route, parts[2])
			for name, want := range map[string]string{"ask": c.ask, "follow": c.follow} {
				raw, err := json.Marshal(r.Sheet[name])
				require.NoError(t, err)
				assert.JSONEq(t, want, string(raw), name)
			}
			raw, _ := json.Marshal(r.Sheet)
			assert.Equal(t, c.follow != "null", strings.Contains(string(raw), `"claim":true`), "what can be taken has a button for it")
			assert.Equal(t, c.ask != "null", strings.Contains(string(raw), "verdict.choice"))
		})
	}
	reads(t, "every Monday at 8 tell #tours the collections that are late; tell #board if nobody takes it", reaching(t), "null", ": []")
	reads(t, "tell #tours when a collection is late if nobody takes it", reaching(t), "null", `if nobody takes it: [; if nobody takes it within an hour tell #tours ; if nobody takes it within an hour tell #lab ; if nobody takes it within an hour tell #board]`)
}

// Records of one name in two sources are asked about, and told apart by their connection.
func TestTwoSourcesOfOneName(t *testing.T) {
	w := world()
	w.Sources = append(w.Sources, KnownSource{Name: "dairy/samples", Key: "id", Fields: []Field{{Field: value.Field{Name: "id", Label: "Id", Type: value.Text}}}})
	reads(t, "tell #lab when a sample comes in", w, "null", "sample: [lab sample dairy sample]")
	reads(t, "tell #lab when a dairy sample comes in", w, `{"on":["created"],"source":"dairy/samples"} | null | otherwise→square/#lab | null`, "")
	reads(t, "tell #lab when a lab sample comes in", w, `{"on":["created"],"source":"lab/samples"} | null | otherwise→square/#lab | null`, "")
	reads(t, "tell #lab when an invoice comes in", w, `{"on":["created"],"source":"shop/invoices"} | null | otherwise→square/#lab | null`, "")
}

// Whom to mail is an address, somebody of the people book, or what the record says.
func TestWhomToMail(t *testing.T) {
	due := `{"due":{"field":"valid_until","offset":"1d"},"source":"shop/prices"}`
	for _, c := range []struct{ text, want, ask string }{
		{"mail the buyer when a price row is past due", due + ` | null | otherwise→mail/${person(record.buyer).mail} | null`, ""},
		{"Mail the buyer, vera@lindental.example and Vera Lindt when a price row is past due.", due + ` | null | otherwise→mail/${person(record.buyer).mail} otherwise→mail/vera@lindental.example otherwise→mail/${person("vera").mail} | null`, ""},
		{"when a price row is past due, mail the buyer and tell #board", due + ` | null | otherwise→mail/${person(record.buyer).mail} otherwise→square/#board | null`, ""},
		{"mail the buyer with the price list attached when a price row is past due", due + ` | null | otherwise→mail/${person(record.buyer).mail} | null + prices.csv`, ""},
		{"mail the buyer when a price row is past due and attach the collections", due + ` | null | otherwise→mail/${person(record.buyer).mail} | null + collections.csv`, ""},
		{"text the visitor when a visit comes in and attach the visit list", `{"on":["created"],"source":"crm/visit_requests"} | null | otherwise→phone/${record.visitor_mobile} | null + visit-requests.csv`, ""},
		{"mail a farmer when a new farmer comes in", `{"on":["created"],"source":"crm/farmers"} | null | otherwise→mail/${record.reach} | null`, ""},
		{"email the head of the laboratory when a sample is blocked", "null", "email the head: [email Vera Lindt tell #tours tell #lab tell #board]"},
		{"mail the head and vera when a sample is blocked", "null", "the head: [Vera Lindt]"},
		{"text the visitor when a visit request comes in", `{"on":["created"],"source":"crm/visit_requests"} | null | otherwise→phone/${record.visitor_mobile} | null`, ""},
		{"text +43 664 1234567 when a sample is blocked", `{"source":"lab/samples","when":{"became":"blocked","field":"verdict"}} | null | otherwise→phone/+43 664 1234567 | null`, ""},
		{"tell #lab when a sample is blocked; over 10 samples a day mail jon@lindental.example", `{"source":"lab/samples","when":{"became":"blocked","field":"verdict"}} | null | every All→square/#lab Over 10 a day→mail/jon@lindental.example | null`, ""},
		{"tell Vera Lindt and #lab when a sample is blocked", `{"source":"lab/samples","when":{"became":"blocked","field":"verdict"}} | null | otherwise→person/vera otherwise→square/#lab | null`, ""},
		{"every Monday at 8 mail vera@lindental.example the collections that are late", `{"schedule":{"cron":"0 8 * * 1"}} | null | otherwise→mail/vera@lindental.example | null | collections {"source":"tours/collections","take":"all","where":{"all":[{"field":"status","is":"late"}]}}`, ""},
		{"every Monday at 8 mail the buyer the prices", "null", "the buyer: [Vera Lindt Jonas Frei]"},
	} {
		reads(t, c.text, reaching(t), c.want, c.ask)
	}
}

func brief(r Reading) string {
	if r.Sheet == nil {
		return "null"
	}
	js := func(v any) string { raw, _ := json.Marshal(v); return strings.ReplaceAll(string(raw), `\u003e`, ">") }
	route := r.Sheet["route"].(map[string]any)
	var to []string
	if take, ok := route["take"].(string); ok {
		to = append(to, take)
	}
	tell := func(name any, v any) {
		for _, e := range v.([]any) {
			to = append(to, fmt.Sprint(name, "→", e.(map[string]any)["to"]))
		}
	}
	rows, _ := route["rows"].([]any)
	for _, row := range rows {
		tell(row.(map[string]any)["name"], row.(map[string]any)["tell"])
	}
	if o, ok := route["otherwise"].(map[string]any); ok {
		tell("otherwise", o["tell"])
	}
	parts := []string{js(r.Sheet["watch"]), js(r.Sheet["keep"]), strings.Join(to, " "), js(r.Sheet["pace"])}
	if g, ok := r.Sheet["gather"].([]any); ok && r.Sheet["watch"].(map[string]any)["schedule"] != nil {
		one := g[0].(map[string]any)
		parts = append(parts, fmt.Sprint(one["name"], " ", js(one["find"])))
	}
	out := strings.Join(parts, " | ")
	if a, ok := r.Sheet["messages"].(map[string]any)["alert"].(map[string]any)["attach"].([]any); ok {
		out += fmt.Sprint(" + ", a[0].(map[string]any)["name"])
	}
	return out
}

// compiles checks that a draft can be run as it is.
func compiles(t *testing.T, r Reading) {
	t.Helper()
	if r.Sheet == nil {
		return
	}
	raw, err := json.Marshal(r.Sheet)
	require.NoError(t, err)
	plan, _, problems := sheet.Compile(raw, sheet.Known{Workspace: value.DefaultWorkspace(), Schema: func(s string) *value.Schema { return schemas[s] }})
	require.NotNil(t, plan, "%v\n%s", problems, raw)
}

// Whatever is written, every draft can be run.
func FuzzRead(f *testing.F) {
	f.Add("tell #lab when a sample is blocked in the Upper valley, at once; over 10 samples a day to #board")
	f.Add("collections is is over 5 litres over litres 3 late for 2 h before due; to #tours")
	f.Add("orders not not new; ; daily only once #board #board the rest to #lab")
	f.Add("mail the buyer when an invoice is past due every second monday at 25:99; over 3 invoices a day to #lab")
	f.Add("mail the buyer, vera, a@b.example and text +43 664 1234567 with the price list attached when a price is past due")
	f.Add("every monday mail vera@lindental.example the prices attach the collections; text its visitor the rest")
	f.Add("#lAB over 0 sAmple A dAY")
	f.Fuzz(func(t *testing.T, text string) {
		compiles(t, Read(text, world()))
		w := reaching(t)
		r := Read(text, w)
		compiles(t, r)
		var waived []string
		for range 3 { // waiving brings up no question without end
			for _, q := range r.Questions {
				waived = append(waived, q.waiver())
			}
			r = Read(text, w, waived...)
			compiles(t, r)
		}
		for _, q := range r.Questions {
			if q.Waives {
				t.Fatalf("%q is asked though it was waived", q.Ask)
			}
		}
	})
}

// A question that is waived leaves its words out, and the draft is offered then.
func TestWaivedQuestions(t *testing.T) {
	text := "tell #lab when a sample is blocked by the moonlight"
	r := Read(text, world())
	require.Len(t, r.Questions, 1)
	assert.True(t, r.Questions[0].Waives)
	assert.Nil(t, r.Sheet)
	r = Read(text, world(), r.Questions[0].waiver())
	assert.Empty(t, r.Questions)
	assert.Equal(t, `{"source":"lab/samples","when":{"became":"blocked","field":"verdict"}} | null | otherwise→square/#lab | null`, brief(r))

	r = Read("when a sample is blocked", world(), "Whom should it tell?")
	require.Len(t, r.Questions, 1, "somebody has to be told")
	assert.Nil(t, r.Sheet)
}

// A draft is read back in words made from the sheet: what was denied or excepted shows there.
func TestReadBack(t *testing.T) {
	for text, want := range map[string][]string{
		"tell #tours when a collection is late, but not in the Upper valley": {
			"It begins when a record of collections is new or changes and Status has just become late.", "Only where Valley is not Upper.", "#tours is told."},
		"tell #tours when a collection is late or refused; between 500 and 1000 litres to #board; the rest to #lab": {
			"It begins when a record of collections is new or changes and Status has just become late or Status has just become refused.",
			"Where Litres is between 500 and 1000, #tours and #board are told.", "Of all the others, #tours and #lab are told."},
		"tell #board every weekday at 7 the orders that are disputed": {
			"It begins at set times: on Monday to Friday at 07:00.", "The list is of all orders where Status is disputed.", "#board is told."},
		"tell #tours 2 hours before due when a collection is planned, only once": {
			`It begins 2h before "Due" of a record of collections comes.`, "Only where Status is planned.", "#tours is told.", "It is told once of the same record within 1d."},
		"ask #board before telling #tours when a collection is late; tell Vera Lindt if nobody takes it within 10 minutes": {
			"It begins when a record of collections is new or changes and Status has just become late.", "First #board is asked; it goes on once that is approved.",
			"Where it was approved, #tours is told.", "Where nobody takes it within 10m, Vera Lindt is told."},
	} {
		r := Read(text, reaching(t))
		assert.Empty(t, r.Questions, text)
		assert.Equal(t, want, r.Says, text)
	}
}
