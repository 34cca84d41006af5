package main

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net/http"
	"os"
	"slices"
	"strings"

	"golang.org/x/term"

	"dorfbote/internal/connect/kinds"
	"dorfbote/internal/core/value"
)

// carried is a connection as `export --connections` writes it: everything but its secrets, which are named. The file is read by
// `apply --connections`, and by check and rehearse.
type carried struct {
	Kind     string            `json:"kind"`
	Title    string            `json:"title,omitempty"`
	KeyField string            `json:"key_field,omitempty"`
	Settings map[string]string `json:"settings,omitempty"`
	Secrets  []string          `json:"secrets,omitempty"`
	Places   []string          `json:"places,omitempty"` // of a kind that lists them
	Sources  []carriedSource   `json:"sources,omitempty"`
}

type carriedSource struct {
	Kind     string            `json:"kind"`
	Title    string            `json:"title,omitempty"`
	KeyField string            `json:"key_field,omitempty"`
	Settings map[string]string `json:"settings,omitempty"`
}

// remoteConnection is a connection as the API gives it.
type remoteConnection struct {
	ID, Kind, Title string
	KeyField        string `json:"key_field"`
	Settings        map[string]string
	Secrets         []string
	Sources         []string
	Sends           *struct{ Listed bool }
}

func (r *remote) connections(ctx context.Context) ([]remoteConnection, error) {
	var out struct{ Items []remoteConnection }
	if err := r.call(ctx, http.MethodGet, "/api/connections", nil, &out); err != nil {
		return nil, inputError{err}
	}
	return out.Items, nil
}

// exportConnections writes all connections, without their secrets.
func (r *remote) exportConnections(ctx context.Context, out io.Writer) error {
	list, err := r.connections(ctx)
	if err != nil {
		return err
	}
	var sources struct {
		Items []struct {
			Source, Connection, Title string
			KeyField                  string `json:"key_field"`
			Settings                  map[string]string
			Poll                      *struct{}
		}
	}
	if err := r.call(ctx, http.MethodGet, "/api/sources", nil, &sources); err != nil {
		return err
	}
	all := map[string]carried{}
	for _, c := range list {
		one := carried{Kind: c.Kind, Title: c.Title, KeyField: c.KeyField, Settings: c.Settings, Secrets: c.Secrets}
		slices.Sort(one.Secrets)
		if c.Sends != nil && c.Sends.Listed {
			for _, s := range c.Sources {
				one.Places = append(one.Places, strings.TrimPrefix(s, c.ID+"/"))
			}
		}
		for _, s := range sources.Items {
			if s.Connection == c.ID && s.Poll != nil { // what calls brings its sources up by itself
				one.Sources = append(one.Sources, carriedSource{strings.TrimPrefix(s.Source, c.ID+"/"), s.Title, s.KeyField, s.Settings})
			}
		}
		all[c.ID] = one
	}
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	enc.SetIndent("", "  ")
	if err := enc.Encode(all); err != nil {
		return err
	}
	_, err = out.Write(b.Bytes())
	return err
}

// secretName is what a secret is called in the environment.
func secretName(connection, name string) string {
	return "DORFBOTE_SECRET_" + strings.ToUpper(strings.NewReplacer("-", "_", ".", "_").Replace(connection+"_"+name))
}

// secrets finds the secrets of what is to be connected: in the environment by their names, else they are asked for. Those of a
// connection that is there stay as they are where none are given. The error names all that are missing.
func secretsOf(all map[string]carried, there map[string]remoteConnection, ask func(words string) (string, error)) (map[string]map[string]string, error) {
	out := map[string]map[string]string{}
	var missing []string
	for _, id := range value.SortedKeys(all) {
		out[id] = map[string]string{}
		for _, name := range all[id].Secrets {
			if k := kinds.Named(all[id].Kind); k != nil && (k.Keyed && name == "door" || k.Signs && !k.Makes && name == "signing") {
				continue // those are made there
			}
			env := secretName(id, name)
			if v := os.Getenv(env); v != "" {
				out[id][name] = v
				continue
			}
			if _, known := there[id]; known {
				continue
			}
			if ask == nil {
				missing = append(missing, env)
				continue
			}
			v, err := ask(fmt.Sprintf("%s: the secret %s (or %s): ", id, name, env))
			if err != nil {
				return nil, err
			}
			if v == "" {
				missing = append(missing, env)
			}
			out[id][name] = v
		}
	}
	if len(missing) > 0 {
		return nil, wrongInput("these secrets are missing, and nothing was written; set them in the environment, or answer when asked: %s", strings.Join(missing, ", "))
	}
	return out, nil
}

