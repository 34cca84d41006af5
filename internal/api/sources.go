package api

import (
	"context"
	"fmt"
	"net/http"
	"sort"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"gorm.io/gorm"

	"dorfbote/internal/connect"
	"dorfbote/internal/connect/form"
	"dorfbote/internal/connect/kinds"
	"dorfbote/internal/core/value"
	"dorfbote/internal/engine"
	"dorfbote/internal/store"
)

// SourceItem is a source of arrivals.
type SourceItem struct {
	Source     string            `json:"source"`
	Connection string            `json:"connection"`
	Title      string            `json:"title"`
	KeyField   string            `json:"key_field"`
	TitleField string            `json:"title_field"`
	LinkField  string            `json:"link_field"`
	Settings   map[string]string `json:"settings"`
	Poll       *PollItem         `json:"poll" doc:"null where it is not asked"`
}

// PollItem is how a source that is asked stands.
type PollItem struct {
	Every     int        `json:"every" doc:"seconds between calls at the present rhythm"`
	Quickest  int        `json:"quickest"`
	Slowest   int        `json:"slowest"`
	DueAt     time.Time  `json:"due_at"`
	Begun     bool       `json:"begun"`
	Asking    bool       `json:"asking" doc:"it is being asked at this moment"`
	Failures  int        `json:"failures" doc:"in a row"`
	LastAt    *time.Time `json:"last_at"`
	LastOK    *time.Time `json:"last_ok"`
	LastError string     `json:"last_error"`
	LastRows  int64      `json:"last_rows"`
	LastCalls int        `json:"last_calls"`
	LastMs    int        `json:"last_ms"`
	CallsADay int        `json:"calls_a_day"`
}

// FieldItem is a field with real values.
type FieldItem struct {
	value.Field
	Examples  []string `json:"examples" doc:"the commonest values of the last records"`
	Counts    []int    `json:"counts" doc:"how many of the last records have each"`
	Empty     int      `json:"empty" doc:"of a hundred records, how many leave it empty"`
	Corrected bool     `json:"corrected" doc:"a person has said how it is"`
}

// RecordItem is a record as it is now.
type RecordItem struct {
	Key     string       `json:"key"`
	Title   string       `json:"title"`
	Link    string       `json:"link"`
	At      time.Time    `json:"at"`
	Arrival int64        `json:"arrival" doc:"its newest arrival; 0 where it has made none"`
	Fields  []FieldValue `json:"fields"`
	Record  any          `json:"record"`
}

// FoundField is a field in whose values a text was found.
type FoundField struct {
	Field   string `json:"field"`
	Label   string `json:"label"`
	Type    string `json:"type"`
	Value   string `json:"value"`
	Key     string `json:"key" doc:"of a record that has it"`
	Matches int    `json:"matches"`
}

// SourcePath names a source in an address.
type SourcePath struct {
	Connection string `path:"connection"`
	Kind       string `path:"kind"`
}

func (in SourcePath) name() string { return in.Connection + "/" + in.Kind }

// NewSource is a source to be read from a connection.
type NewSource struct {
	Kind     string            `json:"kind" minLength:"1" maxLength:"100" doc:"the second part of the source's name"`
	Title    string            `json:"title,omitempty" maxLength:"200"`
	Settings map[string]string `json:"settings,omitempty"`
	KeyField string            `json:"key_field,omitempty"`
	Quickest int               `json:"quickest,omitempty" minimum:"0" doc:"seconds between calls at the quickest"`
	Slowest  int               `json:"slowest,omitempty" minimum:"0"`
	Begin    engine.Begin      `json:"begin,omitempty" doc:"which records make arrivals at once"`
}

type newSourceInput struct {
	ID   string `path:"id"`
	Body NewSource
}

type sourceOutput struct{ Body SourceItem }

