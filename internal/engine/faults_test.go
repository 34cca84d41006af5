package engine_test

import (
	"context"
	"sort"
	"strings"
	"testing"
	"time"

	_ "github.com/go-sql-driver/mysql"
	_ "github.com/jackc/pgx/v5/stdlib"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/connect/conformtest"
	"dorfbote/internal/engine/poll"
	"dorfbote/internal/peers"
)

// Whatever becomes of the line, nothing is missed and nothing is told twice.
func TestBadLines(t *testing.T) {
	if testing.Short() {
		t.Skip("slow lines take their time")
	}
	for _, r := range conformtest.Readings(t) {
		t.Run(r.Name, func(t *testing.T) {
			w := start(t, false)
			line := peers.NewLine(t, r.Upstream(t))
			w.Env.TLS = r.TLS
			source := r.Kind + "/things"
			w.polled(t, r.Kind, source, r.Key, r.Settings(line.Address), r.Source, poll.Begin{How: "everything"})
			n, failures := 0, 0
			for round, how := range []string{peers.Cut(900), peers.Slow, peers.Reset(30), peers.Cut(4000), peers.Thin, peers.Reset(5), peers.Cut(9000)} {
				n += 10
				r.Grow(t, n)
				line.Spoil(t, how)
				ctx, cancel := context.WithTimeout(context.Background(), 4*time.Second)
				if _, err := w.Polls.Poll(ctx, source); err != nil {
					failures++
				}
				cancel()
				line.Mend()
				if round%2 == 1 {
					_, err := w.Polls.Poll(context.Background(), source)
					require.NoError(t, err)
				}
			}
			_, err := w.Polls.Poll(context.Background(), source)
			require.NoError(t, err)
			got := w.told(t, source)
			keys := map[string]bool{}
			for _, g := range got {
				assert.True(t, strings.HasPrefix(g, "created "), g)
				keys[g] = true
			}
			sort.Strings(got)
			assert.Len(t, got, n, "each record makes one arrival")
			assert.Len(t, keys, n)
			assert.Positive(t, failures, "some polls must have failed for this to show anything")
		})
	}
}
