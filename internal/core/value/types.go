package value

// Type is the type of a field, in the words the user sees.
type Type string

// The types of formats.md. Any is a field nothing is known of; every operator fits it.
const (
	Any     Type = ""
	Text    Type = "text"
	Num     Type = "number"
	Money   Type = "money"
	YesNo   Type = "yes/no"
	Date    Type = "date"
	Moment  Type = "moment"
	Span    Type = "span"
	Choice  Type = "choice"
	Choices Type = "choices"
	Person  Type = "person"
	Link    Type = "link"
	List    Type = "list"
	Object  Type = "object"
)

// Types lists every type a field can have, Any among them.
var Types = []Type{Any, Text, Num, Money, YesNo, Date, Moment, Span, Choice, Choices, Person, Link, List, Object}

// IsText tells whether values of the type are text.
func (t Type) IsText() bool {
	return t == Text || t == Choice || t == Person || t == Link
}

// IsTime tells whether values of the type are points in time.
func (t Type) IsTime() bool { return t == Date || t == Moment }

// IsNumber tells whether values of the type are counted.
func (t Type) IsNumber() bool { return t == Num || t == Money }

// IsList tells whether values of the type are lists.
func (t Type) IsList() bool { return t == List || t == Choices }

// Field describes one field of a record kind.
type Field struct {
	Name     string   `json:"name"`
	Label    string   `json:"label"`
	Type     Type     `json:"type"`
	Options  []string `json:"options,omitempty"`  // of a choice
	Currency string   `json:"currency,omitempty"` // of money
	Fields   []Field  `json:"fields,omitempty"`   // of an object, or of the objects in a list
	Of       Type     `json:"of,omitempty"`       // of a list's elements
	Help     string   `json:"help,omitempty"`
	Hidden   bool     `json:"hidden,omitempty"` // not offered to choose from
	Whole    bool     `json:"whole,omitempty"`  // of a number: never a fraction
}

// Schema is what is known about the records of one source.
type Schema struct {
	Title  string
	Fields []Field
	// Learnt is true where the fields come from samples: another field may yet turn up.
	Learnt bool
	// Open is true where the fields come from a schema that is not the sheet's own: another field is
	// possible, but one that is spelt nearly like a known one is a slip.
	Open bool
}

// Find returns the field at a path by name. many is true where the path goes through a list; ok is
// false where no such field is known.
func (k *Schema) Find(p Path) (f Field, many, ok bool) {
	if k == nil {
		return Field{}, false, false
	}
	for _, f := range k.Fields { // a name may itself hold a dot
		if f.Name == p.text {
			return f, false, true
		}
	}
	fields := k.Fields
	for i, step := range p.steps {
		found := false
		for _, c := range fields {
			if c.Name == step {
				f, found = c, true
				break
			}
		}
		if !found {
			return Field{}, many, false
		}
		if i < len(p.steps)-1 {
			many = many || f.Type == List
			if len(f.Fields) == 0 && (f.Type == Object || f.Type == List || f.Type == Any) {
				return Field{Name: p.text}, many, true // nothing is known of its inside
			}
			fields = f.Fields
		}
	}
	return f, many, true
}

// Names lists every path there is, in order, for suggestions.
func (k *Schema) Names() []string {
	if k == nil {
		return nil
	}
	return fieldNames("", k.Fields, nil)
}

// Near is the field that is meant by a name that none has: the one with that label, else the one whose name is nearest, "" for none.
func (k *Schema) Near(name string) string {
	if k == nil {
		return ""
	}
	if path := labelled("", k.Fields, Fold(name)); path != "" {
		return path
	}
	return Nearest(name, k.Names())
}

// labelled is the path of the first field with a label.
func labelled(prefix string, fields []Field, folded string) string {
	for _, f := range fields {
		if f.Label != "" && EqualFolded(f.Label, folded) {
			return prefix + f.Name
		}
		if path := labelled(prefix+f.Name+".", f.Fields, folded); path != "" {
			return path
		}
	}
	return ""
}

func fieldNames(prefix string, fields []Field, into []string) []string {
	for _, f := range fields {
		into = append(into, prefix+f.Name)
		into = fieldNames(prefix+f.Name+".", f.Fields, into)
	}
	return into
}
