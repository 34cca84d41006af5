package demo

import (
	"context"
	"encoding/csv"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"gorm.io/gorm"

	"dorfbote/internal/connect/form"
	"dorfbote/internal/connect/kinds"
	"dorfbote/internal/engine"
	"dorfbote/internal/engine/poll"
	"dorfbote/internal/store"
)

// gateQuestions are those of the form at the gate.
const gateQuestions = `[{"name":"visitor","label":"Who is coming?","type":"text","required":true},
{"name":"email","label":"Where can we answer?","type":"email","required":true},
{"name":"day","label":"On which day?","type":"date","required":true},
{"name":"people","label":"How many people?","type":"number"},
{"name":"place","label":"What would you like to see?","type":"choice","options":["The cellar","The dairy","A farm"],"required":true},
{"name":"wishes","label":"Anything else?","type":"long text","help":"Allergies, prams, dogs …"}]`

// asked are the connections of the demo that are asked, or ask people themselves.
func asked(ctx context.Context, e *engine.Engine, at Addresses, token string) error {
	if err := priceSheet(e.Env.Folder); err != nil {
		return err
	}
	for _, c := range []struct {
		id, kind, title, source, name, key string
		settings, of                       store.Texts
		secrets                            map[string]string
	}{
		{id: "notices", kind: "feed", title: "Notices", source: "entries", name: "Notices of Lindental", key: "id", settings: store.Texts{"address": at.Practice + "/notices.atom"}},
		{id: "holidays", kind: "calendar", title: "Holidays", source: "events", name: "Holidays", key: "id", settings: store.Texts{"how": "a file", "address": at.Practice + "/holidays.ics"}, of: store.Texts{"ahead": "400d"}},
		{id: "prices", kind: "table", title: "Price sheet", source: "milk", name: "Milk prices", key: "Farm", settings: store.Texts{"where": "in a folder"}, of: store.Texts{"file": "milk-prices.csv"}},
		{id: "talk", kind: "room", title: "Talk in the square", source: "tours", name: "What #tours says to Dorfbote", key: "id",
			settings: store.Texts{"chat": "the square", "address": at.Practice + "/square"}, of: store.Texts{"room": "#tours", "which": "those that mention the name", "name": "Dorfbote"}, secrets: map[string]string{"token": token}},
		{id: "gate", kind: "form", title: "Gate", source: "answers", name: "Visits asked for", key: "id",
			of: store.Texts{"title": "Visit the dairy", "intro": "Groups are welcome from Tuesday to Friday.", "fields": gateQuestions, "thanks": "Thank you. We shall write within two days."}},
	} {
		if err := connectDemo(ctx, e, c.id, c.kind, c.title, c.settings, c.secrets, store.Source{
			Name: c.id + "/" + c.source, Connection: c.id, Title: c.name, KeyField: c.key, Settings: c.of,
		}); err != nil {
			return fmt.Errorf("connecting %s: %w", c.id, err)
		}
	}
	return nil
}

func connectDemo(ctx context.Context, e *engine.Engine, id, kind, title string, settings store.Texts, secrets map[string]string, source store.Source) error {
	k := kinds.Named(kind)
	sealed, err := e.Box.Seal(secrets, id)
	if err != nil {
		return err
	}
	source.TitleField, source.LinkField = k.TitleField, k.LinkField
	if kind == "form" {
		questions, err := form.Read(source.Settings["fields"])
		if err != nil {
			return err
		}
		schema := form.Schema(source.Title, questions)
		source.Schema = &schema
	}
	return e.Store.DB.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Create(&store.Connection{ID: id, Kind: kind, Title: title, KeyField: "id", Settings: settings, Sealed: sealed, CreatedAt: time.Now()}).Error; err != nil {
			return err
		}
		if err := tx.Create(&source).Error; err != nil || k.Open == nil {
			return err
		}
		return tx.Create(&store.Poll{
			Source: source.Name, Connection: id, Start: poll.Begin{How: "now"}.Text(), DueAt: time.Now(),
			Quickest: int(k.Quickest.Seconds()), Slowest: int(k.Slowest.Seconds()), Every: int(k.Quickest.Seconds()),
		}).Error
	})
}

// priceSheet writes the table of milk prices, as a spreadsheet of this country writes it.
func priceSheet(folder string) error {
	name := filepath.Join(folder, "milk-prices.csv")
	if _, err := os.Stat(name); err == nil || folder == "" {
		return nil
	}
	f, err := os.Create(name)
	if err != nil {
		return err
	}
	w := csv.NewWriter(f)
	w.Comma, w.UseCRLF = ';', true
	rows := [][]string{{"Farm", "Valley", "Grade", "Price", "From"}}
	for n := 1; n <= 46; n++ {
		rows = append(rows, []string{
			strconv.Itoa(n), []string{"Upper", "Middle", "Mill"}[n%3], []string{"A", "A", "B"}[n*7%3],
			strings.Replace(fmt.Sprintf("%.2f", 0.62+float64(n*5%9)/100), ".", ",", 1), "01.11.2026",
		})
	}
	if err := w.WriteAll(rows); err != nil {
		f.Close()
		return err
	}
	if err := f.Close(); err != nil {
		return err
	}
	old := time.Now().Add(-time.Minute)
	return os.Chtimes(name, old, old)
}

// readdress tells the connections where the practice apps listen this time.
func readdress(db *gorm.DB, at Addresses) error {
	for id, path := range map[string]string{"square": "/square", "talk": "/square", "notices": "/notices.atom", "holidays": "/holidays.ics"} {
		err := db.Exec("UPDATE connections SET settings = settings || jsonb_build_object('address', ?::text) WHERE id = ? AND settings->>'address' <> ?", at.Practice+path, id, at.Practice+path).Error
		if err != nil {
			return err
		}
	}
	return nil
}

// reactions is what people did with what they were told in the last weeks: they make use of every third alert, of warm milk only
// where it is warm indeed.
func reactions(db *gorm.DB) error {
	return db.Exec(`INSERT INTO deeds (workflow, arrival, post, what, by, at)
		SELECT p.workflow, p.arrival, p.id, CASE WHEN d.warm IS NULL OR d.warm >= 6.6 THEN ? ELSE ? END, 'Jonas Rietmann', p.sent_at + (p.id % 40 + 2) * interval '1 minute'
		FROM posts p JOIN workflows w ON w.id = p.workflow JOIN arrivals a ON a.seq = p.arrival
		CROSS JOIN LATERAL (SELECT CASE WHEN w.name = 'Warm milk' THEN (a.data->'record'->>'temperature')::numeric END AS warm) d
		WHERE p.state = 'sent' AND p.under IS NULL AND p.sent_at > now() - interval '35 days' AND p.sent_at < now() - interval '1 hour'
			AND CASE WHEN d.warm IS NULL THEN p.id % 3 = 0 ELSE d.warm >= 6.6 OR p.id % 3 = 0 END
		ON CONFLICT DO NOTHING`, store.ActUseful, store.ActNotForMe).Error
}