type previewOutput struct {
	Body struct {
		Fields   []FieldItem  `json:"fields"`
		Records  []RecordItem `json:"records"`
		Rows     int          `json:"rows" doc:"how many records were read to make this"`
		More     bool         `json:"more" doc:"there are more than were read"`
		Problem  string       `json:"problem" doc:"why it could not be read"`
		Twice    int          `json:"twice" doc:"records whose key an earlier one has as well"`
		Arrivals int          `json:"arrivals" doc:"how many arrivals the beginning would make at once, of the records read"`
		Posts    int64        `json:"posts" doc:"how many posts these would send at once, by the workflows that are on for this source"`
	}
}

type changeSourceInput struct {
	SourcePath
	Body struct {
		Title      string                      `json:"title,omitempty" maxLength:"200"`
		KeyField   string                      `json:"key_field,omitempty"`
		TitleField *string                     `json:"title_field,omitempty"`
		LinkField  *string                     `json:"link_field,omitempty"`
		Settings   map[string]string           `json:"settings,omitempty"`
		Fields     map[string]store.Correction `json:"fields,omitempty" doc:"by field: its label, its type, and whether it is hidden; an empty one takes a correction back"`
		Quickest   int                         `json:"quickest,omitempty" minimum:"0"`
		Slowest    int                         `json:"slowest,omitempty" minimum:"0"`
	}
}

type recordsInput struct {
	SourcePath
	Q      string `query:"q" doc:"text anywhere in the record"`
	Offset int    `query:"offset" minimum:"0" maximum:"100000"`
	Limit  int    `query:"limit" default:"20" minimum:"1" maximum:"100"`
}

type nextInput struct {
	SourcePath
	After int64 `query:"after" doc:"the newest arrival that is known"`
}

type nextOutput struct {
	Body struct {
		Arrival *ArrivalItem `json:"arrival" doc:"null where nothing came while waiting"`
	}
}

func (s *Server) sourceRoutes() {
	register(s, op("list-sources", http.MethodGet, "/api/sources", "What can be watched", "Sources"), anyone, s.listSources)
	register(s, op("preview-source", http.MethodPost, "/api/connections/{id}/sources/preview", "Read a few records of a source, without keeping anything", "Sources"), editors, s.previewSource)
	register(s, op("create-source", http.MethodPost, "/api/connections/{id}/sources", "Begin to read a source", "Sources"), editors, s.createSource)
	register(s, op("change-source", http.MethodPatch, "/api/sources/{connection}/{kind}", "Correct a source's fields, key and rhythm", "Sources"), editors, s.changeSource)
	register(s, op("delete-source", http.MethodDelete, "/api/sources/{connection}/{kind}", "Stop reading a source", "Sources"), editors, s.deleteSource)
	register(s, op("check-now", http.MethodPost, "/api/sources/{connection}/{kind}/check", "Ask a source now", "Sources"), editors, s.checkNow)
	register(s, op("list-fields", http.MethodGet, "/api/sources/{connection}/{kind}/fields", "A source's fields with real values", "Sources"), anyone, s.listFields)
	register(s, op("list-records", http.MethodGet, "/api/sources/{connection}/{kind}/records", "A source's records, newest first", "Sources"), anyone, s.listRecords)
	register(s, op("find-value", http.MethodGet, "/api/sources/{connection}/{kind}/find", "In which fields a text stands", "Sources"), anyone, s.findValue)
	register(s, op("next-arrival", http.MethodGet, "/api/sources/{connection}/{kind}/next", "Wait for the next arrival, up to 25 seconds", "Sources"), anyone, s.nextArrival)
}

