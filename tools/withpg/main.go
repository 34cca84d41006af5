// Command withpg runs a command with a PostgreSQL of its own, whose address it puts into
// DORFBOTE_TEST_DATABASE_URL.
package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"

	"dorfbote/internal/pgserver"
	"dorfbote/internal/testdb"
)

func main() { os.Exit(run(os.Args[1:])) }

func run(args []string) int {
	if len(args) == 0 {
		fmt.Fprintln(os.Stderr, "usage: withpg COMMAND…")
		return 2
	}
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt)
	defer stop()
	dir := filepath.Join(os.TempDir(), fmt.Sprintf("dorfbote-test-run-%d", os.Getpid()))
	defer os.RemoveAll(dir)
	s, err := pgserver.Start(ctx, pgserver.Options{Dir: dir, Quick: true})
	if err != nil && !errors.Is(err, pgserver.ErrMissing) {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	cmd := exec.CommandContext(ctx, args[0], args[1:]...)
	cmd.Stdout, cmd.Stderr, cmd.Stdin = os.Stdout, os.Stderr, os.Stdin
	if s != nil {
		defer s.Stop()
		cmd.Env = append(os.Environ(), testdb.Env+"="+s.URL)
	}
	if err := cmd.Run(); err != nil {
		if exit, ok := errors.AsType[*exec.ExitError](err); ok {
			return exit.ExitCode()
		}
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	return 0
}
