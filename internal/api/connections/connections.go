package connections

import (
	"context"
	"maps"
	"net/http"
	"strings"
	"time"

	"dorfbote/internal/api/kit"
	"dorfbote/internal/api/sources"
	"dorfbote/internal/connect"
	"dorfbote/internal/connect/kinds"
	"dorfbote/internal/core/message"
	"dorfbote/internal/core/place"
	"dorfbote/internal/store"
)

// ConnectionKind is a kind of connection with what its form asks for.
type ConnectionKind struct {
	Name     string            `json:"name"`
	Title    string            `json:"title"`
	Does     string            `json:"does"`
	Settings []connect.Setting `json:"settings"`
	Source   []connect.Setting `json:"source" doc:"asked for each thing that is read"`
	Single   string            `json:"single" doc:"the one source it has, where there is no choice"`
	Key      string            `json:"key" doc:"the field that names a record, where the kind knows"`
	Asks     bool              `json:"asks" doc:"its sources are asked from time to time"`
	Appends  bool              `json:"appends" doc:"records only ever come, such as messages"`
	Proves   bool              `json:"proves" doc:"it can be proved by a real call"`
	Quickest int               `json:"quickest" doc:"seconds between calls at the quickest, where nothing is set"`
	Slowest  int               `json:"slowest"`
	Reads    connect.Reads     `json:"reads" enum:"asked,called," doc:"how records come from it: it is asked, it calls, or none do"`
	Signs    bool              `json:"signs" doc:"what comes in may be signed, by a secret made here"`
	Sends    *SendsItem        `json:"sends" doc:"what it can do with posts; null where none go to it"`
}

// SendsItem is what a kind of connection can do with posts.
type SendsItem struct {
	Can       []connect.Ability `json:"can" doc:"besides sending: edit, reply, sender, picture, buttons, attach, mention"`
	Dialect   message.Dialect   `json:"dialect"`
	Longest   int               `json:"longest" doc:"characters of one message; 0 where no bound is known"`
	PerMinute int               `json:"per_minute" doc:"posts a minute to one place; 0 where that is learnt"`
	Listed    bool              `json:"listed" doc:"the other side lists its places; otherwise any may be written"`
	Form      place.Form        `json:"form" enum:"listed,mail,number,room," doc:"how its places are written"`
	Mute      string            `json:"mute" doc:"of a connection: why nothing can be sent over it, and what to do; empty where it can"`
}

// ConnectionItem is a connection in the list.
type ConnectionItem struct {
	ID            string            `json:"id"`
	Kind          string            `json:"kind"`
	KindTitle     string            `json:"kind_title"`
	Title         string            `json:"title"`
	Address       string            `json:"address" doc:"of a hook or form: its own; of the rest: where it calls"`
	Signed        bool              `json:"signed" doc:"of a hook: only signed events are taken in"`
	KeyField      string            `json:"key_field"`
	Settings      map[string]string `json:"settings" doc:"without the secrets"`
	Secrets       []string          `json:"secrets" doc:"the names of the secrets that are set"`
	Paused        bool              `json:"paused"`
	Receives      bool              `json:"receives" doc:"records come from it; otherwise posts only go to it"`
	Signs         bool              `json:"signs" doc:"what comes in may be signed"`
	LastOK        *time.Time        `json:"last_ok"`
	FailingSince  *time.Time        `json:"failing_since"`
	LastError     string            `json:"last_error"`
	SecretExpires *time.Time        `json:"secret_expires" doc:"when its secret ends, as far as is known"`
	Sources       []string          `json:"sources" doc:"what is read from it; of a chat, its channels"`
	LastArrival   *time.Time        `json:"last_arrival"`
	Today         int64             `json:"today" doc:"arrivals in the last 24 hours"`
	Sends         *SendsItem        `json:"sends,omitempty" doc:"what this connection can do with posts; null where it takes none"`
	CallsADay     int64             `json:"calls_a_day" doc:"what asking costs at the present rhythm"`
}

// HealthHour is how a connection's calls went in one hour.
type HealthHour struct {
	Hour   time.Time `json:"hour"`
	OK     int       `json:"ok" gorm:"column:ok"`
	Failed int       `json:"failed"`
}

// HookRequestItem is one of the last requests to a hook.
type HookRequestItem struct {
	ID       int64     `json:"id"`
	At       time.Time `json:"at"`
	Status   int       `json:"status"`
	Problem  string    `json:"problem"`
	Location string    `json:"location"`
	Media    string    `json:"media"`
	Path     string    `json:"path"`
	Size     int       `json:"size"`
	Head     string    `json:"head" doc:"the beginning of the body"`
}