// askAtTerminal asks for a secret without showing it; nil where there is nobody to ask.
func askAtTerminal() func(string) (string, error) {
	if !term.IsTerminal(int(os.Stdin.Fd())) {
		return nil
	}
	return func(words string) (string, error) {
		fmt.Fprint(os.Stderr, words)
		raw, err := term.ReadPassword(int(os.Stdin.Fd()))
		fmt.Fprintln(os.Stderr)
		return strings.TrimSpace(string(raw)), err
	}
}

func readConnections(file string) (map[string]carried, error) {
	raw, err := os.ReadFile(file)
	if file == "-" {
		raw, err = io.ReadAll(bufio.NewReader(os.Stdin))
	}
	if err != nil {
		return nil, inputError{err}
	}
	var all map[string]carried
	dec := json.NewDecoder(bytes.NewReader(raw))
	if err := dec.Decode(&all); err != nil {
		return nil, wrongInput(`%s: it is an object with a kind for each connection, as export --connections writes it: %v`, file, err)
	}
	for _, id := range value.SortedKeys(all) {
		if kinds.Named(all[id].Kind) == nil {
			return nil, wrongInput("%s: %s: there is no kind of connection %q", file, id, all[id].Kind)
		}
	}
	return all, nil
}

// applyConnections makes connections that are not there, and changes those that are: nothing is written before all secrets are
// there.
func (r *remote) applyConnections(ctx context.Context, all map[string]carried, ask func(string) (string, error)) error {
	if len(all) == 0 {
		return nil
	}
	list, err := r.connections(ctx)
	if err != nil {
		return err
	}
	there := map[string]remoteConnection{}
	for _, c := range list {
		there[c.ID] = c
	}
	for id, c := range all {
		if had, ok := there[id]; ok && had.Kind != c.Kind {
			return wrongInput("%s is a %s there, and a %s here; nothing was written", id, had.Kind, c.Kind)
		}
	}
	secrets, err := secretsOf(all, there, ask)
	if err != nil {
		return err
	}
	for _, id := range value.SortedKeys(all) {
		did, err := r.applyConnection(ctx, id, all[id], there, secrets[id])
		if err != nil {
			return wrongInput("%s: %v", id, err)
		}
		fmt.Printf("%s: %s\n", id, did)
	}
	return nil
}

func (r *remote) applyConnection(ctx context.Context, id string, c carried, there map[string]remoteConnection, secrets map[string]string) (did string, err error) {
	settings := maps.Clone(c.Settings)
	if settings == nil {
		settings = map[string]string{}
	}
	delete(settings, "before_until") // which is of a secret that stays where it is
	maps.Copy(settings, secrets)
	had, known := there[id]
	switch {
	case !known:
		did = "connected"
		body := map[string]any{"id": id, "kind": c.Kind, "title": c.Title, "settings": settings, "key_field": c.KeyField}
		if c.Title == "" {
			body["title"] = id
		}
		if k := kinds.Named(c.Kind); k.Signs && !k.Makes && slices.Contains(c.Secrets, "signing") {
			body["signed"] = true
		}
		var made struct{ Secret string }
		if err = r.call(ctx, http.MethodPost, "/api/connections", body, &made); made.Secret != "" {
			fmt.Fprintf(os.Stderr, "%s: its new signing secret, which is not shown again: %s\n", id, made.Secret)
		}
	case len(secrets) == 0 && same(had, c):
		did = "unchanged"
	default:
		did = "changed"
		err = r.call(ctx, http.MethodPatch, "/api/connections/"+id, map[string]any{"title": c.Title, "settings": settings, "key_field": c.KeyField}, nil)
	}
	if err != nil {
		return "", err
	}
	for _, s := range c.Sources {
		if slices.Contains(had.Sources, id+"/"+s.Kind) {
			continue
		}
		body := map[string]any{"kind": s.Kind, "title": s.Title, "key_field": s.KeyField, "settings": s.Settings, "begin": map[string]any{"how": "now"}}
		if err := r.call(ctx, http.MethodPost, "/api/connections/"+id+"/sources", body, nil); err != nil {
			return "", fmt.Errorf("its source %s: %w", s.Kind, err)
		}
		did += ", " + s.Kind + " is read from now on"
	}
	return did, nil
}

func same(had remoteConnection, c carried) bool {
	if c.Title != "" && had.Title != c.Title {
		return false
	}
	for name, v := range c.Settings {
		if had.Settings[name] != v {
			return false
		}
	}
	return c.KeyField == "" || had.KeyField == c.KeyField
}
