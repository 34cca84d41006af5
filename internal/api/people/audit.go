package people

import (
	"context"
	"encoding/json"
	"net/http"
	"time"

	"dorfbote/internal/api/kit"
	"dorfbote/internal/core/value"
	"dorfbote/internal/store"
)

// AuditItem is one change that a person made.
type AuditItem struct {
	ID     int64           `json:"id"`
	At     time.Time       `json:"at"`
	Person *int64          `json:"person"`
	Name   string          `json:"name" doc:"of the person, as it was"`
	Did    string          `json:"did" doc:"the operation of the API"`
	Words  string          `json:"words" doc:"the operation in words"`
	What   string          `json:"what" doc:"the kind of thing: workflow, connection, source, post, destination, person, team, invitation, session, notice"`
	About  string          `json:"about" doc:"which"`
	Title  string          `json:"title" doc:"what it is or was called"`
	Before json.RawMessage `json:"before" doc:"as it was; null for what was made"`
	After  json.RawMessage `json:"after" doc:"as it was afterwards; null for what was deleted"`
	Fields []AuditField    `json:"fields" doc:"what differs"`
}

// AuditField is one thing that a change made different.
type AuditField struct {
	Field string `json:"field"`
	Was   string `json:"was"`
	Now   string `json:"now"`
}

type auditInput struct {
	What   string `query:"what" enum:"workflow,connection,source,post,destination,person,team,invitation,session,notice,person of the people book,choice,"`
	About  string `query:"about"`
	Person int64  `query:"person"`
	Before int64  `query:"before"`
	Limit  int    `query:"limit" default:"50" minimum:"1" maximum:"200"`
}

func (s *People) auditRoutes() {
	kit.Register(s.Kit, kit.Op("list-audit", http.MethodGet, "/api/audit", "Who changed what, newest first, with before and after", "People"), kit.Anyone, s.listAudit)
}

func (s *People) listAudit(ctx context.Context, who *kit.Person, in *auditInput) (*kit.List[AuditItem], error) {
	f := store.AuditFilter{What: in.What, About: in.About, Person: in.Person, Before: in.Before, Limit: in.Limit + 1}
	if who.Role != store.Administrator { // who may do what is the administrators' affair
		f.NotWhat = []string{"person", "invitation", "session"}
	}
	rows, err := s.Store.Audit(ctx, f)
	if err != nil {
		return nil, err
	}
	next := int64(0)
	if len(rows) > in.Limit {
		rows = rows[:in.Limit]
		next = rows[len(rows)-1].ID
	}
	items := make([]AuditItem, 0, len(rows))
	for _, r := range rows {
		it := AuditItem{ID: r.ID, At: r.At, Person: r.Person, Name: r.Name, Did: r.Did, Words: s.Summaries[r.Did], What: r.What, About: r.About}
		before, after := fieldsOf(r.Was), fieldsOf(r.Now)
		it.Before, it.After = rawOf(r.Was), rawOf(r.Now)
		it.Fields = differing(before, after)
		it.Title = r.About
		for _, m := range []map[string]any{after, before} {
			for _, name := range []string{"name", "title", "email"} {
				if t, ok := m[name].(string); ok && t != "" && it.Title == r.About {
					it.Title = t
				}
			}
		}
		items = append(items, it)
	}
	return kit.ListOf(items, next), nil
}

func rawOf(s *string) json.RawMessage {
	if s == nil {
		return json.RawMessage("null")
	}
	return json.RawMessage(*s)
}

func fieldsOf(s *string) map[string]any {
	m := map[string]any{}
	if s != nil {
		_ = json.Unmarshal([]byte(*s), &m)
	}
	return m
}

func differing(before, after map[string]any) []AuditField {
	out := []AuditField{}
	names := map[string]bool{}
	for n := range before {
		names[n] = true
	}
	for n := range after {
		names[n] = true
	}
	show := func(v any) string {
		switch x := v.(type) {
		case nil:
			return ""
		case string:
			return x
		}
		raw, _ := json.Marshal(v)
		return string(raw)
	}
	for _, n := range value.SortedKeys(names) {
		was, now := show(before[n]), show(after[n])
		if was == now {
			continue
		}
		if kit.Hidden[n] {
			if was != "" {
				was = "(as it was)"
			}
			if now != "" {
				now = "(another)"
			}
		}
		out = append(out, AuditField{n, was, now})
	}
	return out
}
