package value

import (
	"math"
	"math/big"
	"strconv"
	"strings"
	"sync"

	"golang.org/x/text/language"
	"golang.org/x/text/message"
	"golang.org/x/text/number"
)

// Separators are the marks a locale puts into numbers.
type Separators struct{ Group, Decimal string }

var separators sync.Map // locale -> Separators; a cache of a pure function

// SeparatorsOf returns the marks of a locale, found by formatting a number in it.
func SeparatorsOf(locale string) Separators {
	if s, ok := separators.Load(locale); ok {
		return s.(Separators)
	}
	sample := Printer(locale).Sprint(number.Decimal(1234567.5, number.Scale(1)))
	s := Separators{Group: ",", Decimal: "."}
	if i, j := strings.Index(sample, "234"), strings.Index(sample, "567"); i > 1 && j > i {
		s = Separators{Group: sample[1:i], Decimal: strings.TrimSuffix(sample[j+3:], "5")}
	}
	separators.Store(locale, s)
	return s
}

// Printer returns a formatter for the locale; an unknown tag reads as English.
func Printer(locale string) *message.Printer {
	tag, err := language.Parse(locale)
	if err != nil {
		tag = language.English
	}
	return message.NewPrinter(tag)
}

// Number is a value read as a number. Exact is its digits where a double is not enough.
type Number struct {
	Float float64
	Exact string
}

// ReadNumber reads a value as a number: JSON numbers, digits kept as text, numbers written in the
// workspace's locale ("1,240.5"), and money given as an object with an amount or as text with a
// currency before or behind it.
func ReadNumber(v any, ws Workspace) (Number, bool) {
	switch x := v.(type) {
	case float64:
		return Number{Float: x}, true
	case int:
		return Number{Float: float64(x)}, true
	case string:
		return parseNumber(x, ws)
	case map[string]any:
		if amount, ok := x["amount"]; ok {
			return ReadNumber(amount, ws)
		}
	}
	return Number{}, false
}

func parseNumber(text string, ws Workspace) (Number, bool) {
	if plainDigits(text) { // the usual case, without a copy
		f, err := strconv.ParseFloat(text, 64)
		return Number{Float: f}, err == nil
	}
	if !strings.ContainsAny(text, "0123456789") {
		return Number{}, false
	}
	s := cutCurrency(strings.TrimSpace(text))
	s = strings.ReplaceAll(s, "−", "-")
	if s == "" {
		return Number{}, false
	}
	sep := SeparatorsOf(ws.Locale)
	plain, ok := ungroup(s, sep)
	if !ok {
		return Number{}, false
	}
	f, err := strconv.ParseFloat(plain, 64)
	if err != nil || f != f {
		return Number{}, false
	}
	n := Number{Float: f}
	if len(plain) > 15 && decimalOf(plain) != decimalOf(strconv.FormatFloat(f, 'e', -1, 64)) {
		n.Exact = plain
	}
	return n, true
}

// plainDigits tells whether text is digits alone, few enough for a double.
func plainDigits(text string) bool {
	for i := range len(text) {
		if text[i] < '0' || text[i] > '9' {
			return false
		}
	}
	return len(text) > 0 && len(text) <= 15
}

// cutCurrency takes a sign or a three-letter code off the front or the end.
func cutCurrency(s string) string {
	isCode := func(c string) bool {
		return c[0] >= 'A' && c[0] <= 'Z' && c[1] >= 'A' && c[1] <= 'Z' && c[2] >= 'A' && c[2] <= 'Z'
	}
	if len(s) > 3 && isCode(s[:3]) {
		s = s[3:]
	} else if len(s) > 3 && isCode(s[len(s)-3:]) {
		s = s[:len(s)-3]
	}
	return strings.Trim(s, "€$£¥ \u00a0\u202f")
}

// ungroup takes grouping marks out where they stand between groups of three, turns the locale's
// decimal mark into a point, and refuses everything else that is no digit.
func ungroup(s string, sep Separators) (string, bool) {
	s = strings.ReplaceAll(s, "\u00a0", " ")
	s = strings.ReplaceAll(s, "\u202f", " ")
	group := sep.Group
	if group == "\u00a0" || group == "\u202f" {
		group = " "
	}
	whole, frac, hasFrac := strings.Cut(s, sep.Decimal)
	groups := strings.Split(whole, group)
	if group == "’" && len(groups) == 1 {
		groups = strings.Split(whole, "'")
	}
	for i, g := range groups {
		digits := strings.TrimLeft(g, "+-")
		if i > 0 && (len(g) != 3 || digits != g) || i == 0 && len(groups) > 1 && (len(digits) > 3 || digits == "") {
			return "", false
		}
	}
	plain := strings.Join(groups, "")
	if hasFrac {
		plain += "." + frac
	}
	for i, r := range plain {
		switch {
		case r >= '0' && r <= '9', r == '.', (r == '-' || r == '+') && i == 0:
		case r == 'e' || r == 'E', (r == '-' || r == '+') && (plain[i-1] == 'e' || plain[i-1] == 'E'):
			if i == 0 {
				return "", false
			}
		default:
			return "", false
		}
	}
	return plain, true
}

// Cmp compares two numbers, digit by digit where a double would round.
func (n Number) Cmp(m Number) int {
	if n.Exact != "" || m.Exact != "" {
		a, okA := n.rat()
		b, okB := m.rat()
		if okA && okB {
			return a.Cmp(b)
		}
	}
	switch {
	case n.Float < m.Float:
		return -1
	case n.Float > m.Float:
		return 1
	}
	return 0
}

// Sub returns n - m, exactly where a double would round.
func (n Number) Sub(m Number) Number {
	if n.Exact != "" || m.Exact != "" {
		a, okA := n.rat()
		b, okB := m.rat()
		if okA && okB {
			f, _ := new(big.Rat).Sub(a, b).Float64()
			return Number{Float: f}
		}
	}
	return Number{Float: SubDecimals(n.Float, m.Float)}
}

// Whole tells whether the number has no fraction.
func (n Number) Whole() bool {
	if n.Exact == "" {
		return n.Float == math.Trunc(n.Float)
	}
	r, ok := n.rat()
	return ok && r.IsInt()
}

func (n Number) rat() (*big.Rat, bool) {
	if n.Exact == "" { // the decimal as it is written, not the double's own value
		return new(big.Rat).SetString(strconv.FormatFloat(n.Float, 'g', -1, 64))
	}
	if d := decimalOf(n.Exact); d.exp > 400 || d.exp < -400 { // a hostile exponent would fill the memory
		return nil, false
	}
	return new(big.Rat).SetString(n.Exact)
}

// NumberText writes a number without grouping and without a needless fraction.
func NumberText(f float64) string { return string(appendNumber(nil, f)) }
