package formula

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/core/value"
	"dorfbote/internal/memory"
)

func hostileScope() *Scope {
	return &Scope{Record: map[string]any{
		"id": "C-1", "long": strings.Repeat("ab ", 30_000), "n": 7.0,
		"list": func() (out []any) {
			for i := range 2000 {
				out = append(out, map[string]any{"n": float64(i), "name": fmt.Sprint("farm ", i), "tags": []any{"a", "b"}})
			}
			return out
		}(),
	}, Now: time.Unix(1_800_000_000, 0)}
}

// spent runs a formula and tells how long it took and how much memory was in use at most meanwhile, beyond what was before.
func spent(text string, sc *Scope) (v any, took time.Duration, peak uint64, err error) {
	peak = memory.Peak(func() {
		began := time.Now()
		var f *Formula
		if f, err = Compile(text, &Words{Workspace: value.DefaultWorkspace()}); err == nil {
			if v, err = f.Run(sc); err == nil {
				_ = Show(v, value.DefaultWorkspace())
			}
		}
		took = time.Since(began)
	})
	return v, took, peak, err
}

const mostMemory = 64 << 20

// Formulas that would take all memory, or run for hours, end with words.
func TestFormulasStayWithinBounds(t *testing.T) {
	nest := "let a0 = [1, 2, 3, 4, 5, 6, 7, 8, 9, 10]; "
	for i := 1; i < 12; i++ {
		nest += fmt.Sprintf("let a%d = [a%d, a%d, a%d, a%d, a%d]; ", i, i-1, i-1, i-1, i-1, i-1)
	}
	texts := "let t0 = record.long; "
	for i := 1; i < 30; i++ {
		texts += fmt.Sprintf("let t%d = t%d + t%d; ", i, i-1, i-1)
	}
	deep := "let d0 = [1]; "
	for i := 1; i < 400; i++ {
		deep += fmt.Sprintf("let d%d = [d%d]; ", i, i-1)
	}
	for _, text := range []string{
		`len(repeat(repeat("a", 900000), 900000))`,
		`repeat("a", 1e18)`,
		`reduce(1..40, #acc + #acc, "aaaaaaaaaaaaaaaa")`,
		`reduce(1..40, [#acc, #acc], "a")`,
		`reduce(1..40, concat(#acc, #acc), [1, 2])`,
		`map(1..100000, repeat("a", 100000))`,
		`map(1..1000, map(1..1000, repeat("a", 100)))`,
		`map(1..90000, map(1..90000, 1))`,
		`sum(1..90000, sum(1..90000, #))`,
		`any(1..90000, any(1..90000, # > 100000))`,
		`1..9000000000000000000`,
		`replace(record.long, "a", record.long)`,
		`replace(repeat("a", 1000000), "", repeat("b", 1000000))`,
		`join(map(1..90000, "a"), repeat("b", 900000))`,
		`toJSON(map(1..90000, record))`,
		`map(record.list, toJSON(record.list))`,
		`map(1..5000, upper(record.long))`,
		`map(1..5000, record.long contains "zz")`,
		`map(1..5000, record.long matches "(a|b| )*(a|b| )*c")`,
		`record.long matches repeat("(a?b?){9}", 5000)`,
		`uniq(map(1..90000, string(#)))`,
		`filter(record.list, # in map(record.list, #))`,
		`map(record.list, filter(record.list, # == #))`,
		`map(1..90000, bullets(record.list, "${it.name}"))`,
		`bullets(map(1..90000, record.long), "${it}")`,
		`map(1..90000, phone("0791234567", "CH"))`,
		`map(1..90000, money(#, "CHF"))`,
		`groupBy(1..90000, map(1..90000, #))`,
		`sortBy(1..90000, repeat("a", 90000))`,
		`split(repeat("a", 1000000), "")`,
		`fromJSON(repeat("[", 1000000))`,
		`fromJSON("[" + repeat("[],", 300000) + "1]")`,
		`flatten([record.list, map(1..90000, record.list)])`,
		`mask(repeat("a", 1000000)) + slug(repeat("é", 500000))`,
		`map(1..90000, mask(record.long))`,
		`map(1..90000, $env)`,
		nest + "a11", nest + "toJSON(a11)", nest + "string(a11)", nest + "a11 == a10", nest + "flatten(a11)", nest + "join(a11)", nest + "words(a11)",
		texts + "t29", texts + "len(t29)",
		deep + "toJSON(d399)", deep + "d399",
	} {
		name := text
		if len(name) > 60 {
			name = name[:40] + "…" + name[len(name)-19:]
		}
		_, took, peak, err := spent(text, hostileScope())
		assert.Less(t, peak, uint64(mostMemory), name)
		if err != nil {
			assert.NotContains(t, err.Error(), "·", name)
		}
		t.Logf("%-60s %6.1f ms %5.1f MiB %v", name, float64(took.Microseconds())/1000, float64(peak)/(1<<20), err != nil)
	}
}