func (s *Server) sourceItems(ctx context.Context, where *gorm.DB) ([]SourceItem, error) {
	var rows []store.Kind
	if err := where.WithContext(ctx).Order("source").Limit(5000).Find(&rows).Error; err != nil {
		return nil, err
	}
	var polls []store.Poll
	if err := s.store.DB.WithContext(ctx).Find(&polls).Error; err != nil {
		return nil, err
	}
	bySource := map[string]*store.Poll{}
	for i := range polls {
		bySource[polls[i].Source] = &polls[i]
	}
	items := make([]SourceItem, 0, len(rows))
	for _, k := range rows {
		it := SourceItem{Source: k.Source, Connection: k.Connection, Title: k.Title, KeyField: k.KeyField, TitleField: k.TitleField, LinkField: k.LinkField, Settings: map[string]string{}}
		for n, v := range k.Settings {
			it.Settings[n] = v
		}
		if p := bySource[k.Source]; p != nil {
			it.Poll = &PollItem{
				Every: p.Every, Quickest: p.Quickest, Slowest: p.Slowest, DueAt: p.DueAt, Begun: p.Begun, Failures: p.Failures, LastAt: p.LastAt, LastOK: p.LastOK,
				LastError: p.LastError, LastRows: p.LastRows, LastCalls: p.LastCalls, LastMs: p.LastMs, CallsADay: 86400 / max(p.Every, 1) * max(p.LastCalls, 1),
				Asking: p.LeaseUntil != nil && p.LeaseUntil.After(time.Now()),
			}
		}
		items = append(items, it)
	}
	return items, nil
}

func (s *Server) listSources(ctx context.Context, _ *Person, _ *struct{}) (*listOutput[SourceItem], error) {
	items, err := s.sourceItems(ctx, s.store.DB)
	return list(items, 0), err
}

// previewRows is how many records a preview reads.
const previewRows = 200

// opened opens a connection and makes the source that was asked for.
func (s *Server) opened(ctx context.Context, id string, n *NewSource) (*store.Connection, *connect.Kind, connect.Conn, *store.Kind, error) {
	var c store.Connection
	if err := s.store.DB.WithContext(ctx).First(&c, "id = ?", id).Error; err != nil {
		return nil, nil, nil, nil, err
	}
	k := kinds.Named(c.Kind)
	if k == nil || k.Name == "hook" || k.Name == "chat" {
		return nil, nil, nil, nil, huma.Error409Conflict("the sources of a " + c.Kind + " come by themselves")
	}
	if k.Single != "" {
		n.Kind = k.Single
	}
	if !kindName.MatchString(n.Kind) {
		return nil, nil, nil, nil, invalid("body.kind", "the name may hold letters, digits, hyphens, dots and underscores")
	}
	sourceKind := &connect.Kind{Title: k.Title + "'s source", Settings: k.Source}
	settings, _, err := split(sourceKind, n.Settings)
	if err != nil {
		return nil, nil, nil, nil, err
	}
	if err := complete(k.Source, settings, nil); err != nil {
		return nil, nil, nil, nil, err
	}
	key := n.KeyField
	for _, fallback := range []string{k.Key, "id"} {
		if key == "" {
			key = fallback
		}
	}
	row := &store.Kind{Source: c.ID + "/" + n.Kind, Connection: c.ID, Title: n.Title, KeyField: key, TitleField: k.TitleField, LinkField: k.LinkField, Settings: settings}
	if row.Title == "" {
		row.Title = value.LabelOf(n.Kind)
	}
	if k.Open == nil {
		return &c, k, nil, row, nil
	}
	conn, err := s.Engine.OpenConn(&c)
	if err != nil {
		return nil, nil, nil, nil, huma.Error422UnprocessableEntity(err.Error())
	}
	return &c, k, conn, row, nil
}

func (s *Server) previewSource(ctx context.Context, _ *Person, in *newSourceInput) (*previewOutput, error) {
	_, _, conn, row, err := s.opened(ctx, in.ID, &in.Body)
	if err != nil {
		return nil, err
	}
	out := &previewOutput{}
	out.Body.Fields, out.Body.Records = []FieldItem{}, []RecordItem{}
	if conn == nil {
		return out, nil
	}
	defer conn.Close()
	ctx, cancel := context.WithTimeout(ctx, proving)
	defer cancel()
	items, more, err := s.Engine.Sample(ctx, conn, engine.SourceOf(row), previewRows)
	if err != nil {
		out.Body.Problem = err.Error()
	}
	out.Body.Rows, out.Body.More = len(items), more
	l := value.NewLearner()
	records := make([]map[string]any, len(items))
	seen := map[string]bool{}
	picks := in.Body.Begin.Picks()
	for i := range items {
		records[i] = items[i].Record
		l.See(items[i].Record)
		if seen[items[i].Key] {
			out.Body.Twice++
			continue
		}
		seen[items[i].Key] = true
		if picks == nil || picks(&items[i]) {
			out.Body.Arrivals++
			if out.Body.Posts >= 0 {
				n, err := s.Engine.WouldPost(ctx, row.Source, &items[i])
				if err != nil {
					return nil, err
				}
				out.Body.Posts += n
			}
		}
	}
	kind := l.Kind()
	for _, f := range kind.Fields {
		out.Body.Fields = append(out.Body.Fields, s.fieldItem(f, kind, records))
	}
	for i := range items {
		if len(out.Body.Records) == 20 {
			break
		}
		it := s.recordItem(row, kind, items[i].Key, items[i].Record)
		it.At = items[i].At
		out.Body.Records = append(out.Body.Records, it)
	}
	return out, nil
}

