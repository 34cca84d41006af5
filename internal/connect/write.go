package connect

import (
	"bytes"
	"context"
	"errors"
	"io"
	"net/http"
	"net/url"
	"time"

	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/value"
)

// Write is a record to be added or changed.
type Write struct {
	Change bool   // of the record named by Key; otherwise one is added
	Key    string // of the record to be changed
	Set    map[string]any
	// Once names the write, for the other side to know a repeated one by; Again is true where it was tried before and
	// may have been done then.
	Once  string
	Again bool
	// Through are the workflows that led to the write, for [ThroughHeader].
	Through string
}

// Written is what came of a write, whether or not it came about.
type Written struct {
	Status  int // of HTTP; 0 where there is none
	Address string
	Sent    string // as it went out, without credentials
	Answer  string
	// Final is true where trying the same again cannot heal it; Wait is how long the other side asked to be left alone.
	Final bool
	Wait  time.Duration
}

// IdempotencyHeader names a call, so that a repeated one is known as one.
const IdempotencyHeader = "Idempotency-Key"

// ThroughHeader is the mark of what Dorfbote sends: the workflows that led to it. Where it comes back, in as many rounds as you like, it
// is known to go round in a circle.
const ThroughHeader = "Dorfbote-Through"

// keptOfAnswer is how much of an answer is kept.
const keptOfAnswer = 4 << 10

// WriteHTTP adds a record by POST to a list's address, or changes one by PATCH (or PUT) to the record's own.
func WriteHTTP(ctx context.Context, env Env, auth http.Header, list, method string, w Write) (Written, error) {
	address := list
	if !w.Change {
		method = http.MethodPost
	} else {
		u, err := url.Parse(list)
		if err != nil {
			return Written{Final: true}, err
		}
		address = u.JoinPath(url.PathEscape(w.Key)).String()
	}
	body := value.AppendJSON(nil, w.Set)
	out := Written{Sent: string(body)}
	req, err := http.NewRequestWithContext(ctx, method, address, bytes.NewReader(body))
	if err != nil {
		out.Final = true
		return out, err
	}
	out.Address = method + " " + redacted(req.URL)
	h := auth.Clone()
	h.Set("Content-Type", "application/json")
	h.Set("Accept", "application/json")
	h.Set(IdempotencyHeader, w.Once)
	if w.Through != "" {
		h.Set(ThroughHeader, w.Through)
	}
	res, err := env.Do(req, h)
	if err != nil {
		return out.failed(err, w)
	}
	defer res.Body.Close()
	raw, _ := io.ReadAll(io.LimitReader(res.Body, answerRead))
	out.Status, out.Answer = res.Status, Kept(raw)
	return out, nil
}

// failed tells a write that may heal from one that cannot. One that was tried before and is refused as being there
// already has come about then.
func (out Written) failed(err error, w Write) (Written, error) {
	var t *fault.Fault
	if !errors.As(err, &t) {
		return out, err
	}
	out.Answer, out.Wait, out.Status = t.Said, t.Wait, t.Status
	if t.Status == http.StatusConflict && w.Again && !w.Change {
		return out, nil
	}
	switch t.Status {
	case 0, http.StatusTooManyRequests, http.StatusRequestTimeout, http.StatusTooEarly:
	default:
		out.Final = t.Status < 500
	}
	return out, err
}
