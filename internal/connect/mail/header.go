package mail

import (
	"encoding/base64"
	"strings"
	"unicode"
	"unicode/utf8"

	"dorfbote/internal/core/message"
)

// visible is a text as a header may hold it: on one line, in UTF-8, without what turns the order of what is read around.
func visible(s string) string { return message.OneLine(strings.ToValidUTF8(s, "\uFFFD")) }

// longestWord is how many bytes of text one encoded word holds: with what stands around it, it has at most 75 characters (RFC 2047, 2).
const longestWord = 42

// longestPlain is how long a word of a header may be as it stands, so that its line can be folded well below 998 octets (RFC 5322, 2.1.1).
const longestPlain = 60

// unstructured writes the text of a header, such as a subject. Whatever could be read as something else than what it says is encoded: text
// beyond ASCII, what looks like an encoded word itself, and words that no line has room for.
func unstructured(s string) string {
	s = visible(s)
	plain := !strings.Contains(s, "=?")
	for word := range strings.SplitSeq(s, " ") {
		plain = plain && ascii(word) && len(word) <= longestPlain
	}
	if plain {
		return s
	}
	return encoded(s)
}

// phrase writes a name that stands before an address.
func phrase(s string) string {
	s = visible(s)
	plain := !strings.Contains(s, "=?") && len(s) <= longestPlain
	for _, r := range s {
		plain = plain && (r < utf8.RuneSelf && (unicode.IsLetter(r) || unicode.IsDigit(r)) || strings.ContainsRune(" -_'!#$%&*+/^`{|}~?", r))
	}
	if plain {
		return s
	}
	return encoded(s)
}

// encoded writes a text as encoded words (RFC 2047), between which lines may be folded.
func encoded(s string) string {
	var words []string
	for s != "" {
		n := 0
		for n < len(s) {
			_, size := utf8.DecodeRuneInString(s[n:])
			if n+size > longestWord {
				break
			}
			n += size
		}
		words = append(words, "=?utf-8?B?"+base64.StdEncoding.EncodeToString([]byte(s[:n]))+"?=")
		s = s[n:]
	}
	return strings.Join(words, " ")
}

// folded breaks a header's value into lines at its spaces.
func folded(name, value string) string {
	var out strings.Builder
	at := len(name) + 2
	for i, word := range strings.Split(value, " ") {
		switch {
		case i == 0:
		case at+1+len(word) > 76:
			out.WriteString("\r\n ")
			at = 1
		default:
			out.WriteByte(' ')
			at++
		}
		out.WriteString(word)
		at += len(word)
	}
	return out.String()
}
