package decide

import (
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"dorfbote/examples"
	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
)

// Whatever one writes on a sheet, what is left of it can be proved: every word of the examples is once replaced, and
// every line once left out.
func TestWhatIsLeftOfASheetCanBeProved(t *testing.T) {
	files, err := examples.Sheets.ReadDir(".")
	require.NoError(t, err)
	known := sheet.Known{Workspace: value.DefaultWorkspace(), Destinations: func() []string { return []string{"square/#tours"} }}
	word := regexp.MustCompile(`[A-Za-z0-9_."]+`)
	proved, partly := 0, 0
	for _, f := range files {
		if !strings.HasSuffix(f.Name(), ".yaml") {
			continue
		}
		raw, err := examples.Sheets.ReadFile(f.Name())
		require.NoError(t, err)
		text := string(raw)
		var broken []string
		for _, at := range word.FindAllStringIndex(text, -1) {
			broken = append(broken, text[:at[0]]+"xx("+text[at[1]:])
		}
		lines := strings.SplitAfter(text, "\n")
		for i := range lines {
			broken = append(broken, strings.Join(lines[:i], "")+strings.Join(lines[i+1:], ""))
		}
		for _, src := range broken {
			p, frozen, _, _ := sheet.CompilePartly([]byte(src), known)
			if p == nil {
				continue
			}
			proved++
			if len(frozen) > 0 {
				partly++
			}
			sc := &formula.Scope{Record: map[string]any{"id": "1", "status": "late"}, Before: map[string]any{"id": "1"}, Arrival: formula.Arrival{ID: "a", Kind: "updated", Source: p.Source, At: time.Now()}, Now: time.Now()}
			Explain(p, sc, nil)
		}
	}
	require.Greater(t, partly, 100)
	require.Greater(t, proved, partly)
}
