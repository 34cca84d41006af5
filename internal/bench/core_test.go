package bench

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"dorfbote/internal/core/decide"
)

// The yardstick must do the same, or it measures nothing.
func TestByHandDecidesTheSame(t *testing.T) {
	plan := CorePlan()
	for _, dropped := range []bool{true, false} {
		o := decide.Decide(plan, CoreScope(dropped))
		want := string(o.Verdict)
		if o.Row != "" {
			want = o.Row
		}
		assert.Equal(t, want, ByHand(CoreScope(dropped)))
	}
}

func BenchmarkDecideDropped(b *testing.B) {
	plan, sc := CorePlan(), CoreScope(true)
	b.ReportAllocs()
	for b.Loop() {
		decide.Decide(plan, sc)
	}
}

func BenchmarkByHand(b *testing.B) {
	sc := CoreScope(true)
	b.ReportAllocs()
	for b.Loop() {
		ByHand(sc)
	}
}
