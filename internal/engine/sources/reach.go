package sources

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"dorfbote/internal/connect"
	"dorfbote/internal/connect/kinds"
	"dorfbote/internal/core/people"
	"dorfbote/internal/core/place"
	"dorfbote/internal/core/value"
	"dorfbote/internal/store"
)

// around is what a process knows, for a moment, of whom and where posts can reach: it is asked for with every batch that is
// decided.
type around struct {
	mu     sync.Mutex
	rules  map[string]place.Rule
	asked  time.Time
	book   *people.Book
	booked time.Time
	// The source whose records are the people book, "" where it is written by hand, and the last arrival of it that was seen.
	bookOf   string
	bookLast int64
}

// aroundHolds is how long what was read holds.
const aroundHolds = time.Second

// Forget has all that is known of whom and where posts can reach be read anew: it has changed, here or in another process.
func (src *Sources) Forget() {
	src.around.mu.Lock()
	src.around.rules, src.around.book = nil, nil
	src.around.mu.Unlock()
}

// Rules gives what each connection that posts can go over takes for a place, as it is now.
func (src *Sources) Rules(ctx context.Context) (map[string]place.Rule, error) {
	src.around.mu.Lock()
	defer src.around.mu.Unlock()
	return src.readRules(ctx)
}

// knownRules gives them as they were a moment ago, for what is asked with every alert: who changes them has that forgotten.
func (src *Sources) knownRules(ctx context.Context) (map[string]place.Rule, error) {
	src.around.mu.Lock()
	defer src.around.mu.Unlock()
	if src.around.rules != nil && time.Since(src.around.asked) < aroundHolds {
		return src.around.rules, nil
	}
	return src.readRules(ctx)
}

func (src *Sources) readRules(ctx context.Context) (map[string]place.Rule, error) {
	list, err := src.Store.Connections(ctx)
	if err != nil {
		return nil, err
	}
	listedPlaces, err := src.Store.ListedPlaces(ctx, Listed())
	if err != nil {
		return nil, err
	}
	rules := map[string]place.Rule{}
	for _, c := range list {
		if k := kinds.Named(c.Kind); k != nil && k.Sends != nil && (k.Mute == nil || k.Mute(c.Settings) == "") {
			settings := map[string]string(c.Settings)
			if config, err := src.Config(&c); err == nil {
				settings = config.Settings // what it can do may depend on addresses that are kept like secrets
			}
			rules[c.ID] = k.Rule(settings, listedPlaces[c.ID])
		}
	}
	src.around.rules, src.around.asked = rules, time.Now()
	return rules, nil
}

// OwnPlaces tells of which connections a place is one person's own: an address, a number.
func (src *Sources) OwnPlaces(ctx context.Context) (map[string]bool, error) {
	list, err := src.Store.Connections(ctx)
	out := map[string]bool{}
	for _, c := range list {
		if k := kinds.Named(c.Kind); k != nil && k.Sends != nil && k.Sends.OwnPlaces {
			out[c.ID] = true
		}
	}
	return out, err
}

// Reaches gives what one connection takes for a place, as a sheet asks for it. Where the database does not answer, what was
// known last holds.
func (src *Sources) Reaches(connection string) (place.Rule, bool) {
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	rules, err := src.knownRules(ctx)
	if _, ok := rules[connection]; err == nil && !ok { // it may have been made just now
		rules, err = src.Rules(ctx)
	}
	if err != nil {
		src.Log.Warn("looking up what posts can go over failed", "error", err)
		src.around.mu.Lock()
		defer src.around.mu.Unlock()
		if rules = src.around.rules; rules == nil {
			return place.Rule{Any: true}, true
		}
	}
	r, ok := rules[connection]
	return r, ok
}

// People gives the people book: the persons who were entered, or the records of the source that was chosen as one.
func (src *Sources) People(ctx context.Context) (*people.Book, error) {
	src.around.mu.Lock()
	defer src.around.mu.Unlock()
	if src.around.book != nil && time.Since(src.around.booked) < aroundHolds {
		last, err := src.bookLast(ctx)
		if err != nil || last == src.around.bookLast { // who has just come in is in it, too
			return src.around.book, err
		}
	}
	list, err := src.persons(ctx)
	if err != nil {
		return nil, fmt.Errorf("reading the people book: %w", err)
	}
	book, err := people.New(list)
	if err != nil {
		return nil, fmt.Errorf("reading the people book: %w", err)
	}
	src.around.book, src.around.booked = book, time.Now()
	return book, nil
}

// ForgetPeople has the people book read anew.
func (src *Sources) ForgetPeople() {
	src.around.mu.Lock()
	src.around.book = nil
	src.around.mu.Unlock()
}

