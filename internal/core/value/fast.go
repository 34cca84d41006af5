package value

import (
	"strconv"
	"unicode/utf8"
)

// Reader reads many JSON values of the same make, one after the other. Names and short texts that come again and again
// are kept once. It gives what [ReadJSON] gives, and is for one goroutine at a time.
type Reader struct {
	kept  []keptEntry
	sizes [MaxDepth + 1]int // of the last object at each depth: the next is likely of the same make
	data  []byte
	at    int
	left  int // values that may still come
}

// keptEntry is a text as it is and as a value, so that neither is made again.
type keptEntry struct {
	text  string
	value any
}

// NewReader makes a reader.
func NewReader() *Reader { return &Reader{kept: make([]keptEntry, keptTexts)} }

// The longest text that is kept once, and how many are; a power of two.
const (
	keptText  = 32
	keptTexts = 1 << 12
)

// Read reads exactly one JSON value. Plain input is read here; anything out of the ordinary, and with it everything that
// is wrong, is left to ReadJSON.
func (r *Reader) Read(data []byte) (any, error) {
	r.data, r.at, r.left = data, 0, MaxValues
	if v, ok := r.value(0); ok {
		if r.space(); r.at == len(data) {
			return v, nil
		}
	}
	return ReadJSON(data)
}

func (r *Reader) space() {
	for r.at < len(r.data) {
		switch r.data[r.at] {
		case ' ', '\n', '\t', '\r':
			r.at++
		default:
			return
		}
	}
}

// next skips space and gives the byte there, 0 at the end.
func (r *Reader) next() byte {
	r.space()
	if r.at == len(r.data) {
		return 0
	}
	return r.data[r.at]
}

func (r *Reader) value(depth int) (v any, ok bool) {
	if r.left--; r.left < 0 {
		return nil, false
	}
	switch c := r.next(); c {
	case '"':
		raw, ok := r.text()
		if !ok {
			return nil, false
		}
		if len(raw) > keptText {
			return string(raw), true
		}
		return r.keep(raw).value, true
	case '{':
		return r.object(depth + 1)
	case '[':
		return r.list(depth + 1)
	case 't':
		return true, r.word("true")
	case 'f':
		return false, r.word("false")
	case 'n':
		return nil, r.word("null")
	}
	return r.number()
}

func (r *Reader) word(w string) bool {
	if len(r.data)-r.at < len(w) || string(r.data[r.at:r.at+len(w)]) != w {
		return false
	}
	r.at += len(w)
	return true
}

func (r *Reader) object(depth int) (any, bool) {
	if depth > MaxDepth {
		return nil, false
	}
	r.at++
	if r.next() == '}' {
		r.at++
		return map[string]any{}, true
	}
	obj := make(map[string]any, r.sizes[depth])
	for n := 1; ; n++ {
		if r.next() != '"' {
			return nil, false
		}
		raw, ok := r.text()
		if !ok {
			return nil, false
		}
		name := r.name(raw)
		if r.next() != ':' {
			return nil, false
		}
		r.at++
		v, ok := r.value(depth)
		if !ok {
			return nil, false
		}
		if obj[name] = v; len(obj) != n { // a name stands twice
			return nil, false
		}
		switch r.next() {
		case ',':
			r.at++
		case '}':
			r.at++
			r.sizes[depth] = n
			return obj, true
		default:
			return nil, false
		}
	}
}

func (r *Reader) list(depth int) (any, bool) {
	if depth > MaxDepth {
		return nil, false
	}
	r.at++
	list := []any{}
	if r.next() == ']' {
		r.at++
		return list, true
	}
	for {
		v, ok := r.value(depth)
		if !ok {
			return nil, false
		}
		list = append(list, v)
		switch r.next() {
		case ',':
			r.at++
		case ']':
			r.at++
			return list, true
		default:
			return nil, false
		}
	}
}

// text reads a text in which nothing is escaped.
func (r *Reader) text() (raw []byte, ok bool) {
	from := r.at + 1
	ascii := true
	for i := from; i < len(r.data); i++ {
		switch c := r.data[i]; {
		case c == '"':
			raw := r.data[from:i]
			if !ascii && !utf8.Valid(raw) {
				return nil, false
			}
			r.at = i + 1
			return raw, true
		case c == '\\' || c < ' ':
			return nil, false
		case c >= utf8.RuneSelf:
			ascii = false
		}
	}
	return nil, false
}

func (r *Reader) name(raw []byte) string {
	if len(raw) > keptText {
		return string(raw)
	}
	return r.keep(raw).text
}

// keep gives a short text as it was made before. One that hashes alike takes its place.
func (r *Reader) keep(raw []byte) *keptEntry {
	h := uint32(2166136261)
	for _, c := range raw {
		h = (h ^ uint32(c)) * 16777619
	}
	e := &r.kept[(h^h>>15)&(keptTexts-1)]
	if e.text != string(raw) || e.value == nil {
		e.text = string(raw)
		e.value = e.text
	}
	return e
}

// number reads a number, by the grammar of RFC 8259.
func (r *Reader) number() (any, bool) {
	from := r.at
	digits := func() int {
		start := r.at
		for r.at < len(r.data) && r.data[r.at] >= '0' && r.data[r.at] <= '9' {
			r.at++
		}
		return r.at - start
	}
	if r.at < len(r.data) && r.data[r.at] == '-' {
		r.at++
	}
	whole := r.at
	n := digits()
	if n == 0 || n > 1 && r.data[whole] == '0' {
		return nil, false
	}
	plain := true
	if r.at < len(r.data) && r.data[r.at] == '.' {
		plain = false
		if r.at++; digits() == 0 {
			return nil, false
		}
	}
	if r.at < len(r.data) && (r.data[r.at] == 'e' || r.data[r.at] == 'E') {
		plain = false
		if r.at++; r.at < len(r.data) && (r.data[r.at] == '+' || r.data[r.at] == '-') {
			r.at++
		}
		if digits() == 0 {
			return nil, false
		}
	}
	lit := r.data[from:r.at]
	if plain && n <= 15 {
		i, err := strconv.ParseInt(string(lit), 10, 64)
		if i != 0 || len(lit) == 1 { // not minus zero
			return float64(i), err == nil
		}
	}
	return readNumber(string(lit)), true
}
