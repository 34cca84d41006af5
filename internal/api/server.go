package api

import (
	"encoding/json"
	"io/fs"
	"log/slog"
	"net/http"
	"net/http/httputil"
	"net/url"
	"time"

	"github.com/alexedwards/scs/pgxstore"
	"github.com/alexedwards/scs/v2"
	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"

	"dorfbote/internal/api/alerts"
	"dorfbote/internal/api/auth"
	"dorfbote/internal/api/connections"
	"dorfbote/internal/api/history"
	"dorfbote/internal/api/hooks"
	"dorfbote/internal/api/inbound"
	"dorfbote/internal/api/kit"
	"dorfbote/internal/api/pages"
	"dorfbote/internal/api/people"
	"dorfbote/internal/api/proof"
	"dorfbote/internal/api/shown"
	"dorfbote/internal/api/sources"
	"dorfbote/internal/api/workflows"
	"dorfbote/internal/engine"
	"dorfbote/internal/engine/intake"
	engsources "dorfbote/internal/engine/sources"
	"dorfbote/internal/notify"
	"dorfbote/internal/observe"
)

// Options are what the server is made of.
type Options struct {
	Engine *engine.Engine
	Intake *intake.Intake
	Hub    *notify.Hub
	Log    *slog.Logger
	Web    fs.FS // the built front end
	// Practice is the address of the practice services, "" where there are none. The browser reaches
	// them through this server, which speaks HTTP to them as to any outside service.
	Practice string
	// PublicURL is how the outside reaches this server; "" takes it from each request.
	PublicURL string
	// Proxies are the reverse proxies whose word is taken for where a request comes from; nil takes nobody's.
	Proxies *kit.Proxies
	// Secure marks the session's cookie for HTTPS alone.
	Secure bool
	// Meters count what is served; MetricsToken lets a scrape from another machine have them.
	Meters       *observe.Meters
	MetricsToken string
}

// Server answers HTTP requests: it puts the rooms of the API together, and serves the front end.
type Server struct {
	*kit.Kit
	o       Options
	handler http.Handler

	Auth        *auth.Auth
	Workflows   *workflows.Workflows
	Proof       *proof.Proof
	Connections *connections.Connections
	Sources     *sources.Sources
	History     *history.History
	People      *people.People
	Alerts      *alerts.Alerts
	Inbound     *inbound.Inbound
	Pages       *pages.Pages
}

// compressLevel is of gzip: the answers of the API are made anew each time, and so compressed quickly rather than well.
const compressLevel = 3

// New makes the server.
func New(o Options) (*Server, error) {
	if o.Meters == nil {
		o.Meters = observe.NewMeters(o.Engine.Store, engsources.Listed())
	}
	if o.Engine.Env.Base == "" {
		o.Engine.Env.Base = o.PublicURL
	}
	k := &kit.Kit{
		Engine: o.Engine, Store: o.Engine.Store, Intake: o.Intake, Hub: o.Hub, Log: o.Log, Meters: o.Meters, Sessions: scs.New(),
		Requests: hooks.NewLog(o.Engine.Sources), Hooks: hooks.NewKnown(o.Engine.Store), PublicURL: o.PublicURL, Practice: o.Practice != "", Proxies: o.Proxies,
	}
	k.Hub.Heed(func(m notify.Message) {
		switch m.Topic {
		case notify.Connections, notify.Destinations, notify.People, notify.All:
			k.Engine.Sources.Forget()
			k.Hooks.ForgetAll()
		}
	})
	k.Sessions.Store = pgxstore.New(k.Store.Pool)
	k.Sessions.Lifetime = 7 * 24 * time.Hour
	k.Sessions.Cookie.Name = "dorfbote_session"
	k.Sessions.Cookie.HttpOnly = true
	k.Sessions.Cookie.Secure = o.Secure
	k.Sessions.Cookie.SameSite = http.SameSiteLaxMode
	s := withRooms(k, o)

	root := chi.NewRouter()
	root.Use(s.observed, middleware.Recoverer)
	s.Inbound.Doors(root)
	s.Pages.Doors(root)
	root.Get("/healthz", s.health)
	root.Get("/readyz", s.ready)
	root.Get("/metrics", s.metrics)
	guard := http.NewCrossOriginProtection()
	root.Group(func(r chi.Router) {
		// Streams are not among what is compressed: each of their lines goes out at once.
		r.Use(middleware.Compress(compressLevel, "application/json", "application/problem+json"))
		r.Use(guard.Handler, s.NotesCaller, s.Sessions.LoadAndSave)
		r.Group(func(r chi.Router) {
			r.Use(redacting)
			s.API = humachi.New(r, config())
			s.routes()
			r.Get("/api/docs", s.docs)
			r.With(s.Auth.SignedIn).Get("/api/events", s.stream)
		})
		// The practice apps are the other side: their mailbox and rooms show what whoever was told has in hand, links included.
		if target, err := url.Parse(o.Practice); err == nil && o.Practice != "" {
			r.With(s.Auth.SignedIn).Handle("/api/practice/*", s.practiceProxy(target))
		}
	})
	root.Handle("/*", s.frontend())
	s.handler = root
	return s, nil
}

