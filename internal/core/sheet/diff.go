package sheet

import (
	"fmt"
	"slices"
	"strings"

	"dorfbote/internal/core/cond"
	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/value"
)

// Change is one thing that differs between two versions of a sheet, in the sheet's own terms.
type Change struct {
	Band string `json:"band" doc:"Watch, Keep, Gather, Ask, Route, Answer, Tell, Pace, Follow up, or Sheet for its name, note and look"`
	What string `json:"what" doc:"such as the row or the message; may be empty"`
	Kind string `json:"kind" enum:"added,removed,changed"`
	Was  string `json:"was"`
	Now  string `json:"now"`
}

// saying is one thing that a sheet says.
type saying struct{ band, what, text string }

// Differences says in words what differs between two versions of a sheet, each as YAML or JSON. One that cannot be read
// says nothing.
func Differences(was, now []byte) []Change {
	before, after := sayings(was), sayings(now)
	var out []Change
	// What both say is left out; what is left of the same name on both sides has changed.
	left := slices.Clone(after)
	var gone []saying
	for _, s := range before {
		if i := slices.Index(left, s); i >= 0 {
			left = slices.Delete(left, i, i+1)
		} else {
			gone = append(gone, s)
		}
	}
	for _, s := range gone {
		c := Change{Band: s.band, What: s.what, Kind: "removed", Was: s.text}
		if i := slices.IndexFunc(left, func(o saying) bool { return o.band == s.band && o.what == s.what && like(o.text, s.text) }); i >= 0 {
			c.Kind, c.Now = "changed", left[i].text
			left = slices.Delete(left, i, i+1)
		}
		out = append(out, c)
	}
	for _, s := range left {
		out = append(out, Change{Band: s.band, What: s.what, Kind: "added", Now: s.text})
	}
	bands := []string{"Sheet", "Watch", "Keep", "Gather", "Ask", "Route", "Answer", "Tell", "Pace", "Follow up"}
	slices.SortStableFunc(out, func(a, b Change) int { return slices.Index(bands, a.Band) - slices.Index(bands, b.Band) })
	return out
}

// like tells whether two conditions are of the same field, so that one has become the other. Other texts with the same
// name are always alike.
func like(a, b string) bool {
	x, y, found := strings.Cut(a, " ")
	if !found || !strings.Contains(" is begins contains ", " "+strings.SplitN(y+" ", " ", 2)[0]+" ") {
		return true
	}
	z, _, _ := strings.Cut(b, " ")
	return x == z
}

func sayings(src []byte) []saying {
	raw, err := JSON(src)
	if err != nil {
		return nil
	}
	v, err := value.ReadJSON(raw)
	doc, ok := v.(map[string]any)
	if err != nil || !ok {
		return nil
	}
	var out []saying
	add := func(band, what, text string) { out = append(out, saying{band, what, text}) }
	for _, name := range value.SortedKeys(doc) {
		switch name {
		case "dorfbote":
		case "watch":
			watchSays(doc[name], add)
		case "keep":
			condSays(doc[name], "", func(text string) { add("Keep", "", text) })
		case "gather":
			for _, g := range listOf(doc[name]) {
				m := objectOf(g)
				add("Gather", textOf(m["name"]), waySays(m))
			}
		case "tables":
			for _, t := range value.SortedKeys(objectOf(doc[name])) {
				for _, row := range listOf(objectOf(doc[name])[t]) {
					add("Gather", "table "+t, rowSays(objectOf(row)))
				}
			}
		case "ask":
			for _, a := range listOf(doc[name]) {
				m := objectOf(a)
				what := textOf(m["name"])
				condSays(m["when"], "", func(text string) { add("Ask", what+" when", text) })
				delete(m, "when")
				delete(m, "name")
				leaves(m, "", func(path, text string) { add("Ask", strings.TrimSpace(what+" "+path), text) })
			}
		case "answer":
			leaves(doc[name], "", func(path, text string) { add("Answer", path, text) })
		case "route":
			routeSays(objectOf(doc[name]), add)
		case "messages":
			for _, m := range value.SortedKeys(objectOf(doc[name])) {
				leaves(objectOf(doc[name])[m], "", func(path, text string) { add("Tell", strings.TrimSpace(m+" "+path), text) })
			}
		case "pace":
			for _, part := range value.SortedKeys(objectOf(doc[name])) {
				leaves(objectOf(doc[name])[part], part, func(path, text string) { add("Pace", path, text) })
			}
		case "follow":
			for i, f := range listOf(doc[name]) {
				m := objectOf(f)
				what := textOf(m["name"])
				if what == "" {
					what = fmt.Sprintf("Step %d", i+1)
				}
				condSays(m["when"], "", func(text string) { add("Follow up", what+" when", text) })
				delete(m, "when")
				delete(m, "name")
				leaves(m, "", func(path, text string) { add("Follow up", what+" "+path, text) })
			}
		default:
			leaves(doc[name], name, func(path, text string) { add("Sheet", path, text) })
		}
	}
	return out
}

