package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"strings"
	"time"

	"github.com/caarlos0/env/v11"
	"github.com/spf13/cobra"

	"dorfbote/internal/demo"
)

// remote is a running Dorfbote, spoken to over its API.
type remote struct {
	URL      string `env:"DORFBOTE_URL"`
	Addr     string `env:"DORFBOTE_ADDR" envDefault:"127.0.0.1:8470"`
	Email    string `env:"DORFBOTE_EMAIL"`
	Password string `env:"DORFBOTE_PASSWORD,unset"`
	http     *http.Client
}

// flags adds what a command needs to find the running Dorfbote.
func (r *remote) flags(cmd *cobra.Command) {
	_ = env.Parse(r)
	if r.URL == "" {
		r.URL = "http://" + r.Addr
	}
	cmd.Flags().StringVar(&r.URL, "url", r.URL, "the running Dorfbote (DORFBOTE_URL, or DORFBOTE_ADDR)")
	cmd.Flags().StringVar(&r.Email, "email", r.Email, "who signs in (DORFBOTE_EMAIL; the password is DORFBOTE_PASSWORD). Without, the demo's own person")
}

func (r *remote) signIn(ctx context.Context) error {
	jar, err := cookiejar.New(nil)
	if err != nil {
		return err
	}
	r.http = &http.Client{Jar: jar, Timeout: time.Minute}
	if r.Email == "" {
		r.Email, r.Password = demo.People[0].Email, demo.Password
	}
	err = r.call(ctx, http.MethodPost, "/api/sign-in", map[string]string{"email": r.Email, "password": r.Password}, nil)
	if err != nil {
		return inputError{fmt.Errorf("signing in at %s as %s: %w", r.URL, r.Email, err)}
	}
	return nil
}

// call asks the API; an answer that is an error says what the server said.
func (r *remote) call(ctx context.Context, method, path string, body, out any) error {
	var send io.Reader
	if body != nil {
		raw, err := json.Marshal(body)
		if err != nil {
			return err
		}
		send = bytes.NewReader(raw)
	}
	req, err := http.NewRequestWithContext(ctx, method, strings.TrimSuffix(r.URL, "/")+path, send)
	if err != nil {
		return err
	}
	if body != nil {
		req.Header.Set("Content-Type", "application/json")
	}
	res, err := r.http.Do(req)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	raw, err := io.ReadAll(res.Body)
	if err != nil {
		return err
	}
	if res.StatusCode > 299 {
		return refusal(res.StatusCode, raw)
	}
	if out == nil {
		return nil
	}
	return json.Unmarshal(raw, out)
}

func refusal(status int, raw []byte) error {
	var p struct {
		Detail string
		Errors []struct{ Message string }
	}
	_ = json.Unmarshal(raw, &p)
	said := []string{fmt.Sprintf("it answered %d", status)}
	if p.Detail != "" {
		said = append(said, p.Detail)
	}
	for _, e := range p.Errors {
		said = append(said, e.Message)
	}
	return errors.New(strings.Join(said, ": "))
}

// remoteWorkflow is a workflow as the API gives it.
type remoteWorkflow struct {
	ID      int64
	Name    string
	On      bool
	Changed bool
	Text    string
	// Problems counts the errors that keep the draft from running.
	Problems int
}

// workflows gives every workflow with its draft.
func (r *remote) workflows(ctx context.Context) ([]remoteWorkflow, error) {
	var list struct{ Items []remoteWorkflow }
	if err := r.call(ctx, http.MethodGet, "/api/workflows", nil, &list); err != nil {
		return nil, inputError{err}
	}
	for i := range list.Items {
		if err := r.call(ctx, http.MethodGet, fmt.Sprintf("/api/workflows/%d", list.Items[i].ID), nil, &list.Items[i]); err != nil {
			return nil, inputError{err}
		}
	}
	return list.Items, nil
}
