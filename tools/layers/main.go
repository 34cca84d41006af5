// Command layers checks that no import points upward: each folder imports only what stands in a layer below its own, and the
// core reaches nothing of the outside.
package main

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"slices"
	"strings"
)

// module is the path that all of Dorfbote's packages begin with.
const module = "dorfbote/"

// layers are the folders from the bottom to the top. Those on one line do not import each other, but for what lies below a
// folder of them, which may import within it.
var layers = [][]string{
	{"internal/core"},
	{"internal/memory", "internal/seal", "internal/picture", "internal/script", "internal/patterns", "internal/pgserver", "internal/peers", "internal/browser", "examples", "web"},
	{"internal/store"},
	{"internal/observe", "internal/notify", "internal/jobs"},
	{"internal/connect"},
	{"internal/practice", "internal/testdb"},
	{"internal/connect/hook", "internal/connect/rest", "internal/connect/feed", "internal/connect/table", "internal/connect/sql", "internal/connect/calendar", "internal/connect/mail", "internal/connect/room", "internal/connect/form", "internal/connect/chat"},
	{"internal/connect/kinds"},
	{"internal/connect/conformtest"},
	{"internal/engine/host"}, {"internal/engine/links"},
	{"internal/engine/sources", "internal/engine/intake", "internal/engine/upkeep"},
	{"internal/engine/workflows", "internal/engine/poll", "internal/engine/links", "internal/engine/outbox", "internal/engine/past"},
	{"internal/engine/timing", "internal/engine/follow"},
	{"internal/engine/decider"},
	{"internal/engine"},
	{"internal/api/hooks"},
	{"internal/api/kit"},
	{"internal/api/shown", "internal/api/auth"},
	{"internal/api/proof", "internal/api/sources", "internal/api/people"},
	{"internal/api/workflows", "internal/api/connections", "internal/api/history", "internal/api/alerts"},
	{"internal/api/inbound", "internal/api/pages"},
	{"internal/api"},
	{"internal/demo"},
	{"internal/bench", "internal/fire", "internal/e2e"},
	{"cmd", "tools"},
}

// outside is what the core must not reach, however far.
var outside = []string{"net/http", "database/sql", "log/slog", "gorm.io", "github.com/go-chi", "github.com/riverqueue", "github.com/jackc"}

// pkg is a package as the go command lists it.
type pkg struct {
	ImportPath string
	Imports    []string
	Deps       []string
}

func main() {
	wrong, edges, err := check()
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	for _, w := range wrong {
		fmt.Fprintln(os.Stderr, w)
	}
	fmt.Printf("%d imports between folders, %d of them upward\n", edges, len(wrong))
	if len(wrong) > 0 {
		os.Exit(1)
	}
}

func check() (wrong []string, edges int, err error) {
	out, err := exec.Command("go", "list", "-json=ImportPath,Imports,Deps", "./...").Output()
	if err != nil {
		return nil, 0, fmt.Errorf("listing the packages: %w", err)
	}
	for d := json.NewDecoder(strings.NewReader(string(out))); ; {
		var p pkg
		if err := d.Decode(&p); errors.Is(err, io.EOF) {
			return wrong, edges, nil
		} else if err != nil {
			return nil, 0, err
		}
		name := strings.TrimPrefix(p.ImportPath, module)
		own, at := place(name)
		if own == "" {
			wrong = append(wrong, name+" stands in no layer; give it one in tools/layers")
			continue
		}
		if own == "internal/core" {
			for _, d := range p.Deps {
				if slices.ContainsFunc(outside, func(o string) bool { return d == o || strings.HasPrefix(d, o+"/") }) {
					wrong = append(wrong, name+" reaches "+d+", which the core does not")
				}
			}
		}
		for _, i := range p.Imports {
			other, ok := strings.CutPrefix(i, module)
			if !ok {
				continue
			}
			folder, below := place(other)
			if folder == own {
				continue
			}
			if edges++; below >= at {
				wrong = append(wrong, fmt.Sprintf("%s imports %s, which does not stand below it", name, other))
			}
		}
	}
}

// place gives the folder of the layers that a package belongs to, the longest that fits, and its layer from the bottom.
func place(name string) (folder string, layer int) {
	for n, l := range layers {
		for _, f := range l {
			if (name == f || strings.HasPrefix(name, f+"/")) && len(f) > len(folder) {
				folder, layer = f, n
			}
		}
	}
	return folder, layer
}
