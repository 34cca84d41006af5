package sources

import (
	"context"

	"dorfbote/internal/api/kit"
	"dorfbote/internal/api/shown"
	"dorfbote/internal/connect"
	"dorfbote/internal/core/value"
	"dorfbote/internal/engine/sources"
)

type previewOutput struct {
	Body struct {
		Fields   []shown.FieldItem  `json:"fields"`
		Records  []shown.RecordItem `json:"records"`
		Rows     int                `json:"rows" doc:"how many records were read to make this"`
		More     bool               `json:"more" doc:"there are more than were read"`
		Problem  string             `json:"problem" doc:"why it could not be read"`
		Part     string             `json:"part" doc:"what of it cannot be read, and what to do"`
		Keyless  int                `json:"keyless" doc:"records that have no value in the field that is to name them"`
		Keys     []string           `json:"keys" doc:"fields that may name the records, the likeliest first"`
		Twice    int                `json:"twice" doc:"records whose key an earlier one has as well"`
		Arrivals int                `json:"arrivals" doc:"how many arrivals the beginning would make at once, of the records read"`
		Posts    int64              `json:"posts" doc:"how many posts these would send at once, by the workflows that are on for this source"`
	}
}

// previewRows is how many records a preview reads.
const previewRows = 200

func (s *Sources) previewSource(ctx context.Context, _ *kit.Person, in *newSourceInput) (*previewOutput, error) {
	o, err := s.opened(ctx, in.ID, &in.Body)
	if err != nil {
		return nil, err
	}
	out := &previewOutput{}
	out.Body.Fields, out.Body.Records, out.Body.Keys = []shown.FieldItem{}, []shown.RecordItem{}, []string{}
	if o.conn == nil {
		return out, nil
	}
	defer o.conn.Close()
	ctx, cancel := context.WithTimeout(ctx, kit.Proving)
	defer cancel()
	items, more, said, err := s.Engine.Polls.Sample(ctx, o.conn, sources.SourceOf(o.row), previewRows)
	if err != nil {
		out.Body.Problem = err.Error()
	}
	out.Body.Part = said
	out.Body.Rows, out.Body.More = len(items), more
	l := value.NewLearner()
	records := make([]map[string]any, len(items))
	seen := map[string]bool{}
	picks := in.Body.Begin.Picks()
	for i := range items {
		records[i] = items[i].Record
		l.See(items[i].Record)
		if items[i].Keyless {
			out.Body.Keyless++
		}
		if seen[items[i].Key] {
			out.Body.Twice++
			continue
		}
		seen[items[i].Key] = true
		if picks == nil || picks(&items[i]) {
			out.Body.Arrivals++
			n, err := s.Engine.Decider.WouldPost(ctx, o.row.Name, &items[i])
			if err != nil {
				return nil, err
			}
			out.Body.Posts += n
		}
	}
	out.Body.Keys = connect.LikelyKeys(records)
	schema := l.Schema()
	for _, f := range schema.Fields {
		out.Body.Fields = append(out.Body.Fields, s.Shown.FieldItem(f, schema, records))
	}
	for i := range items {
		if len(out.Body.Records) == 20 {
			break
		}
		it := s.Shown.RecordItem(o.row, schema, items[i].Key, items[i].Record)
		it.At = items[i].At
		out.Body.Records = append(out.Body.Records, it)
	}
	return out, nil
}
