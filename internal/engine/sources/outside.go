package sources

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"time"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/formula"
	"dorfbote/internal/script"
)

// How much of a service's answer is read, and how long it may take.
const (
	fetchMost    = 1 << 20
	fetchTimeout = 5 * time.Second
)

// Asking says what a sheet may ask of the outside.
type Asking int

// How far a sheet may go.
const (
	AskNobody  Asking = iota // neither services nor scripts: for those who may only look
	AskNothing               // services are taken to answer nothing: over many past arrivals
	AskGet                   // only what changes nothing: while somebody looks at a sheet
	AskAll                   // everything: when it really runs
)

// hostFailures is how often a service may fail to answer before it is not asked again for the same batch: each failure may
// take the whole of fetchTimeout, and a batch has to end.
const hostFailures = 2

// outside runs scripts and asks services for sheets, one after the other.
type outside struct {
	ctx     context.Context
	scripts *script.Runner
	client  *http.Client
	asking  Asking
	began   time.Time
	failed  map[string]int // by host: how often in a row it did not answer
}

// Outside gives the sheets on one batch of arrivals their scripts and services.
func (src *Sources) Outside(ctx context.Context, asking Asking) formula.Outside {
	return &outside{ctx: ctx, scripts: &src.Scripts, client: src.Env.HTTP, asking: asking, began: time.Now()}
}

// OutsideOf gives sheets their scripts where there is no engine. Services are taken to answer nothing.
func OutsideOf(scripts *script.Runner) formula.Outside {
	return &outside{scripts: scripts, asking: AskNothing, began: time.Now()}
}

// Elapsed is how long ago this was made.
func (o *outside) Elapsed() time.Duration { return time.Since(o.began) }

// Script runs a script.
func (o *outside) Script(src string, names map[string]any) (any, error) {
	if o.asking == AskNobody {
		return nil, &formula.Withheld{Would: "run its script"}
	}
	return o.scripts.Run(src, names)
}

// Fetch asks a service.
func (o *outside) Fetch(r formula.Request) (formula.Answer, error) {
	switch {
	case o.asking == AskNobody:
		return formula.Answer{}, &formula.Withheld{Would: "ask " + r.Method + " " + r.URL}
	case o.asking == AskNothing:
		return formula.Answer{Status: http.StatusOK, Media: "application/json", Body: []byte("null")}, nil
	case o.asking == AskGet && r.Method != http.MethodGet:
		return formula.Answer{}, errors.New("this is asked by POST, which is not done while looking; it will be when the workflow runs")
	}
	ctx, cancel := context.WithTimeout(o.ctx, fetchTimeout)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, r.Method, r.URL, bytes.NewReader(r.Body))
	if err != nil {
		return formula.Answer{}, fmt.Errorf("%s is no address: %w", r.URL, err)
	}
	req.Header.Set("User-Agent", connect.Agent)
	req.Header.Set("Accept", "application/json, text/plain;q=0.5")
	if r.Body != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	for _, h := range r.Headers {
		req.Header.Set(h[0], h[1])
	}
	host := req.URL.Host
	if o.failed[host] >= hostFailures {
		return formula.Answer{}, fmt.Errorf("%s did not answer %d times in a row just now, and is not asked again at once", host, hostFailures)
	}
	res, err := o.client.Do(req)
	if err != nil {
		if o.failed == nil {
			o.failed = map[string]int{}
		}
		o.failed[host]++
		return formula.Answer{}, fmt.Errorf("asking %s: %w", host, errors.Unwrap(err))
	}
	delete(o.failed, host)
	defer res.Body.Close()
	raw, err := io.ReadAll(io.LimitReader(res.Body, fetchMost+1))
	if err != nil {
		return formula.Answer{}, fmt.Errorf("reading the answer of %s: %w", req.URL.Host, err)
	}
	if len(raw) > fetchMost {
		return formula.Answer{}, fmt.Errorf("the answer of %s is longer than %d bytes", req.URL.Host, fetchMost)
	}
	return formula.Answer{Status: res.StatusCode, Media: res.Header.Get("Content-Type"), Body: raw}, nil
}
