package follow

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/value"
	"dorfbote/internal/jobs"
	"dorfbote/internal/notify"
	"dorfbote/internal/store"
)

// oneFailed is a record of many that could not be added.
type oneFailed struct {
	N     int    `json:"n"` // its place in the list, from 1
	Error string `json:"error"`
}

// manyWithin is for how long one job adds records; it goes on in the next.
const manyWithin = jobs.Timeout / 2

// writeMany adds the records of a list, one after the other, each under a key of its own. How far it has come is written down as it
// goes, so that what is done is not done again. One that cannot be added fails alone, and is counted; a fault that may heal stops the
// rest until it is tried again.
func (f *Follow) writeMany(ctx context.Context, s *store.Step) (connect.Written, error) {
	write, connection, out, err := f.writer(ctx, s)
	if err != nil {
		return out, err
	}
	v, err := value.ReadJSON([]byte(*s.Many))
	if err != nil {
		return out, err
	}
	list, _ := v.([]any)
	var failures []oneFailed
	if len(s.Failures) > 0 {
		if err := json.Unmarshal(s.Failures, &failures); err != nil {
			return out, err
		}
	}
	keep := func() error {
		raw, err := json.Marshal(failures)
		if err != nil {
			return err
		}
		if failures == nil {
			raw = []byte("[]")
		}
		s.Failures = raw
		return f.Store.DB.WithContext(ctx).Exec("UPDATE steps SET done_n = ?, failures = ? WHERE id = ?", s.DoneN, string(raw), s.ID).Error
	}
	began, told := time.Now(), time.Now()
	if s.DoneN >= len(list) { // a person has it tried again: what failed, and nothing else
		was := failures
		failures = nil
		for _, one := range was {
			set, _ := list[min(max(one.N-1, 0), len(list)-1)].(map[string]any)
			if _, err := write(ctx, connect.Write{Set: set, Once: fmt.Sprintf("%s-%d", s.Key, one.N-1), Again: true}); err != nil {
				failures = append(failures, oneFailed{one.N, connect.Storable(err.Error())})
			}
		}
		if err := keep(); err != nil {
			return out, err
		}
	}
	first := s.DoneN
	for i := s.DoneN; i < len(list); i++ {
		if time.Since(began) > manyWithin {
			return connect.Written{Wait: time.Millisecond}, fmt.Errorf("%d of %d records are added", i, len(list))
		}
		set, _ := list[i].(map[string]any)
		one, err := write(ctx, connect.Write{Set: set, Once: fmt.Sprintf("%s-%d", s.Key, i), Again: s.Attempts > 0 && i == first})
		if ctx.Err() != nil {
			return one, ctx.Err()
		}
		if out.Address, out.Sent, out.Status = one.Address, one.Sent, one.Status; err != nil && !one.Final {
			f.Sources.NoteHealth(ctx, connection, err)
			one.Final = false
			return one, fmt.Errorf("record %d of %d: %w", i+1, len(list), err)
		}
		if err != nil {
			failures = append(failures, oneFailed{i + 1, connect.Storable(err.Error())})
		}
		s.DoneN = i + 1
		if err := keep(); err != nil {
			return connect.Written{}, err
		}
		if time.Since(told) > time.Second {
			told = time.Now()
			f.Tell(ctx, notify.Message{Topic: notify.Steps, Seq: s.Arrival})
		}
	}
	f.Sources.NoteHealth(ctx, connection, nil)
	if len(failures) == 0 {
		out.Answer = fmt.Sprintf("%d records were added", len(list))
		return out, nil
	}
	var words []string
	for _, one := range failures[:min(len(failures), 5)] {
		words = append(words, fmt.Sprintf("record %d: %s", one.N, one.Error))
	}
	out.Final = true
	return out, fmt.Errorf("%d of %d records were not added: %s", len(failures), len(list), strings.Join(words, "; "))
}
