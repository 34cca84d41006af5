package value

import (
	"errors"
	"fmt"
	"strings"
)

// ReadSchema reads a record kind's fields from a JSON Schema 2020-12: type, format, enum, title,
// description, properties, items, $ref into $defs, and the first branch of anyOf or oneOf that is
// not null. "x-currency" makes a number money. The order of "x-order", where given, else the
// schema's own names in order, is kept.
func ReadSchema(data []byte) (*Schema, error) {
	v, err := ReadJSON(data)
	if err != nil {
		return nil, err
	}
	root, ok := v.(map[string]any)
	if !ok {
		return nil, fmt.Errorf("a JSON Schema of a record is an object with \"properties\"; this is %s", describe(v))
	}
	s := schemaReader{root: root}
	top := s.resolve(root, 0)
	props, ok := top["properties"].(map[string]any)
	if !ok {
		return nil, errors.New("the schema has no \"properties\", so no field is known")
	}
	k := &Schema{Title: str(top["title"])}
	k.Fields = s.fields(props, top, 0)
	return k, nil
}

type schemaReader struct{ root map[string]any }

func (s schemaReader) fields(props, owner map[string]any, depth int) []Field {
	names := SortedKeys(props)
	if order, ok := owner["x-order"].([]any); ok {
		var given []string
		seen := map[string]bool{}
		for _, o := range order {
			if n := str(o); props[n] != nil && !seen[n] {
				given, seen[n] = append(given, n), true
			}
		}
		for _, n := range names {
			if !seen[n] {
				given = append(given, n)
			}
		}
		names = given
	}
	var out []Field
	for _, name := range names {
		node, _ := props[name].(map[string]any)
		out = append(out, s.field(name, node, depth))
	}
	return out
}

func (s schemaReader) field(name string, node map[string]any, depth int) Field {
	node = s.resolve(node, 0)
	f := Field{Name: name, Label: str(node["title"]), Help: str(node["description"])}
	if f.Label == "" {
		f.Label = LabelOf(name)
	}
	if depth > 20 {
		return f
	}
	if enum, ok := node["enum"].([]any); ok {
		f.Type = Choice
		for _, e := range enum {
			switch x := e.(type) {
			case string:
				f.Options = append(f.Options, x)
			case nil:
			default:
				f.Type = Any // numbers or mixed values keep their own type
			}
		}
		if f.Type == Choice {
			return f
		}
	}
	format := str(node["format"])
	switch schemaType(node) {
	case "string":
		f.Type = map[string]Type{
			"date": Date, "date-time": Moment, "duration": Span, "uri": Link, "uri-reference": Link, "iri": Link, "email": Person,
		}[format]
		if f.Type == Any {
			f.Type = Text
		}
	case "number", "integer":
		f.Type, f.Whole = Num, schemaType(node) == "integer"
		if cur := str(node["x-currency"]); cur != "" || format == "money" {
			f.Type, f.Currency = Money, cur
		}
	case "boolean":
		f.Type = YesNo
	case "array":
		f.Type = List
		item := s.field("", asMap(node["items"]), depth+1)
		f.Of, f.Fields, f.Options = item.Type, item.Fields, item.Options
		if item.Type == Choice {
			f.Type = Choices
		}
	case "object":
		f.Type = Object
		props := asMap(node["properties"])
		f.Fields = s.fields(props, node, depth+1)
		switch {
		case props["amount"] != nil && props["currency"] != nil && len(props) == 2:
			f.Type = Money
		case format == "person" || props["email"] != nil && props["name"] != nil && len(props) <= 3:
			f.Type = Person
		}
	}
	return f
}

func (s schemaReader) resolve(node map[string]any, hops int) map[string]any {
	if ref := str(node["$ref"]); ref != "" && hops < 10 {
		cur := any(s.root)
		for step := range strings.SplitSeq(strings.TrimPrefix(ref, "#/"), "/") {
			cur = asMap(cur)[strings.NewReplacer("~1", "/", "~0", "~").Replace(step)]
		}
		return s.resolve(asMap(cur), hops+1)
	}
	for _, word := range []string{"anyOf", "oneOf"} {
		branches, _ := node[word].([]any)
		for _, b := range branches {
			m := s.resolve(asMap(b), hops+1)
			if str(m["type"]) != "null" && len(m) > 0 {
				return m
			}
		}
	}
	return node
}

func schemaType(node map[string]any) string {
	switch t := node["type"].(type) {
	case string:
		return t
	case []any:
		for _, e := range t {
			if str(e) != "null" {
				return str(e)
			}
		}
	}
	switch {
	case node["properties"] != nil:
		return "object"
	case node["items"] != nil:
		return "array"
	case node["format"] != nil:
		return "string"
	}
	return ""
}

// LabelOf makes a readable label of a field's name: "due_at" -> "Due at".
func LabelOf(name string) string {
	s := strings.TrimSpace(strings.NewReplacer("_", " ", "-", " ").Replace(name))
	if s == "" {
		return name
	}
	r := []rune(s)
	return strings.ToUpper(string(r[0])) + string(r[1:])
}

func str(v any) string {
	s, _ := v.(string)
	return s
}

func asMap(v any) map[string]any {
	m, _ := v.(map[string]any)
	return m
}

func describe(v any) string {
	switch v.(type) {
	case nil:
		return "null"
	case bool:
		return "yes/no"
	case float64:
		return "a number"
	case string:
		return "text"
	case []any:
		return "a list"
	}
	return "an object"
}

// Describe names the shape of a raw value in plain words, for error messages.
func Describe(v any) string { return describe(v) }
