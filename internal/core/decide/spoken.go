package decide

import (
	"strings"

	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
)

// Said is what a text said in a room answers to a question.
type Said struct {
	Choice  *sheet.Choice
	Comment string
}

// Spoken reads a text as an answer to a question: it names one of the choices, by its name or its words, compared as text is; what stands
// behind that is the comment. Where it was not said below the question itself, key is what the question is about, and stands next. Talk
// is no answer: who does not speak to the sender (@dorfbote, or / or ! before the choice) says the choice alone, or with a colon.
// toSender is what its record says in [SpokenTo].
func Spoken(choices []sheet.Choice, text, key string, toSender bool) (Said, bool) {
	words := Words(text)
	for _, addressed := range []bool{false, true} {
		if addressed {
			if !SpeaksTo(words, toSender) {
				return Said{}, false
			}
			var named bool
			if words, named = mentioned(words, toSender); !named {
				words[0] = words[0][1:]
			}
		}
		said, length := Said{}, 0
		for i := range choices {
			for _, name := range []string{choices[i].Name, choices[i].Text} {
				rest, colon, ok := begins(words, Words(name))
				if ok && key != "" {
					if ok = len(rest) > 0 && value.Fold(strings.TrimRight(rest[0], ".,:;!")) == value.Fold(key); ok {
						colon = colon || strings.HasSuffix(rest[0], ":")
						rest = rest[1:]
					}
				}
				if n := len(Words(name)); ok && n > length && (addressed || colon || len(rest) == 0) {
					said, length = Said{&choices[i], strings.Join(rest, " ")}, n
				}
			}
		}
		if length > 0 {
			return said, true
		}
	}
	return Said{}, false
}

// SpokenTo is the field of a message that says yes where it was said to Dorfbote by the name that it has in that room.
const SpokenTo = "spoken_to"

// sender is the name of Dorfbote that is known in every room.
const sender = "dorfbote"

// mentioned takes a mention of the sender off the beginning of words: @name, "name:", "name,". Another name than its own is the sender's
// where the message says itself that it was said to it.
func mentioned(words []string, toSender bool) ([]string, bool) {
	if len(words) == 0 {
		return words, false
	}
	at := strings.HasPrefix(words[0], "@")
	name := strings.TrimRight(strings.TrimPrefix(words[0], "@"), ":,")
	marked := at || name != words[0]
	if name != "" && (value.Fold(name) == sender || toSender && marked) {
		return words[1:], true
	}
	return words, false
}

// SpeaksTo tells whether words are said to Dorfbote, and not only in its hearing: they begin with a mention of it, with / or with !.
// toSender is what their record says in [SpokenTo].
func SpeaksTo(words []string, toSender bool) bool {
	if _, is := mentioned(words, toSender); is {
		return true
	}
	return len(words) > 0 && len(words[0]) > 1 && strings.ContainsAny(words[0][:1], "/!")
}

// begins takes a name of some words off the beginning of others; colon is true where one stands behind it.
func begins(words, name []string) (rest []string, colon, ok bool) {
	if len(name) == 0 || len(words) < len(name) {
		return nil, false, false
	}
	for i, n := range name {
		w := words[i]
		if i == len(name)-1 {
			colon = strings.HasSuffix(w, ":")
			if w = strings.TrimRight(w, ".,:;!"); w == "" {
				w = words[i]
			}
			n = strings.TrimRight(n, ".,:;!")
		}
		if value.Fold(w) != value.Fold(n) {
			return nil, false, false
		}
	}
	return words[len(name):], colon, true
}
