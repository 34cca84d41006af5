package sentence

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/value"
)

// result puts the reading together.
func (r *reader) result() Reading {
	out := Reading{Words: []Word{}, Questions: []Doubt{}, Says: []string{}}
	for i := 0; i < len(r.tokens); i++ {
		t := r.tokens[i]
		if t.as == "" {
			t.as = NotRead
		}
		w := Word{t.text, t.as, t.means}
		// Words that were read together are shown together.
		for i+1 < len(r.tokens) && t.means != "" && r.tokens[i+1].means == t.means && r.tokens[i+1].as == t.as && t.as != AsSource {
			i++
			w.Text += " " + r.tokens[i].text
		}
		out.Words = append(out.Words, w)
	}
	r.ask(&out)
	if r.from != nil && len(out.Questions) == 0 {
		out.Sheet = r.sheet()
		out.Says = r.readBack(out.Sheet)
	}
	return out
}

// sheet writes the draft as a sheet.
func (r *reader) sheet() map[string]any {
	d := &r.draft
	if d.every != nil {
		return r.listed()
	}
	if len(d.rest) > 0 && len(d.rows) == 0 && len(d.tell) > 0 && len(d.keep) > 0 { // what is told of some, and of the rest to others
		d.rows, d.tell, d.keep = []route{{name: rowName(d.keep, 0), when: joined(d.keep), tell: d.tell}}, nil, nil
	}
	watch := map[string]any{"source": r.from.Name}
	keep := d.keep
	if d.created && d.due == nil && d.lasts == "" {
		watch["on"] = []any{"created"}
	}
	switch {
	case d.due != nil:
		due := map[string]any{"field": d.due.field}
		if d.due.offset != "" {
			due["offset"] = d.due.offset
		}
		watch["due"] = due
		keep = append(asIs(d.becomes), keep...)
		if d.overdue {
			if open := r.notDone(keep); open != nil {
				keep = append(keep, open)
			}
		}
	case d.lasts != "" && len(d.becomes)+len(keep) > 0:
		that := asIs(d.becomes)
		if len(that) == 0 {
			that, keep = keep[:1], keep[1:]
		}
		watch["lasts"] = map[string]any{"that": joined(that), "for": d.lasts}
	case len(d.becomes) > 0:
		watch["when"] = joined(d.becomes)
	}
	sheet := map[string]any{"dorfbote": 1.0, "name": r.name(), "watch": watch}
	if len(keep) > 0 {
		sheet["keep"] = map[string]any{"all": anys(keep)}
	}
	if d.attach != nil {
		sheet["gather"] = []any{map[string]any{"name": gathered(d.attach), "find": map[string]any{"source": d.attach.Name, "take": "all"}}}
	}
	route := map[string]any{}
	var rows []any
	for _, row := range d.rows {
		if row.many > 0 {
			have, _ := sheet["gather"].([]any)
			sheet["gather"] = append(have, map[string]any{"name": "today", "find": r.today()})
			row.when = map[string]any{"formula": fmt.Sprintf("len(today) > %d", row.many)}
		}
		rows = append(rows, map[string]any{"name": row.name, "when": row.when, "tell": tells(row.tell)})
	}
	if len(rows) > 0 {
		route["take"], route["rows"] = "every", rows
		if len(d.tell) > 0 { // told in any case, beside the rows
			all := map[string]any{"name": "All", "when": r.holding(), "tell": tells(d.tell)}
			route["rows"] = append([]any{all}, rows...)
		}
	} else if len(d.tell) > 0 {
		route["otherwise"] = map[string]any{"tell": tells(d.tell)}
	}
	if len(d.rest) > 0 {
		others := d.rest
		if len(d.tell) > 0 && len(d.rows) > 0 { // who is told in any case hears of the rest too
			rows = nil
			for _, row := range d.rows {
				rows = append(rows, map[string]any{"name": row.name, "when": row.when, "tell": tells(union(d.tell, row.tell))})
			}
			others = union(d.tell, d.rest)
		}
		if len(rows) > 0 {
			route["take"], route["rows"] = "first", rows
		}
		route["otherwise"] = map[string]any{"tell": tells(others)}
	}
	sheet["route"] = route
	sheet["messages"] = map[string]any{"alert": r.message()}
	if d.pace != nil {
		sheet["pace"] = d.pace
	}
	r.after(sheet)
	return sheet
}

