package main

import (
	"net"
	"os"
	"time"

	"github.com/spf13/cobra"

	"dorfbote/internal/bench"
	"dorfbote/internal/engine"
)

func benchCommand() *cobra.Command {
	var o bench.Options
	cmd := &cobra.Command{
		Use: "bench", Short: "The project's benchmarks, as a table", Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			program, err := os.Executable()
			if err != nil {
				return inputError{err}
			}
			o.Program = program
			if err := bench.Run(cmd.Context(), os.Stdout, o); err != nil {
				return inputError{err}
			}
			return nil
		},
	}
	cmd.Flags().DurationVar(&o.Each, "each", 5*time.Second, "how long each load lasts")
	cmd.Flags().BoolVar(&o.Telling, "telling", false, "measure only how posts go to webhooks and by mail")
	cmd.Flags().BoolVar(&o.Alerts, "alerts", false, "measure only what comes after alerts: questions, alerts that nobody takes, posts that follow, answers to callers")
	cmd.Flags().IntVar(&o.Clients, "clients", 32, "clients at once")
	return cmd
}

func benchBareCommand() *cobra.Command {
	return &cobra.Command{
		Use: "bench-bare", Hidden: true, Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			s, _, err := readSettings()
			if err != nil {
				return err
			}
			l, err := net.Listen("tcp", s.Addr)
			if err != nil {
				return inputError{err}
			}
			return bench.Bare(cmd.Context(), s.DatabaseURL, l)
		},
	}
}

func benchPollCommand() *cobra.Command {
	return &cobra.Command{
		Use: "bench-poll", Hidden: true, Args: cobra.ExactArgs(2),
		RunE: func(cmd *cobra.Command, args []string) error {
			return withEngine(cmd.Context(), func(s settings, e *engine.Engine) error {
				return bench.Poll(cmd.Context(), os.Stdout, e, s.DatabaseURL, args[0], args[1])
			})
		},
	}
}
