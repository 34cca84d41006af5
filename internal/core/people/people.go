// Package people is the people book: persons with their names, and one address on each connection.
package people

import (
	"fmt"
	"slices"
	"strings"

	"dorfbote/internal/core/value"
)

// Person is one person of the book.
type Person struct {
	ID        string    `json:"id"`
	Name      string    `json:"name"`
	Prefers   string    `json:"prefers,omitempty"` // the connection that posts for the person go over
	Addresses []Address `json:"addresses"`
}

// Address is where a person is reached over a connection.
type Address struct {
	Connection string `json:"connection"`
	Address    string `json:"address"`
}

// On gives the person's address on a connection, "" where there is none.
func (p *Person) On(connection string) string {
	for _, a := range p.Addresses {
		if a.Connection == connection {
			return a.Address
		}
	}
	return ""
}

// Preferred is the connection that posts for the person go over, with the address there: the one that the person prefers, or the
// first where none is said. The error says what is missing.
func (p *Person) Preferred() (Address, error) {
	if p.Prefers == "" {
		if len(p.Addresses) == 0 {
			return Address{}, fmt.Errorf("%s has no address in the people book", p.Called())
		}
		return p.Addresses[0], nil
	}
	to := p.On(p.Prefers)
	if to == "" {
		return Address{}, fmt.Errorf("%s prefers %s, but has no address there in the people book", p.Called(), p.Prefers)
	}
	return Address{p.Prefers, to}, nil
}

// Called is what the person is called: the name, or the id where there is none.
func (p *Person) Called() string {
	if p.Name == "" {
		return p.ID
	}
	return p.Name
}

// Value is the person as formulas see it: id, name, prefers, and each address under its connection.
func (p *Person) Value() map[string]any {
	out := map[string]any{}
	for _, a := range p.Addresses {
		out[a.Connection] = a.Address
	}
	out["id"], out["name"] = p.ID, p.Name
	if p.Prefers != "" {
		out["prefers"] = p.Prefers
	}
	return out
}

// Book is a people book. It does not change, and may be used by many goroutines at once. A nil one has nobody in it.
type Book struct {
	list   []*Person
	byID   map[string]*Person
	byMail map[string]*Person  // nil for an address that several have
	byName map[string]*Person  // nil for a name that several have
	at     map[Address]*Person // the first who has an address, as text is compared
}

// New makes a book. Ids are compared as text is; of two persons with one id the error names the second.
func New(list []Person) (*Book, error) {
	b := &Book{byID: map[string]*Person{}, byMail: map[string]*Person{}, byName: map[string]*Person{}, at: map[Address]*Person{}}
	for i := range list {
		p := &list[i]
		id := value.Fold(p.ID)
		if id == "" {
			return nil, fmt.Errorf("person %d has no id", i+1)
		}
		if have := b.byID[id]; have != nil {
			return nil, fmt.Errorf("person %d has the id %s, as %s has; each has one of their own", i+1, p.ID, have.Called())
		}
		b.list, b.byID[id] = append(b.list, p), p
		once(b.byName, value.Fold(p.Name), p)
		for _, a := range p.Addresses {
			if at := (Address{a.Connection, value.Fold(a.Address)}); b.at[at] == nil {
				b.at[at] = p
			}
			if strings.Contains(a.Address, "@") {
				once(b.byMail, value.Fold(a.Address), p)
			}
		}
	}
	return b, nil
}

func once(in map[string]*Person, key string, p *Person) {
	if key == "" {
		return
	}
	if have, ok := in[key]; ok && have != p {
		p = nil
	}
	in[key] = p
}

// All lists the persons in the order of the book.
func (b *Book) All() []*Person {
	if b == nil {
		return nil
	}
	return slices.Clone(b.list)
}

// ByID finds a person by the id alone; nil where nobody has it.
func (b *Book) ByID(id string) *Person {
	if b == nil {
		return nil
	}
	return b.byID[value.Fold(id)]
}

// Find finds a person by the id, else by an address that is written with an @, else by the name, each compared as text is. What
// names nobody, or several, gives nil.
func (b *Book) Find(who string) *Person {
	key := value.Fold(who)
	if b == nil || key == "" {
		return nil
	}
	if p := b.byID[key]; p != nil {
		return p
	}
	if p := b.byMail[key]; p != nil {
		return p
	}
	return b.byName[key]
}

// At finds whose address something is on a connection, compared as text is: of several, the first in the book; nil where it is nobody's.
func (b *Book) At(connection, address string) *Person {
	if b == nil {
		return nil
	}
	return b.at[Address{connection, value.Fold(address)}]
}

// Several tells whether a name or address names more than one person, which is why [Book.Find] gives nobody.
func (b *Book) Several(who string) bool {
	if b == nil {
		return false
	}
	key := value.Fold(who)
	for _, m := range []map[string]*Person{b.byMail, b.byName} {
		if p, ok := m[key]; ok && p == nil {
			return true
		}
	}
	return false
}
