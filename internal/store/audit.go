package store

import (
	"context"
	"encoding/json"
	"strconv"
	"time"
)

// Auditable says how a kind of thing is looked up. Secrets and what changes by itself are left out; of a secret, only that it
// is another one is seen, by a few letters of its sealed form's hash.
type Auditable struct{ What, table, key, without, also string }

// What is written of in the audit log.
var (
	AboutWorkflow    = Auditable{What: "workflow", table: "workflows", key: "id", without: "call_token,updated_at,updated_by,since,draft_form", also: "'call_token', " + hashed("nullif(t.call_token, '')")}
	AboutConnection  = Auditable{What: "connection", table: "connections", key: "id", without: "sealed,last_ok,failing_since,last_error", also: "'secrets', " + hashed("encode(t.sealed, 'hex')")}
	AboutSource      = Auditable{What: "source", table: "sources", key: "name", without: "learnt,learnt_at", also: "'rhythm', (SELECT jsonb_build_array(p.quickest, p.slowest) FROM polls p WHERE p.source = t.name)"}
	AboutPost        = Auditable{What: "post", table: "posts", key: "id", without: "body,key,trial,attempts,answer,status,remote_id,sent_at,expires_at"}
	AboutDestination = Auditable{What: "destination", table: "destinations", key: "name", without: "not_before,failures,spacing_ms,spaced_at"}
	AboutPerson      = Auditable{What: "person", table: "people", key: "id", without: "password_hash", also: "'password', " + hashed("t.password_hash") +
		", 'teams', (SELECT coalesce(jsonb_agg(m.team ORDER BY m.team), '[]') FROM team_people m WHERE m.person = t.id), 'sessions', (SELECT count(*) FROM sign_ins i WHERE i.person = t.id AND i.ended_at IS NULL)"}
	AboutTeam       = Auditable{What: "team", table: "teams", key: "id"}
	AboutInvitation = Auditable{What: "invitation", table: "invitations", key: "id", without: "token_hash"}
	AboutSession    = Auditable{What: "session", table: "sign_ins", key: "id", without: "seen_at"}
	AboutNotice     = Auditable{What: "notice", table: "notices", key: "id"}
	AboutBookPerson = Auditable{What: "person of the people book", table: "persons", key: "key", without: "changed_at,key"}
	AboutAsk        = Auditable{What: "question", table: "asks", key: "id", without: "recall,due_at,reminded"}
	AboutChoice     = Auditable{What: "choice", table: "choices", key: "name"}
)

// number has a key that is a number compared as one, so that the row is found by its index.
func (a Auditable) number() string {
	if a.key == "id" && a.table != "connections" {
		return "::bigint"
	}
	return ""
}

func hashed(column string) string { return "left(md5(" + column + "), 8)" }

// ownedBy finds the workflows to whose teams things belong.
var ownedBy = map[string]string{
	"workflow": "SELECT id FROM workflows WHERE id = ?",
	"post":     "SELECT workflow FROM posts WHERE id = ?",
	"question": "SELECT workflow FROM asks WHERE id = ?",
	// Whoever holds a place, lets it go on or slows it down does so to everything that waits for it.
	"destination": "SELECT DISTINCT workflow FROM posts WHERE destination = ? AND state IN ('waiting', 'held', 'refused')",
}

// Owned tells whether things of a kind belong to teams.
func (a Auditable) Owned() bool { return ownedBy[a.What] != "" }

// OwnersOf gives the workflows to whose teams a thing belongs: who may change all of them may change it. It is empty for what belongs to
// everybody.
func (s *Store) OwnersOf(ctx context.Context, a Auditable, about string) (workflows []int64, err error) {
	query := ownedBy[a.What]
	if query == "" {
		return nil, nil
	}
	var key any = about
	if a.What != "destination" {
		n, err := strconv.ParseInt(about, 10, 64)
		if err != nil {
			return nil, nil //nolint:nilerr // it names no one thing, such as many at once
		}
		key = n
	}
	err = s.DB.WithContext(ctx).Raw(query, key).Scan(&workflows).Error
	return workflows, err
}

// Snapshot gives a thing as it is, nil where there is none.
func (s *Store) Snapshot(ctx context.Context, a Auditable, about string) (json.RawMessage, error) {
	if about == "" {
		return nil, nil
	}
	if _, err := strconv.ParseInt(about, 10, 64); err != nil && a.number() != "" {
		return nil, nil // it names no one thing, such as many at once
	}
	var out *string
	err := s.DB.WithContext(ctx).Raw("SELECT ((to_jsonb(t) - ?::text[]) || jsonb_build_object("+a.also+"))::text FROM "+a.table+" t WHERE t."+a.key+" = CAST(? AS text)"+a.number()+"", "{"+a.without+"}", about).Scan(&out).Error
	if err != nil || out == nil {
		return nil, err
	}
	return json.RawMessage(*out), nil
}

// draftsTogether is for how long a person's edits of one draft are one entry.
const draftsTogether = 15 * time.Minute

// AuditEntry is one line of the audit log.
type AuditEntry struct {
	Person        *int64
	Name          string
	Did           string
	What, About   string
	Before, After json.RawMessage
}

// WriteAudit writes an entry, in the transaction of what it tells of.
func (s *Store) WriteAudit(ctx context.Context, e AuditEntry) error {
	orNull := func(raw json.RawMessage) any {
		if raw == nil {
			return nil
		}
		return string(raw)
	}
	db := s.DB.WithContext(ctx)
	if e.Did == "save-draft" {
		res := db.Exec(`UPDATE audit SET after = ?::jsonb, at = now() WHERE id = (SELECT id FROM audit WHERE what = ? AND about = ? ORDER BY id DESC LIMIT 1)
			AND did = ? AND person = ? AND at > now() - ? * interval '1 second'`, orNull(e.After), e.What, e.About, e.Did, e.Person, draftsTogether.Seconds())
		if res.Error != nil || res.RowsAffected > 0 {
			return res.Error
		}
	}
	return db.Exec("INSERT INTO audit (person, name, did, what, about, before, after) VALUES (?, ?, ?, ?, ?, ?::jsonb, ?::jsonb)",
		e.Person, e.Name, e.Did, e.What, e.About, orNull(e.Before), orNull(e.After)).Error
}

// AuditRow is a line of the audit log as it is kept.
type AuditRow struct {
	ID                     int64
	At                     time.Time
	Person                 *int64
	Name, Did, What, About string
	Was, Now               *string // as JSON
}

// AuditFilter narrows the audit log. Zero values do not narrow.
type AuditFilter struct {
	What, About string
	NotWhat     []string
	Person      int64
	Before      int64 // older than this line
	Limit       int
}

// Audit lists the audit log, the newest first.
func (s *Store) Audit(ctx context.Context, f AuditFilter) ([]AuditRow, error) {
	q := s.DB.WithContext(ctx).Table("audit").Select("id, at, person, name, did, what, about, before::text AS was, after::text AS now").Order("id DESC").Limit(f.Limit)
	if f.What != "" {
		q = q.Where("what = ?", f.What)
	}
	if len(f.NotWhat) > 0 {
		q = q.Where("what NOT IN ?", f.NotWhat)
	}
	if f.About != "" {
		q = q.Where("about = ?", f.About)
	}
	if f.Person > 0 {
		q = q.Where("person = ?", f.Person)
	}
	if f.Before > 0 {
		q = q.Where("id < ?", f.Before)
	}
	var out []AuditRow
	err := q.Scan(&out).Error
	return out, err
}
