package testdb

import (
	"testing"

	"github.com/stretchr/testify/require"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/value"
)

// Loopback reaches this machine, where tests have their peers, and reads a folder of the test's own.
func Loopback(t testing.TB, ws value.Workspace) connect.Env {
	t.Helper()
	env, err := connect.NewEnv(ws, "127.0.0.0/8,::1/128")
	require.NoError(t, err)
	env.Folder = t.TempDir()
	return env
}
