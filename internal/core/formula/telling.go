package formula

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"dorfbote/internal/core/value"
)

var identifier = regexp.MustCompile(`^[A-Za-z_][A-Za-z0-9_]*$`)

// Into is a way into a value by a name, or by a path of names, as formulas write it: .user.login, or ["first name"].
func Into(name string) string {
	for p := range strings.SplitSeq(name, ".") {
		if !identifier.MatchString(p) {
			return fmt.Sprintf("[%q]", name)
		}
	}
	return "." + name
}

// Telling writes how a message tells a field of a record with these fields: a moment to the minute, an amount with its currency, which is
// the record's own where it has one, else what the field is known to be in. Where a record leaves its own out, none is made up for it.
func Telling(f value.Field, among []value.Field) string {
	ref := "record" + Into(f.Name)
	switch f.Type {
	case value.Moment:
		return `${date(` + ref + `, "d MMM HH:mm")}`
	case value.Money:
		if currency := currencyBeside(f, among); currency != "" {
			return "${money(" + ref + ", " + currency + ")}"
		}
	}
	return "${" + ref + "}"
}

// currencyBeside is the currency of an amount as a formula, "" where none is known.
func currencyBeside(f value.Field, among []value.Field) string {
	for _, name := range []string{f.Name + "_currency", f.Name + "_currency_code", "currency", "currency_code"} {
		if slices.ContainsFunc(among, func(o value.Field) bool {
			return o.Name == name && (o.Type == value.Text || o.Type == value.Choice || o.Type == value.Any)
		}) {
			return "record" + Into(name)
		}
	}
	if f.Currency != "" {
		return `"` + f.Currency + `"`
	}
	return ""
}
