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

	"github.com/spf13/cobra"
)

// Exit codes, as formats.md gives them.
const (
	exitInput   = 1
	exitCommand = 2
)

// inputError is an error of the input, told already or about to be; everything else that cobra
// reports is an error of the command line.
type inputError struct{ err error }

func (e inputError) Error() string { return e.err.Error() }
func (e inputError) Unwrap() error { return e.err }

// errTold ends a command whose findings have been printed.
var errTold = errors.New("")

func main() {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	code := run(ctx, os.Args[1:])
	stop()
	os.Exit(code)
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
