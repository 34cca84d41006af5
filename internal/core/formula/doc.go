// Package formula compiles and runs formulas: the expression language of github.com/expr-lang/expr
// over a record, with Dorfbote's own functions, and the templates in which formulas stand between
// "${" and "}".
//
// Formulas are pure: the language's own clock functions are taken out, and "now" is the moment of the
// arrival. A path through something empty is empty, not an error.
package formula
