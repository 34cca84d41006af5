package conformtest

import (
	"context"
	"encoding/json"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/connect"
	"dorfbote/internal/connect/kinds"
	"dorfbote/internal/peers"
)

// stopsWithin is how long a call may take to end once it is stopped.
const stopsWithin = 3 * time.Second

// CheckReading has a kind keep to what is asked of all kinds that are asked.
func CheckReading(t *testing.T, r *Reading) {
	k := kinds.Named(r.Kind)
	require.NotNil(t, k, "a kind called %s is listed", r.Kind)
	line := peers.NewLine(t, r.Upstream(t))
	open := func(t *testing.T, address string) connect.Conn {
		conn, err := k.Open(connect.Config{ID: r.Kind, Settings: r.Settings(address), Env: r.Env(t)})
		require.NoError(t, err)
		t.Cleanup(func() { conn.Close() })
		return conn
	}
	src := connect.SourceConfig{Name: r.Kind + "/things", Settings: r.Source, Key: r.Key}
	r.Grow(t, 10)

	t.Run("proves itself", func(t *testing.T) {
		steps := open(t, line.Address).Prove(t.Context())
		assert.True(t, connect.Proved(steps), "%+v", steps)
	})
	t.Run("says what to do where nobody answers", func(t *testing.T) {
		steps := open(t, peers.Local(peers.FreePort(t))).Prove(t.Context())
		require.False(t, connect.Proved(steps), "%+v", steps)
		for _, s := range steps {
			if !s.OK {
				assert.NotEmpty(t, s.Said)
				assert.NotContains(t, s.Said, "dial tcp", "in words, not as the machine says it")
			}
		}
	})
	t.Run("lists what there is", func(t *testing.T) {
		list, err := open(t, line.Address).Browse(t.Context())
		require.NoError(t, err)
		for _, c := range list {
			assert.NotEmpty(t, c.Title)
			assert.NotEmpty(t, c.Kind)
		}
	})
	t.Run("reads everything once, and then what is new", func(t *testing.T) {
		conn := open(t, line.Address).(connect.Poller)
		seen, polled, err := read(t.Context(), conn, src, nil)
		require.NoError(t, err)
		assert.Len(t, seen, 10)
		assert.Positive(t, polled.Calls)
		r.Grow(t, 12)
		again, polled, err := read(t.Context(), conn, src, polled.Cursor)
		require.NoError(t, err)
		for key := range again {
			seen[key] = true
		}
		assert.Len(t, seen, 12, "the two that are new were handed over")
		if polled.Whole {
			assert.Len(t, again, 12, "who says that this is all hands over all")
		}
	})
	t.Run("only looks", func(t *testing.T) {
		look := src
		look.Look = true
		n := 0
		_, err := open(t, line.Address).(connect.Poller).Poll(t.Context(), look, nil, func(connect.Item) error {
			if n++; n > 3 {
				return connect.ErrEnough
			}
			return nil
		})
		require.ErrorIs(t, err, connect.ErrEnough, "who needs no more is told nothing else")
	})
	for _, how := range []string{peers.Cut(900), peers.Reset(5), peers.Cut(3000)} {
		t.Run("believes nothing that breaks off: "+how, func(t *testing.T) {
			r.Grow(t, 40)
			conn := open(t, line.Address).(connect.Poller)
			line.Spoil(t, how)
			ctx, cancel := context.WithTimeout(t.Context(), 4*time.Second)
			seen, polled, err := read(ctx, conn, src, nil)
			cancel()
			line.Mend()
			if err == nil {
				assert.Len(t, seen, 40, "nothing broke off, or it is an error")
			}
			assert.False(t, err != nil && polled.Whole && len(polled.Cursor) > 0 && len(seen) < 40, "what broke off is no whole")
			_, _, err = read(t.Context(), open(t, line.Address).(connect.Poller), src, nil)
			require.NoError(t, err, "and reads again once the line is mended")
		})
	}
	t.Run("stops when told to", func(t *testing.T) {
		conn := open(t, line.Address).(connect.Poller)
		line.Spoil(t, peers.Slow)
		defer line.Mend()
		ctx, cancel := context.WithTimeout(t.Context(), 200*time.Millisecond)
		defer cancel()
		began := time.Now()
		_, _, err := read(ctx, conn, src, nil)
		assert.Less(t, time.Since(began), stopsWithin)
		if time.Since(began) > 250*time.Millisecond {
			assert.Error(t, err)
		}
	})
}

// read polls once, and gives the keys that were handed over. One that stands twice is an error.
func read(ctx context.Context, p connect.Poller, src connect.SourceConfig, cursor json.RawMessage) (map[string]bool, connect.Polled, error) {
	seen := map[string]bool{}
	polled, err := p.Poll(ctx, src, cursor, func(it connect.Item) error {
		if it.Key == "" || seen[it.Key] {
			return fmt.Errorf("the key %q is empty or stands twice", it.Key)
		}
		seen[it.Key] = true
		return nil
	})
	return seen, polled, err
}
