package main

import (
	"context"
	"errors"
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
	var connections string
	cmd := &cobra.Command{
		Use:   "apply SHEET…",
		Short: "Writes sheets to a running Dorfbote: workflows of the same name get them as drafts, others are made",
		RunE: func(cmd *cobra.Command, files []string) error {
			if len(files) == 0 && connections == "" {
				return errors.New("name sheets, or connections by --connections F")
			}
			sheets, err := readSheets(files)
			if err != nil {
				return err
			}
			var all map[string]carried
			if connections != "" {
				if all, err = readConnections(connections); err != nil {
					return err
				}
			}
			if err := r.signIn(cmd.Context()); err != nil {
				return err
			}
			if err := r.applyConnections(cmd.Context(), all, askAtTerminal()); err != nil || len(sheets) == 0 {
				return err
			}
			return r.apply(cmd.Context(), sheets, on)
		},
	}
	r.flags(cmd)
	cmd.Flags().StringVar(&connections, "connections", "", "connections, as export --connections writes them, made or changed before the sheets; a secret is taken from the environment, such as DORFBOTE_SECRET_MAIL_PASSWORD, or asked for")
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

// apply writes all of the sheets, or none.
func (r *remote) apply(ctx context.Context, sheets []fileSheet, on bool) error {
	seen := map[string]string{}
	type one struct {
		Text string `json:"text"`
		From string `json:"from"`
	}
	body := struct {
		Sheets []one `json:"sheets"`
		On     bool  `json:"on"`
	}{On: on}
	for _, s := range sheets {
		if other, ok := seen[s.name]; ok {
			return wrongInput("%s and %s both hold a sheet named %q", other, s.file, s.name)
		}
		seen[s.name] = s.file
		body.Sheets = append(body.Sheets, one{s.text, filepath.Base(s.file)})
	}
	fmt.Fprintf(os.Stderr, "writing to %s\n", r.URL)
	var out struct {
		Items []struct {
			Name, Did string
			On        bool
			Problems  int
		}
	}
	if err := r.call(ctx, http.MethodPost, "/api/apply", body, &out); err != nil {
		return wrongInput("writing to %s: %v", r.URL, err)
	}
	for _, it := range out.Items {
		did := it.Did
		if it.Problems > 0 {
			did += fmt.Sprintf(", but it cannot run: it has %d errors there", it.Problems)
		}
		if it.On {
			did += ", switched on"
		}
		fmt.Printf("%s: %s\n", it.Name, did)
	}
	return nil
}
