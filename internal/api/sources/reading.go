package sources

import (
	"context"
	"net/http"
	"strings"
	"time"

	"dorfbote/internal/api/kit"
	"dorfbote/internal/connect"
	"dorfbote/internal/connect/hook"
	"dorfbote/internal/connect/kinds"
)

// RequestReading is one of the last requests to a hook as it would be read.
type RequestReading struct {
	Request  int64        `json:"request"`
	At       time.Time    `json:"at"`
	Path     string       `json:"path"`
	Status   int          `json:"status" doc:"as it was answered when it came"`
	Records  []ReadRecord `json:"records"`
	Problem  string       `json:"problem" doc:"why it would be refused; empty where it would be taken in"`
	Location string       `json:"location"`
}

// ReadRecord is a record found in what was sent.
type ReadRecord struct {
	Key    string         `json:"key"`
	Record map[string]any `json:"record"`
}

type readingInput struct {
	ID   string `path:"id"`
	Body struct {
		Kind     string `json:"kind,omitempty" doc:"only what was sent for this kind of record"`
		Record   string `json:"record,omitempty" maxLength:"500" doc:"the path to the record in what is sent"`
		KeyField string `json:"key_field,omitempty" maxLength:"200" doc:"the field that names it; id where nothing is said"`
	}
}

type readingOutput struct {
	Body struct {
		Items  []RequestReading `json:"items" doc:"the last requests, newest first"`
		Offers []hook.Offer     `json:"offers" doc:"where records may lie in them, the likeliest first"`
	}
}

func (s *Sources) readingRoutes() {
	kit.Register(s.Kit, kit.Op("read-requests", http.MethodPost, "/api/connections/{id}/reading", "How the last requests to a hook would be read, without taking anything in", "Connections"), kit.Editors, s.readRequests)
}

// mostReadings is how many of the last requests are read anew.
const mostReadings = 20

func (s *Sources) readRequests(ctx context.Context, _ *kit.Person, in *readingInput) (*readingOutput, error) {
	s.Requests.WaitWritten()
	if c, err := s.Store.ConnectionOf(ctx, in.ID, kinds.Behind(connect.DoorEvents)...); err != nil || c == nil {
		return nil, kit.OrMissing(err)
	}
	path := ""
	if in.Body.Kind != "" {
		path = "/in/" + in.ID + "/" + in.Body.Kind
	}
	rows, err := s.Store.LastRequests(ctx, in.ID, path, true, mostReadings)
	if err != nil {
		return nil, err
	}
	shape := hook.Shape{Record: strings.TrimSpace(in.Body.Record), Key: strings.TrimSpace(in.Body.KeyField)}
	if shape.Key == "" {
		shape.Key = "id"
	}
	h := hook.Hook{Connection: in.ID, Shape: func(string) (hook.Shape, error) { return shape, nil }}
	out := &readingOutput{}
	out.Body.Items = []RequestReading{}
	var sent []any
	for _, r := range rows {
		if v, ok := hook.Sent(r.Media, r.Body); ok {
			sent = append(sent, v)
		}
		_, kind, _ := strings.Cut(strings.TrimPrefix(r.Path, "/in/"), "/")
		it := RequestReading{Request: r.ID, At: r.At, Path: r.Path, Status: r.Status, Records: []ReadRecord{}}
		events, p := h.Read(http.Header{"Content-Type": {r.Media}}, kind, r.Body, r.At)
		if p != nil {
			it.Problem, it.Location = p.Said, p.Place
		}
		for _, e := range events {
			it.Records = append(it.Records, ReadRecord{Key: e.Subject, Record: e.Record})
		}
		out.Body.Items = append(out.Body.Items, it)
	}
	out.Body.Offers = hook.Offers(sent)
	return out, nil
}