// listed is the draft of what is told at set times: a list of all the records that are meant, and nothing where there
// are none.
func (r *reader) listed() map[string]any {
	d := &r.draft
	name := gathered(r.from)
	find := map[string]any{"source": r.from.Name, "take": "all"}
	if where := append(asIs(d.becomes), d.keep...); len(where) > 0 {
		find["where"] = map[string]any{"all": anys(where)}
	}
	line := "${it." + r.key() + "}"
	for _, f := range r.from.Fields {
		if f.Name != r.key() && !f.Hidden && f.Type == value.Text && identifier.MatchString(f.Name) {
			line += " ${it." + f.Name + "}"
			break
		}
	}
	if !identifier.MatchString(r.key()) {
		line = `${it["` + r.key() + `"]}`
	}
	for _, f := range r.from.Fields {
		if f.Type == value.Link && identifier.MatchString(f.Name) {
			line = "[" + line + "](${it." + f.Name + "})"
			break
		}
	}
	var rows []any
	tell := append(append([]string{}, d.tell...), d.rest...)
	for _, row := range d.rows {
		if row.many > 0 {
			rows = append(rows, map[string]any{"name": row.name, "when": map[string]any{"formula": fmt.Sprintf("len(%s) > %d", name, row.many)}, "tell": tells(row.tell)})
			continue
		}
		tell = append(tell, row.tell...)
	}
	route := map[string]any{}
	if len(rows) > 0 {
		route["take"], route["rows"] = "first", rows
	}
	if len(tell) > 0 {
		route["otherwise"] = map[string]any{"tell": tells(tell)}
	}
	gather := []any{map[string]any{"name": name, "find": find}}
	alert := map[string]any{
		"title": fmt.Sprintf("${len(%s)} %s", name, inWords(r.from.Name)),
		"list":  map[string]any{"of": name, "each": line},
	}
	if d.attach != nil {
		of := name
		if d.attach != r.from {
			if of = gathered(d.attach); of == name {
				of += "_too"
			}
			gather = append(gather, map[string]any{"name": of, "find": map[string]any{"source": d.attach.Name, "take": "all"}})
		}
		alert["attach"] = attachment(d.attach, of)
	}
	return map[string]any{
		"dorfbote": 1.0, "name": r.name(), "watch": d.every.watch(r.world.Now),
		"gather": gather, "route": route, "messages": map[string]any{"alert": alert},
	}
}

// gathered is the name under which the records of a source are looked up.
func gathered(s *KnownSource) string {
	_, kind, _ := strings.Cut(s.Name, "/")
	if identifier.MatchString(kind) && !slices.Contains([]string{"record", "before", "changed", "arrival", "answers", "now", "it", "today"}, kind) {
		return kind
	}
	return "records"
}

// attachment is the records of a source as a table, with what they show.
func attachment(s *KnownSource, of string) []any {
	var columns []any
	for _, f := range s.Fields {
		if !f.Hidden && f.Type != value.Object && f.Type != value.List && len(columns) < maxColumns {
			columns = append(columns, f.Name)
		}
	}
	if len(columns) == 0 {
		columns = []any{"id"}
	}
	return []any{map[string]any{"name": strings.ReplaceAll(inWords(s.Name), " ", "-") + ".csv", "table": map[string]any{"of": of, "columns": columns}}}
}

const maxColumns = 20

var identifier = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)

// holding is a condition that holds for all that comes as far as the rows.
func (r *reader) holding() map[string]any {
	for _, list := range [][]map[string]any{asIs(r.draft.becomes), r.draft.keep} {
		if len(list) > 0 {
			return list[0]
		}
	}
	return map[string]any{"field": r.key(), "empty": false}
}

// today looks up the records of the last day that are as this one is.
func (r *reader) today() map[string]any {
	where := append(asIs(r.draft.becomes), r.draft.keep...)
	for _, f := range r.from.Fields {
		if f.Type.IsTime() {
			where = append(where, map[string]any{"field": f.Name, "within_last": "1d"})
			break
		}
	}
	find := map[string]any{"source": r.from.Name, "take": "all"}
	if len(where) > 0 {
		find["where"] = map[string]any{"all": anys(where)}
	}
	return find
}

func asIs(becomes []map[string]any) []map[string]any {
	out := make([]map[string]any, len(becomes))
	for i, c := range becomes {
		out[i] = stateOf(c)
	}
	return out
}

