package sources

import (
	"context"
	"fmt"
	"maps"

	"dorfbote/internal/connect"
	"dorfbote/internal/connect/kinds"
	"dorfbote/internal/store"
)

// Config gives what a connection is opened with, its secrets among the settings.
func (src *Sources) Config(c *store.Connection) (connect.Config, error) {
	secrets, err := src.Box.Open(c.Sealed, c.ID)
	if err != nil {
		return connect.Config{}, err
	}
	out := connect.Config{ID: c.ID, Settings: map[string]string{}, Env: src.Env}
	maps.Copy(out.Settings, c.Settings)
	maps.Copy(out.Settings, secrets)
	return out, nil
}

// Secret gives one of a connection's secrets, "" where it has none.
func (src *Sources) Secret(c *store.Connection, name string) (string, error) {
	secrets, err := src.Box.Open(c.Sealed, c.ID)
	return secrets[name], err
}

// OpenConn opens a connection. The caller closes it.
func (src *Sources) OpenConn(c *store.Connection) (connect.Conn, error) {
	k := kinds.Named(c.Kind)
	if k == nil || k.Open == nil {
		return nil, fmt.Errorf("a connection of the kind %s is not opened; it waits for calls", c.Kind)
	}
	config, err := src.Config(c)
	if err != nil {
		return nil, err
	}
	return k.Open(config)
}

// NoteHealth notes how a call to or from a connection went. A connection that begins to fail is told of once, and so is
// its recovery.
func (src *Sources) NoteHealth(ctx context.Context, id string, failure error) {
	if err := src.Store.NoteHealth(ctx, id, failure); err != nil {
		src.Log.Warn("noting a connection's health failed", "connection", id, "error", err)
	}
}

// SourceOf gives what a source is read with.
func SourceOf(k *store.Source) connect.SourceConfig {
	return connect.SourceConfig{Name: k.Name, Settings: k.Settings, Key: k.KeyField}
}
