// Package demo fills an empty database with the demo world: people, connections, workflows, and three
// months of history in the practice apps.
package demo

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"io/fs"
	"slices"
	"strconv"
	"strings"
	"time"

	"gorm.io/gorm"

	"dorfbote/examples"
	"dorfbote/internal/api/auth"
	"dorfbote/internal/connect/hook"
	"dorfbote/internal/core/arrival"
	"dorfbote/internal/core/message"
	"dorfbote/internal/core/sheet"
	"dorfbote/internal/core/value"
	"dorfbote/internal/engine"
	"dorfbote/internal/practice"
	"dorfbote/internal/practice/world"
	"dorfbote/internal/seal"
	"dorfbote/internal/store"
)

// Seed of the demo world, and how many days it has lived before the first start.
const (
	Seed = 4646
	Days = 90
)

// Zone is where Lindental lies.
const Zone = "Europe/Zurich"

// Password is that of all demo people.
const Password = "lindental"

// People of the demo.
var People = []store.Person{
	{Email: "marit@lindental.example", Name: "Marit Aven", Role: "administrator"},
	{Email: "jonas@lindental.example", Name: "Jonas Rietmann", Role: "editor"},
	{Email: "vera@lindental.example", Name: "Vera Kolb", Role: "viewer"},
}

// Addresses are where the parts of the demo listen.
type Addresses struct {
	Server, Practice string
	Mail             string // of the stand-in mailbox, host:port
}

var apps = []struct{ id, title string }{
	{"tours", "Tours"}, {"lab", "Lab"}, {"cellar", "Cellar"}, {"counter", "Counter"}, {"workshop", "Workshop"},
}

var channels = []struct{ name, purpose string }{
	{"#tours", "Milk on the road"}, {"#lab", "Samples"}, {"#cellar", "Ripening"}, {"#counter", "Orders"}, {"#workshop", "Vehicles"},
	{"#board", "The board, by invitation"}, {"#practice", "For trying things out"},
}

// Fill writes the demo world into an empty database. It does nothing where people exist already, but
// for telling the parts where the others listen this time. The world stands at a moment of its own, whose Sundays, nights
// and ends of months it has; what happens then happens now. The zero moment is now.
func Fill(ctx context.Context, e *engine.Engine, p *practice.Server, at Addresses, moment time.Time, say func(string, ...any)) error {
	db := e.Store.DB.WithContext(ctx)
	var n int64
	if err := db.Model(&store.Person{}).Count(&n).Error; err != nil {
		return err
	}
	if n == 0 {
		if err := whoSignsIn(db); err != nil {
			return fmt.Errorf("writing the demo people: %w", err)
		}
		token, err := connections(db, e.Box, at)
		if err != nil {
			return fmt.Errorf("writing the connections: %w", err)
		}
		if err := asked(ctx, e, at, token); err != nil {
			return err
		}
		if err := standIns(db, e.Box, at, true); err != nil {
			return fmt.Errorf("connecting the mailbox and the phone: %w", err)
		}
		timed, err := workflows(ctx, e)
		if err != nil {
			return fmt.Errorf("writing the workflows: %w", err)
		}
		began := time.Now()
		count, err := history(ctx, e, at, moment)
		if err != nil {
			return fmt.Errorf("writing the history: %w", err)
		}
		for _, on := range timed { // they wait from now on
			if err := on(); err != nil {
				return fmt.Errorf("switching on: %w", err)
			}
		}
		say("%d days of history written: %d arrivals in %.1f s", Days, count, time.Since(began).Seconds())
	}
	return introduce(ctx, db, e.Box, p, at)
}

func whoSignsIn(db *gorm.DB) error {
	for _, p := range People {
		p.PasswordHash, p.CreatedAt = auth.HashPassword(Password), time.Now()
		if err := db.Create(&p).Error; err != nil {
			return err
		}
	}
	// Jonas is in the tour desk; the laboratory's workflows are for Marit and the laboratory.
	return db.Exec(`INSERT INTO teams (name) VALUES ('Tour desk'), ('Laboratory');
		INSERT INTO team_people (team, person) SELECT t.id, p.id FROM teams t, people p WHERE t.name = 'Tour desk' AND p.name = 'Jonas Rietmann'`).Error
}