// What people do write goes well within the bounds.
func TestUsualFormulasAreNotInTheWay(t *testing.T) {
	for text, want := range map[string]any{
		`len(filter(record.list, .n > 1000))`:                                          999,
		`sum(record.list, .n)`:                                                         1999000.0,
		`join(map(take(sortBy(record.list, .n, "desc"), 3), .name), ", ")`:             "farm 1999, farm 1998, farm 1997",
		`len(toJSON(record.list)) > 1000`:                                              true,
		`len(groupBy(record.list, .n > 1000))`:                                         2,
		`reduce(record.list, #acc + #.n, 0)`:                                           1999000.0,
		`record.id + " " + upper(record.id) + string(record.n)`:                        "C-1 C-17",
		`len(bullets(record.list, "${it.name}: ${it.n}")) `:                            2000,
		`count(record.list, any(.tags, # == "b"))`:                                     2000,
		`len(filter(record.list, .name matches "9$"))`:                                 200,
		`(1..3) == [1, 2, 3] and [1, 2] != [2, 1] and "b" in ["a", "b"]`:               true,
		`replace(record.id, "C", "D") + repeat("-", 3) + join(split("a b", " "), "+")`: "D-1---a+b",
	} {
		v, _, _, err := spent(text, hostileScope())
		require.NoError(t, err, text)
		assert.Equal(t, want, v, text)
	}
}

// A clock that has gone on too far ends a formula that its steps alone would not.
func TestAFormulaEndsByTheClock(t *testing.T) {
	at := time.Duration(0)
	m := newMeter(func() time.Duration { at += 500 * time.Millisecond; return at })
	var err error
	for range 10 {
		if err = m.spend(21_000); err != nil {
			break
		}
	}
	assert.ErrorIs(t, err, errTime)
}

// FuzzFormulasStayWithinBounds puts formulas together at random, of what builds and what goes round.
func FuzzFormulasStayWithinBounds(f *testing.F) {
	for seed := range uint64(30) {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, seed uint64) {
		r := rand.New(rand.NewPCG(seed, 5))
		text := randomFormula(r, 5)
		_, took, peak, err := spent(text, hostileScope())
		if took > 20*time.Second || peak > mostMemory { // a machine may be busy; a formula without bounds takes hours
			t.Fatalf("%s\ntook %v and %d MiB: %v", text, took, peak>>20, err)
		}
	})
}

func randomFormula(r *rand.Rand, depth int) string {
	sub := func() string { return randomFormula(r, depth-1) }
	if depth == 0 {
		return []string{`"ab"`, "record.long", "record.list", "1..9000", "7", "record.n", "record", `["x", "y"]`, "record.id", "100000"}[r.IntN(10)]
	}
	loops := []string{"map", "filter", "any", "sortBy", "groupBy", "count", "sum", "find", "all"}
	unary := []string{"upper", "toJSON", "string", "flatten", "uniq", "sort", "reverse", "keys", "values", "len", "trim", "mask", "slug", "toBase64", "mean", "fromJSON", "toPairs"}
	switch r.IntN(12) {
	case 0:
		return fmt.Sprintf("(%s + %s)", sub(), sub())
	case 1:
		return fmt.Sprintf("repeat(string(%s), %d)", sub(), r.IntN(1_000_000))
	case 2, 3:
		return fmt.Sprintf("%s(%s, %s)", loops[r.IntN(len(loops))], sub(), []string{"#", "string(#)", "[#, #]", sub(), "# == " + sub(), "string(#) + " + sub()}[r.IntN(6)])
	case 4, 5:
		return fmt.Sprintf("%s(%s)", unary[r.IntN(len(unary))], sub())
	case 6:
		return fmt.Sprintf("reduce(%s, %s, %s)", sub(), []string{"#acc + #acc", "[#acc, #acc]", "concat(#acc, #acc)", "string(#acc) + string(#)"}[r.IntN(4)], sub())
	case 7:
		return fmt.Sprintf("replace(string(%s), %s, string(%s))", sub(), []string{`""`, `"a"`}[r.IntN(2)], sub())
	case 8:
		return fmt.Sprintf("join(map(%s, string(#)), string(%s))", sub(), sub())
	case 9:
		return fmt.Sprintf("(let v%d = %s; [v%d, v%d, {a: v%d}])", depth, sub(), depth, depth, depth)
	case 10:
		return fmt.Sprintf("(%s %s %s)", sub(), []string{"==", "in", "contains", "matches", "<"}[r.IntN(5)], sub())
	}
	return fmt.Sprintf("concat([%s], [%s])", sub(), sub())
}
