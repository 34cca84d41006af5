// Command notice prints the licences of everything that is shipped: the Go modules in the binary, and the packages and fonts
// in the front end.
package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"sort"
	"strings"
)

// part is something that is shipped.
type part struct{ name, version, text string }

func main() {
	if err := run(); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func run() error {
	modules, err := modules()
	if err != nil {
		return err
	}
	packages, err := packages()
	if err != nil {
		return err
	}
	fmt.Print("Dorfbote ships with the work of others, listed here with their licences.\n")
	by, texts := map[string][]string{}, []string{}
	for _, p := range append(modules, packages...) {
		if by[p.text] == nil {
			texts = append(texts, p.text)
		}
		by[p.text] = append(by[p.text], p.name+" "+p.version)
	}
	for _, t := range texts { // each text once, under all that it is the licence of
		fmt.Printf("\n%s\n%s\n\n%s\n", strings.Repeat("-", 100), strings.Join(by[t], "\n"), t)
	}
	return nil
}

// modules lists the Go modules that the binary is made of.
func modules() ([]part, error) {
	out, err := exec.Command("go", "list", "-deps", "-f", "{{with .Module}}{{if not .Main}}{{.Path}}\t{{.Version}}\t{{.Dir}}{{end}}{{end}}", "./cmd/dorfbote").Output()
	if err != nil {
		return nil, fmt.Errorf("listing the modules: %w", err)
	}
	seen := map[string]bool{}
	var list []part
	for line := range strings.SplitSeq(string(out), "\n") {
		f := strings.Split(line, "\t")
		if len(f) != 3 || seen[f[0]] {
			continue
		}
		seen[f[0]] = true
		text, err := licence(f[2])
		if err != nil {
			return nil, err
		}
		list = append(list, part{f[0], f[1], text})
	}
	sort.Slice(list, func(i, j int) bool { return list[i].name < list[j].name })
	return list, nil
}

// packages lists what the front end is made of, by its lock file: what is needed to run it, fonts among them.
func packages() ([]part, error) {
	raw, err := os.ReadFile("web/package-lock.json")
	if err != nil {
		return nil, err
	}
	var lock struct {
		Packages map[string]struct {
			Version           string
			Dev, Optional     bool
			DevOptional, Peer bool
		}
	}
	if err := json.Unmarshal(raw, &lock); err != nil {
		return nil, fmt.Errorf("reading the lock file: %w", err)
	}
	var list []part
	for at, p := range lock.Packages {
		if at == "" || p.Dev || p.Optional || p.DevOptional || p.Peer { // peers are what others may bring
			continue
		}
		dir := filepath.Join("web", at)
		text, err := licence(dir)
		if err != nil {
			if text = declared(dir); text == "" {
				return nil, err
			}
		}
		list = append(list, part{strings.TrimPrefix(at, "node_modules/"), p.Version, text})
	}
	sort.Slice(list, func(i, j int) bool { return list[i].name < list[j].name })
	return list, nil
}

// licence reads the file that a licence lies in.
func licence(dir string) (string, error) {
	files, err := os.ReadDir(dir)
	if err != nil {
		return "", err
	}
	for _, f := range files {
		name := strings.ToUpper(f.Name())
		if f.IsDir() || !strings.HasPrefix(name, "LICENSE") && !strings.HasPrefix(name, "LICENCE") && !strings.HasPrefix(name, "COPYING") {
			continue
		}
		raw, err := os.ReadFile(filepath.Join(dir, f.Name()))
		if err != nil {
			return "", err
		}
		lines := strings.Split(string(bytes.ReplaceAll(raw, []byte("\r"), nil)), "\n")
		for i := range lines {
			lines[i] = strings.TrimRight(lines[i], " \t\f")
		}
		return strings.TrimSpace(strings.Join(lines, "\n")), nil
	}
	return "", fmt.Errorf("there is no licence in %s", filepath.Base(dir))
}

// declared is the licence that a package names without giving its text.
func declared(dir string) string {
	raw, err := os.ReadFile(filepath.Join(dir, "package.json"))
	if err != nil {
		return ""
	}
	var p struct {
		License string
		Author  any
	}
	if json.Unmarshal(raw, &p) != nil || p.License == "" {
		return ""
	}
	return "Licensed under " + p.License + "."
}