func connections(db *gorm.DB, box *seal.Box, at Addresses) (token string, err error) {
	now := time.Now()
	for _, a := range apps {
		sealed, err := box.Seal(map[string]string{"signing": newSecret()}, a.id)
		if err != nil {
			return "", err
		}
		if err := db.Create(&store.Connection{ID: a.id, Kind: "hook", Title: a.title, Sealed: sealed, KeyField: "id", CreatedAt: now}).Error; err != nil {
			return "", err
		}
	}
	kinds, err := world.Kinds()
	if err != nil {
		return "", err
	}
	for _, k := range kinds {
		schema := string(k.Schema)
		kind := store.Source{Name: k.Source(), Connection: k.App, Title: k.Fields.Title, KeyField: k.Key, Schema: &schema}
		if slices.Contains(k.Fields.Names(), "link") {
			kind.LinkField = "link"
		}
		if err := db.Create(&kind).Error; err != nil {
			return "", err
		}
	}
	raw := make([]byte, 16)
	_, _ = rand.Read(raw)
	secret := hex.EncodeToString(raw)
	sealed, err := box.Seal(map[string]string{"token": secret}, "square")
	if err != nil {
		return "", err
	}
	square := store.Connection{ID: "square", Kind: "chat", Title: "The square", Settings: store.Texts{"address": at.Practice + "/square"}, Sealed: sealed, CreatedAt: now}
	if err := db.Create(&square).Error; err != nil {
		return "", err
	}
	if err := db.Exec("INSERT INTO practice.tokens (token, sender) VALUES (?, 'Dorfbote')", secret).Error; err != nil {
		return "", err
	}
	for _, c := range channels {
		private := c.name == "#board"
		if err := db.Create(&store.Destination{Name: "square/" + c.name, Connection: "square", Title: c.name, Private: private, AskedAt: &now}).Error; err != nil {
			return "", err
		}
		hookToken := make([]byte, 12)
		_, _ = rand.Read(hookToken)
		err := db.Exec("INSERT INTO practice.channels (name, purpose, private, members, hook_token) VALUES (?, ?, ?, ARRAY['Dorfbote'], ?)",
			c.name, c.purpose, private, hex.EncodeToString(hookToken)).Error
		if err != nil {
			return "", err
		}
	}
	return secret, nil
}

func newSecret() string {
	raw := make([]byte, 24)
	_, _ = rand.Read(raw)
	return "whsec_" + base64.StdEncoding.EncodeToString(raw)
}

// workflows writes the example sheets and switches them on. Those that wait for something are switched on by what is
// returned, once there is something to wait for.
func workflows(ctx context.Context, e *engine.Engine) (timed []func() error, err error) {
	files, err := fs.Glob(examples.Sheets, "*.yaml")
	if err != nil {
		return nil, err
	}
	known, err := e.Workflows.Known(ctx)
	if err != nil {
		return nil, err
	}
	for _, f := range files {
		src, err := examples.Sheets.ReadFile(f)
		if err != nil {
			return nil, err
		}
		text, err := sheet.Format(src)
		if err != nil {
			return nil, err
		}
		plan, sh, problems := sheet.Compile(text, known)
		if plan == nil {
			return nil, fmt.Errorf("example %s: %v", f, problems)
		}
		w := store.Workflow{Name: sh.Name, Draft: string(text), UpdatedBy: "Marit Aven", CreatedAt: time.Now(), UpdatedAt: time.Now()}
		if err := e.Store.DB.WithContext(ctx).Create(&w).Error; err != nil {
			return nil, err
		}
		on := func() error {
			_, err := e.Workflows.SwitchOn(ctx, w.ID, plan, store.SwitchedOn{Sheet: w.Draft, Note: "First version", By: "Marit Aven", Since: -1})
			return err
		}
		if plan.Timed() {
			timed = append(timed, on)
			continue
		}
		if err := on(); err != nil {
			return nil, err
		}
	}
	return timed, nil
}

// Moment reads a moment in Lindental, such as 2026-11-29T23:59; nothing is the zero time.
func Moment(text string) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	zone, err := time.LoadLocation(Zone)
	if err != nil {
		return time.Time{}, err
	}
	for _, form := range []string{"2006-01-02T15:04", "2006-01-02T15:04:05", time.DateOnly} {
		if at, err := time.ParseInLocation(form, text, zone); err == nil {
			return at, nil
		}
	}
	return time.Time{}, fmt.Errorf("%q is no moment; write it like 2026-11-29T23:59", text)
}

