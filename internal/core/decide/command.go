package decide

import (
	"maps"
	"strings"

	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
)

// commanded tells whether a message is the command that the workflow waits for: its first word, after an optional mention of
// whoever is spoken to, is that. The rest of its words is known as record.words from then on.
func commanded(p *sheet.Plan, sc *formula.Scope) bool {
	text, _ := sc.Record["text"].(string)
	toSender, _ := sc.Record[SpokenTo].(bool)
	words, ok := Behind(text, p.Command, toSender)
	if !ok {
		return false
	}
	rest := make([]any, len(words))
	for i, w := range words {
		rest[i] = w
	}
	record := maps.Clone(sc.Record)
	record["words"] = rest
	sc.SetRecord(record)
	return true
}

// Behind gives the words of a text behind a command; false where the text is not that command. What is said to somebody else is none.
// toSender is what its record says in [SpokenTo].
func Behind(text, command string, toSender bool) ([]string, bool) {
	words, _ := mentioned(Words(text), toSender)
	if len(words) == 0 || value.Fold(strings.TrimLeft(words[0], "/!")) != value.Fold(command) && value.Fold(words[0]) != value.Fold(command) {
		return nil, false
	}
	return words[1:], true
}

// quotes are what words stand between that belong together.
var quotes = map[rune]rune{'"': '"', '“': '”', '„': '“', '«': '»'}

// Words splits a text into words. What stands between quotes is one; a quote that is left open takes the rest.
func Words(text string) []string {
	var out []string
	var word strings.Builder
	var end rune
	inside, some := false, false
	flush := func() {
		if some {
			out = append(out, word.String())
		}
		word.Reset()
		some = false
	}
	for _, c := range text {
		switch {
		case inside && c == end:
			inside = false
			flush()
		case inside:
			word.WriteRune(c)
		case quotes[c] != 0 && word.Len() == 0:
			inside, some, end = true, true, quotes[c]
		case strings.ContainsRune(" \t\r\n\u00a0", c):
			flush()
		default:
			word.WriteRune(c)
			some = true
		}
	}
	if inside {
		rest := strings.TrimRight(word.String(), " \t\r\n")
		word.Reset()
		word.WriteString(rest)
	}
	flush()
	return out
}

// own tells whether a message is Dorfbote's own: what it has posted itself it never takes in again.
func own(record map[string]any) bool {
	mine, _ := record["own"].(bool)
	_, said := record["text"]
	_, by := record["author"]
	_, from := record["from"] // of a mail
	return mine && said && (by || from)
}
