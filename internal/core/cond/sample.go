package cond

import (
	"regexp"
	"regexp/syntax"
	"strings"
)

// sample is a text that a pattern (RE2) finds something in; ok is false where none was found.
func sample(pattern string) (text string, ok bool) {
	parsed, err := syntax.Parse(pattern, syntax.Perl)
	if err != nil {
		return "", false
	}
	var b strings.Builder
	writeSample(&b, parsed)
	re, err := regexp.Compile(pattern)
	return b.String(), err == nil && b.Len() > 0 && re.MatchString(b.String())
}

func writeSample(b *strings.Builder, re *syntax.Regexp) {
	switch re.Op {
	case syntax.OpLiteral:
		b.WriteString(string(re.Rune))
	case syntax.OpCharClass:
		b.WriteRune(readable(re.Rune))
	case syntax.OpAnyChar, syntax.OpAnyCharNotNL:
		b.WriteByte('x')
	case syntax.OpCapture, syntax.OpPlus:
		writeSample(b, re.Sub[0])
	case syntax.OpRepeat:
		for range min(re.Min, 50) {
			writeSample(b, re.Sub[0])
		}
	case syntax.OpConcat:
		for _, sub := range re.Sub {
			writeSample(b, sub)
		}
	case syntax.OpAlternate:
		writeSample(b, re.Sub[0])
	}
}

// readable picks a letter or a digit from a class where it has one.
func readable(ranges []rune) rune {
	for _, want := range "a0A" {
		for i := 0; i+1 < len(ranges); i += 2 {
			if ranges[i] <= want && want <= ranges[i+1] {
				return want
			}
		}
	}
	if len(ranges) == 0 {
		return 'x'
	}
	return ranges[0]
}
