package people

import (
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/emersion/go-vcard"

	"dorfbote/internal/core/fault"
)

// Over says which connection the addresses of a vCard are for; "" leaves them out.
type Over struct{ Mail, Phone, Room string }

// ReadVCard reads a people book of vCards (RFC 6350, and 2.1 and 3.0 as they are found). The id is the UID, else the first mail
// address, else the name; of several addresses the preferred one is taken. The error is a [*fault.Fault] whose place is the card.
func ReadVCard(text string, over Over) ([]Person, error) {
	dec := vcard.NewDecoder(strings.NewReader(strings.TrimPrefix(text, "\uFEFF")))
	var out []Person
	for n := 1; ; n++ {
		card, err := dec.Decode()
		if errors.Is(err, io.EOF) {
			if n == 1 {
				return nil, fault.At("card 1", "there is no card; a vCard begins with BEGIN:VCARD")
			}
			return out, nil
		}
		at := fmt.Sprintf("card %d", n)
		if err != nil {
			return nil, fault.At(at, "it cannot be read: %v", err)
		}
		if len(out) == MaxPeople {
			return nil, fault.At(at, "a people book holds at most %d persons", MaxPeople)
		}
		p := ofCard(card, over)
		if p.ID == "" {
			return nil, fault.At(at, "it has no UID, no mail address and no name, one of which a person is known by")
		}
		out = append(out, p)
	}
}

func ofCard(card vcard.Card, over Over) Person {
	line := func(s string) string { return strings.Join(strings.Fields(s), " ") }
	p := Person{ID: line(strings.TrimPrefix(card.Value(vcard.FieldUID), "urn:uuid:")), Name: line(card.PreferredValue(vcard.FieldFormattedName)), Addresses: []Address{}}
	if n := card.Name(); p.Name == "" && n != nil {
		p.Name = line(n.GivenName + " " + n.FamilyName)
	}
	mail, _, _ := strings.Cut(line(strings.TrimPrefix(card.PreferredValue(vcard.FieldEmail), "mailto:")), "?")
	for _, a := range []Address{
		{over.Mail, mail},
		{over.Phone, line(strings.TrimPrefix(card.PreferredValue(vcard.FieldTelephone), "tel:"))},
		{over.Room, room(card)},
	} {
		if a.Connection != "" && a.Address != "" {
			p.Addresses = append(p.Addresses, a)
		}
	}
	if p.ID == "" {
		p.ID = mail
	}
	if p.ID == "" {
		p.ID = p.Name
	}
	return p
}

// room is the address of XMPP among those of instant messaging (RFC 4770).
func room(card vcard.Card) string {
	for _, v := range card.Values(vcard.FieldIMPP) {
		if a, ok := strings.CutPrefix(strings.TrimSpace(v), "xmpp:"); ok {
			a, _, _ = strings.Cut(a, "?")
			return a
		}
	}
	return ""
}