type connectionInput struct {
	ID string `path:"id"`
}

type connectionOutput struct {
	Body struct {
		ConnectionItem
		Secret   string               `json:"secret,omitempty" doc:"a hook's signing secret; it is shown this once"`
		Reads    []sources.SourceItem `json:"reads" doc:"what is read from it"`
		Health   []HealthHour         `json:"health" doc:"the last two weeks by the hour"`
		Requests []HookRequestItem    `json:"requests" doc:"of a hook: the last ones"`
		Uses     []sources.Use        `json:"uses" doc:"the sheets that name it"`
		Persons  int64                `json:"persons" doc:"of the people book, who have an address on it"`
	}
}

// Routes registers the operations of this room.
func (s *Connections) Routes() {
	kit.Register(s.Kit, kit.Op("list-connection-kinds", http.MethodGet, "/api/connection-kinds", "What can be connected, and what each asks for", "Connections"), kit.Anyone, s.listKinds)
	kit.Register(s.Kit, kit.Op("list-connections", http.MethodGet, "/api/connections", "Apps and chats", "Connections"), kit.Anyone, s.listConnections)
	kit.Changes(s.Kit, kit.Op("create-connection", http.MethodPost, "/api/connections", "Connect an app or a chat", "Connections"), kit.Editors, kit.Makes[makeInput](store.AboutConnection, func(out *connectionOutput) string { return out.Body.ID }), s.createConnection)
	kit.Register(s.Kit, kit.Op("get-connection", http.MethodGet, "/api/connections/{id}", "One connection: health, sources, last requests, where it is used", "Connections"), kit.Anyone, s.getConnection)
	kit.Changes(s.Kit, kit.Op("change-connection", http.MethodPatch, "/api/connections/{id}", "Change, pause or go on with a connection", "Connections"), kit.Editors, kit.About[changeInput, connectionOutput](store.AboutConnection, func(in *changeInput) string { return in.ID }), s.changeConnection)
	kit.Changes(s.Kit, kit.Op("delete-connection", http.MethodDelete, "/api/connections/{id}", "Delete a connection that no workflow names", "Connections"), kit.Editors, kit.About[connectionInput, struct{}](store.AboutConnection, func(in *connectionInput) string { return in.ID }), s.deleteConnection)
	s.movingRoutes()
	s.proveRoutes()
	s.shapeRoutes()
	s.sendingRoutes()
}

func (s *Connections) listKinds(_ context.Context, _ *kit.Person, _ *struct{}) (*kit.List[ConnectionKind], error) {
	var items []ConnectionKind
	for _, k := range kinds.All() {
		it := ConnectionKind{
			Name: k.Name, Title: k.Title, Does: k.Does, Settings: k.Settings, Source: k.Source, Single: k.Single, Key: k.Key,
			Asks: k.Reads == connect.ReadsAsked, Appends: k.Appends, Proves: k.Open != nil, Signs: k.Signs, Reads: k.Reads, Sends: sendsOf(k),
			Quickest: int(k.Quickest.Seconds()), Slowest: int(k.Slowest.Seconds()),
		}
		if it.Settings == nil {
			it.Settings = []connect.Setting{}
		}
		if it.Source == nil {
			it.Source = []connect.Setting{}
		}
		items = append(items, it)
	}
	return kit.ListOf(items, 0), nil
}

// sendsOf says what a kind can do with posts; nil where it sends none.
func sendsOf(k *connect.Kind) *SendsItem {
	if k.Sends == nil {
		return nil
	}
	return &SendsItem{Can: k.Sends.Can, Dialect: k.Sends.Dialect, Longest: k.Sends.Longest, PerMinute: k.Sends.PerMinute, Listed: k.Sends.Listed(), Form: k.Sends.Form}
}

func (s *Connections) listConnections(ctx context.Context, _ *kit.Person, _ *struct{}) (*kit.List[ConnectionItem], error) {
	rows, err := s.Store.Connections(ctx)
	if err != nil {
		return nil, err
	}
	items := make([]ConnectionItem, 0, len(rows))
	for _, c := range rows {
		it, err := s.connectionItem(ctx, &c)
		if err != nil {
			return nil, err
		}
		it.Address = s.addressOf(&c) // without what makes a door secret
		items = append(items, it)
	}
	return kit.ListOf(items, 0), nil
}

