package webhook

import (
	"bytes"
	"fmt"
	"mime/multipart"
	"net/textproto"
	"net/url"

	"dorfbote/internal/connect"
	"dorfbote/internal/core/fault"
	"dorfbote/internal/core/shape"
	"dorfbote/internal/core/value"
)

// bodyOf makes the body of a call, and says of what type it is: JSON; form fields, in which nothing is left out, yes is true, and
// a list stands as several of one name; or a multipart form of such fields. In that, a field that is the picture alone carries it.
func bodyOf(s *shape.Shape, as string, post map[string]any, picture *connect.Picture) (body []byte, media string, err error) {
	v, err := s.Fill(post)
	if err != nil {
		return nil, "", err
	}
	if as == asJSON {
		return value.AppendJSON(nil, v), "application/json", nil
	}
	m, ok := v.(map[string]any)
	if !ok {
		return nil, "", fault.At("", "form fields have names: the shape is an object, not %s", value.Describe(v))
	}
	if as == asParts {
		return partsOf(m, post["picture"], picture)
	}
	fields := url.Values{}
	_ = eachField(m, func(name, text string) error { fields.Add(name, text); return nil })
	return []byte(fields.Encode()), "application/x-www-form-urlencoded; charset=utf-8", nil
}

// eachField hands on the fields of a form in the order of their names.
func eachField(m map[string]any, each func(name, text string) error) error {
	for _, name := range value.SortedKeys(m) {
		list, many := m[name].([]any)
		if !many {
			list = []any{m[name]}
		}
		for _, e := range list {
			var text string
			switch x := e.(type) {
			case nil:
				continue
			case string:
				text = x
			default:
				text = string(value.AppendJSON(nil, x))
			}
			if err := each(name, text); err != nil {
				return err
			}
		}
	}
	return nil
}

// boundary is what stands between the parts of a form. It is the same for the same post, as all that is sent is.
const boundary = "dorfbote-7f3a9c1e5b2d4860"

func partsOf(m map[string]any, named any, picture *connect.Picture) ([]byte, string, error) {
	var b bytes.Buffer
	w := multipart.NewWriter(&b)
	edge := boundary
	raw := value.AppendJSON(nil, m)
	for n := 0; bytes.Contains(raw, []byte(edge)) || picture != nil && bytes.Contains(picture.Data, []byte(edge)); n++ {
		edge = fmt.Sprintf("%s-%d", boundary, n)
	}
	if err := w.SetBoundary(edge); err != nil {
		return nil, "", err
	}
	err := eachField(m, func(name, text string) error {
		if picture != nil && text != "" && text == named {
			return pictureInto(w, name, picture)
		}
		return w.WriteField(name, text)
	})
	if err == nil {
		err = w.Close()
	}
	return b.Bytes(), w.FormDataContentType(), err
}

// pictureInto writes a picture as a file of a form.
func pictureInto(w *multipart.Writer, field string, p *connect.Picture) error {
	h := textproto.MIMEHeader{}
	h.Set("Content-Disposition", multipart.FileContentDisposition(field, "picture"+p.Ending))
	h.Set("Content-Type", p.Media)
	part, err := w.CreatePart(h)
	if err != nil {
		return err
	}
	_, err = part.Write(p.Data)
	return err
}
