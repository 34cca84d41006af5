// Package gatekeeper asks another program whether something may be done, and waits for its answer.
package gatekeeper

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"time"
)

// Gate is where is asked.
type Gate struct {
	Address string
	Token   string
}

// Question is what is asked: may this be done?
type Question struct {
	What   string `json:"what"`
	Amount any    `json:"amount"`
}

// Answer is what the other program says. Words say why not, where it says.
type Answer struct {
	Allowed bool   `json:"allowed"`
	Words   string `json:"words"`
	By      string `json:"by"`
}

// How long one call waits for the answer, and how long is waited in all.
const (
	oneCall = 10 * time.Second
	inAll   = 55 * time.Second
)

// ErrWaiting is given where there is no answer yet; whoever wants to do it may ask again.
var ErrWaiting = errors.New("nobody has answered yet; try it again once somebody has")

// Ask asks, and waits. Where the answer is not there at once, it is looked for where the other program says that it will be.
func (g Gate) Ask(ctx context.Context, q Question) (Answer, error) {
	ctx, cancel := context.WithTimeout(ctx, inAll)
	defer cancel()
	body, err := json.Marshal(q)
	if err != nil {
		return Answer{}, err
	}
	at, err := url.Parse(g.Address)
	if err != nil {
		return Answer{}, err
	}
	res, err := g.call(ctx, http.MethodPost, at, body)
	for err == nil && res.StatusCode == http.StatusAccepted {
		next, bad := at.Parse(res.Header.Get("Location"))
		_ = res.Body.Close()
		if bad != nil || res.Header.Get("Location") == "" {
			return Answer{}, errors.New("it was taken, but there will be no answer: the workflow answers nobody")
		}
		if pause(ctx, 200*time.Millisecond) != nil {
			return Answer{}, ErrWaiting
		}
		res, err = g.call(ctx, http.MethodGet, next, nil)
	}
	if err != nil {
		if ctx.Err() != nil {
			return Answer{}, ErrWaiting
		}
		return Answer{}, err
	}
	defer res.Body.Close()
	raw, err := io.ReadAll(io.LimitReader(res.Body, 1<<16))
	if err != nil {
		return Answer{}, err
	}
	if res.StatusCode != http.StatusOK {
		return Answer{}, fmt.Errorf("%s: %s", res.Status, bytes.TrimSpace(raw))
	}
	var a Answer
	if err := json.Unmarshal(raw, &a); err != nil {
		return a, fmt.Errorf("its answer is no JSON with allowed: %w", err)
	}
	return a, nil
}

func pause(ctx context.Context, d time.Duration) error {
	select {
	case <-time.After(d):
		return nil
	case <-ctx.Done():
		return ctx.Err()
	}
}

func (g Gate) call(ctx context.Context, method string, at *url.URL, body []byte) (*http.Response, error) {
	waiting := *at
	v := waiting.Query()
	v.Set("wait", oneCall.String())
	waiting.RawQuery = v.Encode()
	req, err := http.NewRequestWithContext(ctx, method, waiting.String(), bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	req.Header.Set("Authorization", "Bearer "+g.Token)
	req.Header.Set("Content-Type", "application/json")
	return http.DefaultClient.Do(req)
}