func (s *Server) createSource(ctx context.Context, _ *Person, in *newSourceInput) (*sourceOutput, error) {
	c, k, conn, row, err := s.opened(ctx, in.ID, &in.Body)
	if err != nil {
		return nil, err
	}
	if conn != nil {
		conn.Close()
	}
	if k.Name == "form" {
		questions, err := form.Read(row.Settings["fields"])
		if err != nil {
			return nil, invalid("body.settings.fields", "%v", err)
		}
		schema := form.Schema(row.Title, questions)
		row.Schema = &schema
	}
	err = s.store.DB.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Create(row).Error; err != nil {
			return err
		}
		if k.Open == nil {
			return nil
		}
		p := &store.Poll{Source: row.Source, Connection: c.ID, Start: in.Body.Begin.Text(), Quickest: in.Body.Quickest, Slowest: in.Body.Slowest, DueAt: time.Now()}
		rhythmOf(p, k)
		p.Every = p.Quickest
		return tx.Create(p).Error
	})
	if err != nil {
		return nil, err
	}
	s.sources.add(row.Source)
	s.Engine.ForgetKind(row.Source)
	s.Engine.Tell(ctx, engine.Event{Topic: "connections"})
	if k.Open != nil {
		if err := s.Engine.CheckNow(ctx, row.Source); err != nil {
			return nil, err
		}
	}
	return s.sourceItem(ctx, row.Source)
}

// rhythmOf fills in the bounds that the person left to the kind.
func rhythmOf(p *store.Poll, k *connect.Kind) {
	if p.Quickest == 0 {
		p.Quickest = max(1, int(k.Quickest.Seconds()))
	}
	if p.Slowest == 0 {
		p.Slowest = max(p.Quickest, int(k.Slowest.Seconds()))
	}
	p.Slowest = max(p.Slowest, p.Quickest)
}

func (s *Server) sourceItem(ctx context.Context, source string) (*sourceOutput, error) {
	items, err := s.sourceItems(ctx, s.store.DB.Where("source = ?", source))
	if err != nil {
		return nil, err
	}
	if len(items) == 0 {
		return nil, huma.Error404NotFound("there is no source " + source)
	}
	return &sourceOutput{items[0]}, nil
}

func (s *Server) changeSource(ctx context.Context, _ *Person, in *changeSourceInput) (*sourceOutput, error) {
	source := in.name()
	err := s.store.DB.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		var row store.Kind
		if err := tx.Raw("SELECT * FROM kinds WHERE source = ? FOR UPDATE", source).Scan(&row).Error; err != nil {
			return err
		}
		if row.Source == "" {
			return gorm.ErrRecordNotFound
		}
		var c store.Connection
		if err := tx.First(&c, "id = ?", row.Connection).Error; err != nil {
			return err
		}
		if err := applySource(&row, kinds.Named(c.Kind), in); err != nil {
			return err
		}
		if err := tx.Model(&row).Select("title", "key_field", "title_field", "link_field", "settings", "corrections", "schema").Updates(&row).Error; err != nil {
			return err
		}
		if in.Body.Settings != nil || in.Body.KeyField != "" { // what is read is another thing now: everything is read anew
			if err := tx.Exec("UPDATE polls SET cursor = NULL, due_at = now() WHERE source = ?", source).Error; err != nil {
				return err
			}
		}
		if in.Body.Quickest+in.Body.Slowest == 0 {
			return nil
		}
		var p store.Poll
		if err := tx.First(&p, "source = ?", source).Error; err != nil {
			return err
		}
		if in.Body.Quickest > 0 {
			p.Quickest = in.Body.Quickest
		}
		if in.Body.Slowest > 0 {
			p.Slowest = in.Body.Slowest
		}
		p.Slowest = max(p.Slowest, p.Quickest)
		p.Every = min(max(p.Every, p.Quickest), p.Slowest)
		p.DueAt = time.Now()
		return tx.Model(&p).Select("quickest", "slowest", "every", "due_at").Updates(&p).Error
	})
	if err != nil {
		return nil, err
	}
	s.Engine.ForgetKind(source)
	s.sources.forgetKey(source)
	s.Engine.Tell(ctx, engine.Event{Topic: "connections", Source: source})
	return s.sourceItem(ctx, source)
}

