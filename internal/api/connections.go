package api

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"net/http"
	"regexp"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"gorm.io/gorm/clause"

	"dorfbote/internal/core/value"
	"dorfbote/internal/engine"
	"dorfbote/internal/store"
)

// ConnectionItem is a connection in the list.
type ConnectionItem struct {
	ID          string     `json:"id"`
	Kind        string     `json:"kind" enum:"hook,chat"`
	Title       string     `json:"title"`
	Address     string     `json:"address" doc:"of a hook: where apps send their events; of a chat: its API"`
	Signed      bool       `json:"signed" doc:"of a hook: only signed events are taken in"`
	KeyField    string     `json:"key_field"`
	Sources     []string   `json:"sources"`
	LastArrival *time.Time `json:"last_arrival"`
	Today       int64      `json:"today" doc:"arrivals in the last 24 hours"`
}

// SourceItem is a source of arrivals.
type SourceItem struct {
	Source     string `json:"source"`
	Connection string `json:"connection"`
	Title      string `json:"title"`
	KeyField   string `json:"key_field"`
}

// FieldItem is a field with real values.
type FieldItem struct {
	value.Field
	Examples []string `json:"examples" doc:"the commonest values of the last records"`
	Empty    int      `json:"empty" doc:"of a hundred records, how many leave it empty"`
}

type sourceInput struct {
	Connection string `path:"connection"`
	Kind       string `path:"kind"`
}

type hookInput struct {
	Body struct {
		ID       string `json:"id" minLength:"1" maxLength:"40" doc:"a short name of lower-case letters, digits and hyphens"`
		Title    string `json:"title" minLength:"1" maxLength:"100"`
		KeyField string `json:"key_field,omitempty" doc:"which field names a record; id where nothing is said"`
		Signed   bool   `json:"signed,omitempty" doc:"take in only events signed by Standard Webhooks"`
	}
}

type hookOutput struct {
	Body struct {
		ConnectionItem
		Secret string `json:"secret" doc:"the signing secret; it is shown this once"`
	}
}

func (s *Server) connectionRoutes() {
	register(s, op("list-connections", http.MethodGet, "/api/connections", "Apps and chats", "Connections"), anyone, s.listConnections)
	register(s, op("create-hook", http.MethodPost, "/api/connections", "Make an address that an app can send events to", "Connections"), editors, s.createHook)
	register(s, op("list-sources", http.MethodGet, "/api/sources", "What can be watched", "Connections"), anyone, s.listSources)
	register(s, op("list-fields", http.MethodGet, "/api/sources/{connection}/{kind}/fields", "A source's fields with real values", "Connections"), anyone, s.listFields)
}

func (s *Server) listConnections(ctx context.Context, _ *Person, _ *struct{}) (*listOutput[ConnectionItem], error) {
	var rows []store.Connection
	db := s.store.DB.WithContext(ctx)
	if err := db.Order("kind DESC, id").Find(&rows).Error; err != nil {
		return nil, err
	}
	items := make([]ConnectionItem, 0, len(rows))
	for _, c := range rows {
		it := s.connectionItem(c)
		if err := db.Model(&store.Kind{}).Where("connection = ?", c.ID).Order("source").Pluck("source", &it.Sources).Error; err != nil {
			return nil, err
		}
		if c.Kind == "chat" {
			if err := db.Model(&store.Destination{}).Where("connection = ?", c.ID).Order("name").Pluck("name", &it.Sources).Error; err != nil {
				return nil, err
			}
		} else if len(it.Sources) > 0 {
			err := db.Raw(`SELECT max(received_at) AS last_arrival, count(*) FILTER (WHERE received_at > now() - interval '1 day') AS today
				FROM (SELECT received_at FROM arrivals WHERE source IN ? ORDER BY seq DESC LIMIT 20000) a`, it.Sources).Row().Scan(&it.LastArrival, &it.Today)
			if err != nil {
				return nil, err
			}
		}
		items = append(items, it)
	}
	return list(items, 0), nil
}

func (s *Server) connectionItem(c store.Connection) ConnectionItem {
	it := ConnectionItem{ID: c.ID, Kind: c.Kind, Title: c.Title, Address: c.Address, Signed: c.Secret != "", KeyField: c.KeyField, Sources: []string{}}
	if c.Kind == "hook" {
		it.Address = strings.TrimSuffix(s.PublicURL, "/") + "/in/" + c.ID
	}
	return it
}

