package api

import (
	"context"
	"encoding/json"
	"net/http"
	"strconv"
	"time"
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

// auditable says how a kind of thing is looked up. Secrets and what changes by itself are left out; of a secret, only that it
// is another one is seen, by a few letters of its sealed form's hash.
type auditable struct{ what, table, key, without, also string }

var (
	aboutWorkflow    = auditable{what: "workflow", table: "workflows", key: "id", without: "call_token,updated_at,updated_by,since", also: "'call_token', " + hashed("nullif(t.call_token, '')")}
	aboutConnection  = auditable{what: "connection", table: "connections", key: "id", without: "sealed,secret,last_ok,failing_since,last_error", also: "'secrets', " + hashed("encode(t.sealed, 'hex')")}
	aboutSource      = auditable{what: "source", table: "kinds", key: "source", without: "learnt,learnt_at", also: "'rhythm', (SELECT jsonb_build_array(p.quickest, p.slowest) FROM polls p WHERE p.source = t.source)"}
	aboutPost        = auditable{what: "post", table: "posts", key: "id", without: "body,key,attempts,answer,status,remote_id,sent_at,expires_at"}
	aboutDestination = auditable{what: "destination", table: "destinations", key: "name", without: "not_before,failures,spacing_ms,spaced_at"}
	aboutPerson      = auditable{what: "person", table: "people", key: "id", without: "password_hash", also: "'password', " + hashed("t.password_hash") +
		", 'teams', (SELECT coalesce(jsonb_agg(m.team ORDER BY m.team), '[]') FROM team_people m WHERE m.person = t.id), 'sessions', (SELECT count(*) FROM sign_ins i WHERE i.person = t.id AND i.ended_at IS NULL)"}
	aboutTeam       = auditable{what: "team", table: "teams", key: "id"}
	aboutInvitation = auditable{what: "invitation", table: "invitations", key: "id", without: "token_hash"}
	aboutSession    = auditable{what: "session", table: "sign_ins", key: "id", without: "seen_at"}
	aboutNotice     = auditable{what: "notice", table: "notices", key: "id"}
)

func hashed(column string) string { return "left(md5(" + column + "), 8)" }

// hidden are the fields of which nobody is shown more than that they are another.
var hidden = map[string]bool{"secrets": true, "password": true, "call_token": true}

// changing states what an operation changes: the kind of thing, and which one, by its input or, for what is made, by its
// output. An act changes nothing that could be compared, and is written down whenever it is done.
type changing[I, O any] struct {
	auditable
	in   func(*I) string
	out  func(*O) string
	act  bool
	self bool // the person who does it
}

// idText writes a number as what names a thing.
func idText(id int64) string { return strconv.FormatInt(id, 10) }

// about states that an operation changes what its input names.
func about[I, O any](a auditable, in func(*I) string) changing[I, O] {
	return changing[I, O]{auditable: a, in: in}
}

// makes states that an operation makes what its output names.
func makes[I, O any](a auditable, out func(*O) string) changing[I, O] {
	return changing[I, O]{auditable: a, out: out}
}

// act states that an operation does something with what its input names.
func act[I, O any](a auditable, in func(*I) string) changing[I, O] {
	return changing[I, O]{auditable: a, in: in, act: true}
}

// oneself states that an operation changes what is kept of whoever does it.
func oneself[I, O any]() changing[I, O] { return changing[I, O]{auditable: aboutPerson, self: true} }

// byID states that an operation changes the thing with the id in its path.
func byID[O any](a auditable) changing[idInput, O] {
	return about[idInput, O](a, func(in *idInput) string { return idText(in.ID) })
}

// snapshot gives a thing as it is, nil where there is none.
func (s *Server) snapshot(ctx context.Context, a auditable, about string) (json.RawMessage, error) {
	if about == "" {
		return nil, nil
	}
	var out *string
	err := s.store.DB.WithContext(ctx).Raw("SELECT ((to_jsonb(t) - ?::text[]) || jsonb_build_object("+a.also+"))::text FROM "+a.table+" t WHERE t."+a.key+"::text = ?", "{"+a.without+"}", about).Scan(&out).Error
	if err != nil || out == nil {
		return nil, err
	}
	return json.RawMessage(*out), nil
}

// draftsTogether is for how long a person's edits of one draft are one entry.
const draftsTogether = 15 * time.Minute

// entry is one line of the audit log.
type entry struct {
	person        *int64
	name          string
	did           string
	what, about   string
	before, after json.RawMessage
}

// write writes an entry, in the transaction of what it tells of.
func (s *Server) write(ctx context.Context, e entry) error {
	orNull := func(raw json.RawMessage) any {
		if raw == nil {
			return nil
		}
		return string(raw)
	}
	db := s.store.DB.WithContext(ctx)
	if e.did == "save-draft" {
		res := db.Exec(`UPDATE audit SET after = ?::jsonb, at = now() WHERE id = (SELECT id FROM audit WHERE what = ? AND about = ? ORDER BY id DESC LIMIT 1)
			AND did = ? AND person = ? AND at > now() - ? * interval '1 second'`, orNull(e.after), e.what, e.about, e.did, e.person, draftsTogether.Seconds())
		if res.Error != nil || res.RowsAffected > 0 {
			return res.Error
		}
	}
	return db.Exec("INSERT INTO audit (person, name, did, what, about, before, after) VALUES (?, ?, ?, ?, ?, ?::jsonb, ?::jsonb)",
		e.person, e.name, e.did, e.what, e.about, orNull(e.before), orNull(e.after)).Error
}

type auditInput struct {
	What   string `query:"what" enum:"workflow,connection,source,post,destination,person,team,invitation,session,notice,"`
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
		q = q.Where("what NOT IN ('person', 'invitation', 'session')")
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
		was, now := show(before[n]), show(after[n])
		if was == now {
			continue
		}
		if hidden[n] {
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
