package people

import (
	"context"
	"net/http"
	"slices"
	"strings"

	"dorfbote/internal/api/kit"
	"dorfbote/internal/core/people"
	"dorfbote/internal/core/place"
	"dorfbote/internal/core/value"
	"dorfbote/internal/notify"
	"dorfbote/internal/store"
)

// BookItem is a person of the people book.
type BookItem struct {
	ID        string            `json:"id"`
	Name      string            `json:"name"`
	Prefers   string            `json:"prefers" doc:"the connection that posts for the person go over"`
	Addresses map[string]string `json:"addresses" doc:"by connection"`
	// Wrong says what is wrong with addresses, by connection: posts over it would fail.
	Wrong map[string]string `json:"wrong" doc:"what is wrong with an address, by its connection"`
}

// BookBody is a page of the people book.
type BookBody struct {
	Items       []BookItem       `json:"items"`
	Next        int              `json:"next" doc:"give this as from to read on; 0 at the end"`
	Connections []string         `json:"connections" doc:"those that persons can have addresses on"`
	Source      store.BookSource `json:"source" doc:"the source whose records are the people book; its source is empty where persons are entered here"`
}

type bookInput struct {
	Q     string `query:"q" doc:"text in a name, an id or an address"`
	From  int    `query:"from" minimum:"0"`
	Limit int    `query:"limit" default:"50" minimum:"1" maximum:"200"`
}

type bookOutput struct{ Body BookBody }

type bookItemOutput struct{ Body BookItem }

type putPersonInput struct {
	ID   string `path:"id" maxLength:"200"`
	Body struct {
		Name      string            `json:"name" maxLength:"200"`
		Prefers   string            `json:"prefers,omitempty"`
		Addresses map[string]string `json:"addresses,omitempty" doc:"by connection"`
	}
}

type personIDInput struct {
	ID string `path:"id" maxLength:"200"`
}

type importInput struct {
	Body struct {
		As    string `json:"as" enum:"csv,vcard"`
		Text  string `json:"text" maxLength:"20000000" doc:"CSV headed id,name,prefers and a column for each connection; or vCards"`
		Whole bool   `json:"whole,omitempty" doc:"those who are not in it are taken out of the book"`
		// Mail, Phone and Room are the connections that the addresses of vCards are for.
		Mail  string `json:"mail,omitempty" doc:"the connection that mail addresses of vCards are for"`
		Phone string `json:"phone,omitempty"`
		Room  string `json:"room,omitempty"`
	}
}

type importOutput struct {
	Body struct {
		Items   []BookItem `json:"items" doc:"the first 20 of them"`
		Persons int        `json:"persons"`
		New     int        `json:"new"`
		Gone    int        `json:"gone"`
		Done    bool       `json:"done"`
	}
}

type textOutput struct {
	ContentType string `header:"Content-Type"`
	Disposition string `header:"Content-Disposition"`
	Body        []byte
}

type bookSourceInput struct{ Body store.BookSource }

type bookSourceOutput struct {
	Body struct {
		Persons int        `json:"persons"`
		Items   []BookItem `json:"items" doc:"the first 20 of them"`
	}
}

func (s *People) bookRoutes() {
	person := func(in *putPersonInput) string { return value.Fold(in.ID) }
	kit.Register(s.Kit, kit.Op("list-people-book", http.MethodGet, "/api/people-book", "The people book: persons with an address on each connection", "People book"), kit.Anyone, s.listBook)
	kit.Register(s.Kit, kit.Op("export-people-book", http.MethodGet, "/api/people-book.csv", "The people book as CSV, as it is imported", "People book"), kit.Editors, s.exportBook)
	kit.Changes(s.Kit, kit.Op("put-person", http.MethodPut, "/api/people-book/{id}", "Enter a person, or change one", "People book"), kit.BookKeepers, kit.About[putPersonInput, bookItemOutput](store.AboutBookPerson, person), s.putPerson)
	kit.Changes(s.Kit, kit.Op("remove-person", http.MethodDelete, "/api/people-book/{id}", "Take a person out of the book", "People book"), kit.BookKeepers, kit.About[personIDInput, struct{}](store.AboutBookPerson, func(in *personIDInput) string { return value.Fold(in.ID) }), s.removePerson)
	kit.Changes(s.Kit, kit.Op("import-people-book", http.MethodPost, "/api/people-book/import", "Read persons from CSV or vCards into the book", "People book"), kit.BookKeepers, kit.Act[importInput, importOutput](store.AboutChoice, func(*importInput) string { return store.PeopleBook }), s.importBook)
	kit.Register(s.Kit, kit.Op("look-at-people-book", http.MethodPost, "/api/people-book/look", "What would come of an import", "People book"), kit.BookKeepers, s.lookAtBook)
	kit.Changes(s.Kit, kit.Op("choose-people-book", http.MethodPut, "/api/people-book/source", "Have the records of a source be the people book; without one, persons are entered here", "People book"), kit.BookKeepers, kit.About[bookSourceInput, bookSourceOutput](store.AboutChoice, func(*bookSourceInput) string { return store.PeopleBook }), s.chooseBook)
}

