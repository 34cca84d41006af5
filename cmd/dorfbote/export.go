package main

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"dorfbote/internal/core/formula"
)

func exportCommand() *cobra.Command {
	var r remote
	var dir string
	var connections bool
	cmd := &cobra.Command{
		Use:   "export [NAME…]",
		Short: "Reads the sheets of a running Dorfbote, as they are drafted; applying them again changes nothing",
		RunE: func(cmd *cobra.Command, names []string) error {
			if err := r.signIn(cmd.Context()); err != nil {
				return err
			}
			if connections {
				return r.exportConnections(cmd.Context(), os.Stdout)
			}
			list, err := r.workflows(cmd.Context())
			if err != nil {
				return err
			}
			fmt.Fprintf(os.Stderr, "reading from %s\n", r.URL)
			return export(os.Stdout, list, names, dir)
		},
	}
	r.flags(cmd)
	cmd.Flags().BoolVar(&connections, "connections", false, "the connections instead, as JSON without their secrets; apply, check and rehearse read it")
	cmd.Flags().StringVar(&dir, "to", "", "a folder for one file a sheet; without, all go to standard output, one YAML document each")
	return cmd
}

func export(out io.Writer, list []remoteWorkflow, names []string, dir string) error {
	for _, n := range names {
		if !slices.ContainsFunc(list, func(w remoteWorkflow) bool { return w.Name == n }) {
			return wrongInput("there is no workflow %q", n)
		}
	}
	used := map[string]bool{}
	for _, w := range list {
		if len(names) > 0 && !slices.Contains(names, w.Name) {
			continue
		}
		text := strings.TrimRight(w.Text, "\n") + "\n"
		if dir == "" {
			if len(used) > 0 {
				text = "---\n" + text
			}
			used[w.Name] = true
			if _, err := io.WriteString(out, text); err != nil {
				return err
			}
			continue
		}
		if err := os.MkdirAll(dir, 0o755); err != nil {
			return inputError{err}
		}
		file := filepath.Join(dir, fileName(w, used))
		if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
			return inputError{err}
		}
		_, _ = fmt.Fprintln(out, file)
	}
	return nil
}

// fileName is a workflow's name as a file's, with its number where that is taken.
func fileName(w remoteWorkflow, used map[string]bool) string {
	name := formula.Slug(w.Name)
	if name == "" || used[name] {
		name = strings.TrimPrefix(fmt.Sprintf("%s-%d", name, w.ID), "-")
	}
	used[name] = true
	return name + ".yaml"
}
