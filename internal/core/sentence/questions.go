package sentence

import (
	"fmt"
	"slices"
	"sort"
	"strings"

	"dorfbote/internal/core/value"
)

// ask asks about what is missing, and about what was not understood.
func (r *reader) ask(out *Reading) {
	put := func(d Doubt) {
		if d.Waives && slices.Contains(r.waived, d.waiver()) {
			return
		}
		if d.Choices == nil {
			d.Choices = []string{}
		}
		d.Choices = d.Choices[:min(len(d.Choices), 8)]
		out.Questions = append(out.Questions, d)
	}
	add := func(about, ask string, choices []string) { put(Doubt{about, ask, choices, about != ""}) }
	if r.from == nil {
		r.askSource(put)
		return
	}
	for _, d := range r.doubts {
		put(d)
	}
	asked := slices.ContainsFunc(r.doubts, func(d Doubt) bool { return !d.Waives }) // whom to tell instead of by mail
	nobody := len(r.draft.tell) == 0 && len(r.draft.rest) == 0 && len(r.draft.rows) == 0 ||
		slices.ContainsFunc(r.draft.rows, func(row route) bool { return len(row.tell) == 0 })
	if !asked && nobody {
		var names []string
		for _, c := range r.world.Channels {
			names = append(names, "tell "+c.Title)
		}
		add("", "Whom should it tell?", names)
	}
	for i := 0; i < len(r.tokens); i++ {
		if r.tokens[i].as != NotRead {
			continue
		}
		end := i + 1
		for end < len(r.tokens) && r.tokens[end].as == NotRead {
			end++
		}
		about := r.text(i, end)
		if slices.ContainsFunc(r.tokens[i:end], func(t token) bool { return contains(r.g.Telltale, t.low) || strings.ContainsAny(t.low, "0123456789") }) {
			ask := fmt.Sprintf("What does %q refer to? It changes what is told, so it can't be left out.", about)
			if whole, instead := r.escalations(i, end); instead != nil {
				put(Doubt{About: whole, Ask: ask, Choices: instead})
			} else {
				put(Doubt{About: about, Ask: ask, Choices: r.answers(about, r.meanings(r.tokens[i:end]))})
			}
		} else {
			add(about, fmt.Sprintf("What is meant by %q?", about), r.near(about))
		}
		i = end
	}
	if len(out.Questions) == 0 && len(r.draft.rest) > 0 && len(r.draft.rows) == 0 && (len(r.draft.tell) == 0 || len(r.draft.keep) == 0 || r.draft.every != nil) {
		r.askRest(put)
	}
	r.askBecomes(put)
	if r.draft.every != nil && len(r.draft.theirs) > 0 {
		var persons []string
		for _, p := range r.world.People.All() {
			persons = append(persons, p.Called())
		}
		put(Doubt{About: r.draft.theirs[0], Ask: "At set times the list is told as a whole, so that there is no one record to give the address of " + r.draft.theirs[0] + ". Who gets it?", Choices: persons})
	}
	if r.draft.every != nil && len(r.draft.asks)+len(r.draft.unless) > 0 {
		put(Doubt{Ask: "At set times the list is told as a whole, of which nobody is asked before, and which nobody takes. Is that left out?", Waives: true})
	}
	if r.draft.lasts != "" && len(r.draft.becomes) == 0 && len(r.draft.keep) == 0 {
		put(Doubt{Ask: "What has to last that long?", Waives: true})
	}
	if r.draft.every != nil && slices.ContainsFunc(r.draft.rows, func(row route) bool { return row.many == 0 }) {
		put(Doubt{Ask: "At set times everybody gets the whole list. Is the condition of the other channels left out?", Waives: true})
	}
}

// askBecomes asks whether "late collections" are told of when they become late, or at each change while they are: the one tells once,
// the other many times.
func (r *reader) askBecomes(put func(Doubt)) {
	d := &r.draft
	if d.every != nil || d.due != nil || d.lasts != "" || d.created || d.changes || len(d.becomes) > 0 || d.pace != nil {
		return
	}
	for i := 0; i+1 < len(r.tokens); i++ {
		if r.tokens[i].as != AsValue || r.tokens[i+1].as != AsSource || contains(r.g.Deny, r.tokens[max(i-1, 0)].low) {
			continue
		}
		from := i
		for from > 0 && r.tokens[from-1].as == AsValue && r.tokens[from-1].means == r.tokens[i].means {
			from--
		}
		state, of, about := r.text(from, i+1), r.text(i+1, i+2), r.text(from, i+2)
		verb := " that become "
		if r.g.singular(r.tokens[i+1].low) == r.tokens[i+1].low {
			verb = " that becomes "
		}
		put(Doubt{About: about, Ask: fmt.Sprintf("Is it told once, when one becomes %s, or at each change while it is %s?", state, state), Choices: []string{of + verb + state, about + " at each change"}})
		return
	}
}

// askSource asks what records are meant: where a word looks like the name of some, in its place.
func (r *reader) askSource(put func(Doubt)) {
	var names []string
	for _, s := range r.world.Sources {
		_, kind, _ := strings.Cut(s.Name, "/")
		names = append(names, r.g.singular(kind))
	}
	sort.Strings(names)
	for _, t := range r.tokens {
		if t.as != "" || len(t.low) < 4 || contains(r.g.Words, t.low) || contains(r.g.Fillers, t.low) {
			continue
		}
		if near := value.Nearest(t.low, names); near != "" {
			put(Doubt{About: t.text, Ask: fmt.Sprintf("No records are called %q. Of what records does it speak?", t.text), Choices: append([]string{near}, slices.DeleteFunc(names, func(n string) bool { return n == near })...)})
			return
		}
	}
	put(Doubt{Ask: "Of what records does it speak?", Choices: names})
}

