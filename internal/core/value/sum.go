package value

import (
	"math"
	"math/big"
)

// Sum adds numbers up exactly, as the decimals that they are written as, in whichever order. The zero value is 0.
type Sum struct {
	whole float64 // of whole numbers, as long as a double counts them exactly
	rest  *big.Rat
}

// exactly is up to where a double counts one by one.
const exactly = 1 << 53

// Add adds a number.
func (s *Sum) Add(n Number) {
	if n.Exact == "" && n.Float == math.Trunc(n.Float) && math.Abs(n.Float) < exactly {
		if sum := s.whole + n.Float; math.Abs(sum) < exactly {
			s.whole = sum
			return
		}
	}
	r, ok := n.rat()
	if !ok {
		s.whole += n.Float // as near as a double comes: its digits are too many to be a quantity of anything
		return
	}
	s.add(r)
}

// Merge adds another sum.
func (s *Sum) Merge(x *Sum) {
	s.Add(Number{Float: x.whole})
	if x.rest != nil {
		s.add(x.rest)
	}
}

func (s *Sum) add(r *big.Rat) {
	if s.rest == nil {
		s.rest = new(big.Rat)
	}
	s.rest.Add(s.rest, r)
}

func (s *Sum) rat() *big.Rat {
	out := new(big.Rat)
	if out.SetFloat64(s.whole) == nil {
		out.SetInt64(0)
	}
	if s.rest != nil {
		out.Add(out, s.rest)
	}
	return out
}

// Float is the double that is nearest to the sum; never minus zero.
func (s *Sum) Float() float64 {
	if s.rest == nil {
		return s.whole + 0
	}
	f, _ := s.rat().Float64()
	return f + 0
}

// Over is the double that is nearest to the nth part of the sum.
func (s *Sum) Over(n int) float64 {
	if n == 0 {
		return 0
	}
	r := s.rat()
	f, _ := r.Quo(r, new(big.Rat).SetInt64(int64(n))).Float64()
	return f + 0
}

// CurrencyOf gives the currency of money that names it, be it text such as "CHF 8" or an object; "" where none is named.
func CurrencyOf(v any) string { return currencyOf(v) }
