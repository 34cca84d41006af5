package conformtest

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dorfbote/internal/connect"
	"dorfbote/internal/connect/kinds"
	"dorfbote/internal/core/message"
	"dorfbote/internal/core/value"
	"dorfbote/internal/peers"
)

// Within which a call ends whose other side falls silent in one of its phases: less than the job has that makes it.
const (
	sendsWithin = 40 * time.Second
	readsWithin = 50 * time.Second
)

// fire gives the ways in which a conversation can go wrong, in each of its phases: it hangs, is cut off, is broken off, trickles, and
// is not ended. mostPhases bounds how many phases of one are tried; they are spread over all of it.
func fire(phases []int) []string {
	const mostPhases = 12
	for len(phases) > mostPhases {
		phases = slices.DeleteFunc(phases, func(p int) bool { return slices.Index(phases, p)%2 == 1 })
	}
	out := []string{peers.Silent, peers.Trickle, peers.Lingers, peers.Reset(0), peers.Reset(40)}
	for _, at := range phases {
		out = append(out, peers.Stall(at), peers.Stall(at+3), peers.Cut(at+3))
	}
	return out
}

// everyWay runs what is asked of each way in which a line can be bad, all at once, each over a line of its own. What it gives waits for
// them.
func everyWay(t *testing.T, upstream string, phases []int, check func(line *peers.Line, n int, how string) error) (wait func(t *testing.T)) {
	t.Helper()
	var all sync.WaitGroup
	ways := fire(phases)
	said := make([]error, len(ways))
	for n, how := range ways {
		line := peers.NewLine(t, upstream)
		line.Spoil(t, how)
		all.Go(func() { said[n] = check(line, n, how) })
	}
	return func(t *testing.T) {
		all.Wait()
		for n, err := range said {
			if err != nil {
				t.Errorf("%s: %v", ways[n], err)
			}
		}
		t.Logf("%d phases, %d ways", len(phases), len(ways))
	}
}

// SendingUnderFire has a kind end a call in time whatever the other side does in any of its phases, believe nothing that did not
// come, and send once the line is mended.
func SendingUnderFire(t *testing.T, s *Sending) (wait func(t *testing.T)) {
	k := kinds.Named(s.Kind)
	upstream := s.Upstream(t)
	env, err := connect.NewEnv(value.DefaultWorkspace(), "127.0.0.0/8")
	require.NoError(t, err)
	if s.Needs != nil {
		s.Needs(t, &env)
	}
	open := func(address string) connect.Conn {
		conn, err := k.Open(connect.Config{ID: s.Kind, Settings: s.Settings(address), Env: env})
		require.NoError(t, err)
		return conn
	}
	send := func(ctx context.Context, conn connect.Conn, title string) connect.Delivery {
		return conn.(connect.Sender).Send(ctx, connect.Post{Place: s.Place, Key: "k-" + title, Doc: &message.Document{Title: title, Tone: "plain"}})
	}
	phases := peers.Phases(t, upstream, func(address string) {
		conn := open(address)
		defer conn.Close()
		require.True(t, send(t.Context(), conn, "all is well").Taken)
	})
	return everyWay(t, upstream, phases, func(line *peers.Line, n int, _ string) error {
		title := fmt.Sprintf("under fire %d", n)
		conn, err := k.Open(connect.Config{ID: s.Kind, Settings: s.Settings(line.Address), Env: env})
		if err != nil {
			return err
		}
		defer conn.Close()
		ctx, cancel := context.WithTimeout(context.Background(), sendsWithin+20*time.Second)
		defer cancel()
		began := time.Now()
		d := send(ctx, conn, title)
		took := time.Since(began)
		switch {
		case took > sendsWithin:
			return fmt.Errorf("it took %v", took)
		case !d.Taken && (d.Final || d.Answer == "" || strings.Contains(d.Answer, "dial tcp") || strings.Contains(d.Answer, "context deadline")):
			return fmt.Errorf("what may heal is not final, and said in words: %+v", d)
		}
		line.Mend()
		for range 3 { // what was broken off may be noticed only now
			if d = send(ctx, conn, title); d.Taken {
				return nil
			}
		}
		return fmt.Errorf("it does not go once the line is mended: %+v", d)
	})
}

// ReadingUnderFire has a kind end a poll in time whatever the other side does in any of its phases, and take nothing for a whole
// that is none.
func ReadingUnderFire(t *testing.T, r *Reading) (wait func(t *testing.T)) {
	k := kinds.Named(r.Kind)
	upstream := r.Upstream(t)
	env := r.Env(t)
	src := connect.SourceConfig{Name: r.Kind + "/things", Settings: r.Source, Key: r.Key}
	r.Grow(t, 10)
	poll := func(ctx context.Context, address string) (int, connect.Polled, error) {
		conn, err := k.Open(connect.Config{ID: r.Kind, Settings: r.Settings(address), Env: env})
		if err != nil {
			return 0, connect.Polled{}, err
		}
		defer conn.Close()
		seen, polled, err := read(ctx, conn.(connect.Poller), src, nil)
		return len(seen), polled, err
	}
	phases := peers.Phases(t, upstream, func(address string) {
		n, _, err := poll(t.Context(), address)
		require.NoError(t, err)
		require.Equal(t, 10, n)
	})
	return everyWay(t, upstream, phases, func(line *peers.Line, _ int, _ string) error {
		ctx, cancel := context.WithTimeout(context.Background(), readsWithin+20*time.Second)
		defer cancel()
		began := time.Now()
		n, polled, err := poll(ctx, line.Address)
		took := time.Since(began)
		switch {
		case took > readsWithin:
			return fmt.Errorf("it took %v", took)
		case err == nil && n != 10:
			return fmt.Errorf("%d of 10 records were taken for all", n)
		case err != nil && polled.Whole && n < 10 && len(polled.Cursor) > 0:
			return fmt.Errorf("what broke off is no whole: %+v", polled)
		case err != nil && (strings.Contains(err.Error(), "dial tcp") || strings.Contains(err.Error(), "context deadline")):
			return fmt.Errorf("it is said in words: %w", err)
		}
		line.Mend()
		if n, _, err = poll(ctx, line.Address); err != nil || n != 10 {
			return fmt.Errorf("once the line is mended: %d, %w", n, err)
		}
		return nil
	})
}
