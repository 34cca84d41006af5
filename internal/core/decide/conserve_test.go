package decide

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
)

// Over random streams and every combination of a pace's parts: each arrival that is told of ends in exactly one way, what is
// held is told, and the newest text about a record that is kept up to date is never lost.
func TestAPaceLosesNothing(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 48))
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	for round := range 300 {
		var parts []string
		then := pick("", "drop", "update", "reply")
		if then != "" {
			parts = append(parts, fmt.Sprintf("repeat: {key: \"${record.id}\", within: %s, then: %s}", pick("30m", "3h", "20h"), then))
		}
		if r.IntN(2) == 0 {
			parts = append(parts, "quiet: {open: [{"+pick("", "days: [mon, tue, wed, thu, fri], ")+"from: \"05:00\", to: \""+pick("20:00", "11:00")+"\"}]"+pick("", ", urgent: pass")+"}")
		}
		switch r.IntN(4) {
		case 0:
			parts = append(parts, fmt.Sprintf("limit: {posts: %d, per: %s}", 1+r.IntN(3), pick("20m", "2h")))
		case 1:
			parts = append(parts, "digest: {every: "+pick("40m", "5h")+"}")
		case 2:
			parts = append(parts, "digest: {at: "+pick(`"07:00"`, `"03:00"`, `["07:00", "16:00"]`)+"}")
		}
		if r.IntN(3) == 0 {
			parts = append(parts, "useful_for: "+pick("1h", "30h"))
		}
		if len(parts) == 0 {
			continue
		}
		src := "dorfbote: 1\nname: T\nwatch: {source: a/b}\nmessages: {m: {title: \"${record.id}#${record.n}\", tone: \"${record.tone}\"}}\nroute: {otherwise: {tell: [{to: c/d, message: m}]}}\npace: {" + strings.Join(parts, ", ") + "}\n"
		p, _, problems := sheet.Compile([]byte(src), sheet.Known{Workspace: value.DefaultWorkspace()})
		require.NotNil(t, p, "%s: %v", src, problems)
		conserve(t, p, then, r, fmt.Sprint(round, " ", strings.Join(parts, ", ")))
	}
}

func conserve(t *testing.T, p *sheet.Plan, then string, r *rand.Rand, name string) {
	t.Helper()
	mem := NewRecall()
	at := time.Date(2026, 11, 19, 22, 0, 0, 0, time.UTC)
	verdicts, later := map[string]Verdict{}, map[string][]Verdict{}
	told, newest := map[string]int{}, map[string]int{}
	var texts []string
	see := func(posts []Post) {
		for _, post := range posts {
			line := post.Doc.Title
			if post.Message == DigestMessage {
				line = post.Doc.Plain()
			}
			texts = append(texts, line)
			for id := range newest {
				for n := newest[id]; n > told[id]; n-- {
					if strings.Contains(line+" ", fmt.Sprintf("%s#%d ", id, n)) || strings.Contains(line+"\n", fmt.Sprintf("%s#%d\n", id, n)) {
						told[id] = n
					}
				}
			}
		}
	}
	release := func(list []Later) {
		for _, l := range list {
			for _, c := range l.Causes {
				later[c] = append(later[c], l.Verdict)
			}
			see(l.Posts)
		}
	}
	const n = 38 // a digest spells out forty
	for i := range n {
		at = at.Add(time.Duration(r.IntN(90)) * time.Minute)
		id := fmt.Sprint("R", r.IntN(4))
		newest[id] = i + 1
		tone := "plain"
		if r.IntN(6) == 0 {
			tone = "urgent"
		}
		sc := &formula.Scope{Record: map[string]any{"id": id, "n": float64(i + 1), "tone": tone}, Now: at, Arrival: formula.Arrival{Source: "a/b", Kind: "updated"}}
		cause := fmt.Sprint("a", i)
		release(LetGo(p, mem, at))
		out := Paced(p, mem, cause, sc, Decide(p, sc))
		release(out.Releases)
		verdicts[cause] = out.Verdict
		see(out.Posts)
	}
	for next, ok := mem.NextDue(); ok; next, ok = mem.NextDue() {
		release(LetGo(p, mem, next))
	}
	for cause, v := range verdicts {
		switch v {
		case Told:
			assert.Empty(t, later[cause], "%s: %s was told, and told again", name, cause)
		case Held:
			assert.Len(t, later[cause], 1, "%s: %s was held", name, cause)
		case Repeated:
			assert.LessOrEqual(t, len(later[cause]), 1, "%s: %s", name, cause)
		default:
			assert.Fail(t, "an arrival ended otherwise", "%s: %s is %s", name, cause, v)
		}
	}
	if then == "update" || then == "reply" || then == "" {
		for id, want := range newest {
			require.Equal(t, want, told[id], "%s: the newest text about %s is lost; told were %q", name, id, texts)
		}
	}
}
