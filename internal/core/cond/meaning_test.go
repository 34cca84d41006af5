package cond

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"dorfbote/internal/core/formula"
)

// Steps are reckoned in decimals, changes are judged by what is meant, and what does not read as its field's type is neither
// above nor below anything, is not empty, and equals only the same text.
func TestWhatIsMeant(t *testing.T) {
	chf := func(amount any, currency string) any { return map[string]any{"amount": amount, "currency": currency} }
	for _, c := range []struct {
		field, op string
		value     any
		was, is   any
		want      Tri
	}{
		{"litres", "rose_by", 13.58, 22.61, 36.19, True},
		{"litres", "rose_by", 13.59, 22.61, 36.19, False},
		{"litres", "fell_by", 13.58, "36.19", "22.61", True},
		{"price", "rose_by", 0.1, chf(0.2, "CHF"), chf(0.3, "CHF"), True},
		{"litres", "rose_by", 0.1, "0.7", "0.8", True},
		{"big", "rose_by", 1.0, "9007199254740993", "9007199254740994", True},
		{"big", "rose_by", 2.0, "9007199254740993", "9007199254740994", False},
		{"litres", "changed", true, "1,240", 1240.0, False},
		{"litres", "changed", true, "1,240", 1240.5, True},
		{"litres", "changed", true, "n/a", "n/a", False},
		{"litres", "changed", true, "n/a", 7.0, True},
		{"litres", "changed", true, "", nil, False},
		{"litres", "changed", true, nil, 0.0, True},
		{"price", "changed", true, chf(7.0, "CHF"), chf("7.00", "chf"), False},
		{"price", "changed", true, chf(7.0, "CHF"), chf(7.0, "EUR"), True},
		{"due", "changed", true, "2026-11-20T07:00:00+01:00", "2026-11-20T06:00:00Z", False},
		{"due", "changed", true, "2026-11-20T07:00:00+01:00", "2026-11-20T06:00:01Z", True},
		{"day", "changed", true, "2026-11-20", "2026-11-21", True},
		{"took", "changed", true, "PT90M", "1h30m", False},
		{"took", "changed", true, "PT90M", "91m", True},
		{"name", "changed", true, "1240", "1,240", True},
		{"litres", "above", 1.0, nil, "n/a", False},
		{"litres", "below", 1.0, nil, "n/a", False},
		{"litres", "at_most", 1.0, nil, "n/a", False},
		{"litres", "empty", true, nil, "n/a", False},
		{"litres", "is_not", 7.0, nil, "n/a", True},
		{"litres", "is", 7.0, nil, "n/a", False},
	} {
		n := compile(t, testOf(c.field, c.op, c.value))
		sc := &formula.Scope{Record: map[string]any{c.field: c.is}, Before: map[string]any{c.field: c.was}, Now: now}
		assert.Equal(t, c.want, n.Eval(sc), "%s %s %v: %v -> %v", c.field, c.op, c.value, c.was, c.is)
	}
}