// askRest asks of what something is the rest, where nothing says who hears of what.
func (r *reader) askRest(put func(Doubt)) {
	states, said := r.states(), false
	for _, t := range r.tokens {
		said = said || t.as == AsValue && contains(states, t.text)
	}
	ask := "The rest of what? The sentence doesn't say who hears about the others."
	if len(r.draft.tell) > 0 {
		ask = "The rest of what? The sentence doesn't say which records " + strings.Join(r.titles(r.draft.tell), " and ") + " hears about and which " + strings.Join(r.titles(r.draft.rest), " and ") + "."
	}
	about, instead := r.firstTold(), []string{}
	if len(r.draft.tell) > 0 && !said {
		for _, state := range states {
			instead = append(instead, about+" when "+state)
		}
	} else { // what is told is said already, so that both hear of it
		for i, t := range r.tokens {
			if contains(r.g.RestWord, t.low) {
				from := i
				if i > 0 && contains(r.g.RestBefore, r.tokens[i-1].low) {
					from--
				}
				about, instead = r.text(from, i+1), []string{"and", "all", "too"}
				break
			}
		}
	}
	put(Doubt{About: about, Choices: r.answers(about, instead), Ask: ask})
}

// states are the values that records' fields of few values can have.
func (r *reader) states() (out []string) {
	for _, f := range r.from.Fields {
		out = append(out, f.Options...)
	}
	return out
}

// firstTold is the first channel that is told, as the sentence has it.
func (r *reader) firstTold() string {
	for i, t := range r.tokens {
		if t.as == AsChannel && len(r.draft.tell) > 0 && t.channel == r.draft.tell[0] {
			return r.text(i, i+1)
		}
	}
	return ""
}

// meanings are what words could be meant to say that are bound to nothing: the same denial of a value that there is, or a bound of a
// number that records have.
func (r *reader) meanings(list []token) (out []string) {
	number, denial, others := "", "", ""
	for _, t := range list {
		switch {
		case number == "" && strings.ContainsAny(t.low, "0123456789"):
			number = t.text
		case denial == "" && contains(r.g.Telltale, t.low):
			denial = t.text
		default:
			others = t.text
		}
	}
	if number != "" {
		for _, f := range r.from.Fields {
			if f.Type.IsNumber() {
				name := value.Fold(f.Name)
				out = append(out, "with "+name+" over "+number, "with "+name+" under "+number)
			}
		}
	}
	states := r.states()
	near := value.Nearest(others, states)
	if near != "" {
		states = append([]string{near}, slices.DeleteFunc(states, func(s string) bool { return s == near })...)
	}
	if denial == "" {
		return out
	}
	for _, f := range r.from.Fields {
		if name := value.Fold(f.Name); name == others || value.Fold(f.Label) == others {
			return append(out, "whose "+name+" is empty", "with "+name)
		}
	}
	switch {
	case contains(r.g.Excepting, denial) && !contains(r.g.Without, denial):
		for _, s := range states {
			out = append(out, denial+" "+s)
		}
	case others == "":
		return out
	}
	return append(out, r.values("not ")...)
}

// values are the values of records' fields of few values, behind some words.
func (r *reader) values(behind string) []string {
	out := r.states()
	for i := range out {
		out[i] = behind + out[i]
	}
	return out
}

// escalations are what "if nobody takes it" could be meant to say where neither whom nor when is said: in the place of it, one for each
// channel.
func (r *reader) escalations(from, to int) (about string, instead []string) {
	if !contains(r.g.Nobody, r.tokens[from].low) {
		return "", nil
	}
	if from > 0 && contains(r.g.IfAnd, r.tokens[from-1].low) {
		from--
	}
	if to < len(r.tokens) && contains(r.g.It, r.tokens[to].low) {
		to++
	}
	about = r.text(from, to)
	for _, c := range r.world.Channels {
		instead = append(instead, "; if nobody takes it within an hour tell "+c.Title)
	}
	return about, r.answers(about, instead)
}

// answers are those of some words by which, in the place of what a question is about, the sentence says it without that question.
func (r *reader) answers(about string, instead []string) (out []string) {
	if r.tried || about == "" || !strings.Contains(r.said, about) {
		return nil
	}
	const most, tries = 6, 40
	for _, words := range instead[:min(len(instead), tries)] {
		got := read(strings.Replace(r.said, about, words, 1), r.world, r.waived, true)
		again := slices.ContainsFunc(got.Questions, func(d Doubt) bool {
			return strings.Contains(words, d.About) && d.About != "" || len(d.Choices) == 0 && !d.Waives
		})
		if !again && len(out) < most {
			out = append(out, words)
		}
	}
	return out
}

// titles are channels as they are called.
func (r *reader) titles(channels []string) []string {
	out := make([]string, len(channels))
	for i, c := range channels {
		out[i] = sayer{r}.names([]any{c})
	}
	return out
}

// near are words of the source's own that look like one that was not understood.
func (r *reader) near(about string) []string {
	var known []string
	for _, f := range r.from.Fields {
		known = append(known, f.Name)
		known = append(known, f.Options...)
		if f.Type.IsText() {
			known = append(known, f.Values...)
		}
	}
	for _, c := range r.world.Channels {
		known = append(known, c.Title)
	}
	if near := value.Nearest(about, known); near != "" {
		return []string{near}
	}
	return nil
}
