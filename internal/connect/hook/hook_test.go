package hook

import (
	"net/http"
	"strconv"
	"strings"
	"testing"
	"time"

	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

var at = time.Date(2026, 11, 20, 6, 0, 0, 0, time.UTC)

func tours(secret string) *Hook {
	return &Hook{Connection: "tours", Secret: secret, Shape: func(string) (Shape, error) { return Shape{Key: "id"}, nil }}
}

func headers(pairs ...string) http.Header {
	h := http.Header{}
	for i := 0; i < len(pairs); i += 2 {
		h.Set(pairs[i], pairs[i+1])
	}
	return h
}

const event = `{"specversion":"1.0","id":"e1","source":"tours/collections","type":"dorfbote.record.updated","time":"2026-11-20T05:00:00Z","subject":"C-1","data":{"record":{"id":"C-1","big":1234567890123456789},"by":"Jonas"}}`

func TestEveryWayToSend(t *testing.T) {
	for _, c := range []struct {
		name, kind, body string
		header           http.Header
		ids              []string
		source           string
	}{
		{"structured", "", event, headers("Content-Type", "application/cloudevents+json; charset=utf-8"), []string{"e1"}, "tours/collections"},
		{"structured, as plain JSON", "", event, headers("Content-Type", "application/json"), []string{"e1"}, "tours/collections"},
		{"batch", "", "[" + event + "," + strings.Replace(event, "e1", "e2", 1) + "]", headers("Content-Type", "application/cloudevents-batch+json"), []string{"e1", "e2"}, "tours/collections"},
		{"binary", "", `{"record":{"id":"C-1"}}`, headers("Content-Type", "application/json", "ce-specversion", "1.0", "ce-id", "e%C3%A4", "ce-source", "tours/collections", "ce-type", "dorfbote.record.created"), []string{"eä"}, "tours/collections"},
		{"plain", "collections", `{"id":"C-1"}`, headers("Content-Type", "application/json", "webhook-id", "w1"), []string{"w1"}, "tours/collections"},
		{"plain list", "collections", `[{"id":"C-1"},{"id":17}]`, headers("Content-Type", "application/json", "Idempotency-Key", "k"), []string{"k-0", "k-1"}, "tours/collections"},
		{"a foreign source under a kind's address", "collections", strings.Replace(event, `"source":"tours/collections"`, `"source":"urn:x"`, 1), headers("Content-Type", "application/cloudevents+json"), []string{"e1"}, "tours/collections"},
	} {
		t.Run(c.name, func(t *testing.T) {
			events, p := tours("").Read(c.header, c.kind, []byte(c.body), at)
			require.Nil(t, p)
			var ids []string
			for _, e := range events {
				ids = append(ids, e.ID)
				assert.Equal(t, c.source, e.Source)
				assert.NotEmpty(t, e.Subject)
				assert.False(t, e.Time.IsZero())
			}
			assert.Equal(t, c.ids, ids)
		})
	}
	events, p := tours("").Read(headers("Content-Type", "application/cloudevents+json"), "", []byte(event), at)
	require.Nil(t, p)
	assert.Equal(t, "1234567890123456789", events[0].Record["big"])
}

func TestRefusalsSayWhere(t *testing.T) {
	ce := headers("Content-Type", "application/cloudevents+json")
	plain := headers("Content-Type", "application/json")
	for _, c := range []struct {
		name, kind, body string
		header           http.Header
		status           int
		location         string
	}{
		{"no type of content", "", event, headers(), 415, "header Content-Type"},
		{"another type of content", "", event, headers("Content-Type", "text/csv"), 415, "header Content-Type"},
		{"no JSON", "", "{\n\"id\": tru }", ce, 400, "line 2, column 10"},
		{"a name twice", "", `{"id":"1","id":"2"}`, ce, 400, "line 1, column 11"},
		{"no id", "", strings.Replace(event, `"id":"e1",`, "", 1), ce, 400, "id"},
		{"another version", "", strings.Replace(event, "1.0", "0.3", 1), ce, 400, "specversion"},
		{"a time that is none", "", strings.Replace(event, "2026-11-20T05:00:00Z", "yesterday", 1), ce, 400, "time"},
		{"an id that is no text", "", strings.Replace(event, `"e1"`, "5", 1), ce, 400, "id"},
		{"no record", "", strings.Replace(event, `"record":{"id":"C-1","big":1234567890123456789},`, "", 1), ce, 400, "data.record"},
		{"a record that is no object", "", strings.Replace(event, `{"id":"C-1","big":1234567890123456789}`, "[]", 1), ce, 400, "data.record"},
		{"an event of a batch", "", "[" + event + ",{}]", headers("Content-Type", "application/cloudevents-batch+json"), 400, "[1].specversion"},
		{"another connection's source", "", strings.Replace(event, "tours/", "lab/", 1), ce, 400, "source"},
		{"plain without a kind", "", `{"id":"1"}`, plain, 400, "path"},
		{"plain without a key", "collections", `{"name":"1"}`, plain, 400, "/id"},
		{"plain that is no object", "collections", `[1]`, plain, 400, "/0"},
		{"an empty body", "collections", ``, plain, 400, "line 1, column 1"},
		{"a key as long as a book", "collections", `{"id":"` + strings.Repeat("x", 600) + `"}`, plain, 400, "subject"},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, p := tours("").Read(c.header, c.kind, []byte(c.body), at)
			require.NotNil(t, p)
			assert.Equal(t, c.status, p.Status, p.Said)
			assert.Equal(t, c.location, p.Place, p.Said)
		})
	}
}

