package sentence

import (
	"fmt"
	"slices"
	"strings"

	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/place"
	"dorfbote/internal/core/value"
)

// whom are persons and addresses that the sentence names behind "mail" or "text": they are found before anything else is read, and
// made addresses when the records are known, since a record may hold them.
type whom struct {
	verb       int // the token of the verb
	from, to   int // the tokens that name one recipient
	connection string
	form       place.Form
	only       bool // it is the only one of its verb
}

// means says what a form is called where nothing of it is connected.
var means = map[place.Form]string{place.Mail: "mail", place.Number: "text messages"}

// begins tells whether an instruction can begin at a token.
func (r *reader) begins(i int) bool {
	if i == 0 || r.tokens[i-1].ends || r.tokens[i-1].comma || contains(r.g.Begins, r.tokens[i-1].low) {
		return true
	}
	if i+1 == len(r.tokens) || contains(r.g.NoVerb, r.tokens[i-1].low) {
		return false
	}
	return strings.Contains(r.tokens[i+1].low, "@") || contains(r.g.TheIts, r.tokens[i+1].low) || r.person(i+1) > 0
}

// recipients reads "mail the buyer and vera@lindental.example".
func (r *reader) recipients() {
	for i := range r.tokens {
		form, ok := r.g.Verbs[r.tokens[i].low]
		if !ok || !r.begins(i) || r.tokens[i].as != "" || i+1 == len(r.tokens) || r.tokens[i].ends {
			continue
		}
		if form == place.Number && !contains(r.g.TheIts, r.tokens[i+1].low) && !strings.ContainsAny(r.tokens[i+1].text, "+0123456789") && r.person(i+1) == 0 {
			continue // a field may be called text
		}
		end := i + 1
		for end < len(r.tokens) && !r.tokens[end-1].ends && r.tokens[end].as == "" && !contains(r.g.Opening, r.tokens[end].low) && !contains(r.g.About, r.tokens[end].low) {
			// A second article, or more words behind an address, are of what is sent.
			if before := r.tokens[end-1]; end > i+1 && !contains(r.g.And, before.low) && !before.comma && !contains(r.g.And, r.tokens[end].low) &&
				(strings.Contains(before.low, "@") || contains(r.g.Articles, r.tokens[end].low)) {
				break
			}
			end++
		}
		r.mark(i, end, AsWord, means[form])
		r.split(i, end, form)
	}
}

// split makes one of each recipient between two tokens, which "and" and commas part.
func (r *reader) split(verb, end int, form place.Form) {
	connection := ""
	for _, c := range r.world.Senders {
		if c.Form == form {
			connection = c.Name
			break
		}
	}
	if connection == "" {
		r.instead(verb, end, "Nothing that sends "+means[form]+" is connected. Which channel is told instead of %s?")
		return
	}
	first := len(r.whom)
	from := verb + 1
	for i := from; i <= end; i++ {
		if i < end && !contains(r.g.And, r.tokens[i].low) && (i == from || !r.tokens[i-1].comma) {
			continue
		}
		if i > from {
			r.whom = append(r.whom, whom{verb, from, i, connection, form, false})
		}
		if from = i; i < end && contains(r.g.And, r.tokens[i].low) {
			from++
		}
	}
	if len(r.whom) == first+1 {
		r.whom[first].only = true
	}
}

func (r *reader) text(from, to int) string {
	words := make([]string, 0, to-from)
	for _, t := range r.tokens[from:to] {
		words = append(words, t.text)
	}
	return strings.Join(words, " ")
}

// instead asks which channel is told in the place of some words.
func (r *reader) instead(from, to int, ask string) {
	var instead []string
	for _, c := range r.world.Channels {
		instead = append(instead, "tell "+c.Title)
	}
	about := r.text(from, to)
	r.doubts = append(r.doubts, Doubt{About: about, Ask: fmt.Sprintf(ask, about), Choices: instead})
}

// person tells how many tokens from here on name somebody of the people book.
func (r *reader) person(at int) int {
	for n := min(3, len(r.tokens)-at); n > 0; n-- {
		if !r.free(at, at+n) || slices.ContainsFunc(r.tokens[at:at+n-1], func(t token) bool { return t.ends || t.comma }) {
			continue
		}
		if r.world.People.Find(r.text(at, at+n)) != nil {
			return n
		}
	}
	return 0
}

// persons finds persons of the people book behind "tell", and behind "and" where somebody stands before it.
func (r *reader) persons() {
	for i := 1; i < len(r.tokens); i++ {
		before := r.tokens[i-1]
		told := contains(r.g.ToldPersons, before.low) && before.as == ""
		also := i > 1 && (contains(r.g.And, before.low) && r.tokens[i-2].channel != "" || before.comma && before.channel != "")
		n := r.person(i)
		if n == 0 || !told && !also {
			continue
		}
		if p := r.world.People.Find(r.text(i, i+n)); !strings.Contains(p.ID, "${") {
			r.mark(i, i+n, AsPerson, p.Called())
			r.tokens[i+n-1].channel = "person/" + p.ID
			i += n - 1
		}
	}
}

// addresses makes addresses of those who are named behind a verb, now that the records are known.
func (r *reader) addresses() {
	for _, w := range r.whom {
		to, means := r.address(w)
		if to == "" {
			r.unknown(w)
			continue
		}
		r.tokens[w.from].channel = w.connection + "/" + to
		as := AsPerson
		if strings.HasPrefix(to, "${record") || strings.HasPrefix(to, "${person(record") {
			as = AsField
			r.draft.theirs = append(r.draft.theirs, r.text(w.from, w.to))
		}
		r.mark(w.from, w.to, as, means)
	}
}

