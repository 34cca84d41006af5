package kit

import (
	"strconv"

	"dorfbote/internal/store"
)

// Hidden are the fields of which nobody is shown more than that they are another.
var Hidden = map[string]bool{"secrets": true, "password": true, "call_token": true}

// Change states what an operation changes: the kind of thing, and which one, by its input or, for what is made, by its
// output. An act changes nothing that could be compared, and is written down whenever it is done.
type Change[I, O any] struct {
	store.Auditable
	in   func(*I) string
	out  func(*O) string
	act  bool
	self bool // the person who does it
}

// IDText writes a number as what names a thing.
func IDText(id int64) string { return strconv.FormatInt(id, 10) }

// About states that an operation changes what its input names.
func About[I, O any](a store.Auditable, in func(*I) string) Change[I, O] {
	return Change[I, O]{Auditable: a, in: in}
}

// Makes states that an operation makes what its output names.
func Makes[I, O any](a store.Auditable, out func(*O) string) Change[I, O] {
	return Change[I, O]{Auditable: a, out: out}
}

// Act states that an operation does something with what its input names.
func Act[I, O any](a store.Auditable, in func(*I) string) Change[I, O] {
	return Change[I, O]{Auditable: a, in: in, act: true}
}

// Oneself states that an operation changes what is kept of whoever does it.
func Oneself[I, O any]() Change[I, O] { return Change[I, O]{Auditable: store.AboutPerson, self: true} }

// ByID states that an operation changes the thing with the id in its path.
func ByID[O any](a store.Auditable) Change[IDInput, O] {
	return About[IDInput, O](a, func(in *IDInput) string { return IDText(in.ID) })
}
