package main

import (
	"bufio"
	"bytes"
	"fmt"
	"os"
	"strings"

	"dorfbote/internal/core/arrival"
	"dorfbote/internal/core/rehearse"
	"dorfbote/internal/core/value"
)

// recordFlags reads --records KIND=F: JSON Lines, a record or a CloudEvent with a record a line.
func recordFlags(flags []string) (map[string][]map[string]any, error) {
	out := map[string][]map[string]any{}
	for _, f := range flags {
		source, file, ok := strings.Cut(f, "=")
		if !ok || source == "" || file == "" {
			return nil, fmt.Errorf("--records %q: write it as KIND=F, such as tours/farms=farms.jsonl", f)
		}
		list, err := readRecords(file)
		if err != nil {
			return nil, err
		}
		out[source] = append(out[source], list...)
	}
	return out, nil
}

func readRecords(name string) ([]map[string]any, error) {
	file, err := os.Open(name)
	if err != nil {
		return nil, inputError{err}
	}
	defer file.Close()
	var out []map[string]any
	lines := bufio.NewScanner(file)
	lines.Buffer(make([]byte, 64<<10), rehearse.MaxLine)
	for n := 1; lines.Scan(); n++ {
		raw := bytes.TrimSpace(lines.Bytes())
		if len(raw) == 0 {
			continue
		}
		v, err := value.ReadJSON(raw)
		if err != nil {
			return nil, wrongInput("%s: line %d: %v", name, n, err)
		}
		m, ok := v.(map[string]any)
		if !ok {
			return nil, wrongInput("%s: line %d: a record is a JSON object, not %s", name, n, value.Describe(v))
		}
		if m["specversion"] != nil {
			a, err := arrival.FromEvent(m)
			if err != nil {
				return nil, wrongInput("%s: line %d: %v", name, n, err)
			}
			m = a.Record
		}
		out = append(out, m)
	}
	if err := lines.Err(); err != nil {
		return nil, wrongInput("%s: %v", name, err)
	}
	return out, nil
}
