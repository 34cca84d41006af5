package sources

import (
	"context"
	"fmt"

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
	for k, v := range c.Settings {
		out.Settings[k] = v
	}
	for k, v := range secrets {
		out.Settings[k] = v
	}
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

// Unsealed seals secrets that an older version left lying open.
func (src *Sources) Unsealed(ctx context.Context) error {
	var rows []struct{ ID, Kind, Secret, Address string }
	db := src.Store.DB.WithContext(ctx)
	if err := db.Raw("SELECT id, kind, secret, address FROM connections WHERE secret <> '' OR address <> ''").Scan(&rows).Error; err != nil {
		return err
	}
	for _, r := range rows {
		name := "signing"
		if r.Kind == "chat" {
			name = "token"
		}
		sealed, err := src.Box.Seal(map[string]string{name: r.Secret}, r.ID)
		if err != nil {
			return err
		}
		settings := store.Texts{}
		if r.Address != "" {
			settings["address"] = r.Address
		}
		if err := db.Exec("UPDATE connections SET secret = '', address = '', sealed = ?, settings = settings || ?::jsonb WHERE id = ?", sealed, settings, r.ID).Error; err != nil {
			return err
		}
	}
	return nil
}

// NoteHealth notes how a call to or from a connection went. A connection that begins to fail is told of once, and so is
// its recovery.
func (src *Sources) NoteHealth(ctx context.Context, id string, failure error) {
	db := src.Store.DB.WithContext(ctx)
	ok, failed := 1, 0
	if failure != nil {
		ok, failed = 0, 1
	}
	err := db.Exec(`INSERT INTO health (connection, hour, ok, failed) VALUES (?, date_trunc('hour', now()), ?, ?)
		ON CONFLICT (connection, hour) DO UPDATE SET ok = health.ok + excluded.ok, failed = health.failed + excluded.failed`, id, ok, failed).Error
	if err == nil && failure == nil {
		err = db.Exec("UPDATE connections SET last_ok = now(), failing_since = NULL, last_error = '' WHERE id = ?", id).Error
	} else if err == nil {
		err = db.Exec("UPDATE connections SET failing_since = coalesce(failing_since, now()), last_error = ? WHERE id = ?", failure.Error(), id).Error
	}
	if err != nil {
		src.Log.Warn("noting a connection's health failed", "connection", id, "error", err)
	}
}

// SourceOf gives what a source is read with.
func SourceOf(k *store.Source) connect.SourceConfig {
	return connect.SourceConfig{Name: k.Name, Settings: k.Settings, Key: k.KeyField}
}