var fieldTypes = []string{"", "text", "number", "money", "yes/no", "date", "moment", "span", "choice", "choices", "person", "link", "list", "object"}

func applySource(row *store.Kind, k *connect.Kind, in *changeSourceInput) error {
	b := &in.Body
	if b.Title != "" {
		row.Title = b.Title
	}
	if b.KeyField != "" {
		row.KeyField = b.KeyField
	}
	if b.TitleField != nil {
		row.TitleField = *b.TitleField
	}
	if b.LinkField != nil {
		row.LinkField = *b.LinkField
	}
	if b.Settings != nil && k != nil {
		settings, _, err := split(&connect.Kind{Title: k.Title + "'s source", Settings: k.Source}, b.Settings)
		if err != nil {
			return err
		}
		if row.Settings == nil {
			row.Settings = store.Texts{}
		}
		for n, v := range settings {
			row.Settings[n] = v
		}
		if k.Name == "form" {
			questions, err := form.Read(row.Settings["fields"])
			if err != nil {
				return invalid("body.settings.fields", "%v", err)
			}
			schema := form.Schema(row.Title, questions)
			row.Schema = &schema
		}
	}
	if row.Corrections == nil {
		row.Corrections = store.Corrections{}
	}
	for name, c := range b.Fields {
		if !holds(fieldTypes, c.Type) {
			return invalid("body.fields."+name, "there is no type %s", c.Type)
		}
		row.Corrections[name] = c
		if c == (store.Correction{}) {
			delete(row.Corrections, name)
		}
	}
	return nil
}

func (s *Server) deleteSource(ctx context.Context, _ *Person, in *SourcePath) (*struct{}, error) {
	source := in.name()
	uses, err := s.uses(ctx, in.Connection)
	if err != nil {
		return nil, err
	}
	var names []string
	for _, u := range uses {
		for _, p := range u.Places {
			if p.Was == source {
				names = append(names, u.Name)
				break
			}
		}
	}
	if len(names) > 0 {
		return nil, huma.Error409Conflict("the source is used by " + strings.Join(names, ", "))
	}
	res := s.store.DB.WithContext(ctx).Exec("DELETE FROM kinds WHERE source = ?", source)
	if res.Error == nil && res.RowsAffected == 0 {
		return nil, gorm.ErrRecordNotFound
	}
	if res.Error == nil {
		res = s.store.DB.WithContext(ctx).Exec("DELETE FROM records WHERE source = ?", source)
	}
	s.sources.forget(in.Connection)
	s.Engine.Tell(ctx, engine.Event{Topic: "connections"})
	return nil, res.Error
}

func (s *Server) checkNow(ctx context.Context, _ *Person, in *SourcePath) (*sourceOutput, error) {
	out, err := s.sourceItem(ctx, in.name())
	if err != nil {
		return nil, err
	}
	if out.Body.Poll == nil {
		return nil, huma.Error409Conflict(in.name() + " is not asked; what it has to say comes by itself")
	}
	return out, s.Engine.CheckNow(ctx, in.name())
}

