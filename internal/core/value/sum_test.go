package value

import (
	"math/big"
	"math/rand/v2"
	"strconv"
	"testing"

	"github.com/stretchr/testify/assert"
)

// However many decimals are added, in whichever order, the sum is what reckoning on paper gives.
func TestSumsAreExact(t *testing.T) {
	add := func(list ...float64) *Sum {
		s := &Sum{}
		for _, f := range list {
			s.Add(Number{Float: f})
		}
		return s
	}
	assert.Equal(t, 0.085, add(0.01, 0.075).Float())
	assert.Equal(t, 0.0, add(0.1, 0.2, -0.3).Float())
	assert.Equal(t, 33.865, add(33.86, 33.87).Over(2))
	assert.Equal(t, "33.87", strconv.FormatFloat(Round(add(33.86, 33.87).Over(2), 2), 'f', 2, 64))
	assert.Equal(t, 9007199254740993.0+1, add(1<<53, 1, 1).Float())
	assert.Equal(t, 0.0, (&Sum{}).Over(0))
	r := rand.New(rand.NewPCG(1, 2))
	for range 300 {
		want, s, other := new(big.Rat), &Sum{}, &Sum{}
		for i := range 50 {
			f := float64(r.IntN(2_000_000)-1_000_000) / []float64{1, 10, 100, 1000}[r.IntN(4)]
			d, _ := new(big.Rat).SetString(strconv.FormatFloat(f, 'f', -1, 64))
			want.Add(want, d)
			if i%2 == 0 {
				s.Add(Number{Float: f})
			} else {
				other.Add(Number{Float: f})
			}
		}
		s.Merge(other)
		f, _ := want.Float64()
		assert.Equal(t, f, s.Float())
	}
}
