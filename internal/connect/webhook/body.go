package webhook

import (
	"net/url"

	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/shape"
	"dorfbote/internal/core/value"
)

// bodyOf makes the body of a call: JSON, or form fields in which nothing is left out, yes is true, and a list stands as
// several of one name.
func bodyOf(s *shape.Shape, form bool, post map[string]any) ([]byte, error) {
	v, err := s.Fill(post)
	if err != nil {
		return nil, err
	}
	if !form {
		return value.AppendJSON(nil, v), nil
	}
	m, ok := v.(map[string]any)
	if !ok {
		return nil, fault.At("", "form fields have names: the shape is an object, not %s", value.Describe(v))
	}
	fields := url.Values{}
	for _, name := range value.SortedKeys(m) {
		list, many := m[name].([]any)
		if !many {
			list = []any{m[name]}
		}
		for _, e := range list {
			switch x := e.(type) {
			case nil:
			case string:
				fields.Add(name, x)
			default:
				fields.Add(name, string(value.AppendJSON(nil, x)))
			}
		}
	}
	return []byte(fields.Encode()), nil
}
