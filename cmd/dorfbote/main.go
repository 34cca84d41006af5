// Command dorfbote is the whole of Dorfbote in one binary: the web server, the workers, the demo, and
// the commands that check and rehearse sheets.
package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"syscall"
	"time"

	"github.com/spf13/cobra"
)

// Exit codes, as formats.md gives them.
const (
	exitInput   = 1
	exitCommand = 2
	exitAtOnce  = 130 // ended by a signal before everything was done
)

// inputError is an error of the input, told already or about to be; everything else that cobra
// reports is an error of the command line.
type inputError struct{ err error }

func (e inputError) Error() string { return e.err.Error() }
func (e inputError) Unwrap() error { return e.err }

// errTold ends a command whose findings have been printed.
var errTold = errors.New("")

func main() {
	ctx, stop := context.WithCancel(context.Background())
	signals := make(chan os.Signal, 2)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM)
	go func() {
		<-signals
		stop()
		<-signals // whoever asks twice doesn't want to wait
		os.Exit(exitAtOnce)
	}()
	off := endWithin(ctx, func() { time.Sleep(time.Second) }) // a command with a last act of its own goes first
	code := run(ctx, os.Args[1:])
	off()
	os.Exit(code)
}

// ending is how long ending may take once it was asked for, whatever is under way and whoever does not answer.
const ending = 8 * time.Second

// endWithin ends the process if it has not ended in time once ctx has, after a last act. The caller calls off what it gives back.
func endWithin(ctx context.Context, last func()) (off func()) {
	done := make(chan struct{})
	go func() {
		select {
		case <-done:
			return
		case <-ctx.Done():
		}
		select {
		case <-done:
		case <-time.After(ending):
			fmt.Fprintln(os.Stderr, "Ending took too long; what was under way goes on at the next start.")
			last()
			os.Exit(exitAtOnce)
		}
	}()
	return func() { close(done) }
}

func run(ctx context.Context, args []string) int {
	root := &cobra.Command{
		Use:           "dorfbote",
		Short:         "Watches business apps and tells the right people in chat",
		SilenceErrors: true,
		SilenceUsage:  true,
	}
	root.CompletionOptions.DisableDefaultCmd = true
	root.AddCommand(upCommand(), demoCommand(), serveCommand(), workCommand(), migrateCommand(), benchCommand(), benchBareCommand(), benchPollCommand(), personCommand(), keyCommand(), openAPICommand(), checkCommand(), rehearseCommand(), applyCommand(), exportCommand(), versionCommand())
	root.SetArgs(args)
	err := root.ExecuteContext(ctx)
	var input inputError
	switch {
	case err == nil:
		return 0
	case errors.As(err, &input):
		if !errors.Is(input.err, errTold) {
			fmt.Fprintln(os.Stderr, input.err)
		}
		return exitInput
	}
	fmt.Fprintf(os.Stderr, "%v\nRun 'dorfbote --help' to see what there is.\n", err)
	return exitCommand
}

// wrongInput makes a command exit with 1.
func wrongInput(format string, args ...any) error { return inputError{fmt.Errorf(format, args...)} }
