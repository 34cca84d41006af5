package hooks

import (
	"context"
	"crypto/sha256"
	"net/http"
	"slices"
	"strings"

	"dorfbote/internal/connect/hook"
	"dorfbote/internal/store"
)

// mostMended is how many of the last refused requests are read again once the reading has been mended.
const mostMended = 200

// takenLater is what is said of a refused request that was taken in later.
const takenLater = "refused at first, and taken in once its reading was mended"

// Mended takes in what a hook refused because it could not be read, as far as it can be read now: each body once, in the order in which
// they came. Who sent it was known then; how much of it is left depends on how many requests have come since.
func (k *Known) Mended(ctx context.Context, connection string, take func(context.Context, []hook.Event) error) (int, error) {
	c, err := k.Hook(ctx, connection)
	if err != nil || c == nil {
		return 0, err
	}
	refused, err := k.store.RefusedRequests(ctx, connection, mostMended)
	if err != nil {
		return 0, err
	}
	slices.Reverse(refused)
	done := map[[sha256.Size]byte]bool{}
	n := 0
	for i := range refused {
		r := &refused[i]
		key := sha256.Sum256(append([]byte(r.Path+"\n"), r.Body...))
		if !done[key] {
			events := k.readAgain(ctx, c, r)
			if len(events) == 0 {
				continue
			}
			if err := take(ctx, events); err != nil {
				return n, err
			}
			done[key] = true
			n += len(events)
		}
		if err := k.store.SettleRequest(ctx, r.ID, http.StatusAccepted, takenLater); err != nil {
			return n, err
		}
	}
	return n, nil
}

// readAgain reads a request that was refused; nothing where it still cannot be read.
func (k *Known) readAgain(ctx context.Context, c *store.Connection, r *store.HookRequest) []hook.Event {
	kind := strings.Trim(strings.TrimPrefix(r.Path, "/in/"+c.ID), "/")
	h := hook.Hook{Connection: c.ID, Shape: func(source string) (hook.Shape, error) { return k.Shape(ctx, c, source) }}
	events, problem := h.Read(http.Header{"Content-Type": {r.Media}}, kind, r.Body, r.At.UTC())
	if problem != nil {
		return nil
	}
	for _, e := range events {
		if k.Learn(ctx, c, e.Source) != nil {
			return nil
		}
	}
	return events
}
