// Package hook reads record events that apps send by HTTP: CloudEvents 1.0 in structured, binary and
// batch mode, and plain JSON records.
package hook

import (
	"errors"
	"fmt"
	"mime"
	"net/http"
	"net/url"
	"strings"
	"time"

	standardwebhooks "github.com/standard-webhooks/standard-webhooks/libraries/go"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/arrival"
	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/value"
)

// MaxBody is the largest request that is taken in, in bytes.
const MaxBody = 1 << 20

// Event is an arrival as it came. Compute is true where the app did not say whether the record is
// new, so that the record's known state must tell.
type Event struct {
	*arrival.Arrival
	Compute bool
	Through string // the workflows that it came through, where a post of Dorfbote's caused it
}

func refuse(status int, location, format string, args ...any) *fault.Fault {
	return &fault.Fault{Status: status, Place: location, Said: fmt.Sprintf(format, args...)}
}

// Hook is one connection that events come in by.
type Hook struct {
	Connection string
	Secret     string // of Standard Webhooks; "" checks nothing
	// Shape says where a source's records lie in what is no CloudEvent, and what names a record.
	// An error is one of the moment: the request is to be sent again.
	Shape func(source string) (Shape, error)
}

// Read makes events of one request. kind is the record kind from the address; "" takes it from the
// events. Time, where an event has none, is now.
func (h *Hook) Read(header http.Header, kind string, body []byte, now time.Time) ([]Event, *fault.Fault) {
	if p := h.verify(header, body); p != nil {
		return nil, p
	}
	media, _, err := mime.ParseMediaType(header.Get("Content-Type"))
	if err != nil {
		return nil, refuse(http.StatusUnsupportedMediaType, "header Content-Type", "the content type %q cannot be read; send application/json or application/cloudevents+json", header.Get("Content-Type"))
	}
	var events []Event
	var p *fault.Fault
	switch {
	case media == "application/cloudevents-batch+json":
		events, p = h.batch(body)
	case media == "application/cloudevents+json":
		events, p = h.structured(body)
	case media == "application/x-www-form-urlencoded":
		events, p = h.form(header, kind, body, now)
	case media != "application/json" && !strings.HasSuffix(media, "+json"):
		return nil, refuse(http.StatusUnsupportedMediaType, "header Content-Type", "%s is not read here; send application/json, application/cloudevents+json, application/cloudevents-batch+json or application/x-www-form-urlencoded", media)
	case header.Get("Ce-Specversion") != "":
		events, p = h.binary(header, body)
	default:
		events, p = h.plain(header, kind, body, now)
	}
	if p != nil {
		return nil, p
	}
	for i := range events {
		events[i].Through = header.Get(connect.ThroughHeader)
		if p := h.finish(&events[i], kind, i, now); p != nil {
			return nil, p
		}
	}
	return events, nil
}

func (h *Hook) verify(header http.Header, body []byte) *fault.Fault {
	if h.Secret == "" {
		return nil
	}
	wh, err := standardwebhooks.NewWebhook(h.Secret)
	if err != nil {
		return refuse(http.StatusInternalServerError, "", "the signing secret of %s is no Standard Webhooks secret", h.Connection)
	}
	if err := wh.Verify(body, header); err != nil {
		return refuse(http.StatusUnauthorized, "header webhook-signature", "the signature was not accepted: %v", err)
	}
	return nil
}

func (h *Hook) batch(body []byte) ([]Event, *fault.Fault) {
	v, err := value.ReadJSON(body)
	if err != nil {
		return nil, badJSON(err)
	}
	list, ok := v.([]any)
	if !ok {
		return nil, refuse(http.StatusBadRequest, "", "a batch is a JSON array of CloudEvents, not %s", value.Describe(v))
	}
	events := make([]Event, len(list))
	for i, e := range list {
		a, err := arrival.FromEvent(e)
		if err != nil {
			return nil, badEvent(err, fmt.Sprintf("[%d].", i))
		}
		events[i] = Event{Arrival: a}
	}
	return events, nil
}

func (h *Hook) structured(body []byte) ([]Event, *fault.Fault) {
	a, err := arrival.Read(body)
	if err != nil {
		return nil, badEvent(err, "")
	}
	return []Event{{Arrival: a}}, nil
}