// bookItems shows persons, and what is wrong with their addresses.
func (s *People) bookItems(ctx context.Context, list []people.Person) ([]BookItem, map[string]place.Rule, error) {
	rules, err := s.Engine.Sources.Rules(ctx)
	if err != nil {
		return nil, nil, err
	}
	items := make([]BookItem, len(list))
	for i := range list {
		p := &list[i]
		it := BookItem{ID: p.ID, Name: p.Name, Prefers: p.Prefers, Addresses: map[string]string{}, Wrong: map[string]string{}}
		for _, a := range p.Addresses {
			it.Addresses[a.Connection] = a.Address
			if rule, ok := rules[a.Connection]; !ok {
				it.Wrong[a.Connection] = "there is no connection " + a.Connection + " that posts can go over"
			} else if _, err := rule.Take(a.Address, s.Engine.Workspace); err != nil {
				it.Wrong[a.Connection] = err.Error()
			}
		}
		if p.Prefers != "" && p.On(p.Prefers) == "" {
			it.Wrong[p.Prefers] = "it is preferred, and there is no address"
		}
		items[i] = it
	}
	return items, rules, nil
}

func (s *People) listBook(ctx context.Context, _ *kit.Person, in *bookInput) (*bookOutput, error) {
	out := &bookOutput{}
	if err := s.Store.Choice(ctx, store.PeopleBook, &out.Body.Source); err != nil {
		return nil, err
	}
	list, err := s.bookPage(ctx, in, out.Body.Source.Source != "")
	if err != nil {
		return nil, err
	}
	if len(list) > in.Limit {
		list = list[:in.Limit]
		out.Body.Next = in.From + in.Limit
	}
	var rules map[string]place.Rule
	if out.Body.Items, rules, err = s.bookItems(ctx, list); err != nil {
		return nil, err
	}
	out.Body.Connections = value.SortedKeys(rules)
	return out, nil
}

// bookPage gives one more than is asked for, where there are more.
func (s *People) bookPage(ctx context.Context, in *bookInput, ofSource bool) ([]people.Person, error) {
	if !ofSource {
		rows, err := s.Store.Book(ctx, in.Q, in.From, in.Limit+1)
		out := make([]people.Person, len(rows))
		for i := range rows {
			out[i] = rows[i].Person()
		}
		return out, err
	}
	book, err := s.Engine.Sources.People(ctx)
	if err != nil {
		return nil, err
	}
	var out []people.Person
	n, want := 0, value.Fold(in.Q)
	for _, p := range book.All() {
		if want != "" && !strings.Contains(value.Fold(p.ID+" "+p.Name+" "+people.WriteCSV([]*people.Person{p})), want) {
			continue
		}
		if n++; n > in.From && len(out) <= in.Limit {
			out = append(out, *p)
		}
	}
	return out, nil
}

func (s *People) exportBook(ctx context.Context, _ *kit.Person, _ *struct{}) (*textOutput, error) {
	book, err := s.Engine.Sources.People(ctx)
	if err != nil {
		return nil, err
	}
	return &textOutput{"text/csv; charset=utf-8", `attachment; filename="people.csv"`, []byte(people.WriteCSV(book.All()))}, nil
}

// entered refuses a change of persons where a source is the people book.
func (s *People) entered(ctx context.Context) error {
	var chosen store.BookSource
	if err := s.Store.Choice(ctx, store.PeopleBook, &chosen); err != nil || chosen.Source == "" {
		return err
	}
	return kit.Invalid("body", "the people book is %s; change its records there", chosen.Source)
}

