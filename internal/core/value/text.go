package value

import (
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/text/cases"
	"golang.org/x/text/unicode/norm"
)

// Fold is the form in which text is compared: Unicode NFC, trimmed, case folded.
func Fold(s string) string {
	if isASCII(s) {
		return strings.ToLower(strings.TrimSpace(s))
	}
	return strings.TrimSpace(norm.NFC.String(cases.Fold().String(norm.NFC.String(s))))
}

// EqualFolded tells whether s, folded, is the already folded text. It does not allocate for ASCII.
func EqualFolded(s, folded string) bool {
	if len(s) == len(folded) && asciiFoldEqual(s, folded) { // the usual case
		return true
	}
	if !isASCII(s) {
		return Fold(s) == folded
	}
	s = strings.TrimSpace(s)
	return len(s) == len(folded) && asciiFoldEqual(s, folded)
}

// asciiFoldEqual compares texts of the same length; it may refuse what is equal beyond ASCII.
func asciiFoldEqual(s, folded string) bool {
	for i := range len(s) {
		c := s[i]
		if c >= 'A' && c <= 'Z' {
			c += 'a' - 'A'
		}
		if c != folded[i] {
			return false
		}
	}
	return true
}

func isASCII(s string) bool {
	for i := range len(s) {
		if s[i] >= utf8.RuneSelf {
			return false
		}
	}
	return true
}

// Nearest returns the candidate most like the word, or "" when none is near enough to be meant.
func Nearest(word string, candidates []string) string {
	best, bestDist := "", 1+max(1, len([]rune(word))/3)
	w := strings.ToLower(word)
	for _, c := range candidates {
		if d := editDistance(w, strings.ToLower(c)); d < bestDist {
			best, bestDist = c, d
		}
	}
	return best
}

// editDistance counts insertions, removals, exchanges and swaps of neighbours.
func editDistance(a, b string) int {
	x, y := []rune(a), []rune(b)
	two, one := make([]int, len(y)+1), make([]int, len(y)+1)
	for j := range one {
		one[j] = j
	}
	for i := 1; i <= len(x); i++ {
		row := make([]int, len(y)+1)
		row[0] = i
		for j := 1; j <= len(y); j++ {
			cost := 1
			if x[i-1] == y[j-1] {
				cost = 0
			}
			row[j] = min(one[j]+1, row[j-1]+1, one[j-1]+cost)
			if i > 1 && j > 1 && x[i-1] == y[j-2] && x[i-2] == y[j-1] {
				row[j] = min(row[j], two[j-2]+1)
			}
		}
		two, one = one, row
	}
	return one[len(y)]
}

// Capital begins a text with a capital letter.
func Capital(s string) string {
	r, n := utf8.DecodeRuneInString(s)
	if n == 0 {
		return s
	}
	return string(unicode.ToUpper(r)) + s[n:]
}

// BareName is a name without its case, and without what joins its words: next_page and nextPage are nextpage.
func BareName(s string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			return unicode.ToLower(r)
		}
		return -1
	}, s)
}
