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

// layers are the packages from the bottom to the top, each by its name. Those on one line do not import each other.
var layers = [][]string{
	// What is computed.
	{"internal/core/fault", "internal/core/report", "internal/core/summary", "internal/core/usual", "internal/core/value"},
	{"internal/core/arrival", "internal/core/calendar", "internal/core/people"},
	{"internal/core/formula", "internal/core/place"},
	{"internal/core/cond", "internal/core/message", "internal/core/shape"},
	{"internal/core/sentence", "internal/core/sheet"},
	{"internal/core/decide", "internal/core/route", "internal/core/worth"},
	{"internal/core/rehearse"},
	// What knows nothing of the job, and what is kept.
	{"internal/browser", "internal/memory", "internal/patterns", "internal/peers", "internal/pgserver", "internal/picture", "internal/script", "internal/seal", "examples", "web"},
	{"internal/store"},
	{"internal/observe", "internal/notify", "internal/jobs"},
	// The other sides, real and simulated.
	{"internal/connect"},
	{"internal/practice/columns", "internal/practice/gatekeeper", "internal/practice/world", "internal/testdb"},
	{"internal/practice"},
	{"internal/connect/table/bounds"},
	{"internal/connect/table/workbook"},
	{"internal/connect/calendar", "internal/connect/chat", "internal/connect/event", "internal/connect/feed", "internal/connect/form", "internal/connect/hook", "internal/connect/mail", "internal/connect/push", "internal/connect/rest", "internal/connect/room", "internal/connect/sql", "internal/connect/table", "internal/connect/webhook"},
	{"internal/connect/kinds"},
	{"internal/connect/conformtest"},
	// What goes by itself.
	{"internal/engine/host"},
	{"internal/engine/intake", "internal/engine/links", "internal/engine/sources", "internal/engine/upkeep"},
	{"internal/engine/outbox", "internal/engine/past", "internal/engine/poll", "internal/engine/workflows"},
	{"internal/engine/follow", "internal/engine/timing"},
	{"internal/engine/decider"},
	{"internal/engine/alerts"},
	{"internal/engine"},
	// What is asked for.
	{"internal/api/hooks"},
	{"internal/api/kit"},
	{"internal/api/auth", "internal/api/shown"},
	{"internal/api/people", "internal/api/proof", "internal/api/sources"},
	{"internal/api/alerts", "internal/api/connections", "internal/api/history", "internal/api/workflows"},
	{"internal/api/inbound", "internal/api/pages"},
	{"internal/api"},
	// The whole, and what tries it.
	{"internal/demo"},
	{"internal/bench", "internal/fire", "internal/e2e"},
	{"cmd/dorfbote", "tools/covered", "tools/layers", "tools/loading", "tools/notice", "tools/pictures", "tools/withpg"},
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
	fmt.Printf("%d imports between packages, %d findings\n", edges, len(wrong))
	if len(wrong) > 0 {
		os.Exit(1)
	}
}

// check reads the packages of the module here, and says what is wrong with them.
func check() (wrong []string, edges int, err error) {
	out, err := exec.Command("go", "list", "-json=ImportPath,Imports,Deps", "./...").Output()
	if err != nil {
		return nil, 0, fmt.Errorf("listing the packages: %w", err)
	}
	var all []pkg
	for d := json.NewDecoder(strings.NewReader(string(out))); ; {
		var p pkg
		if err := d.Decode(&p); errors.Is(err, io.EOF) {
			break
		} else if err != nil {
			return nil, 0, err
		}
		// What the front end's libraries bring along is theirs.
		if p.ImportPath = strings.TrimPrefix(p.ImportPath, module); !strings.HasPrefix(p.ImportPath, "web/node_modules/") {
			all = append(all, p)
		}
	}
	wrong, edges = findings(all, layers)
	return wrong, edges, nil
}

// findings says which packages stand in no layer or in two, which layers name what is no package, which imports do not point downward,
// and what the core reaches of the outside; and how many imports there are between the packages.
func findings(all []pkg, layers [][]string) (wrong []string, edges int) {
	at := map[string]int{}
	for n, l := range layers {
		for _, name := range l {
			if _, twice := at[name]; twice {
				wrong = append(wrong, name+" stands in two layers")
			}
			at[name] = n
			if !slices.ContainsFunc(all, func(p pkg) bool { return p.ImportPath == name }) {
				wrong = append(wrong, name+" stands in a layer and is no package")
			}
		}
	}
	for _, p := range all {
		own, known := at[p.ImportPath]
		if !known {
			wrong = append(wrong, p.ImportPath+" stands in no layer; give it one in tools/layers")
			continue
		}
		if strings.HasPrefix(p.ImportPath, "internal/core/") {
			for _, d := range p.Deps {
				if slices.ContainsFunc(outside, func(o string) bool { return d == o || strings.HasPrefix(d, o+"/") }) {
					wrong = append(wrong, p.ImportPath+" reaches "+d+", which the core does not")
				}
			}
		}
		for _, i := range p.Imports {
			other, ours := strings.CutPrefix(i, module)
			if !ours {
				continue
			}
			edges++
			if below, known := at[other]; known && below >= own {
				wrong = append(wrong, fmt.Sprintf("%s imports %s, which does not stand below it", p.ImportPath, other))
			}
		}
	}
	return wrong, edges
}
