package links

import (
	"regexp"
	"strings"

	"dorfbote/internal/connect"
)

// Cut stands where a signed part was.
const Cut = connect.Cut

// signed finds the signed parts of addresses in whatever they stand in: text, JSON, form fields, and mails, whose lines are broken
// anywhere (RFC 2045, 6.7), also where such a mail is itself written as JSON.
var signed = regexp.MustCompile(spread(`[bpswf]`, `\.`) + many(`[0-9]`, `{1,20}`) + spread(`\.`) + `(?:` + spread(`-`) + `)?` + many(`[0-9]`, `{1,10}`) +
	spread(`\.`, `[lnc]`, `\.`) + many(`[0-9]`, `{6,14}`) + spread(`\.`) + many(`[A-Za-z0-9_-]`, `{23}`) + `[A-Za-z0-9_-]`)

// mend finds the secret part of addresses by which a form's answer is changed.
var mend = regexp.MustCompile(`((?:/|%2[Ff])mend(?:/|%2[Ff]))` + many(`[A-Za-z0-9_-]`, `{16,100}`))

// softly is where a line of a mail may be broken.
const softly = `(?:=(?:\r?\n|(?:\\r)?\\n))?`

func spread(parts ...string) string {
	var b strings.Builder
	for _, p := range parts {
		b.WriteString(p + softly)
	}
	return b.String()
}

func many(class, times string) string { return `(?:` + class + softly + `)` + times }

// Redact cuts the signed parts out of a text that is shown, kept or logged: whoever has such an address may do what it is for, so nobody but
// whom it was sent to sees it.
func Redact(text string) string { return string(RedactJSON([]byte(text))) }

// RedactJSON cuts them out of an answer.
func RedactJSON(raw []byte) []byte {
	if !mayHold.Match(raw) {
		return raw
	}
	return mend.ReplaceAll(signed.ReplaceAll(raw, []byte(Cut)), []byte("${1}"+Cut))
}

// mayHold is quickly found wherever [signed] or [mend] would find something.
var mayHold = regexp.MustCompile(`[lnc](?:=(?:\r?\n|(?:\\r)?\\n))?\.|(?:/|%2[Ff])mend`)
