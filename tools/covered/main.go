// Command covered prints how much of each package a coverage profile has seen.
package main

import (
	"bufio"
	"fmt"
	"os"
	"path"
	"sort"
	"strings"
)

func main() {
	if len(os.Args) != 2 {
		fmt.Fprintln(os.Stderr, "covered PROFILE")
		os.Exit(2)
	}
	if err := run(os.Args[1]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// count is how many statements a package has, and how many of them some test has run.
type count struct{ all, seen int }

func run(profile string) error {
	f, err := os.Open(profile)
	if err != nil {
		return err
	}
	defer f.Close()
	blocks, sizes := map[string]bool{}, map[string]int{} // a block stands once for each test binary
	for s := bufio.NewScanner(f); s.Scan(); {
		var n, times int
		at, rest, ok := strings.Cut(s.Text(), " ")
		if !ok || strings.HasPrefix(at, "mode:") {
			continue
		}
		if _, err := fmt.Sscanf(rest, "%d %d", &n, &times); err != nil {
			return fmt.Errorf("%s: %w", s.Text(), err)
		}
		sizes[at] = n
		blocks[at] = blocks[at] || times > 0
	}
	by, all := map[string]*count{}, &count{}
	for at, n := range sizes {
		file, _, _ := strings.Cut(at, ":")
		name := strings.TrimPrefix(path.Dir(file), "dorfbote/internal/")
		if by[name] == nil {
			by[name] = &count{}
		}
		for _, c := range []*count{by[name], all} {
			if c.all += n; blocks[at] {
				c.seen += n
			}
		}
	}
	names := make([]string, 0, len(by))
	for n := range by {
		names = append(names, n)
	}
	sort.Strings(names)
	for _, n := range names {
		fmt.Printf("%5.1f %%  %s\n", percent(by[n]), n)
	}
	fmt.Printf("%5.1f %%  all\n", percent(all))
	return nil
}

func percent(c *count) float64 { return 100 * float64(c.seen) / float64(max(c.all, 1)) }