// rowSays is a row of a table, by its columns: where it is found first.
func rowSays(row map[string]any) string {
	parts := []string{textOf(row[TableKey])}
	for _, c := range value.SortedKeys(row) {
		if c != TableKey {
			parts = append(parts, c+" "+textOf(row[c]))
		}
	}
	return strings.Join(parts, ", ")
}

func watchSays(v any, add func(band, what, text string)) {
	w := objectOf(v)
	for _, name := range value.SortedKeys(w) {
		if name == "when" {
			condSays(w[name], "", func(text string) { add("Watch", "when", text) })
			continue
		}
		if that, ok := objectOf(w[name])["that"]; ok {
			condSays(that, "", func(text string) { add("Watch", name+" that", text) })
		}
		leaves(w[name], name, func(path, text string) {
			if !strings.HasPrefix(path, name+" that") {
				add("Watch", path, text)
			}
		})
		if len(objectOf(w[name])) == 0 && w[name] == nil {
			add("Watch", name, "")
		}
	}
}

func waySays(g map[string]any) string {
	var parts []string
	for _, name := range value.SortedKeys(g) {
		if name == "name" {
			continue
		}
		if find, ok := g[name].(map[string]any); ok && name == "find" {
			said := "looks up " + textOf(find["source"])
			if find["take"] == "all" {
				said = "looks up all of " + textOf(find["source"])
			}
			condSays(find["where"], "", func(text string) { said += " where " + text })
			for _, k := range []string{"sort", "limit"} {
				if find[k] != nil {
					said += ", " + k + " " + textOf(find[k])
				}
			}
			parts = append(parts, said)
			continue
		}
		leaves(g[name], name, func(path, text string) { parts = append(parts, path+" "+text) })
	}
	return strings.Join(parts, "; ")
}

func routeSays(r map[string]any, add func(band, what, text string)) {
	tells := func(what string, v any) {
		for _, t := range listOf(objectOf(v)["tell"]) {
			m := objectOf(t)
			said := "tells " + textOf(m["to"]) + " " + textOf(m["message"])
			if m["reply"] != nil {
				said += ", then " + textOf(m["reply"]) + " in its thread"
			}
			add("Route", what, said)
		}
	}
	if r["take"] == "every" {
		add("Route", "", "every row that holds is taken")
	}
	var order []string
	for i, row := range listOf(r["rows"]) {
		m := objectOf(row)
		name := textOf(m["name"])
		if name == "" {
			name = fmt.Sprintf("Row %d", i+1)
		}
		order = append(order, name)
		condSays(m["when"], "", func(text string) { add("Route", name+" when", text) })
		tells(name, row)
	}
	if len(order) > 1 {
		add("Route", "order of the rows", strings.Join(order, ", "))
	}
	tells("otherwise", r["otherwise"])
}

// condSays says each test of a condition, with the groups that it stands in.
func condSays(v any, within string, each func(string)) {
	c := objectOf(v)
	for _, group := range []string{"all", "any", "none"} {
		if subs, ok := c[group].([]any); ok {
			inner := within
			if group != "all" || within != "" {
				inner = within + map[string]string{"all": "all of: ", "any": "one of: ", "none": "none of: "}[group]
			}
			for _, sub := range subs {
				condSays(sub, inner, each)
			}
			return
		}
	}
	if f, ok := c["formula"]; ok {
		each(within + textOf(f))
		return
	}
	for _, op := range value.SortedKeys(c) {
		if op != "field" {
			each(within + cond.Words(textOf(c["field"]), op, c[op]))
		}
	}
}

// leaves hands on every single value, with the names that lead to it.
func leaves(v any, path string, each func(path, text string)) {
	switch x := v.(type) {
	case map[string]any:
		for _, k := range value.SortedKeys(x) {
			leaves(x[k], strings.TrimSpace(path+" "+k), each)
		}
	case []any:
		parts := make([]string, len(x))
		for i, e := range x {
			var inner []string
			leaves(e, "", func(p, text string) { inner = append(inner, strings.TrimSpace(p+" "+text)) })
			parts[i] = strings.Join(inner, ", ")
		}
		each(path, strings.Join(parts, " · "))
	case nil:
	default:
		each(path, textOf(v))
	}
}

func objectOf(v any) map[string]any { m, _ := v.(map[string]any); return m }
func listOf(v any) []any            { l, _ := v.([]any); return l }
func textOf(v any) string           { return formula.Show(v, value.DefaultWorkspace()) }