var shortName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]*$`)

func (s *Server) createHook(ctx context.Context, _ *Person, in *hookInput) (*hookOutput, error) {
	if !shortName.MatchString(in.Body.ID) {
		return nil, huma.Error422UnprocessableEntity("the short name may hold lower-case letters, digits and hyphens",
			&huma.ErrorDetail{Location: "body.id", Message: "not a short name", Value: in.Body.ID})
	}
	c := store.Connection{ID: in.Body.ID, Kind: "hook", Title: in.Body.Title, KeyField: in.Body.KeyField, CreatedAt: time.Now()}
	if c.KeyField == "" {
		c.KeyField = "id"
	}
	if in.Body.Signed {
		raw := make([]byte, 24)
		_, _ = rand.Read(raw)
		c.Secret = "whsec_" + base64.StdEncoding.EncodeToString(raw)
	}
	if err := s.store.DB.WithContext(ctx).Create(&c).Error; err != nil {
		return nil, err
	}
	s.Engine.Tell(ctx, engine.Event{Topic: "connections"})
	out := &hookOutput{}
	out.Body.ConnectionItem, out.Body.Secret = s.connectionItem(c), c.Secret
	return out, nil
}

func (s *Server) listSources(ctx context.Context, _ *Person, _ *struct{}) (*listOutput[SourceItem], error) {
	var rows []store.Kind
	err := s.store.DB.WithContext(ctx).Order("source").Find(&rows).Error
	items := make([]SourceItem, 0, len(rows))
	for _, k := range rows {
		items = append(items, SourceItem{k.Source, k.Connection, k.Title, k.KeyField})
	}
	return list(items, 0), err
}

func (s *Server) listFields(ctx context.Context, _ *Person, in *sourceInput) (*listOutput[FieldItem], error) {
	source := in.Connection + "/" + in.Kind
	kind, err := s.Engine.Kind(ctx, source)
	if err != nil {
		return nil, err
	}
	if kind == nil {
		return nil, huma.Error404NotFound("there is no source " + source)
	}
	records, err := s.store.SampleRecords(ctx, source, 200)
	if err != nil {
		return nil, err
	}
	items := make([]FieldItem, 0, len(kind.Fields))
	for _, f := range kind.Fields {
		items = append(items, s.fieldItem(f, kind, records))
	}
	return list(items, 0), nil
}

func (s *Server) fieldItem(f value.Field, kind *value.Kind, records []map[string]any) FieldItem {
	it := FieldItem{Field: f, Examples: []string{}}
	counts, empty := map[string]int{}, 0
	for _, r := range records {
		if value.Empty(r[f.Name]) {
			empty++
			continue
		}
		counts[s.show(kind, f.Name, r[f.Name])]++
	}
	for len(it.Examples) < 8 && len(counts) > 0 {
		best := ""
		for v, n := range counts {
			if best == "" || n > counts[best] || n == counts[best] && v < best {
				best = v
			}
		}
		delete(counts, best)
		if len(best) <= 80 {
			it.Examples = append(it.Examples, best)
		}
	}
	if len(records) > 0 {
		it.Empty = 100 * empty / len(records)
	}
	return it
}

// maxKinds bounds how many kinds one hook may bring up, so that foreign input cannot fill lists.
const maxKinds = 200

// learnSource notes a source that is seen for the first time.
func (s *Server) learnSource(ctx context.Context, connection, keyField, source string) *huma.ErrorModel {
	if s.sources.has(source) {
		return nil
	}
	db := s.store.DB.WithContext(ctx)
	var n int64
	if err := db.Model(&store.Kind{}).Where("connection = ?", connection).Count(&n).Error; err != nil {
		return problemModel(http.StatusServiceUnavailable, "", "the database does not answer; try again")
	}
	_, name, _ := strings.Cut(source, "/")
	if !kindName.MatchString(name) {
		return problemModel(http.StatusBadRequest, "source", "the kind of record in "+source+" may hold letters, digits, hyphens, dots and underscores")
	}
	if n >= maxKinds {
		return problemModel(http.StatusBadRequest, "source", "this connection has brought up too many kinds of record")
	}
	k := store.Kind{Source: source, Connection: connection, Title: value.LabelOf(name), KeyField: keyField}
	if err := db.Clauses(clause.OnConflict{DoNothing: true}).Create(&k).Error; err != nil {
		return problemModel(http.StatusServiceUnavailable, "", "the database does not answer; try again")
	}
	s.sources.add(source)
	return nil
}

var kindName = regexp.MustCompile(`^[\pL\pN][\pL\pN._-]{0,99}$`)
