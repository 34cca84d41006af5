package main

import (
	"bufio"
	"fmt"
	"os"
	"runtime/debug"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"dorfbote/internal/core/rehearse"
	"dorfbote/internal/core/report"
	"dorfbote/internal/core/route"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
	"dorfbote/internal/engine/sources"
	"dorfbote/internal/practice/world"
	"dorfbote/internal/script"
)

// fieldFlags reads --fields KIND=SCHEMA.
func fieldFlags(flags []string) (map[string]*value.Schema, error) {
	schemas := map[string]*value.Schema{}
	for _, f := range flags {
		source, file, ok := strings.Cut(f, "=")
		if !ok || source == "" || file == "" {
			return nil, fmt.Errorf("--fields %q: write it as KIND=SCHEMA, such as tours/collections=collections.schema.json", f)
		}
		data, err := os.ReadFile(file)
		if err != nil {
			return nil, inputError{fmt.Errorf("--fields %s: %w", source, err)}
		}
		k, err := value.ReadSchema(data)
		if err != nil {
			return nil, wrongInput("%s: %v", file, err)
		}
		schemas[source] = k
	}
	return schemas, nil
}

// kindOf finds a source's kind; a flag may name it without its connection.
func schemaOf(schemas map[string]*value.Schema, source string) *value.Schema {
	if k := schemas[source]; k != nil {
		return k
	}
	_, name, _ := strings.Cut(source, "/")
	return schemas[name]
}

// practiceKind is what is known of a practice app's records where no schema is given: enough to find
// a slip of the pen, but other fields are possible.
func practiceKind(source string) *value.Schema {
	kinds, err := world.Kinds()
	if err != nil {
		return nil
	}
	for _, k := range kinds {
		if k.Source() == source {
			open := *k.Fields
			open.Open = true
			return &open
		}
	}
	return nil
}

func workspaceOf(zone, locale string) (value.Workspace, error) {
	loc, err := time.LoadLocation(zone)
	if err != nil {
		return value.Workspace{}, fmt.Errorf("--zone %q is not an IANA time zone such as Europe/Zurich", zone)
	}
	return value.Workspace{Zone: loc, Locale: locale}, nil
}

func checkCommand() *cobra.Command {
	var fields []string
	var zone, locale string
	var around surroundings
	cmd := &cobra.Command{
		Use:   "check SHEET…",
		Short: "Says everything that is wrong with sheets",
		Args:  cobra.MinimumNArgs(1),
		RunE: func(_ *cobra.Command, files []string) error {
			schemas, err := fieldFlags(fields)
			if err != nil {
				return err
			}
			ws, err := workspaceOf(zone, locale)
			if err != nil {
				return err
			}
			known := sheet.Known{Workspace: ws, Schema: func(source string) *value.Schema {
				if k := schemaOf(schemas, source); k != nil {
					return k
				}
				return practiceKind(source)
			}}
			if err := around.read(&known); err != nil {
				return err
			}
			failed := false
			for _, file := range files {
				src, err := os.ReadFile(file)
				if err != nil {
					fmt.Fprintln(os.Stderr, err)
					failed = true
					continue
				}
				plan, sh, problems := sheet.Compile(src, known)
				if plan != nil {
					table := route.Look(plan, time.Now())
					list := report.List{Problems: append(problems, table.Problems(sh, false)...)}
					list.Sort()
					problems = list.Problems
				}
				failed = tell(os.Stdout, file, problems) || failed
			}
			if failed {
				return inputError{errTold}
			}
			return nil
		},
	}
	cmd.Flags().StringArrayVar(&fields, "fields", nil, "KIND=SCHEMA: the JSON Schema of a kind of record; may stand several times")
	around.flags(cmd)
	cmd.Flags().StringVar(&zone, "zone", "UTC", "the workspace's time zone")
	cmd.Flags().StringVar(&locale, "locale", "en", "the workspace's locale")
	return cmd
}

// tell prints problems as file:line:column: message and says whether any is an error.
func tell(out *os.File, file string, problems []report.Problem) bool {
	failed := false
	for _, p := range problems {
		failed = failed || !p.Warning
		_, _ = fmt.Fprintf(out, "%s:%d:%d: %s\n", file, max(p.At.Line, 1), max(p.At.Column, 1), p)
	}
	return failed
}

func rehearseCommand() *cobra.Command {
	var opts rehearseOptions
	cmd := &cobra.Command{
		Use:   "rehearse --sheet S --arrivals F",
		Short: "Runs a sheet over past arrivals with a virtual clock; nothing is sent",
		Args:  cobra.NoArgs,
		RunE:  func(*cobra.Command, []string) error { return opts.run() },
	}
	f := cmd.Flags()
	f.StringVar(&opts.sheet, "sheet", "", "the sheet")
	f.StringVar(&opts.arrivals, "arrivals", "", "the arrivals: JSON Lines, one CloudEvent a line; - reads standard input")
	f.StringArrayVar(&opts.fields, "fields", nil, "KIND=SCHEMA: the JSON Schema of a kind of record; without, types are learnt from the arrivals")
	f.StringArrayVar(&opts.records, "records", nil, "KIND=F: records that lookups may find, JSON Lines")
	f.StringVar(&opts.answers, "answers", "", "what people answer, claim, reply and press: JSON Lines, one a line")
	opts.around.flags(cmd)
	f.StringVar(&opts.until, "until", "", "where the virtual clock stops (RFC 3339)")
	f.StringVar(&opts.zone, "zone", "UTC", "the workspace's time zone")
	f.StringVar(&opts.locale, "locale", "en", "the workspace's locale")
	_ = cmd.MarkFlagRequired("sheet")
	_ = cmd.MarkFlagRequired("arrivals")
	return cmd
}

