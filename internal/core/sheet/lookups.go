package sheet

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"dorfbote/internal/core/formula"
	"dorfbote/internal/core/place"
	"dorfbote/internal/core/report"
)

// How formulas look something up in a table of the sheet: by a field of the record, and for a place.
var (
	keyed      = regexp.MustCompile(`\b(?:rows\(\s*([\pL_][\pL\pN_]*)\s*,\s*|([\pL_][\pL\pN_]*)\[\s*)record\??\.([\pL_][\pL\pN_]*)\s*[\])]`)
	placedRow  = regexp.MustCompile(`^\$\{\s*([\pL_][\pL\pN_]*)\[.*\]\??\.([\pL_][\pL\pN_]*)\s*\}$`)
	placedItem = regexp.MustCompile(`^\$\{\s*it\??\.([\pL_][\pL\pN_]*)\s*\}$`)
	eachRow    = regexp.MustCompile(`^\s*(?:\$\{)?\s*rows\(\s*([\pL_][\pL\pN_]*)\s*,`)
)

// Lookup is a table of the sheet, and the field of the record by which something is looked up in it.
type Lookup struct{ Table, Field string }

// LookedUp lists by which fields the sheet looks something up in its tables.
func (s *Sheet) LookedUp() (out []Lookup) {
	s.speaks(func(string) {}, func(text string) {
		for _, m := range keyed.FindAllStringSubmatch(text, -1) {
			l := Lookup{m[1] + m[2], m[3]}
			if s.table(l.Table) != nil && !slices.Contains(out, l) {
				out = append(out, l)
			}
		}
	})
	return out
}

func (s *Sheet) table(name string) *Table {
	for i := range s.Tables {
		if s.Tables[i].Name == name {
			return &s.Tables[i]
		}
	}
	return nil
}

// doubtKeys doubts rows of tables whose key never came while one like it did, such as a room's whole address for its name.
func (s *Sheet) doubtKeys(words *formula.Words, seen func(field string) []Tally, problems *report.List) {
	for _, l := range s.LookedUp() {
		had := seen(l.Field)
		names := make([]string, len(had))
		for i, h := range had {
			names[i] = h.Value
		}
		t := s.table(l.Table)
		for i, row := range t.Rows {
			key := formula.Show(row[TableKey], words.Workspace)
			if key == "" || slices.Contains(names, key) {
				continue
			}
			near := sameRoom(key, names)
			if near == "" {
				near = nearest(key, names)
			}
			if near == "" {
				continue
			}
			path := fmt.Sprintf("tables.%s[%d].%s", t.Name, i, TableKey)
			problems.Warn(t.At, path, near, "no recent record has %s %q, by which %s is looked up in; %d have %q", l.Field, key, t.Name, countOf(near, had), near)
			problems.Mend(near, path, near)
		}
	}
}

// sameRoom finds what names the same room in another way: #tours, tours, and tours@rooms.example. Two whole addresses never do.
func sameRoom(text string, among []string) string {
	bare := func(s string) (name, server string) {
		name, server, _ = strings.Cut(strings.ToLower(strings.TrimPrefix(strings.TrimSpace(s), "#")), "@")
		return name, server
	}
	name, server := bare(text)
	for _, s := range among {
		if n, at := bare(s); n == name && (server == "" || at == "" || at == server) {
			return s
		}
	}
	return ""
}

// doubtPlaces doubts rows of tables that give a connection what is no place there.
func (s *Sheet) doubtPlaces(p *Plan, known Known, problems *report.List) {
	if known.Reaches == nil || known.Lenient || len(s.Tables) == 0 {
		return
	}
	said := map[string]bool{} // by path, so that several tells say it once
	for _, to := range s.placed() {
		t := s.table(to.table)
		rule, ok := known.Reaches(to.connection)
		if t == nil || !ok || rule.Any {
			continue
		}
		for i, row := range t.Rows {
			text, path := formula.Show(row[to.column], p.Terms.Workspace), fmt.Sprintf("tables.%s[%d].%s", t.Name, i, to.column)
			_, err := rule.Take(text, p.Terms.Workspace)
			if err == nil || text == "" || said[path] {
				continue
			}
			said[path] = true
			near := ""
			if rule.Form == place.Listed {
				near = sameRoom(text, rule.Places)
			}
			words := fmt.Sprintf("%s cannot be told: %s", to.connection, err)
			switch other, rest, split := strings.Cut(text, "/"); {
			case near != "":
			case split && other == to.connection:
				near = rest
			case split && contains(connectionsOf(known), other):
				words += fmt.Sprintf("; it is a place of %s, which needs a column and a tell of its own", other)
			case rule.Form == place.Listed:
				near = nearest(text, rule.Places)
			}
			problems.Warn(t.At, path, near, "%s", words)
			if near != "" {
				problems.Mend(near, path, near)
			}
		}
	}
}

func connectionsOf(known Known) []string {
	if known.Connections == nil {
		return nil
	}
	return known.Connections()
}

// fromTable is a column of a table that gives the places of a connection.
type fromTable struct{ connection, table, column string }

// placed lists the columns of tables that give places.
func (s *Sheet) placed() (out []fromTable) {
	add := func(t report.Text, each *report.Text) {
		connection, rest, _ := strings.Cut(t.S, "/")
		if m := placedRow.FindStringSubmatch(rest); m != nil {
			out = append(out, fromTable{connection, m[1], m[2]})
		}
		if m := placedItem.FindStringSubmatch(rest); m != nil && each != nil {
			if e := eachRow.FindStringSubmatch(each.S); e != nil {
				out = append(out, fromTable{connection, e[1], m[1]})
			}
		}
	}
	for _, b := range s.branches() {
		for _, t := range b.Tell {
			add(t.To, t.Each)
			for _, more := range []*report.Text{t.Cc, t.Bcc} {
				if more != nil {
					add(*more, t.Each)
				}
			}
		}
	}
	for _, a := range s.Asks {
		for _, of := range a.Of {
			add(of, nil)
		}
	}
	return out
}
