package sources

import (
	"cmp"
	"context"
	"maps"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"gorm.io/gorm"

	"dorfbote/internal/api/hooks"
	"dorfbote/internal/api/kit"
	"dorfbote/internal/connect"
	"dorfbote/internal/connect/kinds"
	"dorfbote/internal/core/value"
	"dorfbote/internal/engine/poll"
	"dorfbote/internal/notify"
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
	Watched   int        `json:"watched" doc:"seconds between calls at most while a workflow that is on watches it; 0 where somebody has said how often, or nothing is promised"`
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
	Begin    poll.Begin        `json:"begin,omitempty" doc:"which records make arrivals at once"`
}

type newSourceInput struct {
	ID   string `path:"id"`
	Body NewSource
}

type sourceOutput struct{ Body SourceItem }

type changeSourceInput struct {
	SourcePath
	Body struct {
		Title      string                      `json:"title,omitempty" maxLength:"200"`
		KeyField   string                      `json:"key_field,omitempty"`
		TitleField *string                     `json:"title_field,omitempty"`
		LinkField  *string                     `json:"link_field,omitempty"`
		Settings   map[string]string           `json:"settings,omitempty"`
		Begin      poll.Begin                  `json:"begin,omitempty" doc:"where the settings or the key change: which records make arrivals at once; without it, what is there already is only remembered"`
		Fields     map[string]store.Correction `json:"fields,omitempty" doc:"by field: its label, its type, and whether it is hidden; an empty one takes a correction back"`
		Quickest   int                         `json:"quickest,omitempty" minimum:"0"`
		Slowest    int                         `json:"slowest,omitempty" minimum:"0"`
	}
}

// Routes registers the operations of this room.
func (s *Sources) Routes() {
	kit.Register(s.Kit, kit.Op("list-sources", http.MethodGet, "/api/sources", "What can be watched", "Sources"), kit.Anyone, s.listSources)
	kit.Register(s.Kit, kit.Op("preview-source", http.MethodPost, "/api/connections/{id}/sources/preview", "Read a few records of a source, without keeping anything", "Sources"), kit.Editors, s.previewSource)
	kit.Changes(s.Kit, kit.Op("create-source", http.MethodPost, "/api/connections/{id}/sources", "Begin to read a source", "Sources"), kit.Editors, kit.Makes[newSourceInput](store.AboutSource, func(out *sourceOutput) string { return out.Body.Source }), s.createSource)
	kit.Changes(s.Kit, kit.Op("change-source", http.MethodPatch, "/api/sources/{connection}/{kind}", "Correct a source's fields, key and rhythm", "Sources"), kit.Editors, kit.About[changeSourceInput, sourceOutput](store.AboutSource, func(in *changeSourceInput) string { return in.name() }), s.changeSource)
	kit.Changes(s.Kit, kit.Op("delete-source", http.MethodDelete, "/api/sources/{connection}/{kind}", "Stop reading a source", "Sources"), kit.Editors, kit.About[SourcePath, struct{}](store.AboutSource, func(in *SourcePath) string { return in.name() }), s.deleteSource)
	kit.Changes(s.Kit, kit.Op("check-now", http.MethodPost, "/api/sources/{connection}/{kind}/check", "Ask a source now", "Sources"), kit.Editors, kit.Act[SourcePath, sourceOutput](store.AboutSource, func(in *SourcePath) string { return in.name() }), s.checkNow)
	kit.Register(s.Kit, kit.Op("list-fields", http.MethodGet, "/api/sources/{connection}/{kind}/fields", "A source's fields with real values", "Sources"), kit.Anyone, s.listFields)
	kit.Register(s.Kit, kit.Op("list-records", http.MethodGet, "/api/sources/{connection}/{kind}/records", "A source's records, newest first", "Sources"), kit.Anyone, s.listRecords)
	kit.Register(s.Kit, kit.Op("find-value", http.MethodGet, "/api/sources/{connection}/{kind}/find", "In which fields a text stands", "Sources"), kit.Anyone, s.findValue)
	kit.Register(s.Kit, kit.Op("next-arrival", http.MethodGet, "/api/sources/{connection}/{kind}/next", "Wait for the next arrival, up to 25 seconds", "Sources"), kit.Anyone, s.nextArrival)
	s.relationRoutes()
	s.readingRoutes()
	s.answersRoutes()
}

// SourceItems lists what is read: from everywhere, or from one connection.
func (s *Sources) SourceItems(ctx context.Context, connection string) ([]SourceItem, error) {
	rows, err := s.Store.Sources(ctx, connection)
	if err != nil {
		return nil, err
	}
	return s.items(ctx, rows)
}

