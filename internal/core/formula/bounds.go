package formula

import (
	"errors"
	"strings"
	"time"

	"github.com/expr-lang/expr"
	"github.com/expr-lang/expr/vm/runtime"

	"dorfbote/internal/core/value"
)

// The functions that a running formula is interspersed with. Nobody can type their names, nor that of the meter.
const (
	meterName = "·meter"
	inName    = "·in"     // of a value that is looked through as a whole
	sideName  = "·side"   // of a value that is compared
	loopName  = "·loop"   // of a list that is gone through
	outName   = "·out"    // of what was made
	joinName  = "·join"   // of what is to be joined, and the text between
	timesName = "·times"  // of what is to be repeated, and how often
	swapName  = "·swap"   // of a text in which one is to be put in the place of another
	matchName = "·match"  // of a text and a pattern
	rangeName = "·range"  // of the bounds of a range
	manyName  = "·concat" // of lists that are to be put behind one another
	pairsName = "·pairs"  // of a list whose elements are compared with one another
	plusName  = "·plus"   // in the place of the operators, for decimals
	minusName = "·minus"
	multName  = "·mult"
	tidyName  = "·tidy" // of a sum
)

// bounded gives the functions that keep a formula within its bounds. Each is given the meter first.
func bounded() []expr.Option {
	def := func(name string, fn func(m *meter, p params) (any, error)) expr.Option {
		return expr.Function(name, func(p ...any) (any, error) {
			m, _ := p[0].(*meter)
			return fn(m, p[1:])
		})
	}
	reckon := func(name string, decimals func(a, b float64) float64, others func(a, b any) any) expr.Option {
		return def(name, func(_ *meter, p params) (any, error) {
			_, whole := p[0].(int)
			if _, other := p[1].(int); !whole || !other {
				a, okA := double(p[0])
				b, okB := double(p[1])
				if okA && okB {
					return decimals(a, b), nil
				}
			}
			return others(p[0], p[1]), nil
		})
	}
	return []expr.Option{
		reckon(plusName, value.AddDecimals, runtime.Add), reckon(minusName, value.SubDecimals, runtime.Subtract), reckon(multName, value.MulDecimals, runtime.Multiply),
		def(tidyName, func(_ *meter, p params) (any, error) {
			if f, ok := p[0].(float64); ok {
				return value.Tidy(f), nil
			}
			return p[0], nil
		}),
		def(inName, func(m *meter, p params) (any, error) {
			_, err := m.weigh(p[0])
			return p[0], err
		}),
		def(sideName, func(m *meter, p params) (any, error) {
			switch x := p[0].(type) {
			case nil, bool, int, float64, time.Time, time.Duration:
				return x, nil
			case string:
				return x, m.spend(int64(len(x)) / 32)
			}
			_, err := m.weigh(p[0])
			return p[0], err
		}),
		def(loopName, func(m *meter, p params) (any, error) {
			each, _ := p[1].(int)
			return p[0], m.spend(1 + lengthOf(p[0])*int64(each))
		}),
		def(outName, func(m *meter, p params) (any, error) {
			n := lengthOf(p[0])
			switch p[0].(type) {
			case nil, bool, int, float64:
				return p[0], nil
			case string:
				if n > MaxText {
					return nil, errText
				}
				if err := m.spend(n / 32); err != nil {
					return nil, err
				}
				return p[0], m.make(n)
			}
			if n > MaxItems {
				return nil, errItems
			}
			return p[0], m.make(16 * n)
		}),
		def(joinName, func(m *meter, p params) (any, error) {
			w, err := m.weigh(p[0])
			if err == nil && len(p) > 1 {
				w.text += lengthOf(p[1]) * lengthOf(p[0])
			}
			if err == nil && w.text > MaxText {
				err = errText
			}
			if err == nil {
				err = m.spend(6*w.nodes + w.text) // writing takes longer than looking through
			}
			return p[0], err
		}),
		def(timesName, func(m *meter, p params) (any, error) {
			text, ok := p[0].(string)
			if !ok {
				return p[0], nil
			}
			n, err := times(p[1])
			if err == nil && n > 0 && int64(len(text)) > MaxText/n {
				err = errText
			}
			return p[0], err
		}),
		def(swapName, func(m *meter, p params) (any, error) {
			text, ok := p[0].(string)
			old, okOld := p[1].(string)
			other, okNew := p[2].(string)
			if !ok || !okOld || !okNew {
				return p[0], nil
			}
			if err := m.spend(int64(len(text)) / 4); err != nil {
				return nil, err
			}
			if n := int64(strings.Count(text, old)); n*int64(len(other)) > MaxText {
				return nil, errText
			}
			return text, nil
		}),
		def(matchName, func(m *meter, p params) (any, error) {
			pattern, ok := p[1].(string)
			if ok && len(pattern) > maxPattern {
				return nil, errPattern
			}
			return p[0], m.spend(100 + int64(len(pattern))*50 + lengthOf(p[0])*int64(4+len(pattern)/2))
		}),
		def(rangeName, func(m *meter, p params) (any, error) {
			from, errFrom := times(p[0])
			to, errTo := times(p[1])
			if errFrom != nil || errTo != nil {
				return p[0], nil // the language says what is wrong
			}
			n := to - from + 1
			if n > MaxItems {
				return nil, errItems
			}
			return p[0], errors.Join(m.spend(max(n, 0)), m.make(16*max(n, 0)))
		}),
		def(manyName, func(m *meter, p params) (any, error) {
			n := int64(0)
			for _, e := range p {
				n += lengthOf(e)
			}
			if n > MaxItems {
				return nil, errItems
			}
			return p[0], m.spend(n)
		}),
		def(pairsName, func(m *meter, p params) (any, error) {
			w, err := m.weigh(p[0])
			if n := lengthOf(p[0]); err == nil {
				err = m.spend(n * n / 2 * (1 + (w.nodes+w.text/32)/max(n, 1)) / 2)
			}
			return p[0], err
		}),
	}
}

// double reads a number.
func double(v any) (float64, bool) {
	switch x := v.(type) {
	case float64:
		return x, true
	case int:
		return float64(x), x > -1<<53 && x < 1<<53
	}
	return 0, false
}

// times reads a whole number as the language does.
func times(v any) (n int64, err error) {
	defer func() {
		if recover() != nil {
			err = errors.New("no number")
		}
	}()
	return int64(runtime.ToInt(v)), nil
}
