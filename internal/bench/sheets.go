package bench

import (
	"bufio"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"dorfbote/internal/core/arrival"
	"dorfbote/internal/core/decide"
	"dorfbote/internal/core/route"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
)

// measureSheets measures many sheets on one source, the analysis of a large table, and a rehearsal.
func measureSheets() ([]Row, error) {
	few, many := overSheets(20), overSheets(2000)
	rows := []Row{
		{"core: one arrival over 20 sheets, each waiting for one value", num(few) + " ns", ""},
		{"core: one arrival over 2,000 sheets", num(many) + " ns", fmt.Sprintf("%s for 100 times the sheets; goal under 10", ratio(many/few))},
		{"core: looking into a table of 50 rows and 8 columns", num(overTable()/1e6) + " ms", "goal under 50"},
	}
	r, err := rehearsal(100_000)
	return append(rows, r...), err
}

func kindOfBench(string) *value.Schema {
	return &value.Schema{Fields: []value.Field{
		{Name: "driver", Type: value.Text}, {Name: "litres", Type: value.Num}, {Name: "status", Type: value.Choice, Options: []string{"planned", "late", "collected"}},
		{Name: "valley", Type: value.Choice, Options: []string{"Upper", "Middle", "Mill"}}, {Name: "temperature", Type: value.Num}, {Name: "due", Type: value.Moment}, {Name: "organic", Type: value.YesNo}, {Name: "tour", Type: value.Text},
	}}
}

func compiled(src string) *sheet.Plan {
	p, _, problems := sheet.Compile([]byte(src), sheet.Known{Workspace: value.DefaultWorkspace(), Schema: kindOfBench})
	if p == nil {
		panic(problems[0].String())
	}
	return p
}

const benchHead = "dorfbote: 1\nname: B\nwatch: {source: tours/collections}\nmessages: {m: {title: x}}\n"

// overSheets gives the nanoseconds that one arrival takes.
func overSheets(n int) float64 {
	plans := make([]*sheet.Plan, n)
	for i := range plans {
		plans[i] = compiled(strings.Replace(benchHead, "}", fmt.Sprintf(", when: {field: driver, is: D%d}}", i), 1) + "keep: {field: litres, above: 5}\nroute: {otherwise: {tell: [{to: a/b, message: m}]}}\n")
	}
	set := decide.NewSet(plans)
	sc := CoreScope(false)
	sc.Record["driver"] = "D7"
	var at []int
	return float64(testing.Benchmark(func(b *testing.B) {
		for b.Loop() {
			at = set.Concerned(sc.Record, at)
			for _, i := range at {
				own := *sc
				decide.Decide(plans[i], &own)
			}
		}
	}).NsPerOp())
}

func overTable() float64 {
	var src strings.Builder
	src.WriteString(benchHead + "route:\n  rows:\n")
	for i := range 50 {
		fmt.Fprintf(&src, "    - {name: R%d, when: {all: [{field: litres, between: [%d, %d]}, {field: temperature, above: %d}, {field: valley, is: %s}, {field: driver, one_of: [D%d, D%d]}, {field: status, is_not: late}, {field: due, within_next: %dh}, {field: organic, is: %v}, {field: tour, is: T%d}]}, tell: [{to: a/b, message: m}]}\n",
			i, i*37%500, 500+i*91%2000, i%9, []string{"Upper", "Middle", "Mill"}[i%3], i%30, i*7%30, 1+i, i%2 == 0, i%12)
	}
	p := compiled(src.String())
	return float64(testing.Benchmark(func(b *testing.B) {
		for b.Loop() {
			route.Look(p, time.Unix(1_800_000_000, 0))
		}
	}).NsPerOp())
}

// rehearsal runs the command over a file, beside reading the file line by line.
func rehearsal(n int) ([]Row, error) {
	dir, err := os.MkdirTemp("", "dorfbote-bench-")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	arrivals, sheetFile := filepath.Join(dir, "arrivals.jsonl"), filepath.Join(dir, "sheet.yaml")
	if err := writeArrivals(arrivals, n); err != nil {
		return nil, err
	}
	if err := os.WriteFile(sheetFile, []byte(CoreSheet), 0o600); err != nil {
		return nil, err
	}
	began := time.Now()
	if err := readThrough(arrivals); err != nil {
		return nil, err
	}
	plain := time.Since(began)
	exe, err := os.Executable()
	if err != nil {
		return nil, err
	}
	cmd := exec.Command(exe, "rehearse", "--sheet", sheetFile, "--arrivals", arrivals)
	began = time.Now()
	if out, err := cmd.Output(); err != nil {
		return nil, fmt.Errorf("rehearsing: %w: %s", err, out)
	}
	took := time.Since(began)
	peak := int64(0)
	if u, ok := cmd.ProcessState.SysUsage().(*syscall.Rusage); ok {
		peak = u.Maxrss >> 10
	}
	return []Row{
		{fmt.Sprintf("rehearse: %d arrivals from a file, by the command", n), fmt.Sprintf("%.2f s", took.Seconds()), fmt.Sprintf("goal under 2; only reading each as JSON %.2f s", plain.Seconds())},
		{"rehearse: peak memory", fmt.Sprintf("%d MiB", peak), "goal under 200"},
	}, nil
}

func writeArrivals(file string, n int) error {
	f, err := os.Create(file)
	if err != nil {
		return err
	}
	defer f.Close()
	w := bufio.NewWriter(f)
	at := time.Date(2026, 8, 1, 5, 0, 0, 0, time.UTC)
	before := map[string]map[string]any{}
	for i := range n {
		key := fmt.Sprintf("COL-%d", i*7919%3000)
		record := map[string]any{
			"id": key, "farm": float64(i % 46), "farm_name": "Sonnleiten", "tour": fmt.Sprintf("Tour %d", i%7), "driver": fmt.Sprintf("D%d", i%20), "due": at.Format(time.RFC3339),
			"litres": float64(i * 37 % 3000), "temperature": float64(i%90) / 10, "status": []string{"planned", "on the way", "late", "collected"}[i%4], "valley": []string{"Upper", "Middle", "Mill"}[i%3],
		}
		a := &arrival.Arrival{ID: fmt.Sprint("a-", i), Source: "tours/collections", Type: arrival.Updated, Subject: key, Time: at, Record: record, Before: before[key], By: "bench"}
		if a.Before == nil {
			a.Type = arrival.Created
		}
		before[key] = record
		at = at.Add(time.Duration(20+i%100) * time.Second)
		if _, err := w.Write(append(a.AppendJSON(nil), '\n')); err != nil {
			return err
		}
	}
	return w.Flush()
}

// readThrough is the least that a rehearsal has to do.
func readThrough(file string) error {
	f, err := os.Open(file)
	if err != nil {
		return err
	}
	defer f.Close()
	lines := bufio.NewScanner(f)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		if _, err := value.ReadJSON(lines.Bytes()); err != nil {
			return err
		}
	}
	return lines.Err()
}