func (s *Sources) items(ctx context.Context, rows []store.Source) ([]SourceItem, error) {
	bySource, err := s.Store.Polls(ctx)
	if err != nil {
		return nil, err
	}
	connections, err := s.Store.Connections(ctx)
	if err != nil {
		return nil, err
	}
	kindOf := map[string]string{}
	for _, c := range connections {
		kindOf[c.ID] = c.Kind
	}
	items := make([]SourceItem, 0, len(rows))
	for _, k := range rows {
		it := SourceItem{Source: k.Name, Connection: k.Connection, Title: k.Title, KeyField: k.KeyField, TitleField: k.TitleField, LinkField: k.LinkField, Settings: map[string]string{}}
		maps.Copy(it.Settings, k.Settings)
		if p := bySource[k.Name]; p != nil {
			it.Poll = &PollItem{Watched: poll.WatchedEvery(kindOf[k.Connection], p),
				Every: p.Every, Quickest: p.Quickest, Slowest: p.Slowest, DueAt: p.DueAt, Begun: p.Begun, Failures: p.Failures, LastAt: p.LastAt, LastOK: p.LastOK,
				LastError: p.LastError, LastRows: p.LastRows, LastCalls: p.LastCalls, LastMs: p.LastMs, CallsADay: 86400 / max(p.Every, 1) * max(p.LastCalls, 1),
				Asking: p.LeaseUntil != nil && p.LeaseUntil.After(s.Engine.Now()),
			}
		}
		items = append(items, it)
	}
	return items, nil
}

func (s *Sources) listSources(ctx context.Context, _ *kit.Person, _ *struct{}) (*kit.List[SourceItem], error) {
	items, err := s.SourceItems(ctx, "")
	return kit.ListOf(items, 0), err
}

// opening is a source that was asked for, with its connection opened; conn is nil where nothing is asked.
type opening struct {
	kind *connect.Kind
	conn connect.Conn
	row  *store.Source
}

// opened opens a connection and makes the source that was asked for.
func (s *Sources) opened(ctx context.Context, id string, n *NewSource) (*opening, error) {
	c, err := s.Store.Connection(ctx, id)
	if err != nil {
		return nil, err
	}
	k := kinds.Named(c.Kind)
	if k == nil || k.Reads == connect.ReadsNothing {
		return nil, huma.Error409Conflict("the sources of a " + c.Kind + " come by themselves")
	}
	if k.Single != "" {
		n.Kind = k.Single
	}
	if !hooks.GoodName(n.Kind) {
		return nil, kit.Invalid("body.kind", "the name may hold letters, digits, hyphens, dots and underscores")
	}
	settings, err := sourceSettings(k, n.Settings)
	if err != nil {
		return nil, err
	}
	if err := Complete(k.Source, settings, nil); err != nil {
		return nil, err
	}
	row := &store.Source{
		Name: c.ID + "/" + n.Kind, Connection: c.ID, Title: cmp.Or(n.Title, value.LabelOf(n.Kind)),
		KeyField: cmp.Or(n.KeyField, k.Key, "id"), TitleField: k.TitleField, LinkField: k.LinkField, Settings: settings,
	}
	o := &opening{kind: k, row: row}
	if k.Open == nil {
		return o, nil
	}
	if o.conn, err = s.Engine.Sources.OpenConn(c); err != nil {
		return nil, huma.Error422UnprocessableEntity(err.Error())
	}
	return o, nil
}

// describe makes a form's schema of its questions; other kinds learn theirs.
func describe(row *store.Source, k *connect.Kind) error {
	if k.Schema == nil {
		return nil
	}
	schema, err := k.Schema(row.Title, row.Settings)
	if err != nil {
		return kit.Invalid("body.settings.fields", "%v", err)
	}
	row.Schema = &schema
	return nil
}

func (s *Sources) createSource(ctx context.Context, _ *kit.Person, in *newSourceInput) (*sourceOutput, error) {
	o, err := s.opened(ctx, in.ID, &in.Body)
	if err != nil {
		return nil, err
	}
	if o.conn != nil {
		o.conn.Close()
	}
	if err := describe(o.row, o.kind); err != nil {
		return nil, err
	}
	return s.begun(ctx, o.kind, o.row, &in.Body)
}