// binary reads the attributes from ce- headers and the data from the body.
func (h *Hook) binary(header http.Header, body []byte) ([]Event, *fault.Fault) {
	event := map[string]any{}
	for name := range header {
		if attr, ok := strings.CutPrefix(strings.ToLower(name), "ce-"); ok {
			event[attr] = percentDecode(header.Get(name))
		}
	}
	if len(body) > 0 {
		data, err := value.ReadJSON(body)
		if err != nil {
			return nil, badJSON(err)
		}
		event["data"] = data
	}
	a, err := arrival.FromEvent(event)
	if err != nil {
		return nil, badEvent(err, "header ce-")
	}
	return []Event{{Arrival: a}}, nil
}

// percentDecode undoes the encoding of header values of the CloudEvents HTTP binding (3.1.3.2).
func percentDecode(s string) string {
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] == '%' && i+2 < len(s) {
			var c byte
			if _, err := fmt.Sscanf(s[i+1:i+3], "%02x", &c); err == nil {
				b.WriteByte(c)
				i += 2
				continue
			}
		}
		b.WriteByte(s[i])
	}
	return strings.ToValidUTF8(b.String(), "\uFFFD")
}

// plain reads a record, or a list of records, sent as it is.
func (h *Hook) plain(header http.Header, kind string, body []byte, now time.Time) ([]Event, *fault.Fault) {
	v, err := value.ReadJSON(body)
	if err != nil {
		return nil, badJSON(err)
	}
	if m, ok := v.(map[string]any); ok && m["specversion"] != nil && m["source"] != nil {
		return h.structured(body) // a CloudEvent under the plain content type
	}
	if kind == "" {
		return nil, refuse(http.StatusBadRequest, "path", "a plain record does not say what kind it is; send it to …/%s/KIND", h.Connection)
	}
	list, isList := v.([]any)
	if !isList {
		list = []any{v}
	}
	id := header.Get("Webhook-Id")
	if id == "" {
		id = header.Get("Idempotency-Key")
	}
	source := h.Connection + "/" + kind
	shape, err := h.Shape(source)
	if err != nil {
		return nil, notNow(err)
	}
	var events []Event
	for i, e := range list {
		at := ""
		if isList {
			at = fmt.Sprintf("/%d", i)
		}
		records, p := shape.records(e, at)
		if p != nil {
			return nil, p
		}
		for _, record := range records {
			events = append(events, Event{Arrival: &arrival.Arrival{Source: source, Type: arrival.Updated, Record: record, Time: now, ID: id}, Compute: true})
		}
	}
	if id != "" && (isList || len(events) > 1) {
		for i := range events {
			events[i].ID = fmt.Sprintf("%s-%d", id, i)
		}
	}
	return events, nil
}

// maxFormFields bounds how many fields a form may have.
const maxFormFields = 1000

// form reads a record sent as a form: each field a text, and a list where it stands several times. Names such as
// "farm[name]" or "farm.name" stay as they are. A form that holds a whole record as JSON in one field, as some apps
// send theirs ("payload"), is that record.
func (h *Hook) form(header http.Header, kind string, body []byte, now time.Time) ([]Event, *fault.Fault) {
	raw, p := formRecord(body)
	if p != nil {
		return nil, p
	}
	return h.plain(header, kind, raw, now)
}

// formRecord makes JSON of a form.
func formRecord(body []byte) ([]byte, *fault.Fault) {
	values, err := url.ParseQuery(string(body))
	if err != nil {
		return nil, refuse(http.StatusBadRequest, "body", "the form cannot be read: %v", err)
	}
	if len(values) > maxFormFields {
		return nil, refuse(http.StatusBadRequest, "body", "the form has more than %d fields", maxFormFields)
	}
	if len(values) == 1 {
		for _, v := range values {
			if len(v) == 1 && (strings.HasPrefix(strings.TrimSpace(v[0]), "{") || strings.HasPrefix(strings.TrimSpace(v[0]), "[")) {
				return []byte(v[0]), nil
			}
		}
	}
	record := map[string]any{}
	for _, name := range value.SortedKeys(values) {
		v := values[name]
		name = cleanText(name)
		var val any = cleanText(v[0])
		if len(v) > 1 || strings.HasSuffix(name, "[]") {
			list := make([]any, len(v))
			for i, s := range v {
				list[i] = cleanText(s)
			}
			val = list
		}
		nest(record, strings.TrimSuffix(name, "[]"), val)
	}
	return value.AppendJSON(nil, record), nil
}

