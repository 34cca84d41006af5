package sentence

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"dorfbote/internal/core/value"
)

// Numbers as people write them. What is written in another way than the workspace writes numbers is asked about.
var (
	unitEnd  = regexp.MustCompile(`^(.*[0-9])(%|°|l|kg|g|km|cm)$`)
	digits   = regexp.MustCompile(`^[0-9]+$`)
	someNum  = regexp.MustCompile(`^[0-9][0-9.,'’]*[0-9]?(k|m)?$`)
	thousand = regexp.MustCompile(`^[0-9]{1,3}([.,'’][0-9]{3})+$`)
)

// number reads a number at a token: as the workspace writes it. One that could mean two things is a question, and no number.
func (r *reader) number(at, to int) (n float64, width int, ok bool) {
	if at >= to || !r.free(at, at+1) {
		return 0, 0, false
	}
	text := r.tokens[at].low
	if m := unitEnd.FindStringSubmatch(text); m != nil {
		text = m[1]
	}
	if digits.MatchString(text) {
		f, err := strconv.ParseFloat(text, 64)
		if at+1 < to && r.free(at+1, at+2) && r.g.Multiples[r.tokens[at+1].low] > 0 {
			return f * r.g.Multiples[r.tokens[at+1].low], 2, err == nil
		}
		return f, 1, err == nil
	}
	if !someNum.MatchString(text) {
		return 0, 0, false
	}
	sep := value.SeparatorsOf(r.world.Workspace.Locale)
	var plain string
	switch group := sep.Group; {
	case group != "" && thousand.MatchString(text) && !strings.ContainsAny(strings.ReplaceAll(text, group, ""), ".,'’"):
		plain = strings.ReplaceAll(text, group, "")
	case strings.Count(text, sep.Decimal) == 1 && !strings.ContainsAny(strings.Replace(text, sep.Decimal, "", 1), ".,'’km") && !thousand.MatchString(text):
		plain = strings.Replace(text, sep.Decimal, ".", 1)
	default:
		r.unsure(at, text)
		return 0, 0, false
	}
	f, err := strconv.ParseFloat(plain, 64)
	return f, 1, err == nil
}

// asked tells whether it is asked which number is meant by a token.
func (r *reader) asked(at int) bool {
	return at < len(r.tokens) && r.tokens[at].as == AsWord && slices.ContainsFunc(r.doubts, func(d Doubt) bool { return d.About == r.tokens[at].text })
}

// unsure asks which number is meant.
func (r *reader) unsure(at int, text string) {
	if slices.ContainsFunc(r.doubts, func(d Doubt) bool { return d.About == r.tokens[at].text }) {
		return
	}
	bare := strings.NewReplacer(".", "", ",", "", "'", "", "’", "", "k", "", "m", "").Replace(text)
	var choices []string
	switch {
	case strings.HasSuffix(text, "k") && !strings.ContainsAny(text, ".,"):
		choices = []string{bare + "000", bare}
	case strings.HasSuffix(text, "m") && !strings.ContainsAny(text, ".,"):
		choices = []string{bare + "000000", bare}
	case thousand.MatchString(text):
		choices = []string{bare}
		if i := strings.LastIndexAny(text, ".,"); i > 0 && strings.Count(text, ".")+strings.Count(text, ",") == 1 {
			choices = append(choices, strings.TrimLeft(text[:i], "0"))
		}
	default:
		choices = []string{bare}
	}
	r.doubts = append(r.doubts, Doubt{About: r.tokens[at].text, Ask: fmt.Sprintf("Which number is %q?", r.tokens[at].text), Choices: choices})
	r.mark(at, at+1, AsWord, "")
}
