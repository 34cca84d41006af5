// Package patterns holds ready-made sheets with blanks to fill in.
package patterns

import (
	"cmp"
	"embed"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/value"
)

//go:embed *.yaml
var files embed.FS

// Pattern is a ready-made sheet.
type Pattern struct {
	Name   string  `json:"name" yaml:"-"`
	Title  string  `json:"title"`
	Group  string  `json:"group" doc:"the heading that it stands below"`
	Note   string  `json:"note"`
	Blanks []Blank `json:"blanks"`
	Sheet  any     `json:"-"`
}

// Blank is one thing to be filled in.
type Blank struct {
	Name    string   `json:"name"`
	Label   string   `json:"label"`
	Kind    string   `json:"kind" enum:"source,field,value,channel,number,span,text"`
	Of      string   `json:"of,omitempty" doc:"of a field, the blank of its source; of a value, that of its field"`
	Types   []string `json:"types,omitempty" doc:"of a field: the types it may have"`
	Default string   `json:"default" doc:"what suits the demo world"`
}

// Groups are the headings of the patterns, in their order.
var Groups = []string{"Records that change", "Time that passes", "Lists and figures", "Asked, taken, answered", "By hand, and for other apps", "Between rooms"}

// All gives every pattern, in the order of their groups, then of their titles.
func All() ([]Pattern, error) {
	entries, err := files.ReadDir(".")
	if err != nil {
		return nil, err
	}
	var out []Pattern
	for _, e := range entries {
		raw, err := files.ReadFile(e.Name())
		if err != nil {
			return nil, err
		}
		p := Pattern{Name: strings.TrimSuffix(e.Name(), path.Ext(e.Name()))}
		if err := yaml.Unmarshal(quoted(raw), &p); err != nil {
			return nil, fmt.Errorf("the pattern %s: %w", e.Name(), err)
		}
		out = append(out, p)
	}
	slices.SortStableFunc(out, func(a, b Pattern) int {
		return cmp.Or(slices.Index(Groups, a.Group)-slices.Index(Groups, b.Group), strings.Compare(a.Title, b.Title))
	})
	return out, nil
}

var bare = regexp.MustCompile(`(: |\[|, |\{)(-?)(<<\w+>>)`)

// quoted puts blanks that stand alone into quotes, as YAML wants them.
func quoted(raw []byte) []byte { return bare.ReplaceAll(raw, []byte(`$1"$2$3"`)) }

// Kinds is what is known of sources.
type Kinds interface {
	// Fields gives the fields of a source and the name of its key.
	Fields(source string) (fields []value.Field, key string)
}

// Fill makes a sheet of a pattern. Blanks that are left out are an error that names them.
func (p *Pattern) Fill(blanks map[string]string, kinds Kinds) (map[string]any, error) {
	f := filler{values: map[string]any{}}
	var missing []string
	for _, b := range p.Blanks {
		v := strings.TrimSpace(blanks[b.Name])
		if v == "" {
			missing = append(missing, b.Label)
			continue
		}
		f.values[b.Name] = v
		if b.Kind == "number" {
			n, err := strconv.ParseFloat(strings.ReplaceAll(v, ",", ""), 64)
			if err != nil {
				return nil, fmt.Errorf("%s is a number, not %q", b.Label, v)
			}
			f.values[b.Name] = n
		}
	}
	if len(missing) > 0 {
		return nil, fmt.Errorf("fill in: %s", strings.Join(missing, ", "))
	}
	var fields []value.Field
	key := ""
	if blanks["source"] != "" {
		fields, key = kinds.Fields(blanks["source"])
	}
	for _, b := range p.Blanks {
		if field, ok := find(fields, blanks[b.Of]); b.Kind == "value" && ok {
			f.values[b.Name] = typed(blanks[b.Name], field)
		}
		if b.Kind == "source" && b.Name != "source" { // one that is written to
			theirs, theirKey := kinds.Fields(blanks[b.Name])
			f.values[b.Name+"_key"], f.values[b.Name+"_same"] = theirKey, same(theirs, theirKey, fields, key)
		}
	}
	f.values["key"], f.values["facts"], f.values["name"] = key, facts(fields, key), p.called(blanks)
	sheet, _ := f.fill(p.Sheet).(map[string]any)
	return sheet, nil
}

// called names a workflow after the pattern and its source.
func (p *Pattern) called(blanks map[string]string) string {
	_, kind, _ := strings.Cut(blanks["source"], "/")
	if kind == "" {
		return p.Title
	}
	return p.Title + ": " + kind
}

func find(fields []value.Field, name string) (value.Field, bool) {
	for _, f := range fields {
		if f.Name == name {
			return f, true
		}
	}
	return value.Field{}, false
}

func typed(text string, f value.Field) any {
	switch {
	case f.Type == value.YesNo:
		return value.Fold(text) == "true" || value.Fold(text) == "yes"
	case f.Type.IsNumber():
		if n, err := strconv.ParseFloat(text, 64); err == nil {
			return n
		}
	}
	return text
}

// facts are the first telling fields of a source.
func facts(fields []value.Field, key string) []any {
	out := []any{}
	for _, f := range fields {
		if f.Name == key || f.Hidden || f.Type == value.Object || f.Type == value.List || f.Type == value.Link {
			continue
		}
		if out = append(out, map[string]any{"label": f.Label, "value": formula.Telling(f, fields)}); len(out) == 4 {
			break
		}
	}
	return out
}

// same are the fields of one source that another has, too, by their names, and the key of the first: what a record of the one is as a
// record of the other.
func same(to []value.Field, toKey string, from []value.Field, fromKey string) map[string]any {
	out := map[string]any{}
	if toKey != "" {
		out[toKey] = "${record" + formula.Into(fromKey) + "}"
	}
	for _, t := range to {
		if f, ok := find(from, t.Name); ok && f.Type != value.Object && f.Type != value.List {
			out[t.Name] = "${record" + formula.Into(t.Name) + "}"
		}
	}
	return out
}

type filler struct{ values map[string]any }

var mark = regexp.MustCompile(`<<(\w+)>>`)

func (f filler) fill(v any) any {
	switch x := v.(type) {
	case map[string]any:
		out := map[string]any{}
		for k, e := range x {
			if filled := f.fill(e); !value.Empty(filled) || e == nil {
				name, _ := f.fill(k).(string)
				out[name] = filled
			}
		}
		return out
	case []any:
		out := make([]any, len(x))
		for i, e := range x {
			out[i] = f.fill(e)
		}
		return out
	case string:
		if m := mark.FindStringSubmatch(x); m != nil && m[0] == x {
			return f.values[m[1]]
		}
		return mark.ReplaceAllStringFunc(x, func(s string) string {
			switch v := f.values[s[2:len(s)-2]].(type) {
			case float64:
				return value.NumberText(v)
			case string:
				return v
			}
			return ""
		})
	}
	return v
}
