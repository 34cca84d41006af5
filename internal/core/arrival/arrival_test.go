package arrival

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/value"
)

func TestTypesInOneWord(t *testing.T) {
	for typ, want := range map[string]string{
		Created: "created", Updated: "updated", Removed: "removed", Start: "start", Tick: "tick",
		"com.shop.order.deleted": "removed", "deleted": "removed", "shop.added": "created", "shop.inserted": "created", "shop.new": "created",
		"shop.order.paid": "updated", "": "updated", "x.": "updated",
	} {
		assert.Equal(t, want, (&Arrival{Type: typ}).Kind(), typ)
	}
}

// What is no CloudEvent that can be read is refused, with the attribute that is wrong.
func TestEventsThatAreRefused(t *testing.T) {
	const head = `"specversion":"1.0","id":"a","source":"tours/collections","type":"dorfbote.record.updated"`
	for name, c := range map[string]struct{ event, field string }{
		"no object":                  {`[]`, "(event)"},
		"no id":                      {`{"specversion":"1.0","source":"a/b","type":"t","data":{"record":{}}}`, "id"},
		"an empty id":                {`{"specversion":"1.0","id":"","source":"a/b","type":"t","data":{}}`, "id"},
		"another version":            {`{"specversion":"0.3","id":"a","source":"a/b","type":"t","data":{}}`, "specversion"},
		"a version that is a number": {`{"specversion":1.0,"id":"a","source":"a/b","type":"t","data":{}}`, "specversion"},
		"an id that is a number":     {`{"specversion":"1.0","id":7,"source":"a/b","type":"t","data":{}}`, "id"},
		"a source that is no URI":    {`{"specversion":"1.0","id":"a","source":"a b%zz","type":"t","data":{}}`, "source"},
		"data in base64":             {`{` + head + `,"data_base64":"eyJyZWNvcmQiOnt9fQ=="}`, "data_base64"},
		"data in base64 as well":     {`{` + head + `,"data":{"record":{"id":"1"}},"data_base64":"e30="}`, "data_base64"},
		"a time without a zone":      {`{` + head + `,"time":"2026-11-20T06:41:07","data":{"record":{}}}`, "time"},
		"a time that is a number":    {`{` + head + `,"time":1700000000,"data":{"record":{}}}`, "time"},
		"no data":                    {`{` + head + `}`, "data"},
		"data that is text":          {`{` + head + `,"data":"x"}`, "data"},
		"no record":                  {`{` + head + `,"data":{"by":"J"}}`, "data.record"},
		"a record that is a list":    {`{` + head + `,"data":{"record":[]}}`, "data.record"},
		"a before that is text":      {`{` + head + `,"data":{"record":{"id":"1"},"before":"x"}}`, "data.before"},
	} {
		_, err := Read([]byte(c.event))
		var fe *fault.Fault
		require.ErrorAs(t, err, &fe, name)
		assert.Equal(t, c.field, fe.Place, name)
	}
}

// A foreign event's data is the record; our own names its parts; a removed record is judged as it last was.
func TestWhatAnEventCarries(t *testing.T) {
	for name, c := range map[string]struct {
		event          string
		record, before map[string]any
	}{
		"our own":         {`{"specversion":"1.0","id":"a","source":"t/c","type":"dorfbote.record.updated","data":{"record":{"id":"1"},"before":{"id":"1","x":1}}}`, map[string]any{"id": "1"}, map[string]any{"id": "1", "x": 1.0}},
		"a foreign one":   {`{"specversion":"1.0","id":"a","source":"t/c","type":"shop.paid","data":{"id":"1","by":"J"}}`, map[string]any{"id": "1", "by": "J"}, nil},
		"a wrapped one":   {`{"specversion":"1.0","id":"a","source":"t/c","type":"shop.paid","data":{"record":{"id":"1"}}}`, map[string]any{"id": "1"}, nil},
		"removed":         {`{"specversion":"1.0","id":"a","source":"t/c","type":"dorfbote.record.removed","data":{"before":{"id":"1"}}}`, map[string]any{"id": "1"}, map[string]any{"id": "1"}},
		"removed, silent": {`{"specversion":"1.0","id":"a","source":"t/c","type":"shop.deleted"}`, nil, nil},
	} {
		a, err := Read([]byte(c.event))
		require.NoError(t, err, name)
		assert.Equal(t, c.record, a.Record, name)
		assert.Equal(t, c.before, a.Before, name)
	}
}

// What is written reads as the same, for every part there may be.
func TestWrittenAndReadAgain(t *testing.T) {
	r := value.NewReader()
	for i, a := range []*Arrival{
		{ID: "a", Source: "t/c", Type: Updated, Time: time.Date(2026, 11, 20, 6, 41, 7, 120_000_000, time.UTC), Subject: "K", Record: map[string]any{"id": "K", "big": "12345678901234567890"}, Before: map[string]any{"id": "K"}, By: "Jonas"},
		{ID: "b", Source: "t/c", Type: Start, Time: time.Unix(1_700_000_000, 0).UTC(), Answers: map[string]any{"why": "äöü \u2028"}},
		{ID: "c", Source: "dorfbote/schedule", Type: Tick, Time: time.Unix(1_700_000_000, 0).UTC()},
		{ID: "d", Source: "t/c", Type: Removed, Time: time.Unix(1_700_000_000, 0).UTC(), Subject: "K", Record: map[string]any{"id": "K"}},
	} {
		raw := a.AppendJSON(nil)
		one, err := Read(raw)
		require.NoError(t, err)
		assert.Equal(t, a, one, fmt.Sprint(i))
		two, err := ReadBy(r, raw)
		require.NoError(t, err)
		assert.Equal(t, a, two)
		var carried Arrival
		carried.Carry(a.Data())
		assert.Equal(t, a.Record, carried.Record)
		assert.Equal(t, a.Answers, carried.Answers)
	}
}

func FuzzEvents(f *testing.F) {
	f.Add([]byte(`{"specversion":"1.0","id":"a","source":"t/c","type":"dorfbote.record.updated","time":"2026-11-20T06:41:07Z","data":{"record":{"id":"1"}}}`))
	f.Fuzz(func(t *testing.T, raw []byte) {
		a, err := Read(raw)
		if err != nil {
			return
		}
		again, err := Read(a.AppendJSON(nil))
		if err != nil {
			return // such as a time beyond what is written
		}
		if again.ID != a.ID || again.Source != a.Source || again.Kind() != a.Kind() {
			t.Fatalf("%s reads as %v, and then as %v", raw, a, again)
		}
	})
}