func (s *People) putPerson(ctx context.Context, who *kit.Person, in *putPersonInput) (*bookItemOutput, error) {
	if err := s.entered(ctx); err != nil {
		return nil, err
	}
	line := func(t string) string { return strings.Join(strings.Fields(t), " ") }
	p := people.Person{ID: line(in.ID), Name: line(in.Body.Name), Prefers: in.Body.Prefers, Addresses: []people.Address{}}
	if p.ID == "" {
		return nil, kit.Invalid("path.id", "a person has an id")
	}
	rules, err := s.Engine.Sources.Rules(ctx)
	if err != nil {
		return nil, err
	}
	for _, c := range value.SortedKeys(in.Body.Addresses) {
		to := line(in.Body.Addresses[c])
		if to == "" {
			continue
		}
		rule, ok := rules[c]
		if !ok {
			return nil, kit.Invalid("body.addresses."+c, "there is no connection %s that posts can go over", c)
		}
		if to, err = rule.Take(to, s.Engine.Workspace); err != nil {
			return nil, kit.Invalid("body.addresses."+c, "%v", err)
		}
		p.Addresses = append(p.Addresses, people.Address{Connection: c, Address: to})
	}
	if p.Prefers != "" && p.On(p.Prefers) == "" {
		return nil, kit.Invalid("body.prefers", "%s has no address on %s", p.Called(), p.Prefers)
	}
	before, err := s.Engine.Sources.People(ctx)
	if err != nil {
		return nil, err
	}
	if err := s.Store.PutPersons(ctx, []store.BookPerson{store.InBook(p, s.Engine.Now())}, false); err != nil {
		return nil, err
	}
	s.bookChanged(ctx)
	s.tellPersons(ctx, who, before, []people.Person{p}, nil)
	items, _, err := s.bookItems(ctx, []people.Person{p})
	if err != nil {
		return nil, err
	}
	return &bookItemOutput{items[0]}, nil
}

func (s *People) removePerson(ctx context.Context, who *kit.Person, in *personIDInput) (*struct{}, error) {
	if err := s.entered(ctx); err != nil {
		return nil, err
	}
	before, err := s.Engine.Sources.People(ctx)
	if err != nil {
		return nil, err
	}
	err = s.Store.RemovePerson(ctx, in.ID)
	s.bookChanged(ctx)
	if was := before.ByID(in.ID); err == nil && was != nil {
		s.tellPersons(ctx, who, before, nil, []people.Person{*was})
	}
	return nil, err
}

// tellPersons tells those who can sign in that somebody else has changed what the people book has of them.
func (s *People) tellPersons(ctx context.Context, who *kit.Person, before *people.Book, now, gone []people.Person) {
	tell := func(p *people.Person, words string) {
		for _, a := range p.Addresses {
			if !strings.Contains(a.Address, "@") {
				continue
			}
			account, err := s.Store.SignsIn(ctx, a.Address)
			if err != nil || account == nil || account.ID == who.ID {
				continue
			}
			s.Engine.Notice(ctx, store.Notice{What: "has been changed in the people book", Words: words + " by " + who.Name + ". If that isn't right, tell an administrator.", Go: "/people", About: p.Called(), Owner: &account.ID})
			return
		}
	}
	for i := range now {
		switch was := before.ByID(now[i].ID); {
		case was == nil:
			tell(&now[i], "You were entered")
		case !was.Same(&now[i]): // whoever was reached there until now hears of it
			tell(was, "Your entry and its addresses were changed")
		}
	}
	for i := range gone {
		tell(&gone[i], "Your entry was taken out")
	}
}

func (s *People) bookChanged(ctx context.Context) {
	s.Engine.Sources.ForgetPeople()
	s.Engine.Tell(ctx, notify.Message{Topic: notify.People})
}

// shownOfBook is how many persons are shown of what would be imported or chosen.
const shownOfBook = 20

