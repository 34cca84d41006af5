package sentence

import (
	"fmt"
	"strings"

	"dorfbote/internal/core/cond"
	"dorfbote/internal/core/value"
)

// readBack reads a drafted sheet back in words: what begins it, what is kept back, who is told. It is made from the sheet and
// not from the sentence, so that what was misread shows.
func (r *reader) readBack(sheet map[string]any) []string {
	s := sayer{r}
	watch := sheet["watch"].(map[string]any)
	out := []string{s.begins(watch)}
	if keep, ok := sheet["keep"].(map[string]any); ok {
		out = append(out, "Only where "+s.test(keep)+".")
	}
	if list, ok := sheet["gather"].([]any); ok && watch["schedule"] != nil {
		find := list[0].(map[string]any)["find"].(map[string]any)
		of := "The list is of all " + inWords(fmt.Sprint(find["source"]))
		if where, ok := find["where"].(map[string]any); ok {
			of += " where " + s.test(where)
		}
		out = append(out, of+".")
	}
	for _, a := range listOf(sheet["ask"]) {
		of := a.(map[string]any)["of"]
		who := listOf(of)
		if who == nil {
			who = []any{of}
		}
		out = append(out, "First "+s.names(who)+" is asked; it goes on once that is approved.")
	}
	return append(out, s.told(sheet)...)
}

type sayer struct{ *reader }

// begins says what starts it.
func (s sayer) begins(watch map[string]any) string {
	of := inWords(s.from.Name)
	one := "a record of " + of
	if c, ok := watch["schedule"].(map[string]any); ok {
		rhythm := "with the rule " + fmt.Sprint(c["rule"])
		if s.draft.every != nil {
			rhythm = "on " + s.draft.every.words() + " at " + s.draft.every.at
			if len(s.draft.every.days) == 7 {
				rhythm = "each day at " + s.draft.every.at
			}
		}
		return "It begins at set times: " + rhythm + "."
	}
	if due, ok := watch["due"].(map[string]any); ok {
		when := "when"
		switch offset, _ := due["offset"].(string); {
		case strings.HasPrefix(offset, "-"):
			when = offset[1:] + " before"
		case offset != "":
			when = offset + " after"
		}
		return fmt.Sprintf("It begins %s %q of %s comes.", when, s.label(fmt.Sprint(due["field"])), one)
	}
	if lasts, ok := watch["lasts"].(map[string]any); ok {
		return fmt.Sprintf("It begins when for %s, of %s, %s.", lasts["for"], one, s.test(lasts["that"].(map[string]any)))
	}
	change := one + " is new or changes"
	if on, ok := watch["on"].([]any); ok && len(on) == 1 {
		change = one + " is new"
	}
	if when, ok := watch["when"].(map[string]any); ok {
		return "It begins when " + change + " and " + s.test(when) + "."
	}
	return "It begins each time that " + change + "."
}

// told says who is told of what.
func (s sayer) told(sheet map[string]any) (out []string) {
	route := sheet["route"].(map[string]any)
	first := route["take"] == "first"
	for n, e := range listOf(route["rows"]) {
		row := e.(map[string]any)
		when, _ := row["when"].(map[string]any)
		where := "Where"
		if first && n > 0 {
			where = "Of what is left, where"
		}
		out = append(out, fmt.Sprintf("%s %s, %s told.", where, s.test(when), s.tells(row["tell"])))
	}
	if other, ok := route["otherwise"].(map[string]any); ok {
		who := s.tells(other["tell"]) + " told."
		if len(out) > 0 {
			who = "Of all the others, " + who
		}
		out = append(out, value.Capital(who))
	}
	for _, e := range listOf(sheet["follow"]) {
		step := e.(map[string]any)
		unless, _ := step["unless"].(map[string]any)
		out = append(out, fmt.Sprintf("Where nobody takes it within %v, %s told.", unless["within"], s.tells(step["tell"])))
	}
	return append(out, s.paced(sheet)...)
}

