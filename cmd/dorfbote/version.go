package main

import (
	"fmt"
	"runtime"
	"runtime/debug"

	"github.com/spf13/cobra"
)

// version is what git called this state when the program was built; see the Makefile.
var version = ""

// versionWords says which version this is, and what it was built with.
func versionWords() string {
	v := version
	if v == "" { // built by the go command alone
		v = "unknown"
		if info, ok := debug.ReadBuildInfo(); ok {
			for _, s := range info.Settings {
				if s.Key == "vcs.revision" {
					v = s.Value[:min(len(s.Value), 12)]
				}
			}
		}
	}
	return fmt.Sprintf("dorfbote %s, %s, %s/%s", v, runtime.Version(), runtime.GOOS, runtime.GOARCH)
}

func versionCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "version",
		Short: "Say which version this is",
		Args:  cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			_, err := fmt.Fprintln(c.OutOrStdout(), versionWords())
			return err
		},
	}
}