// withRooms makes the rooms of a server.
func withRooms(k *kit.Kit, o Options) *Server {
	s := &Server{Kit: k, o: o, Auth: auth.New(k)}
	show := &shown.Shown{Kit: k}
	s.Proof = &proof.Proof{Kit: k, Shown: show}
	s.Workflows = &workflows.Workflows{Kit: k, Proof: s.Proof}
	s.Sources = &sources.Sources{Kit: k, Shown: show}
	s.Connections = &connections.Connections{Kit: k, Sources: s.Sources}
	s.History = &history.History{Kit: k, Shown: show, Proof: s.Proof}
	s.Alerts = &alerts.Alerts{Kit: k, Shown: show}
	s.People = &people.People{Kit: k, Auth: s.Auth}
	s.Inbound = &inbound.Inbound{Kit: k, Workflows: s.Workflows}
	s.Pages = pages.New(k)
	return s
}

// Handler is the server's HTTP interface.
func (s *Server) Handler() http.Handler { return s.handler }

func config() huma.Config {
	c := huma.DefaultConfig("Dorfbote", "1")
	c.Info.Description = "Watches business apps for new records and changes, and tells the right people in chat."
	c.OpenAPIPath = "/api/openapi"
	c.DocsPath = ""
	c.SchemasPath = ""
	c.CreateHooks = nil // no $schema links in every answer
	return c
}

// routes registers the operations of all rooms, in the order in which they are described.
func (s *Server) routes() {
	s.Auth.Routes()
	s.Workflows.Routes()
	s.Proof.Routes()
	s.History.Routes()
	s.Alerts.Routes()
	s.Connections.Routes()
	s.Sources.Routes()
	s.People.Routes()
	describeOutside(s.API.OpenAPI())
}

// OpenAPI is the description of the API.
func (s *Server) OpenAPI() *huma.OpenAPI { return s.API.OpenAPI() }

func (s *Server) practiceProxy(target *url.URL) http.Handler {
	proxy := &httputil.ReverseProxy{
		FlushInterval: -1,
		Rewrite: func(r *httputil.ProxyRequest) {
			r.SetURL(target)
			r.Out.URL.Path = r.In.URL.Path[len("/api/practice"):]
			r.Out.URL.RawPath = ""
			r.Out.Header.Del("Cookie")
			r.Out.Header.Del("Origin")
			r.Out.Header.Del("Sec-Fetch-Site")
			if p := s.Person(r.In.Context()); p != nil {
				r.Out.Header.Set("X-Practice-By", p.Name)
			}
		},
		ErrorHandler: func(w http.ResponseWriter, _ *http.Request, err error) {
			kit.WriteProblem(w, http.StatusBadGateway, "", "the practice apps do not answer: "+err.Error())
		},
	}
	return proxy
}

// described is a server with its operations, which runs nothing.
func described() *Server {
	s := withRooms(&kit.Kit{API: humachi.New(chi.NewMux(), config())}, Options{})
	s.routes()
	return s
}

// Describe gives the OpenAPI description as JSON, without a running server.
func Describe() ([]byte, error) {
	s := described()
	return json.MarshalIndent(s.API.OpenAPI(), "", "  ")
}