// gcPercent trades some memory, well within 200 MB, for speed.
const gcPercent = 300

type rehearseOptions struct {
	sheet, arrivals, answers, until, zone, locale string
	fields, records                               []string
	around                                        surroundings
}

func (o rehearseOptions) run() error {
	schemas, err := fieldFlags(o.fields)
	if err != nil {
		return err
	}
	ws, err := workspaceOf(o.zone, o.locale)
	if err != nil {
		return err
	}
	var until time.Time
	if o.until != "" {
		if until, err = time.Parse(time.RFC3339Nano, o.until); err != nil {
			return fmt.Errorf("--until %q is not an RFC 3339 time such as 2026-11-20T06:41:07Z", o.until)
		}
	}
	records, err := recordFlags(o.records)
	if err != nil {
		return err
	}
	src, err := os.ReadFile(o.sheet)
	if err != nil {
		return inputError{err}
	}
	file, done, err := openArrivals(o.arrivals)
	if err != nil {
		return inputError{err}
	}
	defer done()
	learners := map[string]*value.Learner{}
	for source, list := range records {
		learners[source] = value.NewLearner()
		for _, r := range list {
			learners[source].See(r)
		}
	}
	debug.SetGCPercent(gcPercent)
	scout, err := rehearse.Look(file, readAhead, func(source string) bool { return schemaOf(schemas, source) == nil })
	if err != nil {
		return wrongInput("%s: %v", o.arrivals, err)
	}
	surrounding := sheet.Known{Workspace: ws, Schema: func(source string) *value.Schema {
		if k := schemaOf(schemas, source); k != nil {
			return k
		}
		if l := learners[source]; l != nil && schemaOf(schemas, source) == nil {
			return value.Merge(practiceKind(source), l.Schema())
		}
		if l := scout.Learners[source]; l != nil {
			return value.Merge(practiceKind(source), l.Schema())
		}
		return practiceKind(source)
	}}
	if err := o.around.read(&surrounding); err != nil {
		return err
	}
	plan, _, problems := sheet.Compile(src, surrounding)
	if tell(os.Stderr, o.sheet, problems) {
		return inputError{errTold}
	}
	off := map[string]map[string]any{}
	for _, e := range records[plan.Trigger.Except] {
		off[keyOf(plan.Trigger.Except, e)] = e
	}
	known := rehearse.NewStates(plan.Lookups())
	for source, list := range records {
		for _, r := range list {
			known.Put(source, keyOf(source, r), r)
		}
	}
	out := bufio.NewWriterSize(os.Stdout, 1<<16)
	var buf []byte
	m := rehearse.NewMachine(plan, nil, func(l rehearse.Line) error {
		buf = append(l.AppendJSON(buf[:0]), '\n')
		_, err := out.Write(buf)
		return err
	})
	if err := o.answered(m); err != nil {
		return err
	}
	m.Leave(off)
	m.Know(known)
	m.People(surrounding.People)
	scripts := &script.Runner{}
	defer scripts.Close()
	m.Outside(sources.OutsideOf(scripts))
	if plan.Fetches() {
		fmt.Fprintf(os.Stderr, "%s: asks services over http, which a rehearsal does not: they are taken to answer nothing\n", o.sheet)
	}
	err = scout.Run(file, plan, until, m)
	if err != nil {
		return wrongInput("%s: %v", o.arrivals, err)
	}
	return out.Flush()
}

// answered hands in what people answer. What cannot count is said on standard error.
func (o rehearseOptions) answered(m *rehearse.Machine) error {
	if o.answers == "" {
		return nil
	}
	file, err := os.Open(o.answers)
	if err != nil {
		return inputError{err}
	}
	defer file.Close()
	list, err := rehearse.ReadAnswers(file)
	if err != nil {
		return wrongInput("%s: %v", o.answers, err)
	}
	m.Answers(list, func(a rehearse.Answer, why error) {
		fmt.Fprintf(os.Stderr, "%s: %s is left out: %v\n", o.answers, a, why)
	})
	return nil
}

// keyOf finds the key of a record given by --records: by the field that a practice app's schema names, else by the one
// that is usually the key.
func keyOf(source string, record map[string]any) string {
	names := []string{"id", "key", "number", "name"}
	if kinds, err := world.Kinds(); err == nil {
		for _, k := range kinds {
			if k.Source() == source {
				names = append([]string{k.Key}, names...)
			}
		}
	}
	for _, n := range names {
		switch v := record[n].(type) {
		case string:
			if v != "" {
				return v
			}
		case float64:
			return value.NumberText(v)
		}
	}
	return string(value.AppendJSON(nil, record))
}
