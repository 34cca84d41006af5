package formula

import (
	"errors"
	"fmt"
	"reflect"
	"time"
)

// What a formula may make and do. Effort is counted, not measured, so that the same formula on the same record comes to
// the same end everywhere, however busy the machine is; a unit is about 10 ns of work. The clock is only the last resort.
const (
	// MaxText is how many bytes of text a formula may make at once, and MaxItems how many items of a list.
	MaxText  = 1 << 20
	MaxItems = 100_000

	maxEffort  = 10_000_000
	maxMade    = 16 << 20  // bytes of text and lists made altogether, along the way
	maxNodes   = 1_000_000 // values within values: a list may hold one object many times
	maxDepth   = 100
	maxPattern = 1000
	// maxTime is how long a formula may take where there is a clock to tell.
	maxTime = 2 * time.Second
)

var (
	errText    = fmt.Errorf("it makes a text of over %d bytes, which is more than a formula may", MaxText)
	errItems   = fmt.Errorf("it makes a list of over %d items, which is more than a formula may", MaxItems)
	errMade    = errors.New("it makes more text and lists along the way than a formula may")
	errEffort  = errors.New("it takes more steps than a formula may")
	errTime    = fmt.Errorf("%s, which is %s", TookTooLong, maxTime)
	errDeep    = fmt.Errorf("its values lie in one another over %d deep", maxDepth)
	errWide    = fmt.Errorf("it makes a value with over %d others inside", maxNodes)
	errPattern = fmt.Errorf("a pattern of over %d characters is too long", maxPattern)
)

// TookTooLong begins the words of a formula that the clock ended: the machine was too busy, or the formula is. It may be tried again.
const TookTooLong = "it takes longer than a formula may"

// meter counts what one run of a formula does.
type meter struct {
	effort, made int64
	elapsed      func() time.Duration // nil without a clock
	began        time.Duration
	looked       int64
}

func newMeter(elapsed func() time.Duration) *meter {
	m := &meter{elapsed: elapsed}
	if elapsed != nil {
		m.began = elapsed()
	}
	return m
}

func (m *meter) spend(units int64) error {
	if m == nil {
		return nil
	}
	if m.effort += units; m.effort > maxEffort {
		return errEffort
	}
	if m.elapsed != nil && m.effort-m.looked > 20_000 {
		if m.looked = m.effort; m.elapsed()-m.began > maxTime {
			return errTime
		}
	}
	return nil
}

func (m *meter) make(bytes int64) error {
	if m == nil {
		return nil
	}
	if m.made += bytes; m.made > maxMade {
		return errMade
	}
	return nil
}

// weight is how much there is to a value, with everything inside it.
type weight struct{ nodes, text int64 }

// add looks through a value. One that holds the same many times over counts it each time, as whatever writes or compares
// it will.
func (w *weight) add(v any, depth int) error {
	if w.nodes++; w.nodes > maxNodes {
		return errWide
	}
	if depth > maxDepth {
		return errDeep
	}
	switch x := v.(type) {
	case string:
		w.text += int64(len(x))
		if w.text > maxMade {
			return errText
		}
		return nil
	case nil, bool, int, float64:
		return nil
	case []any:
		for _, e := range x {
			if err := w.add(e, depth+1); err != nil {
				return err
			}
		}
		return nil
	case map[string]any:
		for k, e := range x {
			w.text += int64(len(k))
			if err := w.add(e, depth+1); err != nil {
				return err
			}
		}
		return nil
	case Bullets:
		for _, l := range x {
			w.nodes += int64(len(l))
			for _, p := range l {
				w.text += int64(len(p.Text))
			}
		}
		if w.nodes > maxNodes {
			return errWide
		}
		return nil
	}
	rv := reflect.ValueOf(v)
	switch rv.Kind() {
	case reflect.Slice, reflect.Array:
		for i := range rv.Len() {
			if err := w.add(rv.Index(i).Interface(), depth+1); err != nil {
				return err
			}
		}
	case reflect.Map:
		for it := rv.MapRange(); it.Next(); {
			if err := w.add(it.Key().Interface(), depth+1); err != nil {
				return err
			}
			if err := w.add(it.Value().Interface(), depth+1); err != nil {
				return err
			}
		}
	default:
	}
	return nil
}

func (m *meter) weigh(v any) (weight, error) {
	var w weight
	if err := w.add(v, 0); err != nil {
		return w, err
	}
	return w, m.spend(w.nodes + w.text/4)
}

// whole checks a formula's result, which others will write out.
func (m *meter) whole(v any) error {
	switch x := v.(type) {
	case nil, bool, int, float64, time.Time, time.Duration:
		return nil
	case string:
		if len(x) > MaxText && m.made > 0 { // what a record brings may be longer
			return errText
		}
		return nil
	}
	_, err := m.weigh(v)
	return err
}

func lengthOf(v any) int64 {
	switch x := v.(type) {
	case nil:
		return 0
	case string:
		return int64(len(x))
	case []any:
		return int64(len(x))
	case map[string]any:
		return int64(len(x))
	}
	switch rv := reflect.ValueOf(v); rv.Kind() {
	case reflect.Slice, reflect.Array, reflect.Map, reflect.String:
		return int64(rv.Len())
	default:
		return 0
	}
}