func TestSignatures(t *testing.T) {
	const secret = "whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw"
	wh, err := standardwebhooks.NewWebhook(secret)
	require.NoError(t, err)
	sign := func(body string, when time.Time) http.Header {
		s, err := wh.Sign("m1", when, []byte(body))
		require.NoError(t, err)
		return headers("Content-Type", "application/cloudevents+json", "webhook-id", "m1", "webhook-timestamp", itoa(when.Unix()), "webhook-signature", s)
	}
	_, p := tours(secret).Read(sign(event, time.Now()), "", []byte(event), at)
	assert.Nil(t, p)
	for name, h := range map[string]http.Header{
		"no signature":       headers("Content-Type", "application/cloudevents+json"),
		"another body":       sign(event+" ", time.Now()),
		"an old timestamp":   sign(event, time.Now().Add(-time.Hour)),
		"a future timestamp": sign(event, time.Now().Add(time.Hour)),
	} {
		_, p := tours(secret).Read(h, "", []byte(event), at)
		require.NotNil(t, p, name)
		assert.Equal(t, http.StatusUnauthorized, p.Status, name)
	}
}

func itoa(n int64) string { return strconv.FormatInt(n, 10) }

func FuzzRead(f *testing.F) {
	f.Add("application/json", "collections", []byte(`{"id":1}`))
	f.Add("application/cloudevents+json", "", []byte(event))
	f.Add("application/cloudevents-batch+json", "", []byte("["+event+"]"))
	f.Fuzz(func(t *testing.T, media, kind string, body []byte) {
		events, p := tours("").Read(headers("Content-Type", media), kind, body, at)
		if p != nil {
			assert.GreaterOrEqual(t, p.Status, 400)
			return
		}
		for _, e := range events {
			assert.LessOrEqual(t, len(e.Subject), 500)
		}
	})
}

func TestForms(t *testing.T) {
	h := Hook{Connection: "shop", Shape: func(string) (Shape, error) { return Shape{Key: "id"}, nil }}
	header := http.Header{"Content-Type": {"application/x-www-form-urlencoded; charset=utf-8"}}
	for body, want := range map[string]map[string]any{
		"id=A-1&state=new&tag=a&tag=b&n=K%C3%A4se+alt":                       {"id": "A-1", "state": "new", "tag": []any{"a", "b"}, "n": "K\u00e4se alt"},
		"payload=%7B%22id%22%3A%22A-1%22%2C%22n%22%3A5%7D":                   {"id": "A-1", "n": 5.0},
		"id=A-1&order[customer][id]=7&order[customer][name]=Ann&tags[]=a":    {"id": "A-1", "order": map[string]any{"customer": map[string]any{"id": "7", "name": "Ann"}}, "tags": []any{"a"}},
		"id=A-1&a=1&a[b]=2&c[=3&[d]=4":                                       {"id": "A-1", "a": "1", "a[b]": "2", "c[": "3", "[d]": "4"},
		"id=A-1&" + strings.Repeat("a[", 1) + "b][c][d][e][f][g][h][i][j]=1": {"id": "A-1", "a[b][c][d][e][f][g][h][i][j]": "1"},
		"id=A-1&x=%FF%00": {"id": "A-1", "x": "\uFFFD\uFFFD"},
	} {
		events, p := h.Read(header, "orders", []byte(body), time.Now())
		require.Nil(t, p, body)
		require.Len(t, events, 1)
		assert.Equal(t, want, events[0].Record)
		assert.Equal(t, "A-1", events[0].Subject)
	}
	for _, bad := range []string{"%zz=1", "state=new", "id=", strings.Repeat("a=1&", 10) + "%"} {
		_, p := h.Read(header, "orders", []byte(bad), time.Now())
		require.NotNil(t, p, bad)
		assert.Equal(t, 400, p.Status)
	}
}