// stateOf is a condition on a change as one on how the record is.
func stateOf(c map[string]any) map[string]any {
	for _, group := range []string{"any", "all"} {
		list, ok := c[group].([]any)
		if !ok {
			continue
		}
		var each []any
		for _, e := range list {
			one := e.(map[string]any)
			if _, was := one["was"]; !was {
				each = append(each, stateOf(one))
			}
		}
		if len(each) == 1 {
			return each[0].(map[string]any)
		}
		if group == "any" {
			return gathering(each, "is", "one_of", group)
		}
		return map[string]any{group: each}
	}
	if v, ok := c["became"]; ok {
		return map[string]any{"field": c["field"], "is": v}
	}
	return c
}

// notDone leaves out the records that are done, where the sentence says nothing of the field that tells: what is done is not overdue.
func (r *reader) notDone(conditions []map[string]any) map[string]any {
	raw := fmt.Sprint(conditions)
	for _, f := range r.from.Fields {
		var done []any
		for _, o := range append(append([]string{}, f.Options...), f.Values...) {
			if contains(r.g.Done, value.Fold(o)) && (f.Type == value.Choice || f.Type.IsText()) && !slices.Contains(done, any(o)) {
				done = append(done, o)
			}
		}
		if len(done) == 0 || strings.Contains(raw, "field:"+f.Name+" ") || strings.Contains(raw, "field:"+f.Name+"]") {
			continue
		}
		if len(done) == 1 {
			return map[string]any{"field": f.Name, "is_not": done[0]}
		}
		return map[string]any{"field": f.Name, "none_of": done}
	}
	return nil
}

func union(a, b []string) []string {
	out := slices.Clone(a)
	for _, e := range b {
		if !slices.Contains(out, e) {
			out = append(out, e)
		}
	}
	return out
}

func joined(list []map[string]any) map[string]any {
	if len(list) == 1 {
		return list[0]
	}
	return map[string]any{"all": anys(list)}
}

func tells(channels []string) []any {
	out := make([]any, len(channels))
	for i, c := range channels {
		out[i] = map[string]any{"to": c, "message": "alert"}
	}
	return out
}

// name calls the workflow after what it is about.
func (r *reader) name() string {
	kind := inWords(r.from.Name)
	for _, list := range [][]map[string]any{r.draft.becomes, r.draft.keep} {
		for _, c := range list {
			for _, op := range []string{"became", "is"} {
				if text, ok := c[op].(string); ok && text != "" {
					return value.Capital(text) + " " + kind
				}
			}
		}
	}
	return value.Capital(kind)
}

// message says the record's key and what it is, with its most telling fields as facts.
func (r *reader) message() map[string]any {
	said, facts := map[string]bool{r.key(): true}, []any{}
	most := 4
	if len(r.whom) > 0 { // a mail has room for all
		most = 12
	}
	among := make([]value.Field, len(r.from.Fields))
	for i, f := range r.from.Fields {
		among[i] = f.Field
	}
	told := func(name string) string {
		for _, f := range among {
			if f.Name == name {
				return formula.Telling(f, among)
			}
		}
		return "${record" + formula.Into(name) + "}"
	}
	title := "${record" + formula.Into(r.key()) + "}"
	for _, c := range append(append([]map[string]any{}, r.draft.becomes...), r.draft.keep...) {
		name, _ := c["field"].(string)
		if name != "" && !said[name] {
			said[name] = true
			title += " " + told(name)
			break
		}
	}
	for _, f := range r.from.Fields {
		if len(facts) == most {
			break
		}
		if said[f.Name] || f.Hidden || f.Type == value.Link || f.Type == value.Object || f.Type == value.List {
			continue
		}
		facts = append(facts, map[string]any{"label": f.Label, "value": formula.Telling(f.Field, among)})
	}
	m := map[string]any{"title": title, "facts": facts}
	if r.draft.urgent {
		m["tone"] = "urgent"
	}
	if r.draft.attach != nil {
		m["attach"] = attachment(r.draft.attach, gathered(r.draft.attach))
	}
	for _, f := range r.from.Fields {
		if f.Type == value.Link {
			m["link"] = map[string]any{"text": "Open", "to": "${record" + formula.Into(f.Name) + "}"}
			break
		}
	}
	return m
}
