package main

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"dorfbote/internal/core/sheet"
)

func applyCommand() *cobra.Command {
	var r remote
	var on bool
	cmd := &cobra.Command{
		Use:   "apply SHEET…",
		Short: "Writes sheets to a running Dorfbote: workflows of the same name get them as drafts, others are made",
		Args:  cobra.MinimumNArgs(1),
		RunE: func(cmd *cobra.Command, files []string) error {
			sheets, err := readSheets(files)
			if err != nil {
				return err
			}
			if err := r.signIn(cmd.Context()); err != nil {
				return err
			}
			return r.apply(cmd.Context(), sheets, on)
		},
	}
	r.flags(cmd)
	cmd.Flags().BoolVar(&on, "on", false, "switch on what is not on as it is drafted, from now on")
	return cmd
}

type fileSheet struct{ file, name, text string }

// readSheets reads the sheets of some files; - is standard input. A file may hold several, as YAML documents. Nothing is
// written anywhere before all of them can be read.
func readSheets(files []string) ([]fileSheet, error) {
	var out []fileSheet
	failed := false
	for _, file := range files {
		raw, err := os.ReadFile(file)
		if file == "-" {
			raw, err = io.ReadAll(os.Stdin)
		}
		if err != nil {
			return nil, inputError{err}
		}
		for _, doc := range documents(string(raw)) {
			sh, problems := sheet.Read([]byte(doc.text))
			for i := range problems.Problems {
				problems.Problems[i].At.Line += doc.line
			}
			if tell(os.Stderr, file, problems.Problems) || sh == nil {
				failed = true
				continue
			}
			out = append(out, fileSheet{file, sh.Name, doc.text})
		}
	}
	if failed {
		return nil, inputError{errTold}
	}
	return out, nil
}

type document struct {
	text string
	line int // how many lines come before it
}

// documents takes the YAML documents of a text apart.
func documents(text string) []document {
	var out []document
	var b strings.Builder
	from, n := 0, 0
	flush := func() {
		if strings.TrimSpace(b.String()) != "" {
			out = append(out, document{b.String(), from})
		}
		b.Reset()
	}
	for line := range strings.Lines(text) {
		if n++; strings.TrimRight(line, " \r\n") == "---" {
			flush()
			from = n
			continue
		}
		b.WriteString(line)
	}
	flush()
	return out
}

func (r *remote) apply(ctx context.Context, sheets []fileSheet, on bool) error {
	have, err := r.workflows(ctx)
	if err != nil {
		return err
	}
	byName, seen := map[string][]remoteWorkflow{}, map[string]string{}
	for _, w := range have {
		byName[w.Name] = append(byName[w.Name], w)
	}
	for _, s := range sheets {
		if other, ok := seen[s.name]; ok {
			return wrongInput("%s and %s both hold a sheet named %q", other, s.file, s.name)
		}
		if seen[s.name] = s.file; len(byName[s.name]) > 1 {
			return wrongInput("there are %d workflows named %q; give them different names first", len(byName[s.name]), s.name)
		}
	}
	for _, s := range sheets {
		did, err := r.applyOne(ctx, s, byName[s.name], on)
		if err != nil {
			return wrongInput("%s: %s: %v", s.file, s.name, err)
		}
		fmt.Printf("%s: %s\n", s.name, did)
	}
	return nil
}

func (r *remote) applyOne(ctx context.Context, s fileSheet, have []remoteWorkflow, on bool) (did string, err error) {
	var w remoteWorkflow
	body := map[string]string{"text": s.text}
	switch {
	case len(have) == 0:
		did = "made"
		err = r.call(ctx, http.MethodPost, "/api/workflows", body, &w)
	case strings.TrimRight(have[0].Text, "\n") != strings.TrimRight(s.text, "\n"):
		did = "changed"
		err = r.call(ctx, http.MethodPut, fmt.Sprintf("/api/workflows/%d/draft", have[0].ID), body, &w)
	default:
		did, w = "unchanged", have[0]
	}
	if w.Problems > 0 {
		did += fmt.Sprintf(", but it cannot run: it has %d errors there", w.Problems)
	}
	if err != nil || !on || w.On && !w.Changed {
		return did, err
	}
	note := map[string]string{"note": "applied from " + filepath.Base(s.file)}
	return did + ", switched on", r.call(ctx, http.MethodPost, fmt.Sprintf("/api/workflows/%d/on", w.ID), note, nil)
}
