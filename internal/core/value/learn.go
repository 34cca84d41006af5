package value

import (
	"regexp"
	"slices"
	"time"
)

// Learner learns the fields of a source from records. Its memory depends on the number of fields,
// not of records.
type Learner struct {
	fields map[string]*sample
	order  []string
	nested int
}

// MaxFields bounds how many fields are learnt from one source, so that foreign records that use
// values as names cannot fill the memory.
const MaxFields = 2000

type sample struct {
	text, number, boolean, list, object int
	dates, moments, numeric, links      int // of the texts
	known                               map[string]looksLike
	inner                               *Learner
	items                               *sample
}

// NewLearner returns a learner that has seen nothing.
func NewLearner() *Learner { return &Learner{fields: map[string]*sample{}} }

// See takes one record into account.
func (l *Learner) See(record map[string]any) {
	var fresh []string
	for name, v := range record {
		if s := l.fields[name]; s != nil {
			s.see(v, l.nested)
		} else {
			fresh = append(fresh, name)
		}
	}
	slices.Sort(fresh)
	for _, name := range fresh[:min(len(fresh), MaxFields-len(l.fields))] {
		s := &sample{}
		l.fields[name] = s
		l.order = append(l.order, name)
		s.see(record[name], l.nested)
	}
}

// looksLike is what a text may be read as.
type looksLike uint8

const (
	likeText looksLike = iota
	likeNumber
	likeDate
	likeMoment
	likeLink
)

// mostLooks is how many texts of one field are remembered, with what they look like: most fields have few.
const mostLooks = 256

// webAddress is a text that is an address as a whole.
var webAddress = regexp.MustCompile(`^(?i:https?)://[^\s/?#]+\S*$`)

func (s *sample) looks(text string) looksLike {
	if l, ok := s.known[text]; ok {
		return l
	}
	l := likeText
	if _, dateOnly, ok := ReadMoment(text, time.UTC); ok {
		if l = likeMoment; dateOnly {
			l = likeDate
		}
	} else if _, ok := ReadNumber(text, DefaultWorkspace()); ok {
		l = likeNumber
	} else if webAddress.MatchString(text) {
		l = likeLink
	}
	if len(s.known) < mostLooks && len(text) <= keptText {
		if s.known == nil {
			s.known = map[string]looksLike{}
		}
		s.known[text] = l
	}
	return l
}

func (s *sample) see(v any, depth int) {
	if Empty(v) {
		return
	}
	switch x := v.(type) {
	case string:
		s.text++
		switch s.looks(x) {
		case likeDate:
			s.moments++
			s.dates++
		case likeMoment:
			s.moments++
		case likeNumber:
			s.numeric++
		case likeLink:
			s.links++
		}
	case float64:
		s.number++
	case bool:
		s.boolean++
	case []any:
		if m, ok := Pairs(x); ok {
			s.see(m, depth)
			return
		}
		s.list++
		if s.items == nil {
			s.items = &sample{}
		}
		for _, e := range x[:min(len(x), 50)] {
			s.items.see(e, depth+1)
		}
	case map[string]any:
		s.object++
		if depth > 8 {
			return
		}
		if s.inner == nil {
			s.inner = &Learner{fields: map[string]*sample{}, nested: depth + 1}
		}
		s.inner.See(x)
	}
}

// Schema returns what has been learnt. A field is a date only if every non-empty value seen reads as
// one; text that looks like numbers is a number only beside real numbers.
func (l *Learner) Schema() *Schema {
	return &Schema{Fields: l.list(), Learnt: true}
}

func (l *Learner) list() []Field {
	out := make([]Field, 0, len(l.order))
	for _, name := range l.order {
		f := Field{Name: name, Label: LabelOf(name)}
		l.fields[name].describe(&f)
		out = append(out, f)
	}
	return out
}

func (s *sample) describe(f *Field) {
	kinds := 0
	for _, n := range []int{s.text, s.number, s.boolean, s.list, s.object} {
		if n > 0 {
			kinds++
		}
	}
	switch {
	case kinds == 0:
		f.Type = Any
	case kinds == 1 && s.text > 0:
		switch {
		case s.dates == s.text:
			f.Type = Date
		case s.moments == s.text:
			f.Type = Moment
		case s.links == s.text:
			f.Type = Link
		default:
			f.Type = Text
		}
	case kinds == 1 && s.number > 0, kinds == 2 && s.number > 0 && s.text > 0 && s.numeric == s.text:
		f.Type = Num
	case kinds == 1 && s.boolean > 0:
		f.Type = YesNo
	case kinds == 1 && s.list > 0:
		f.Type = List
		var item Field
		s.items.describe(&item)
		f.Of, f.Fields = item.Type, item.Fields
	case kinds == 1 && s.object > 0:
		f.Type = Object
		if s.inner != nil {
			f.Fields = s.inner.list()
		}
	default:
		f.Type = Any
	}
}

// Merge joins two descriptions of one source: the first wins field by field, the second adds what
// the first does not know.
func Merge(first, second *Schema) *Schema {
	if first == nil {
		return second
	}
	if second == nil {
		return first
	}
	out := &Schema{Title: first.Title, Learnt: first.Learnt || second.Learnt, Fields: append([]Field(nil), first.Fields...)}
	for _, f := range second.Fields {
		if _, _, ok := first.Find(ParsePath(f.Name)); !ok {
			out.Fields = append(out.Fields, f)
		}
	}
	return out
}
