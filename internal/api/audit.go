package api

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"reflect"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
)

// AuditItem is one change that a person made.
type AuditItem struct {
	ID     int64           `json:"id"`
	At     time.Time       `json:"at"`
	Person *int64          `json:"person"`
	Name   string          `json:"name" doc:"of the person, as it was"`
	Did    string          `json:"did" doc:"the operation of the API"`
	Words  string          `json:"words" doc:"the operation in words"`
	What   string          `json:"what" doc:"the kind of thing: workflow, connection, source, post, destination, person, team, invitation"`
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

// auditable says how a kind of thing is looked up. Secrets and what changes by itself are left out.
type auditable struct{ what, table, key, without string }

var (
	aboutWorkflow    = auditable{"workflow", "workflows", "id", "call_token,updated_at,updated_by,since"}
	aboutConnection  = auditable{"connection", "connections", "id", "sealed,secret,last_ok,failing_since,last_error"}
	aboutSource      = auditable{"source", "kinds", "source", "learnt,learnt_at"}
	aboutPost        = auditable{"post", "posts", "id", "body,key,attempts,answer,status,remote_id,sent_at,expires_at"}
	aboutDestination = auditable{"destination", "destinations", "name", "not_before,failures,spacing_ms,spaced_at"}
	aboutPerson      = auditable{"person", "people", "id", "password_hash"}
	aboutTeam        = auditable{"team", "teams", "id", ""}
	aboutInvitation  = auditable{"invitation", "invitations", "id", "token_hash"}
)

// subjectOf says what an operation is about.
func subjectOf(o huma.Operation) (auditable, bool) {
	if o.Method == http.MethodGet {
		return auditable{}, false
	}
	for _, s := range []struct {
		path string
		auditable
	}{
		{"/api/workflows", aboutWorkflow}, {"/api/sources", aboutSource}, {"/api/posts", aboutPost}, {"/api/destinations", aboutDestination},
		{"/api/people", aboutPerson}, {"/api/teams", aboutTeam}, {"/api/invitations", aboutInvitation}, {"/api/connections", aboutConnection},
	} {
		if strings.HasPrefix(o.Path, s.path) {
			return s.auditable, true
		}
	}
	return auditable{}, false
}

// nameIn finds what names a thing among an operation's input or output.
func nameIn(v any, names ...string) string {
	r := reflect.ValueOf(v)
	for r.Kind() == reflect.Pointer {
		if r.IsNil() {
			return ""
		}
		r = r.Elem()
	}
	if r.Kind() != reflect.Struct {
		return ""
	}
	for _, name := range names {
		f := r.FieldByName(name)
		if !f.IsValid() || f.IsZero() {
			continue
		}
		switch f.Kind() {
		case reflect.Int64, reflect.String:
			return fmt.Sprint(f.Interface())
		}
	}
	if body := r.FieldByName("Body"); body.IsValid() && body.CanInterface() {
		return nameIn(body.Interface(), names...)
	}
	return ""
}

func (a auditable) in(v any) string {
	switch a.what {
	case "source":
		if c, k := nameIn(v, "Connection"), nameIn(v, "Kind"); c != "" && k != "" {
			return c + "/" + k
		}
		return nameIn(v, "Source")
	case "destination":
		return nameIn(v, "Name")
	}
	return nameIn(v, "ID")
}

// now gives a thing as it is, nil where there is none.
func (s *Server) snapshot(ctx context.Context, a auditable, about string) json.RawMessage {
	if about == "" {
		return nil
	}
	var out *string
	without := strings.Split(a.without, ",")
	extra := "'{}'::jsonb"
	if a.what == "person" {
		extra = "jsonb_build_object('teams', (SELECT coalesce(jsonb_agg(m.team ORDER BY m.team), '[]') FROM team_people m WHERE m.person = t.id))"
	}
	err := s.store.DB.WithContext(ctx).Raw("SELECT ((to_jsonb(t) || "+extra+") - ?::text[])::text FROM "+a.table+" t WHERE t."+a.key+"::text = ?", "{"+strings.Join(without, ",")+"}", about).Scan(&out).Error
	if err != nil || out == nil {
		return nil
	}
	return json.RawMessage(*out)
}

// draftsTogether is for how long a person's edits of one draft are one entry.
const draftsTogether = 15 * time.Minute

// record writes down what a person changed. An operation that changed nothing leaves no entry, and neither does one
// that was refused.
func (s *Server) record(ctx context.Context, who *Person, did string, a auditable, about string, before json.RawMessage) {
	ctx = context.WithoutCancel(ctx)
	after := s.snapshot(ctx, a, about)
	if string(before) == string(after) {
		return
	}
	text := func(raw json.RawMessage) any {
		if raw == nil {
			return nil
		}
		return string(raw)
	}
	db := s.store.DB.WithContext(ctx)
	if did == "save-draft" {
		res := db.Exec(`UPDATE audit SET after = ?::jsonb, at = now() WHERE id = (SELECT id FROM audit WHERE what = ? AND about = ? ORDER BY id DESC LIMIT 1)
			AND did = ? AND person = ? AND at > ?`, text(after), a.what, about, did, who.ID, time.Now().Add(-draftsTogether))
		if res.Error == nil && res.RowsAffected > 0 {
			return
		}
	}
	if err := db.Exec("INSERT INTO audit (person, name, did, what, about, before, after) VALUES (?, ?, ?, ?, ?, ?::jsonb, ?::jsonb)",
		who.ID, who.Name, did, a.what, about, text(before), text(after)).Error; err != nil {
		s.Log.Error("writing the audit log failed", "did", did, "what", a.what, "about", about, "error", err)
	}
}

type auditInput struct {
	What   string `query:"what" enum:"workflow,connection,source,post,destination,person,team,invitation,"`
	About  string `query:"about"`
	Person int64  `query:"person"`
	Before int64  `query:"before"`
	Limit  int    `query:"limit" default:"50" minimum:"1" maximum:"200"`
}

func (s *Server) auditRoutes() {
	register(s, op("list-audit", http.MethodGet, "/api/audit", "Who changed what, newest first, with before and after", "People"), anyone, s.listAudit)
}

func (s *Server) listAudit(ctx context.Context, who *Person, in *auditInput) (*listOutput[AuditItem], error) {
	q := s.store.DB.WithContext(ctx).Table("audit").Select("id, at, person, name, did, what, about, before::text AS was, after::text AS now").Order("id DESC").Limit(in.Limit + 1)
	if in.What != "" {
		q = q.Where("what = ?", in.What)
	}
	if who.Role != "administrator" { // who may do what is the administrators' affair
		q = q.Where("what NOT IN ('person', 'invitation')")
	}
	if in.About != "" {
		q = q.Where("about = ?", in.About)
	}
	if in.Person > 0 {
		q = q.Where("person = ?", in.Person)
	}
	if in.Before > 0 {
		q = q.Where("id < ?", in.Before)
	}
	var rows []struct {
		ID                     int64
		At                     time.Time
		Person                 *int64
		Name, Did, What, About string
		Was, Now               *string
	}
	if err := q.Scan(&rows).Error; err != nil {
		return nil, err
	}
	next := int64(0)
	if len(rows) > in.Limit {
		rows = rows[:in.Limit]
		next = rows[len(rows)-1].ID
	}
	items := make([]AuditItem, 0, len(rows))
	for _, r := range rows {
		it := AuditItem{ID: r.ID, At: r.At, Person: r.Person, Name: r.Name, Did: r.Did, Words: s.summaries[r.Did], What: r.What, About: r.About}
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
	return list(items, next), nil
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
	for _, n := range sortedKeys(names) {
		if was, now := show(before[n]), show(after[n]); was != now {
			out = append(out, AuditField{n, was, now})
		}
	}
	return out
}