// nest puts a field of a form where its name says: order[customer][id] lies within customer, within order. Where another field is in the
// way, it stands under its whole name.
func nest(record map[string]any, name string, v any) {
	head, rest, nested := strings.Cut(name, "[")
	if !nested || head == "" || !strings.HasSuffix(rest, "]") {
		record[name] = v
		return
	}
	steps := append([]string{head}, strings.Split(strings.TrimSuffix(rest, "]"), "][")...)
	last := len(steps) - 1
	at, free := record, len(steps) <= maxNested
	for n := 0; free && at[steps[n]] != nil; n++ { // as far as it is there already
		inner, isObject := at[steps[n]].(map[string]any)
		at, free = inner, isObject && n < last
	}
	if !free {
		record[name] = v
		return
	}
	at = record
	for _, s := range steps[:last] {
		if at[s] == nil {
			at[s] = map[string]any{}
		}
		at = at[s].(map[string]any)
	}
	at[steps[last]] = v
}

// maxNested is how deep fields of a form may lie.
const maxNested = 8

func cleanText(s string) string {
	return strings.ReplaceAll(strings.ToValidUTF8(s, "\uFFFD"), "\x00", "\uFFFD")
}

// settle puts the event under this connection's source and finds its record's key.
func (h *Hook) finish(e *Event, kind string, i int, now time.Time) *fault.Fault {
	own, ok := strings.CutPrefix(e.Source, h.Connection+"/")
	switch {
	case ok && (kind == "" || own == kind):
	case kind == "":
		return refuse(http.StatusBadRequest, "source", "the event's source %q is not %s/KIND; send it to …/%s/KIND, or name the source so", e.Source, h.Connection, h.Connection)
	default:
		e.Source = h.Connection + "/" + kind // a foreign app names itself as it likes
	}
	if e.Time.IsZero() {
		e.Time = now
	}
	if e.Time.Year() < 1 || e.Time.Year() > 9999 {
		return refuse(http.StatusBadRequest, "time", "the time %s is out of range", e.Time)
	}
	if e.Subject == "" && e.Record != nil {
		shape, err := h.Shape(e.Source)
		if err != nil {
			return notNow(err)
		}
		field := shape.Key
		if e.Subject = connect.KeyOf(e.Record, field); e.Subject == "" {
			return refuse(http.StatusBadRequest, "/"+field, "record %d of the request has no key: its field %q is missing or empty, and the event has no subject", i+1, field)
		}
	}
	for name, s := range map[string]string{"id": e.ID, "subject": e.Subject, "source": e.Source, "type": e.Type} {
		if len(s) > 500 {
			return refuse(http.StatusBadRequest, name, "%s is longer than 500 bytes", name)
		}
		if strings.ContainsRune(s, 0) {
			return refuse(http.StatusBadRequest, name, "%s holds a NUL character", name)
		}
	}
	return nil
}

func notNow(err error) *fault.Fault {
	return refuse(http.StatusServiceUnavailable, "", "this cannot be read at the moment; send it again: %v", err)
}

func badJSON(err error) *fault.Fault {
	if je, ok := errors.AsType[*value.JSONError](err); ok {
		return refuse(http.StatusBadRequest, fmt.Sprintf("line %d, column %d", je.Line, je.Column), "the body is not JSON that can be read: %v", je)
	}
	return refuse(http.StatusBadRequest, "", "the body is not JSON that can be read: %v", err)
}

func badEvent(err error, prefix string) *fault.Fault {
	if fe, ok := errors.AsType[*fault.Fault](err); ok {
		return refuse(http.StatusBadRequest, prefix+fe.Place, "%s%v", prefix, fe)
	}
	return badJSON(err)
}