// begun begins to read a source.
func (s *Sources) begun(ctx context.Context, k *connect.Kind, row *store.Source, as *NewSource) (*sourceOutput, error) {
	var p *store.Poll
	if k.Open != nil {
		p = &store.Poll{Source: row.Name, Connection: row.Connection, Start: as.Begin.Text(), Quickest: as.Quickest, Slowest: as.Slowest, DueAt: s.Engine.Now()}
		p.Owned = p.Quickest+p.Slowest > 0
		rhythmOf(p, k)
		p.Every = p.Quickest
	}
	if err := s.Store.BeginSource(ctx, row, p); err != nil {
		return nil, err
	}
	s.Hooks.Add(row.Name)
	s.Engine.Sources.ForgetSchema(row.Name)
	s.Engine.Tell(ctx, notify.Message{Topic: notify.Connections})
	if k.Open != nil {
		if err := s.Engine.Polls.CheckNow(ctx, row.Name); err != nil {
			return nil, err
		}
	} else {
		s.Hooks.ForgetShape(row.Name)
		s.TakeRefused(ctx, row.Connection)
	}
	return s.sourceItem(ctx, row.Name)
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

func (s *Sources) sourceItem(ctx context.Context, source string) (*sourceOutput, error) {
	row, err := s.Store.SourceNamed(ctx, source)
	if err != nil {
		return nil, err
	}
	if row == nil {
		return nil, huma.Error404NotFound("there is no source " + source)
	}
	items, err := s.items(ctx, []store.Source{*row})
	if err != nil {
		return nil, err
	}
	return &sourceOutput{items[0]}, nil
}

func (s *Sources) changeSource(ctx context.Context, _ *kit.Person, in *changeSourceInput) (*sourceOutput, error) {
	source := in.name()
	err := s.Store.ChangeSource(ctx, source, in.Body.Begin.Text(), func(row *store.Source, p *store.Poll, c *store.Connection) (anew bool, err error) {
		if err := applySource(row, kinds.Named(c.Kind), in); err != nil {
			return false, err
		}
		anew = in.Body.Settings != nil || in.Body.KeyField != "" // what is read is another thing now
		if in.Body.Quickest+in.Body.Slowest == 0 {
			return anew, nil
		}
		if p == nil {
			return anew, gorm.ErrRecordNotFound
		}
		if in.Body.Quickest > 0 {
			p.Quickest = in.Body.Quickest
		}
		if in.Body.Slowest > 0 {
			p.Slowest = in.Body.Slowest
		}
		p.Slowest = max(p.Slowest, p.Quickest)
		p.Every = min(max(p.Every, p.Quickest), p.Slowest)
		p.DueAt, p.Owned = s.Engine.Now(), true
		return anew, nil
	})
	if err != nil {
		return nil, err
	}
	s.Engine.Sources.ForgetSchema(source)
	s.Hooks.ForgetShape(source)
	if in.Body.Settings != nil || in.Body.KeyField != "" {
		s.TakeRefused(ctx, in.Connection)
	}
	s.Engine.Tell(ctx, notify.Message{Topic: notify.Connections, Source: source})
	return s.sourceItem(ctx, source)
}

func applySource(row *store.Source, k *connect.Kind, in *changeSourceInput) error {
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
		all := store.Texts{}
		maps.Copy(all, row.Settings)
		maps.Copy(all, b.Settings)
		settings, err := sourceSettings(k, all)
		if err != nil {
			return err
		}
		if err := Complete(k.Source, settings, nil); err != nil {
			return err
		}
		row.Settings = settings
		if err := describe(row, k); err != nil {
			return err
		}
	}
	if row.Corrections == nil {
		row.Corrections = store.Corrections{}
	}
	for name, c := range b.Fields {
		if !slices.Contains(value.Types, value.Type(c.Type)) {
			return kit.Invalid("body.fields."+name, "there is no type %s", c.Type)
		}
		row.Corrections[name] = c
		if c == (store.Correction{}) {
			delete(row.Corrections, name)
		}
	}
	return nil
}

func (s *Sources) deleteSource(ctx context.Context, _ *kit.Person, in *SourcePath) (*struct{}, error) {
	source := in.name()
	uses, err := s.Uses(ctx, in.Connection)
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
	if err := s.Store.DeleteSource(ctx, source); err != nil {
		return nil, err
	}
	s.Hooks.Forget(in.Connection)
	s.Engine.Sources.ForgetSchema(source)
	s.Engine.Tell(ctx, notify.Message{Topic: notify.Connections})
	return nil, nil
}

func (s *Sources) checkNow(ctx context.Context, _ *kit.Person, in *SourcePath) (*sourceOutput, error) {
	out, err := s.sourceItem(ctx, in.name())
	if err != nil {
		return nil, err
	}
	if out.Body.Poll == nil {
		return nil, huma.Error409Conflict(in.name() + " is not asked; what it has to say comes by itself")
	}
	return out, s.Engine.Polls.CheckNow(ctx, in.name())
}