func (s *Server) listFields(ctx context.Context, _ *Person, in *SourcePath) (*listOutput[FieldItem], error) {
	source := in.name()
	kind, err := s.Engine.Kind(ctx, source)
	if err != nil {
		return nil, err
	}
	if kind == nil {
		return nil, huma.Error404NotFound("there is no source " + source)
	}
	records, err := s.store.SampleRecords(ctx, source, previewRows)
	if err != nil {
		return nil, err
	}
	var row store.Kind
	if err := s.store.DB.WithContext(ctx).Limit(1).Find(&row, "source = ?", source).Error; err != nil {
		return nil, err
	}
	items := make([]FieldItem, 0, len(kind.Fields))
	for _, f := range kind.Fields {
		it := s.fieldItem(f, kind, records)
		_, it.Corrected = row.Corrections[f.Name]
		items = append(items, it)
	}
	return list(items, 0), nil
}

// examplesShown is how many different values of a field are shown.
const examplesShown = 8

func (s *Server) fieldItem(f value.Field, kind *value.Kind, records []map[string]any) FieldItem {
	it := FieldItem{Field: f, Examples: []string{}, Counts: []int{}}
	counts, empty := map[string]int{}, 0
	for _, r := range records {
		if value.Empty(r[f.Name]) {
			empty++
			continue
		}
		counts[s.show(kind, f.Name, r[f.Name])]++
	}
	values := value.SortedKeys(counts)
	sort.SliceStable(values, func(i, j int) bool { return counts[values[i]] > counts[values[j]] })
	for _, v := range values {
		if len(it.Examples) < examplesShown && len(v) <= 80 {
			it.Examples = append(it.Examples, v)
			it.Counts = append(it.Counts, counts[v])
		}
	}
	if len(records) > 0 {
		it.Empty = 100 * empty / len(records)
	}
	return it
}

func (s *Server) recordItem(row *store.Kind, kind *value.Kind, key string, record map[string]any) RecordItem {
	it := RecordItem{Key: key, Record: record, Fields: []FieldValue{}, Title: s.titleOf(row, kind, record)}
	if row.LinkField != "" {
		v, _ := value.ParsePath(row.LinkField).Get(record)
		it.Link, _ = v.(string)
	}
	add := func(name string, t value.Type) {
		if v := s.show(kind, name, record[name]); v != "" {
			it.Fields = append(it.Fields, FieldValue{Field: name, Label: label(kind, name), Type: string(t), Value: v})
		}
	}
	seen := map[string]bool{}
	if kind != nil {
		for _, f := range kind.Fields {
			seen[f.Name] = true
			if !f.Hidden {
				add(f.Name, f.Type)
			}
		}
	}
	for _, name := range value.SortedKeys(record) {
		if !seen[name] {
			add(name, value.Any)
		}
	}
	return it
}

// titleOf is what a record is called: by the field that was named for it, else by one that is usually its name.
func (s *Server) titleOf(row *store.Kind, kind *value.Kind, record map[string]any) string {
	for _, name := range []string{row.TitleField, "title", "name", "subject", "customer"} {
		if name == "" {
			continue
		}
		v, _ := value.ParsePath(name).Get(record)
		if text := s.show(kind, name, v); text != "" {
			if len(text) > 120 {
				text = strings.ToValidUTF8(text[:120], "") + "…"
			}
			return text
		}
	}
	return ""
}

func (s *Server) listRecords(ctx context.Context, _ *Person, in *recordsInput) (*listOutput[RecordItem], error) {
	source := in.name()
	kind, err := s.Engine.Kind(ctx, source)
	if err != nil {
		return nil, err
	}
	if kind == nil {
		return nil, huma.Error404NotFound("there is no source " + source)
	}
	var row store.Kind
	if err := s.store.DB.WithContext(ctx).Limit(1).Find(&row, "source = ?", source).Error; err != nil {
		return nil, err
	}
	rows, err := s.store.Records(ctx, source, in.Q, in.Offset, in.Limit+1)
	if err != nil {
		return nil, err
	}
	next := int64(0)
	if len(rows) > in.Limit {
		rows, next = rows[:in.Limit], int64(in.Offset+in.Limit)
	}
	items := make([]RecordItem, 0, len(rows))
	for _, r := range rows {
		v, err := value.ReadJSON(r.Data)
		if err != nil {
			return nil, err
		}
		record, _ := v.(map[string]any)
		it := s.recordItem(&row, kind, r.Key, record)
		it.At, it.Arrival = r.Time, r.Arrival
		items = append(items, it)
	}
	return list(items, next), nil
}