// history lives through the days before today, and today up to now, and writes down what would have
// come in and what would have been told.
func history(ctx context.Context, e *engine.Engine, at Addresses, moment time.Time) (int, error) {
	zone, here := e.Workspace.Location(), e.Now()
	if moment.IsZero() {
		moment = here
	}
	now := moment.In(zone)
	shift := here.Sub(now).Truncate(time.Second)
	first := now.AddDate(0, 0, -Days)
	w := world.NewWorld(Seed, first, at.Practice)
	var events []hook.Event
	state := map[string]world.Change{}
	for range Days + 1 {
		for _, c := range w.NextDay() {
			if c.At.After(now) {
				break
			}
			c = c.Shifted(shift, zone)
			events = append(events, Event(c, len(events)))
			state[c.App+"/"+c.Kind+"/"+c.Key] = c
		}
	}
	if err := e.Decider.History(ctx, events); err != nil {
		return 0, err
	}
	db := e.Store.DB.WithContext(ctx)
	if err := db.Exec(`UPDATE connections c SET last_ok = greatest((SELECT max(a.time) FROM arrivals a JOIN sources k ON k.name = a.source WHERE k.connection = c.id),
		(SELECT max(p.sent_at) FROM posts p WHERE split_part(p.destination, '/', 1) = c.id))`).Error; err != nil {
		return 0, err
	}
	if err := practice.WriteRecords(db, state); err != nil {
		return 0, err
	}
	if err := squareHistory(db); err != nil {
		return 0, err
	}
	if err := reactions(db); err != nil {
		return 0, err
	}
	return len(events), db.Exec("INSERT INTO practice.world (seed, first, lived_to, shift) VALUES (?, ?, ?, ?)", Seed, first.Format("2006-01-02"), now, int64(shift.Seconds())).Error
}

// Event makes the event that a practice app sends for a change.
func Event(c world.Change, n int) hook.Event {
	return hook.Event{Arrival: &arrival.Arrival{
		ID: fmt.Sprintf("%s-%06d", c.App, n+1), Source: c.App + "/" + c.Kind, Type: "dorfbote.record." + c.Type,
		Time: c.At.UTC(), Subject: c.Key, Record: c.Record, Before: c.Before, By: c.By,
	}}
}

// squareHistory puts the last posts that were told into the square, where they would have stood.
func squareHistory(db *gorm.DB) error {
	var posts []store.Post
	if err := db.Raw("SELECT * FROM (SELECT * FROM posts ORDER BY id DESC LIMIT 250) p ORDER BY id").Scan(&posts).Error; err != nil {
		return err
	}
	for _, p := range posts {
		doc, err := message.Stored(p.Body)
		if err != nil {
			return err
		}
		facts, link := "[]", any(nil)
		if len(doc.Facts) > 0 {
			facts = string(factsJSON(doc.Facts))
		}
		if doc.Link != nil {
			link = string(value.AppendJSON(nil, map[string]any{"text": doc.Link.Text, "to": doc.Link.To}))
		}
		if p.Under != nil {
			continue
		}
		var id int64
		err = db.Raw(`INSERT INTO practice.posts (channel, sender, title, text, facts, tone, link, key, at) VALUES (?, 'Dorfbote', ?, ?, ?::jsonb, ?, ?::jsonb, ?, ?) RETURNING id`,
			strings.TrimPrefix(p.Destination, "square/"), doc.Title, doc.Markdown(), facts, doc.Tone, link, p.Key, p.CreatedAt).Scan(&id).Error
		if err != nil {
			return err
		}
		if err := db.Exec("UPDATE posts SET remote_id = ? WHERE id = ?", strconv.FormatInt(id, 10), p.ID).Error; err != nil {
			return err
		}
	}
	return nil
}

func factsJSON(facts []message.Fact) []byte {
	list := make([]any, len(facts))
	for i, f := range facts {
		list[i] = map[string]any{"label": f.Label, "value": f.Value}
	}
	return value.AppendJSON(nil, list)
}

// introduce tells the practice apps where Dorfbote listens, and Dorfbote where the square does.
func introduce(ctx context.Context, db *gorm.DB, box *seal.Box, p *practice.Server, at Addresses) error {
	if err := readdress(db, at); err != nil {
		return err
	}
	if err := standIns(db, box, at, false); err != nil {
		return err
	}
	for _, a := range apps {
		var c store.Connection
		if err := db.First(&c, "id = ?", a.id).Error; err != nil {
			return err
		}
		secrets, err := box.Open(c.Sealed, c.ID)
		if err != nil {
			return err
		}
		if err := db.Exec("UPDATE connections SET settings = settings || jsonb_build_object('records_address', ?::text) WHERE id = ?", at.Practice+"/apps/"+a.id, a.id).Error; err != nil {
			return err
		}
		address := at.Server + "/in/" + a.id
		res := db.Exec("UPDATE practice.hooks SET address = ? WHERE app = ? AND secret = ?", address, a.id, secrets["signing"])
		if res.Error != nil {
			return res.Error
		}
		if res.RowsAffected == 0 {
			if err := p.AddHook(ctx, a.id, address, secrets["signing"]); err != nil {
				return err
			}
		}
	}
	return nil
}
