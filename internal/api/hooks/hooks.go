// Package hooks keeps what is known of hooks: their last requests, and how what is sent to them is read.
package hooks

import (
	"context"
	"errors"
	"regexp"
	"strings"
	"time"

	"github.com/hashicorp/golang-lru/v2/expirable"

	"dorfbote/internal/connect"
	"dorfbote/internal/connect/hook"
	"dorfbote/internal/connect/kinds"
	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/value"
	"dorfbote/internal/store"
)

// Known remembers hooks and their sources, which change rarely and are asked for with every event. It is safe for use by
// many goroutines.
type Known struct {
	store   *store.Store
	sources *expirable.LRU[string, bool]
	shapes  *expirable.LRU[string, hook.Shape]
	hooks   *expirable.LRU[string, *store.Connection]
}

const (
	// holds is how long what is known of a hook holds: another process may change it.
	holds     = 2 * time.Second
	remembers = 10_000
	// MaxKinds bounds how many kinds of record one hook may bring up, so that foreign input cannot fill lists.
	MaxKinds = 200
)

// NewKnown knows nothing yet.
func NewKnown(s *store.Store) *Known {
	return &Known{
		store:   s,
		sources: expirable.NewLRU[string, bool](remembers, nil, 0),
		shapes:  expirable.NewLRU[string, hook.Shape](remembers, nil, holds),
		hooks:   expirable.NewLRU[string, *store.Connection](remembers, nil, holds),
	}
}

// Hook gives the hook with an id; nil where there is none.
func (k *Known) Hook(ctx context.Context, id string) (*store.Connection, error) {
	if c, ok := k.hooks.Get(id); ok {
		return c, nil
	}
	c, err := k.store.ConnectionOf(ctx, id, kinds.Behind(connect.DoorEvents)...)
	if err == nil && c != nil {
		k.hooks.Add(id, c)
	}
	return c, err
}

// Shape says where a source's records lie in what is sent, and what names them. Of a source that is not known yet, the
// hook's own settings say so.
func (k *Known) Shape(ctx context.Context, c *store.Connection, source string) (hook.Shape, error) {
	if s, ok := k.shapes.Get(source); ok {
		return s, nil
	}
	row, err := k.store.SourceNamed(ctx, source)
	switch {
	case err != nil:
		return hook.Shape{}, err
	case row == nil:
		return hook.Shape{Record: c.Settings["record"], Key: c.KeyField}, nil
	}
	s := hook.Shape{Record: row.Settings["record"], Key: row.KeyField}
	k.shapes.Add(source, s)
	return s, nil
}

// ErrAway means that the database did not answer.
var ErrAway = errors.New("the database does not answer; try again")

var kindName = regexp.MustCompile(`^[\pL\pN][\pL\pN._-]{0,99}$`)

// GoodName tells whether a kind of record can be called so.
func GoodName(name string) bool { return kindName.MatchString(name) }

// Learn notes a source that is seen for the first time. The error is a [*fault.Fault], or [ErrAway].
func (k *Known) Learn(ctx context.Context, c *store.Connection, source string) error {
	if k.sources.Contains(source) {
		return nil
	}
	_, name, _ := strings.Cut(source, "/")
	if !GoodName(name) {
		return fault.At("source", "the kind of record in %s may hold letters, digits, hyphens, dots and underscores", source)
	}
	n, err := k.store.CountSources(ctx, c.ID)
	if err != nil {
		return ErrAway
	}
	if n >= MaxKinds {
		return fault.At("source", "this connection has brought up more than %d kinds of record", MaxKinds)
	}
	row := store.Source{Name: source, Connection: c.ID, Title: value.LabelOf(name), KeyField: c.KeyField}
	if at := c.Settings["record"]; at != "" {
		row.Settings = store.Texts{"record": at}
	}
	if err := k.store.AddSource(ctx, &row); err != nil {
		return ErrAway
	}
	k.Add(source)
	return nil
}

// Add remembers that a source is known.
func (k *Known) Add(source string) { k.sources.Add(source, true) }

// Forget has a connection looked at anew.
func (k *Known) Forget(connection string) {
	k.hooks.Remove(connection)
	for _, source := range k.sources.Keys() {
		if strings.HasPrefix(source, connection+"/") {
			k.sources.Remove(source)
			k.shapes.Remove(source)
		}
	}
}

// ForgetAll has all of them looked at anew.
func (k *Known) ForgetAll() {
	k.hooks.Purge()
	k.shapes.Purge()
	k.sources.Purge()
}

// ForgetShape has it looked at anew how a source's records are read.
func (k *Known) ForgetShape(source string) { k.shapes.Remove(source) }
