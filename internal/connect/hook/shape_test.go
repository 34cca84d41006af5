package hook

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestRecordsInsideWhatIsSent(t *testing.T) {
	json := headers("Content-Type", "application/json", "Webhook-Id", "w1")
	for _, c := range []struct {
		name, record, key, body string
		header                  []string
		subjects, ids           []string
		status                  int
		location                string
	}{
		{name: "the body itself", key: "id", body: `{"id":"7","a":1}`, subjects: []string{"7"}, ids: []string{"w1"}},
		{name: "inside", record: "incident", key: "id", body: `{"event":"closed","incident":{"id":"I-7"}}`, subjects: []string{"I-7"}, ids: []string{"w1"}},
		{name: "deep inside, and a key inside that", record: "data.object", key: "ref.no", body: `{"data":{"object":{"ref":{"no":12}}}}`, subjects: []string{"12"}, ids: []string{"w1"}},
		{name: "a list inside", record: "data.items", key: "id", body: `{"data":{"items":[{"id":1},{"id":2}]}}`, subjects: []string{"1", "2"}, ids: []string{"w1-0", "w1-1"}},
		{name: "a list of such bodies", record: "r", key: "id", body: `[{"r":{"id":1}},{"r":{"id":2}}]`, subjects: []string{"1", "2"}, ids: []string{"w1-0", "w1-1"}},
		{name: "an empty list", record: "items", key: "id", body: `{"items":[]}`},
		{name: "nothing there", record: "incident", key: "id", body: `{"event":"ping"}`, status: 400, location: "/incident"},
		{name: "no object there", record: "incident", key: "id", body: `{"incident":"I-7"}`, status: 400, location: "/incident"},
		{name: "no object in the list there", record: "items", key: "id", body: `{"items":[{"id":1},2]}`, status: 400, location: "/items/1"},
		{name: "no key there", record: "incident", key: "no", body: `{"incident":{"id":"I-7"}}`, status: 400, location: "/no"},
		{name: "a CloudEvent says itself", record: "incident", key: "no", body: event, subjects: []string{"C-1"}, ids: []string{"e1"}},
	} {
		t.Run(c.name, func(t *testing.T) {
			h := Hook{Connection: "tours", Shape: func(string) (Shape, error) { return Shape{c.record, c.key}, nil }}
			events, p := h.Read(json, "collections", []byte(c.body), at)
			if c.status != 0 {
				require.NotNil(t, p)
				assert.Equal(t, c.status, p.Status)
				assert.Equal(t, c.location, p.Place)
				return
			}
			require.Nil(t, p)
			var subjects, ids []string
			for _, e := range events {
				subjects, ids = append(subjects, e.Subject), append(ids, e.ID)
			}
			assert.Equal(t, c.subjects, subjects)
			assert.Equal(t, c.ids, ids)
		})
	}
}

// Where records may lie is found in what was sent, the likeliest first.
func TestOffers(t *testing.T) {
	for _, c := range []struct {
		name, media string
		bodies      []string
		want        Offer
	}{
		{"the record itself", "application/json", []string{`{"id":"C-1","status":"late","farm":{"id":"F-1","name":"Hof"}}`}, Offer{"", "id", 1}},
		{"inside an envelope", "application/json", []string{`{"event":"incident.closed","incident":{"id":"I-1","title":"x","status":"closed"}}`, `{"event":"incident.opened","incident":{"id":"I-2","title":"y","status":"open"}}`}, Offer{"incident", "id", 2}},
		{"in an envelope that has an id of its own", "application/json", []string{`{"id":"evt_1","type":"order.paid","data":{"object":{"id":"O-1","total":12,"customer":"x","paid":true,"at":"2026-11-20"}}}`, `{"id":"evt_2","type":"order.paid","data":{"object":{"id":"O-1","total":12,"customer":"x","paid":true,"at":"2026-11-20"}}}`}, Offer{"data.object", "id", 2}},
		{"a list", "application/json", []string{`{"items":[{"number":4,"title":"x"},{"number":5,"title":"y"}]}`}, Offer{"items", "number", 1}},
		{"a key of another name", "application/json", []string{`{"ticket_id":9,"subject":"x"}`}, Offer{"", "ticket_id", 1}},
		{"JSON within a form", "application/x-www-form-urlencoded", []string{"payload=%7B%22issue%22%3A%7B%22key%22%3A%22A-1%22%2C%22title%22%3A%22x%22%7D%7D"}, Offer{"issue", "key", 1}},
	} {
		t.Run(c.name, func(t *testing.T) {
			var sent []any
			for _, b := range c.bodies {
				v, ok := Sent(c.media, []byte(b))
				require.True(t, ok)
				sent = append(sent, v)
			}
			offers := Offers(sent)
			require.NotEmpty(t, offers)
			assert.Equal(t, c.want, offers[0], "%v", offers)
		})
	}
	_, ok := Sent("application/json", []byte(event))
	assert.False(t, ok, "a CloudEvent says itself where its record lies")
	assert.Empty(t, Offers([]any{"text", 5.0, []any{1.0}, map[string]any{"a": map[string]any{}}}))
}