func (s *Connections) connectionItem(ctx context.Context, c *store.Connection) (ConnectionItem, error) {
	it := ConnectionItem{
		ID: c.ID, Kind: c.Kind, Title: c.Title, KeyField: c.KeyField, Settings: map[string]string{}, Secrets: []string{}, Sources: []string{},
		Paused: c.Paused, LastOK: c.LastOK, FailingSince: c.FailingSince, LastError: c.LastError, SecretExpires: c.SecretExpires,
	}
	if k := kinds.Named(c.Kind); k != nil {
		it.KindTitle, it.Receives, it.Signs = k.Title, k.Reads != connect.ReadsNothing, k.Signs
	}
	maps.Copy(it.Settings, c.Settings)
	secrets, err := s.Engine.Box.Open(c.Sealed, c.ID)
	if err != nil {
		it.LastError = err.Error()
	}
	if k := kinds.Named(c.Kind); k != nil && k.Sends != nil {
		it.Sends = sendsOf(k)
		all := maps.Clone(it.Settings)
		maps.Copy(all, secrets)
		if it.Sends.Can = k.Can(all); k.Mute != nil {
			it.Sends.Mute = k.Mute(c.Settings)
		}
	}
	for name := range secrets {
		if name == "door" || name == "signing_before" {
			continue
		}
		it.Secrets = append(it.Secrets, name)
	}
	it.Signed = secrets["signing"] != ""
	if it.Address = s.addressOf(c); secrets["door"] != "" {
		if who := s.Person(ctx); who != nil && who.Role != store.Viewer {
			it.Address += "/" + secrets["door"]
		}
	}
	if !it.Receives {
		it.Sources, err = s.Store.DestinationNames(ctx, c.ID)
		return it, err
	}
	if it.Sources, err = s.Store.SourceNames(ctx, c.ID); err != nil || len(it.Sources) == 0 {
		return it, err
	}
	if it.LastArrival, it.Today, err = s.Store.LastArrival(ctx, it.Sources); err != nil {
		return it, err
	}
	it.CallsADay, err = s.Store.CallsADay(ctx, c.ID)
	return it, err
}

func (s *Connections) addressOf(c *store.Connection) string {
	base := strings.TrimSuffix(s.PublicURL, "/")
	if k := kinds.Named(c.Kind); k != nil && k.Door != "" {
		return base + "/" + k.Door + "/" + c.ID
	}
	for _, name := range []string{"address", "host", "smtp", "folder"} {
		if v := c.Settings[name]; v != "" {
			if name == "host" && c.Settings["database"] != "" {
				v += "/" + c.Settings["database"]
			}
			return v
		}
	}
	return c.Settings["user"]
}

// requestsShown is how many of the last requests to a hook are shown.
const requestsShown = 50

func (s *Connections) getConnection(ctx context.Context, _ *kit.Person, in *connectionInput) (*connectionOutput, error) {
	s.Requests.WaitWritten()
	return s.connection(ctx, in.ID)
}

func (s *Connections) connection(ctx context.Context, id string) (*connectionOutput, error) {
	c, err := s.Store.Connection(ctx, id)
	if err != nil {
		return nil, err
	}
	out := &connectionOutput{}
	it, err := s.connectionItem(ctx, c)
	if err != nil {
		return nil, err
	}
	out.Body.ConnectionItem = it
	out.Body.Health, out.Body.Requests = []HealthHour{}, []HookRequestItem{}
	if out.Body.Reads, err = s.Sources.SourceItems(ctx, id); err != nil {
		return nil, err
	}
	hours, err := s.Store.Health(ctx, id)
	if err != nil {
		return nil, err
	}
	for _, h := range hours {
		out.Body.Health = append(out.Body.Health, HealthHour(h))
	}
	last, err := s.Store.LastRequests(ctx, id, "", false, requestsShown)
	if err != nil {
		return nil, err
	}
	for _, r := range last {
		out.Body.Requests = append(out.Body.Requests, HookRequestItem{ID: r.ID, At: r.At, Status: r.Status, Problem: r.Problem, Location: r.Location, Media: r.Media, Path: r.Path, Size: r.Size, Head: r.Head})
	}
	if out.Body.Persons, err = s.Store.Over(ctx, id); err != nil {
		return nil, err
	}
	out.Body.Uses, err = s.Sources.Uses(ctx, id)
	return out, err
}