// bookLast is the last arrival of the source that the people book is made of.
func (src *Sources) bookLast(ctx context.Context) (int64, error) {
	if src.around.bookOf == "" {
		return 0, nil
	}
	return src.lastOf(ctx, src.around.bookOf)
}

func (src *Sources) persons(ctx context.Context) (list []people.Person, err error) {
	var chosen store.BookSource
	if err := src.Store.Choice(ctx, store.PeopleBook, &chosen); err != nil {
		return nil, err
	}
	if src.around.bookOf = chosen.Source; chosen.Source == "" {
		src.around.bookLast = 0
		return src.Store.WholeBook(ctx)
	}
	if src.around.bookLast, err = src.bookLast(ctx); err != nil {
		return nil, err
	}
	records, err := src.lookUp(ctx, chosen.Source)
	if err != nil {
		return nil, err
	}
	key, err := src.Store.SourceNamed(ctx, chosen.Source)
	if err != nil {
		return nil, err
	}
	if chosen.ID == "" && key != nil {
		chosen.ID = key.KeyField
	}
	return PersonsOf(records, chosen), nil
}

// PersonsOf makes persons of records. One without an id, or with one that another had, is passed over.
func PersonsOf(records []map[string]any, s store.BookSource) []people.Person {
	text := func(record map[string]any, field string) string {
		if field == "" {
			return ""
		}
		return strings.Join(strings.Fields(connect.KeyOf(record, field)), " ")
	}
	had := map[string]bool{}
	var out []people.Person
	for _, r := range records {
		p := people.Person{ID: text(r, s.ID), Name: text(r, s.Name), Prefers: text(r, s.Prefers), Addresses: []people.Address{}}
		if key := value.Fold(p.ID); key == "" || had[key] {
			continue
		} else {
			had[key] = true
		}
		for _, c := range value.SortedKeys(s.Addresses) {
			if to := text(r, s.Addresses[c]); to != "" {
				p.Addresses = append(p.Addresses, people.Address{Connection: c, Address: to})
			}
		}
		out = append(out, p)
	}
	return out
}

// Destination reads where somebody wants something sent to: a connection with a place, as it is kept. person/… is the address that a
// person of the people book prefers.
func (src *Sources) Destination(ctx context.Context, text string) (string, error) {
	connection, to, ok := strings.Cut(strings.TrimSpace(text), "/")
	if connection == "person" && ok {
		book, err := src.People(ctx)
		if err != nil {
			return "", err
		}
		p := book.Find(to)
		if p == nil {
			return "", fmt.Errorf("nobody in the people book is called %s", to)
		}
		a, err := p.Preferred()
		if err != nil {
			return "", err
		}
		connection, to = a.Connection, a.Address
	}
	rules, err := src.Rules(ctx)
	if err != nil {
		return "", err
	}
	rule, known := rules[connection]
	if !ok || !known {
		return "", fmt.Errorf("%q is no destination; write connection/place, such as square/#tours", text)
	}
	normal, err := rule.Take(to, src.Workspace)
	if err == nil && normal == "" {
		err = errors.New("the address is empty")
	}
	if err != nil {
		return "", err
	}
	return connection + "/" + normal, nil
}

// RoomOf gives the destination by which something is said in the room that a source reads: over the same connection or, where that
// cannot post, over one that lists a place of that name. It is "" where there is none.
func (src *Sources) RoomOf(ctx context.Context, source, room string) (string, error) {
	all, err := src.RoomsOf(ctx, source, room)
	if err != nil || len(all) == 0 {
		return "", err
	}
	return all[0], nil
}

// RoomsOf gives all destinations that are the room in which what a source reads is said, the nearest first. room is what its messages
// call it.
func (src *Sources) RoomsOf(ctx context.Context, source, room string) ([]string, error) {
	rules, err := src.Rules(ctx)
	if err != nil {
		return nil, err
	}
	var of store.Source
	var c store.Connection
	err = src.Store.DB.WithContext(ctx).Limit(1).Find(&of, "name = ?", source).Error
	if err == nil {
		err = src.Store.DB.WithContext(ctx).Limit(1).Find(&c, "id = ?", of.Connection).Error
	}
	if err != nil {
		return nil, err
	}
	called := []string{room}
	if k := kinds.Named(c.Kind); k != nil && k.SaidIn != nil {
		called = []string{k.SaidIn(of.Settings), room}
	}
	connection, _, _ := strings.Cut(source, "/")
	var out []string
	if rule, ok := rules[connection]; ok {
		for _, name := range called {
			if place, err := rule.Take(name, src.Workspace); err == nil && place != "" {
				out = append(out, connection+"/"+place)
				break
			}
		}
		return out, nil // a place of that name elsewhere is another one
	}
	for _, name := range value.SortedKeys(rules) {
		if slices.Contains(rules[name].Places, called[0]) {
			out = append(out, name+"/"+called[0])
		}
	}
	return out, nil
}
