package main

import (
	"context"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/store"
)

// Its PostgreSQL killed is started again by itself, on the same data; afterwards the folder is free for the next.
func TestUpKeepsItsDatabaseRunning(t *testing.T) {
	dir := filepath.Join(os.TempDir(), fmt.Sprintf("dorfbote-up-test-%d", os.Getpid()))
	t.Cleanup(func() { _ = os.RemoveAll(dir) })
	l, err := (&net.ListenConfig{}).Listen(t.Context(), "tcp", "127.0.0.1:0")
	require.NoError(t, err)
	addr := l.Addr().String()
	require.NoError(t, l.Close())
	s := settings{Data: dir, Addr: addr, Zone: "UTC", Locale: "en"}
	running := func() (stop func() error) {
		ctx, cancel := context.WithCancel(t.Context())
		ended := make(chan error, 1)
		go func() { ended <- up(ctx, s, slog.New(slog.DiscardHandler)) }()
		return func() error {
			cancel()
			select {
			case err := <-ended:
				return err
			case <-time.After(20 * time.Second):
				return fmt.Errorf("it did not end")
			}
		}
	}
	ready := func() bool {
		res, err := http.Get("http://" + addr + "/readyz")
		if err != nil {
			return false
		}
		_ = res.Body.Close()
		return res.StatusCode == http.StatusOK
	}
	postmaster := func() int {
		raw, _ := os.ReadFile(filepath.Join(dir, "postgres", "data", "postmaster.pid"))
		pid, _ := strconv.Atoi(strings.SplitN(string(raw), "\n", 2)[0])
		return pid
	}
	stop := running()
	require.Eventually(t, ready, time.Minute, 50*time.Millisecond)
	first := postmaster()
	require.NoError(t, syscall.Kill(first, syscall.SIGKILL))
	require.Eventually(t, func() bool { return postmaster() != first && ready() }, 30*time.Second, 50*time.Millisecond, "it is started again")
	require.NoError(t, stop())
	stop = running()
	require.Eventually(t, ready, time.Minute, 50*time.Millisecond, "the folder is free")
	require.NoError(t, stop())
	assert.Zero(t, postmaster(), "it is ended")
}

// What a database that is away says is told from what is wrong otherwise.
func TestAway(t *testing.T) {
	_, err := store.Open(t.Context(), "postgres://x@127.0.0.1:1/y", 1)
	assert.True(t, store.Away(err), "%v", err)
	assert.False(t, store.Away(store.ErrNotMigrated))
}
