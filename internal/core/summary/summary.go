// Package summary shortens text to its most telling sentences, in their own words and their own order.
package summary

import (
	"sort"
	"strings"
	"unicode"
)

// Of gives the sentences of a text that say most of what the whole says, of at most so many words. A text that is no
// longer comes back as it is, with its blanks tidied. Where even the most telling sentence is longer, it is cut at a
// word, and ends in "…". The same text always gives the same summary.
func Of(text string, words int) string {
	if words < 1 {
		return ""
	}
	sentences := split(text)
	total := 0
	for _, s := range sentences {
		total += len(s.words)
	}
	if total <= words {
		return join(sentences)
	}
	weigh(sentences)
	order := make([]int, len(sentences))
	for i := range order {
		order[i] = i
	}
	sort.SliceStable(order, func(a, b int) bool { return sentences[order[a]].weight > sentences[order[b]].weight })
	taken, left := map[int]bool{}, words
	for _, i := range order {
		if n := len(sentences[i].words); n <= left && n > 0 {
			taken[i] = true
			left -= n
		}
	}
	if len(taken) == 0 {
		return cut(sentences[order[0]].text, words)
	}
	var out []sentence
	for i, s := range sentences {
		if taken[i] {
			out = append(out, s)
		}
	}
	return join(out)
}

type sentence struct {
	text   string
	words  []string // folded
	weight float64
}

// split finds sentences: they end at a stop that a blank and no small letter follows, or at the end of a line.
func split(text string) []sentence {
	var out []sentence
	var b strings.Builder
	end := func() {
		if s := strings.Join(strings.Fields(b.String()), " "); s != "" {
			out = append(out, sentence{text: s, words: wordsOf(s)})
		}
		b.Reset()
	}
	runes := []rune(text)
	for i, r := range runes {
		if r == '\n' || r == '\r' {
			end()
			continue
		}
		b.WriteRune(r)
		if !strings.ContainsRune(".!?。！？", r) {
			continue
		}
		if i+1 < len(runes) && !unicode.IsSpace(runes[i+1]) && r < 0x2000 {
			continue
		}
		next := i + 1
		for next < len(runes) && unicode.IsSpace(runes[next]) {
			next++
		}
		if next < len(runes) && unicode.IsLower(runes[next]) {
			continue // an abbreviation
		}
		end()
	}
	end()
	return out
}

func wordsOf(s string) []string {
	return strings.FieldsFunc(strings.ToLower(s), func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsNumber(r) && r != '\'' && r != '-' })
}

// weigh gives each sentence the mean of how often its words stand in the whole text. Words of up to three letters say
// little, in any language; numbers say much. The first sentence mostly names the matter.
func weigh(list []sentence) {
	often := map[string]int{}
	for _, s := range list {
		for _, w := range s.words {
			often[w]++
		}
	}
	for i := range list {
		sum := 0.0
		for _, w := range list[i].words {
			switch {
			case strings.ContainsFunc(w, unicode.IsNumber):
				sum += 1.5
			case len([]rune(w)) > 3:
				sum += float64(often[w])
			}
		}
		if n := len(list[i].words); n > 0 {
			list[i].weight = sum / float64(n+3)
		}
		if i == 0 {
			list[i].weight *= 1.25
		}
	}
}

func join(list []sentence) string {
	parts := make([]string, len(list))
	for i, s := range list {
		parts[i] = s.text
	}
	return strings.Join(parts, " ")
}

func cut(s string, words int) string {
	f := strings.Fields(s)
	if len(f) <= words {
		return s
	}
	return strings.TrimRight(strings.Join(f[:words], " "), ",;:") + " …"
}
