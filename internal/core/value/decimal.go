package value

import (
	"math"
	"strconv"
	"strings"
)

// Numbers come as decimals, which a double holds only nearly: 36.19 - 22.61 is a little less than 13.58. What is added,
// subtracted and multiplied here comes out as the decimal that people reckon, as far as a double can tell it from others.

// mostPlaces is how many places after the point a double can tell apart.
const mostPlaces = 15

// places counts the digits after the point of a number as it is written; -1 where there are too many to be a decimal.
func places(f float64) int {
	if f == math.Trunc(f) {
		return 0
	}
	var buf [32]byte
	text := strconv.AppendFloat(buf[:0], f, 'f', -1, 64)
	for i, c := range text {
		if c == '.' {
			if n := len(text) - i - 1; n <= mostPlaces {
				return n
			}
			return -1
		}
	}
	return -1 // infinite, or no number
}

// settled is the double nearest to the decimal with so many places that a result is meant to be.
func settled(f float64, places int) float64 {
	if places <= 0 || places > mostPlaces || math.IsInf(f, 0) || math.IsNaN(f) || math.Abs(f) >= 1e15 {
		return f
	}
	var buf [48]byte
	out, err := strconv.ParseFloat(string(strconv.AppendFloat(buf[:0], f, 'f', places, 64)), 64)
	if err != nil {
		return f
	}
	return out + 0 // never minus zero
}

// AddDecimals adds two numbers as decimals.
func AddDecimals(a, b float64) float64 {
	p, q := places(a), places(b)
	if p < 0 || q < 0 {
		return a + b
	}
	return settled(a+b, max(p, q))
}

// SubDecimals subtracts a number from another as decimals.
func SubDecimals(a, b float64) float64 { return AddDecimals(a, -b) }

// MulDecimals multiplies two numbers as decimals.
func MulDecimals(a, b float64) float64 {
	p, q := places(a), places(b)
	if p < 0 || q < 0 {
		return a * b
	}
	return settled(a*b, p+q)
}

// Tidy takes from a sum of many decimals what adding them one by one has left over.
func Tidy(f float64) float64 {
	if f == math.Trunc(f) || math.IsInf(f, 0) || math.IsNaN(f) {
		return f
	}
	out, err := strconv.ParseFloat(strconv.FormatFloat(f, 'g', 14, 64), 64)
	if err != nil {
		return f
	}
	return out
}

// Round rounds a number as it is written, half up and away from zero, to so many places after the point. It never gives
// minus zero.
func Round(f float64, places int) float64 {
	if f == math.Trunc(f) || math.IsInf(f, 0) || math.IsNaN(f) {
		return f + 0
	}
	text := strconv.FormatFloat(math.Abs(f), 'f', -1, 64)
	whole, frac, _ := strings.Cut(text, ".")
	if len(frac) <= places {
		return f
	}
	digits := []byte(whole + frac[:places])
	if frac[places] >= '5' {
		i := len(digits) - 1
		for ; i >= 0; i-- {
			if digits[i]++; digits[i] <= '9' {
				break
			}
			digits[i] = '0'
		}
		if i < 0 {
			digits = append([]byte{'1'}, digits...)
		}
	}
	at := len(digits) - places
	out, err := strconv.ParseFloat(string(digits[:at])+"."+string(digits[at:])+"0", 64)
	if err != nil || out == 0 {
		return 0
	}
	return math.Copysign(out, f)
}

// SameMeaning compares two raw values by what a field of a type means by them: "1,240" and 1240 are the same number, and one
// moment may be written in two zones. What does not read as the type is the same only as itself.
func SameMeaning(a, b any, t Type, ws Workspace) bool {
	if Empty(a) || Empty(b) {
		return Empty(a) && Empty(b)
	}
	switch {
	case t.IsNumber():
		x, okX := ReadNumber(a, ws)
		y, okY := ReadNumber(b, ws)
		if okX && okY {
			return x.Cmp(y) == 0 && currencyOf(a) == currencyOf(b)
		}
	case t.IsTime():
		x, okX := a.(string)
		y, okY := b.(string)
		if okX && okY {
			at, _, readX := ReadMoment(x, ws.Location())
			on, _, readY := ReadMoment(y, ws.Location())
			if readX && readY {
				return at.Equal(on)
			}
		}
	case t == Span:
		x, okX := a.(string)
		y, okY := b.(string)
		if okX && okY {
			d, errX := ParseSpan(x)
			e, errY := ParseSpan(y)
			if errX == nil && errY == nil {
				return d == e
			}
		}
	}
	return Same(a, b)
}

// currencyOf gives the currency of money that names it, "" where none is named.
func currencyOf(v any) string {
	switch x := v.(type) {
	case map[string]any:
		c, _ := x["currency"].(string)
		return strings.ToUpper(strings.TrimSpace(c))
	case string:
		s := strings.TrimSpace(x)
		if cut := cutCurrency(s); cut != s {
			return strings.Trim(strings.Replace(s, cut, "", 1), " \u00a0\u202f")
		}
	}
	return ""
}