func (s sayer) paced(sheet map[string]any) (out []string) {
	pace, _ := sheet["pace"].(map[string]any)
	if digest, ok := pace["digest"].(map[string]any); ok {
		out = append(out, "It is held and told together, each day at "+joinAnd(listOf(digest["at"]))+".")
	}
	if repeat, ok := pace["repeat"].(map[string]any); ok {
		out = append(out, fmt.Sprintf("It is told once of the same record within %v.", repeat["within"]))
	}
	if _, ok := pace["quiet"]; ok {
		out = append(out, "Outside of Monday to Friday, 07:00 to 18:00, it is held.")
	}
	return out
}

func (s sayer) tells(tell any) string {
	var to []any
	for _, e := range listOf(tell) {
		to = append(to, e.(map[string]any)["to"])
	}
	verb := " is"
	if len(to) > 1 {
		verb = " are"
	}
	return s.names(to) + verb
}

// names are places by their titles.
func (s sayer) names(to []any) string {
	out := make([]any, len(to))
	for i, e := range to {
		out[i] = e
		for _, c := range s.world.Channels {
			if c.Name == e {
				out[i] = c.Title
			}
		}
		if id, ok := strings.CutPrefix(fmt.Sprint(e), "person/"); ok && s.world.People != nil {
			for _, p := range s.world.People.All() {
				if p.ID == id {
					out[i] = p.Called()
				}
			}
		}
		for n, t := range s.tokens {
			if t.channel == e && t.as == AsPerson && e != t.text {
				out[i] = s.saidOf(n)
			}
		}
	}
	return joinAnd(out)
}

// saidOf are the words of the sentence that name somebody, of which one is at n.
func (s sayer) saidOf(n int) string {
	from, to := n, n+1
	for from > 0 && s.tokens[from-1].as == AsPerson && s.tokens[from-1].means == s.tokens[n].means {
		from--
	}
	for to < len(s.tokens) && s.tokens[to].as == AsPerson && s.tokens[to].means == s.tokens[n].means {
		to++
	}
	return s.text(from, to)
}

func (s sayer) label(field string) string {
	for _, f := range s.from.Fields {
		if f.Name == field && f.Label != "" {
			return f.Label
		}
	}
	return field
}

// test says a condition.
func (s sayer) test(c map[string]any) string {
	for _, g := range []struct{ name, with string }{{"all", " and "}, {"any", " or "}, {"none", " nor "}} {
		list, ok := c[g.name].([]any)
		if !ok {
			continue
		}
		parts := make([]string, len(list))
		for i, e := range list {
			one := e.(map[string]any)
			parts[i] = s.test(one)
			if len(list) > 1 && (one["any"] != nil || one["all"] != nil) {
				parts[i] = "(" + parts[i] + ")"
			}
		}
		said := strings.Join(parts, g.with)
		if g.name == "none" {
			said = "it does not hold that " + said
		}
		return said
	}
	if f, ok := c["formula"].(string); ok {
		if n, ok := strings.CutPrefix(f, "len(today) > "); ok {
			return "there are more than " + n + " such records in a day"
		}
		if _, n, ok := strings.Cut(f, " > "); ok && strings.HasPrefix(f, "len(") {
			return "the list has more than " + n
		}
		return f
	}
	if c["field"] == question+".choice" {
		return "it was approved"
	}
	for _, op := range cond.Ops {
		v, ok := c[op.Name]
		if !ok {
			continue
		}
		said := fmt.Sprint(v)
		switch list := v.(type) {
		case []any:
			said = joinAnd(list)
			if op.Name == "one_of" || op.Name == "none_of" {
				said = strings.Replace(said, " and ", " or ", 1)
			}
		case float64:
			said = value.NumberText(list)
		case bool:
			return s.label(fmt.Sprint(c["field"])) + map[bool]string{true: " is empty", false: " is filled in"}[list]
		}
		words := op.Words
		if op.Name == "became" {
			words = "has just become"
		}
		return s.label(fmt.Sprint(c["field"])) + " " + words + " " + said
	}
	return "it is so"
}

func listOf(v any) []any {
	list, _ := v.([]any)
	return list
}

func joinAnd(list []any) string {
	parts := make([]string, len(list))
	for i, e := range list {
		parts[i] = fmt.Sprint(e)
		if n, ok := e.(float64); ok {
			parts[i] = value.NumberText(n)
		}
	}
	if len(parts) < 2 {
		return strings.Join(parts, "")
	}
	return strings.Join(parts[:len(parts)-1], ", ") + " and " + parts[len(parts)-1]
}
