package alerts

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"dorfbote/internal/connect/kinds"
	"dorfbote/internal/core/message"
	"dorfbote/internal/core/people"
	"dorfbote/internal/core/place"
	"dorfbote/internal/core/value"
	"dorfbote/internal/store"
)

// by says who presses a button, and refuses whom it is not for.
func (al *Alerts) by(ctx context.Context, p *store.Post, b *message.Button, who Who, copied bool) (string, error) {
	book, err := al.Sources.People(ctx)
	if err != nil {
		return "", err
	}
	connection, place, _ := strings.Cut(p.Destination, "/")
	own := !copied && al.ownAddress(ctx, connection, place)
	switch {
	case b.Who != "":
		return al.allowed(ctx, book, connection, place, own, b, who)
	case who.Native != "":
		return who.Native, nil
	case who.Account != nil:
		return al.Called(ctx, who.Account)
	case copied:
		return "", &Refused{Words: "You got a copy of this message. Sign in, so that it is known who you are.", SignIn: true}
	}
	if person := book.At(connection, place); person != nil {
		return person.Called(), nil
	}
	if own {
		return place, nil
	}
	return "somebody in " + place, nil
}

// Places are where an account is reached, and the rooms, in which whoever is there may answer.
type Places struct {
	// Own are the places that are the account's own: those with its mail address, and all that the people book has of the person
	// with that address.
	Own   []string
	email string
	rooms map[string]bool // by connections
	shut  map[string]bool // rooms that only their members see
}

// MayAnswer tells whether the account may answer what was put to a place. Whose place it is was settled when the question went, where
// that is known; of a room that only its members see, it is not known here who is in it.
func (p *Places) MayAnswer(destination string, entitled map[string][]string) bool {
	connection, _, _ := strings.Cut(destination, "/")
	if p.rooms[connection] {
		return !p.shut[destination] || slices.Contains(entitled[destination], p.email)
	}
	if emails := entitled[destination]; len(emails) > 0 {
		return slices.Contains(emails, p.email)
	}
	return slices.Contains(p.Own, destination)
}

// PlacesOf finds where an account is reached, by its mail address.
func (al *Alerts) PlacesOf(ctx context.Context, email string) (*Places, error) {
	out := &Places{Own: []string{}, email: strings.ToLower(email), rooms: map[string]bool{}, shut: map[string]bool{}}
	private, err := al.Store.PrivateDestinations(ctx)
	if err != nil {
		return nil, err
	}
	for _, name := range private {
		out.shut[name] = true
	}
	list, err := al.Store.Connections(ctx)
	if err != nil {
		return nil, err
	}
	for _, c := range list {
		kind := kinds.Named(c.Kind)
		if kind == nil || kind.Sends == nil {
			continue
		}
		if out.rooms[c.ID] = !kind.Sends.OwnPlaces; kind.Sends.Form == place.Mail {
			out.Own = append(out.Own, c.ID+"/"+email, c.ID+"/"+strings.ToLower(email))
		}
	}
	book, err := al.Sources.People(ctx)
	if err != nil {
		return nil, err
	}
	if p := book.Find(email); p != nil {
		for _, a := range p.Addresses {
			out.Own = append(out.Own, a.Connection+"/"+a.Address)
		}
	}
	return out, nil
}

// ownAddress tells whether a place is one person's own: a mail address, a number; not a room.
func (al *Alerts) ownAddress(ctx context.Context, connection, place string) bool {
	c, err := al.Store.Connection(ctx, connection)
	if err != nil || c == nil {
		return false
	}
	kind := kinds.Named(c.Kind)
	return kind != nil && kind.Sends != nil && kind.Sends.OwnPlaces && !strings.Contains(place, ", ")
}

// allowed says who presses a button that is for some people only. Somebody is who they are by their account, by an address of theirs,
// or by what the other side's program calls them; what anybody calls themselves counts for nothing.
func (al *Alerts) allowed(ctx context.Context, book *people.Book, connection, place string, own bool, b *message.Button, who Who) (string, error) {
	id := identity{}
	by := ""
	var person *people.Person
	switch {
	case who.Native != "":
		by, id.handle = who.Native, who.Native
		if person = book.At(connection, "@"+who.Native); person == nil {
			person = book.At(connection, who.Native)
		}
	case who.Account != nil:
		id.account, id.emails = who.Account.ID, append(id.emails, who.Account.Email)
		person = book.Find(who.Account.Email)
		var err error
		if by, err = al.Called(ctx, who.Account); err != nil {
			return "", err
		}
	case own:
		by, id.emails = place, append(id.emails, place)
		person = book.At(connection, place)
	}
	if by == "" {
		return "", &Refused{Words: fmt.Sprintf("This button is for %s. Sign in, so that it is known who you are.", audience(b.Who)), SignIn: true}
	}
	if person != nil {
		id.handle = "" // it is known who that is
		if who.Account == nil {
			by = person.Called()
		}
		for _, a := range person.Addresses {
			if strings.Contains(a.Address, "@") {
				id.emails = append(id.emails, a.Address)
			}
		}
	}
	ok, err := al.meant(ctx, book, person, id, b.Who)
	if err != nil {
		return "", err
	}
	if !ok {
		return "", &Refused{Words: fmt.Sprintf("This button is for %s, and not for %s.", audience(b.Who), by), SignIn: who.Account == nil && who.Native == ""}
	}
	return by, nil
}

// identity is by what somebody is known.
type identity struct {
	account int64
	emails  []string
	handle  string // what the other side's program calls whom the people book does not have
}

// meant tells whether whom a button is for is somebody.
func (al *Alerts) meant(ctx context.Context, book *people.Book, person *people.Person, id identity, who string) (bool, error) {
	if team, ok := strings.CutPrefix(who, "team:"); ok {
		return al.Store.InTeam(ctx, strings.TrimSpace(team), id.account, id.emails, id.handle)
	}
	meant := book.Find(who)
	switch {
	case meant != nil && meant == person:
		return true, nil
	case slices.ContainsFunc(id.emails, func(s string) bool { return value.Fold(s) == value.Fold(who) }):
		return true, nil
	}
	return meant == nil && id.handle != "" && value.Fold(id.handle) == value.Fold(strings.TrimPrefix(who, "@")), nil
}

// Called is what an account is called before others: by the name, with the address beside it where somebody else goes by that name, too.
func (al *Alerts) Called(ctx context.Context, p *store.Person) (string, error) {
	others, err := al.Store.Namesakes(ctx, p.ID, p.Name)
	if err != nil {
		return "", err
	}
	book, err := al.Sources.People(ctx)
	if err != nil {
		return "", err
	}
	other := book.Several(p.Name)
	if named := book.Find(p.Name); named != nil && value.Fold(named.Name) == value.Fold(p.Name) && book.Find(p.Email) != named {
		other = true
	}
	if others || other {
		return p.Name + " (" + p.Email + ")", nil
	}
	return p.Name, nil
}

func audience(who string) string {
	if team, ok := strings.CutPrefix(who, "team:"); ok {
		return "the team " + strings.TrimSpace(team)
	}
	return who
}