type findInput struct {
	SourcePath
	Q string `query:"q" minLength:"1" maxLength:"200"`
}

// findValue tells in which fields a text stands, among the newest records.
func (s *Server) findValue(ctx context.Context, _ *Person, in *findInput) (*listOutput[FoundField], error) {
	source := in.name()
	kind, err := s.Engine.Kind(ctx, source)
	if err != nil {
		return nil, err
	}
	if kind == nil {
		return nil, huma.Error404NotFound("there is no source " + source)
	}
	rows, err := s.store.Records(ctx, source, in.Q, 0, 500)
	if err != nil {
		return nil, err
	}
	want := value.Fold(in.Q)
	found := map[string]*FoundField{}
	var order []string
	for _, r := range rows {
		v, err := value.ReadJSON(r.Data)
		if err != nil {
			return nil, err
		}
		record, _ := v.(map[string]any)
		walkLeaves("", record, func(path string, v any) {
			text := s.show(kind, path, v)
			if !strings.Contains(value.Fold(text), want) {
				return
			}
			f := found[path]
			if f == nil {
				f = &FoundField{Field: path, Label: label(kind, path), Value: text, Key: r.Key}
				if known, _, ok := kind.Find(value.ParsePath(path)); ok {
					f.Type = string(known.Type)
				}
				found[path] = f
				order = append(order, path)
			}
			f.Matches++
		})
	}
	sort.SliceStable(order, func(i, j int) bool { return found[order[i]].Matches > found[order[j]].Matches })
	items := make([]FoundField, 0, len(order))
	for _, p := range order {
		if len(items) < 50 {
			items = append(items, *found[p])
		}
	}
	return list(items, 0), nil
}

// walkLeaves visits every single value of a record with its path by name.
func walkLeaves(path string, v any, each func(path string, v any)) {
	join := func(name string) string {
		if path == "" {
			return name
		}
		return path + "." + name
	}
	switch x := v.(type) {
	case map[string]any:
		for _, name := range value.SortedKeys(x) {
			walkLeaves(join(name), x[name], each)
		}
	case []any:
		if m, ok := value.Pairs(x); ok {
			walkLeaves(path, m, each)
			return
		}
		for _, e := range x {
			walkLeaves(path, e, each)
		}
	case nil:
	default:
		each(path, v)
	}
}

// nextArrival waits for something new to come from a source.
func (s *Server) nextArrival(ctx context.Context, _ *Person, in *nextInput) (*nextOutput, error) {
	source := in.name()
	events, cancel := s.Hub.Subscribe()
	defer cancel()
	end := time.NewTimer(25 * time.Second)
	defer end.Stop()
	for {
		rows, err := s.store.RecentArrivals(ctx, source, 1)
		if err != nil {
			return nil, err
		}
		if len(rows) > 0 && rows[0].Seq > in.After {
			a, err := rows[0].Core()
			if err != nil {
				return nil, err
			}
			kind, err := s.Engine.Kind(ctx, source)
			if err != nil {
				return nil, err
			}
			it := s.arrivalItem(rows[0], a, kind)
			out := &nextOutput{}
			out.Body.Arrival = &it
			return out, nil
		}
		for waiting := true; waiting; {
			select {
			case <-ctx.Done():
				return nil, ctx.Err()
			case <-end.C:
				return &nextOutput{}, nil
			case e := <-events:
				waiting = e.Topic != "all" && (e.Topic != "arrivals" || e.Source != source && e.Source != "")
			}
		}
	}
}

// maxKinds bounds how many kinds one hook may bring up, so that foreign input cannot fill lists.
const maxKinds = 200

var errKinds = fmt.Sprintf("this connection has brought up more than %d kinds of record", maxKinds)