// imported enters in the audit log whom an import touched, as they were and as they are, and tells them.
func (s *People) imported(ctx context.Context, who *kit.Person, before *people.Book, rows []store.BookPerson, whole bool) {
	was, is, kept := map[string]any{}, map[string]any{}, map[string]bool{}
	var now, gone []people.Person
	for i := range rows {
		p := rows[i].Person()
		kept[value.Fold(p.ID)] = true
		if old := before.ByID(p.ID); old != nil {
			if old.Same(&p) {
				continue
			}
			was[p.ID] = old
		}
		is[p.ID] = p
		now = append(now, p)
	}
	if whole {
		for _, p := range before.All() {
			if !kept[value.Fold(p.ID)] {
				was[p.ID] = p
				gone = append(gone, *p)
			}
		}
	}
	kit.Touched(ctx, map[string]any{"persons": was}, map[string]any{"persons": is})
	s.tellPersons(ctx, who, before, now, gone)
}

func (s *People) importBook(ctx context.Context, who *kit.Person, in *importInput) (*importOutput, error) {
	rows, out, err := s.readBook(ctx, in)
	if err != nil {
		return nil, err
	}
	before, err := s.Engine.Sources.People(ctx)
	if err != nil {
		return nil, err
	}
	if err := s.Store.PutPersons(ctx, rows, in.Body.Whole); err != nil {
		return nil, err
	}
	out.Body.Done = true
	s.bookChanged(ctx)
	s.imported(ctx, who, before, rows, in.Body.Whole)
	return out, nil
}

func (s *People) lookAtBook(ctx context.Context, _ *kit.Person, in *importInput) (*importOutput, error) {
	_, out, err := s.readBook(ctx, in)
	return out, err
}

// readBook reads what is to be imported, and says what would come of it.
func (s *People) readBook(ctx context.Context, in *importInput) ([]store.BookPerson, *importOutput, error) {
	if err := s.entered(ctx); err != nil {
		return nil, nil, err
	}
	var list []people.Person
	var err error
	if in.Body.As == "vcard" {
		list, err = people.ReadVCard(in.Body.Text, people.Over{Mail: in.Body.Mail, Phone: in.Body.Phone, Room: in.Body.Room})
	} else {
		list, err = people.ReadCSV(in.Body.Text)
	}
	if err != nil {
		return nil, nil, kit.Invalid("body.text", "%v", err)
	}
	if _, err := people.New(list); err != nil {
		return nil, nil, kit.Invalid("body.text", "%v", err)
	}
	had, err := s.Store.WholeBook(ctx)
	if err != nil {
		return nil, nil, err
	}
	out := &importOutput{}
	known := map[string]bool{}
	for _, p := range had {
		known[value.Fold(p.ID)] = true
	}
	rows := make([]store.BookPerson, len(list))
	for i, p := range list {
		rows[i] = store.InBook(p, s.Engine.Now())
		if !known[rows[i].Key] {
			out.Body.New++
		}
	}
	if out.Body.Persons = len(list); in.Body.Whole {
		out.Body.Gone = len(had) - (len(list) - out.Body.New)
	}
	out.Body.Items, _, err = s.bookItems(ctx, list[:min(len(list), shownOfBook)])
	return rows, out, err
}

func (s *People) chooseBook(ctx context.Context, _ *kit.Person, in *bookSourceInput) (*bookSourceOutput, error) {
	out := &bookSourceOutput{}
	if in.Body.Source == "" {
		err := s.Store.Choose(ctx, store.PeopleBook, nil)
		s.bookChanged(ctx)
		out.Body.Items = []BookItem{}
		return out, err
	}
	names, err := s.Store.SourceNames(ctx, "")
	if err != nil {
		return nil, err
	}
	if near := value.Nearest(in.Body.Source, names); !slices.Contains(names, in.Body.Source) {
		return nil, kit.Invalid("body.source", "there is no source %s; the nearest is %s", in.Body.Source, near)
	}
	if err := s.Store.Choose(ctx, store.PeopleBook, in.Body); err != nil {
		return nil, err
	}
	s.bookChanged(ctx)
	book, err := s.Engine.Sources.People(ctx)
	if err != nil {
		return nil, err
	}
	all := book.All()
	first := make([]people.Person, 0, shownOfBook)
	for _, p := range all[:min(len(all), shownOfBook)] {
		first = append(first, *p)
	}
	out.Body.Persons = len(all)
	out.Body.Items, _, err = s.bookItems(ctx, first)
	return out, err
}