// address is one recipient's: an address as it stands, somebody of the people book, or what a field of the record gives.
func (r *reader) address(w whom) (to, means string) {
	text := r.text(w.from, w.to)
	if rule := (place.Rule{Form: w.form}); !strings.Contains(text, "${") {
		if to, err := rule.Take(text, r.world.Workspace); err == nil && (w.form != place.Number || strings.HasPrefix(text, "+")) && to != "" {
			return text, w.connection + "/" + text
		}
	}
	if p := r.world.People.Find(text); p != nil && !strings.ContainsAny(p.ID, "\"\\${}") {
		return fmt.Sprintf("${person(%q)%s}", p.ID, formula.Into(w.connection)), p.Called()
	}
	from := w.from
	for from < w.to && contains(r.g.Determiners, r.tokens[from].low) {
		from++
	}
	said := r.phrase(from, w.to)
	if said == "" {
		return "", ""
	}
	for _, f := range r.from.Fields {
		if f.Hidden || !slices.Contains([]string{value.Fold(f.Label), value.Fold(f.Name), value.Fold(strings.ReplaceAll(f.Name, "_", " "))}, strings.TrimSuffix(said, r.g.TheirAddress)) {
			continue
		}
		if r.holds(f, w.form) {
			return "${record" + formula.Into(f.Name) + "}", f.Label
		}
		if f.Type == value.Person || r.inBook(f) {
			return "${person(record" + formula.Into(f.Name) + ")" + formula.Into(w.connection) + "}", f.Label + ", by the people book"
		}
	}
	// The address may stand in a field beside that of the name, or the record may be the person.
	var all, theirs []Field
	for _, f := range r.from.Fields {
		if f.Hidden || !r.holds(f, w.form) {
			continue
		}
		all = append(all, f)
		if strings.HasPrefix(value.Fold(strings.ReplaceAll(f.Name, "_", " ")), said) || strings.HasPrefix(value.Fold(f.Label), said) {
			theirs = append(theirs, f)
		}
	}
	themselves := slices.Contains(append(slices.Clone(r.g.Themselves), r.g.singular(value.Fold(inWords(r.from.Name))), r.g.singular(value.Fold(r.from.Title))), r.g.singular(said))
	switch {
	case len(theirs) == 1:
		return "${record" + formula.Into(theirs[0].Name) + "}", theirs[0].Label
	case themselves && len(all) == 1:
		return "${record" + formula.Into(all[0].Name) + "}", all[0].Label
	}
	return "", ""
}

// unknown asks who somebody is.
func (r *reader) unknown(w whom) {
	about, before := r.text(w.from, w.to), ""
	if w.only {
		about, before = r.text(w.verb, w.to), r.tokens[w.verb].text+" "
	}
	var choices []string
	for _, f := range r.from.Fields {
		if !f.Hidden && (f.Type == value.Person || r.holds(f, w.form)) {
			choices = append(choices, before+"the "+f.Label)
		}
	}
	for _, p := range r.world.People.All() {
		if p.On(w.connection) != "" && len(choices) < 5 {
			choices = append(choices, before+p.Called())
		}
	}
	if w.only {
		for _, c := range r.world.Channels {
			choices = append(choices, "tell "+c.Title)
		}
	}
	r.doubts = append(r.doubts, Doubt{
		About: about, Choices: choices,
		Ask: fmt.Sprintf("Where is the address of %q? No field of %s holds it, and nobody in the people book is called so.", r.text(w.from, w.to), inWords(r.from.Name)),
	})
}

// holds tells whether a field is one of addresses of a form: by what is in it, or by its name.
func (r *reader) holds(f Field, form place.Form) bool {
	if !f.Type.IsText() && f.Type != value.Any {
		return false
	}
	rule, fit, not := place.Rule{Form: form}, 0, 0
	for _, v := range f.Values {
		if _, err := rule.Take(v, r.world.Workspace); err == nil {
			fit++
		} else {
			not++
		}
	}
	// A number of a sheet may be any number, but what is no number or no address is none.
	if fit+not > 0 && (form == place.Mail || not > fit) || len(f.Options) > 0 {
		return fit > not && len(f.Options) == 0
	}
	name := value.Fold(f.Name + " " + f.Label)
	words := r.g.AddressFields[form]
	return slices.ContainsFunc(words, func(w string) bool { return strings.Contains(name, w) })
}

// inBook tells whether what is in a field names persons of the people book.
func (r *reader) inBook(f Field) bool {
	return slices.ContainsFunc(append(slices.Clone(f.Values), f.Options...), func(v string) bool { return r.world.People.Find(v) != nil })
}

// attached reads "with the price list attached" and "attach the price list".
func (r *reader) attached() {
	for i := range r.tokens {
		low := r.tokens[i].low
		if !contains(r.g.With, low) && !contains(r.g.Attach, low) || r.tokens[i].as != "" {
			continue
		}
		source, end, named, done := r.from, i+1, false, !contains(r.g.With, low)
		for end < len(r.tokens) && !r.tokens[end-1].ends {
			word := r.tokens[end].low
			if s, width := r.sourceAt(end); s != nil {
				source, named, end = s, true, end+width
				continue
			}
			if called := r.calledBy(word); contains(r.g.Tables, word) {
				named = true
			} else if len(called) == 1 || slices.Contains(called, r.from) { // the price list of price rows
				if source = called[0]; slices.Contains(called, r.from) {
					source = r.from
				}
			} else if !contains(slices.Concat(r.g.AttachFillers, r.g.Attached), word) {
				break
			}
			end++
			if done = done || contains(r.g.Attached, word); contains(r.g.Attached, word) {
				break
			}
		}
		if done && named {
			r.draft.attach = source
			r.mark(i, end, AsWord, "attached: "+source.Name)
		}
	}
}
