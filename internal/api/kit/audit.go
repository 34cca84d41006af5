package kit

import (
	"context"
	"encoding/json"
	"strconv"
	"time"
)

// Auditable says how a kind of thing is looked up. Secrets and what changes by itself are left out; of a secret, only that it
// is another one is seen, by a few letters of its sealed form's hash.
type Auditable struct{ What, table, key, without, also string }

var (
	AboutWorkflow    = Auditable{What: "workflow", table: "workflows", key: "id", without: "call_token,updated_at,updated_by,since", also: "'call_token', " + hashed("nullif(t.call_token, '')")}
	AboutConnection  = Auditable{What: "connection", table: "connections", key: "id", without: "sealed,secret,last_ok,failing_since,last_error", also: "'secrets', " + hashed("encode(t.sealed, 'hex')")}
	AboutSource      = Auditable{What: "source", table: "kinds", key: "source", without: "learnt,learnt_at", also: "'rhythm', (SELECT jsonb_build_array(p.quickest, p.slowest) FROM polls p WHERE p.source = t.source)"}
	AboutPost        = Auditable{What: "post", table: "posts", key: "id", without: "body,key,attempts,answer,status,remote_id,sent_at,expires_at"}
	AboutDestination = Auditable{What: "destination", table: "destinations", key: "name", without: "not_before,failures,spacing_ms,spaced_at"}
	AboutPerson      = Auditable{What: "person", table: "people", key: "id", without: "password_hash", also: "'password', " + hashed("t.password_hash") +
		", 'teams', (SELECT coalesce(jsonb_agg(m.team ORDER BY m.team), '[]') FROM team_people m WHERE m.person = t.id), 'sessions', (SELECT count(*) FROM sign_ins i WHERE i.person = t.id AND i.ended_at IS NULL)"}
	AboutTeam       = Auditable{What: "team", table: "teams", key: "id"}
	AboutInvitation = Auditable{What: "invitation", table: "invitations", key: "id", without: "token_hash"}
	AboutSession    = Auditable{What: "session", table: "sign_ins", key: "id", without: "seen_at"}
	AboutNotice     = Auditable{What: "notice", table: "notices", key: "id"}
)

func hashed(column string) string { return "left(md5(" + column + "), 8)" }

// Hidden are the fields of which nobody is shown more than that they are another.
var Hidden = map[string]bool{"secrets": true, "password": true, "call_token": true}

// Change states what an operation changes: the kind of thing, and which one, by its input or, for what is made, by its
// output. An act changes nothing that could be compared, and is written down whenever it is done.
type Change[I, O any] struct {
	Auditable
	in   func(*I) string
	out  func(*O) string
	act  bool
	self bool // the person who does it
}

// IDText writes a number as what names a thing.
func IDText(id int64) string { return strconv.FormatInt(id, 10) }

// About states that an operation changes what its input names.
func About[I, O any](a Auditable, in func(*I) string) Change[I, O] {
	return Change[I, O]{Auditable: a, in: in}
}

// Makes states that an operation makes what its output names.
func Makes[I, O any](a Auditable, out func(*O) string) Change[I, O] {
	return Change[I, O]{Auditable: a, out: out}
}

// Act states that an operation does something with what its input names.
func Act[I, O any](a Auditable, in func(*I) string) Change[I, O] {
	return Change[I, O]{Auditable: a, in: in, act: true}
}

// Oneself states that an operation changes what is kept of whoever does it.
func Oneself[I, O any]() Change[I, O] { return Change[I, O]{Auditable: AboutPerson, self: true} }

// ByID states that an operation changes the thing with the id in its path.
func ByID[O any](a Auditable) Change[IDInput, O] {
	return About[IDInput, O](a, func(in *IDInput) string { return IDText(in.ID) })
}

// Snapshot gives a thing as it is, nil where there is none.
func (k *Kit) Snapshot(ctx context.Context, a Auditable, about string) (json.RawMessage, error) {
	if about == "" {
		return nil, nil
	}
	var out *string
	err := k.Store.DB.WithContext(ctx).Raw("SELECT ((to_jsonb(t) - ?::text[]) || jsonb_build_object("+a.also+"))::text FROM "+a.table+" t WHERE t."+a.key+"::text = ?", "{"+a.without+"}", about).Scan(&out).Error
	if err != nil || out == nil {
		return nil, err
	}
	return json.RawMessage(*out), nil
}

// draftsTogether is for how long a person's edits of one draft are one entry.
const draftsTogether = 15 * time.Minute

// Entry is one line of the audit log.
type Entry struct {
	Person        *int64
	Name          string
	Did           string
	What, About   string
	Before, After json.RawMessage
}

// write writes an entry, in the transaction of what it tells of.
func (k *Kit) write(ctx context.Context, e Entry) error {
	orNull := func(raw json.RawMessage) any {
		if raw == nil {
			return nil
		}
		return string(raw)
	}
	db := k.Store.DB.WithContext(ctx)
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
