// Package api is Dorfbote's HTTP interface: the API under /api (OpenAPI 3.1), the addresses that events
// come in by under /in, and the front end.
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

	"dorfbote/internal/api/hooks"
	"dorfbote/internal/engine"
	"dorfbote/internal/engine/intake"
	"dorfbote/internal/notify"
	"dorfbote/internal/observe"
	"dorfbote/internal/store"
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
	Proxies *Proxies
	// Secure marks the session's cookie for HTTPS alone.
	Secure bool
	// Meters count what is served; MetricsToken lets a scrape from another machine have them.
	Meters       *observe.Meters
	MetricsToken string
}

// Server answers HTTP requests.
type Server struct {
	Options
	store     *store.Store
	sessions  *scs.SessionManager
	api       huma.API
	trails    trailCache
	hooks     *hooks.Known
	guesses   *guesses
	passwords *passwords
	summaries map[string]string    // of operations that change something, for the audit log
	changing  map[string]auditable // what each of them changes
	requests  *hooks.Log
	formRate  *formLimit
	handler   http.Handler
}

// New makes the server.
func New(o Options) (*Server, error) {
	s := &Server{Options: o, store: o.Engine.Store, sessions: scs.New(), guesses: &guesses{store: o.Engine.Store, proxied: o.Proxies != nil}, passwords: newPasswords(), formRate: newFormLimit()}
	s.requests, s.hooks = hooks.NewLog(o.Engine.Sources), hooks.NewKnown(o.Engine.Store)
	s.sessions.Store = pgxstore.New(s.store.Pool)
	s.sessions.Lifetime = 7 * 24 * time.Hour
	s.sessions.Cookie.Name = "dorfbote_session"
	s.sessions.Cookie.HttpOnly = true
	s.sessions.Cookie.Secure = o.Secure
	s.sessions.Cookie.SameSite = http.SameSiteLaxMode

	if s.Meters == nil {
		s.Meters = observe.NewMeters(s.store)
	}
	root := chi.NewRouter()
	root.Use(s.observed, middleware.Recoverer)
	root.Post("/in/{connection}", s.takeIn)
	root.Post("/in/{connection}/{kind}", s.takeIn)
	root.Post("/call/{id}", s.takeCall)
	root.Get("/form/{connection}", s.showForm)
	root.Post("/form/{connection}", s.takeForm)
	root.Get("/form/{connection}/mend/{token}", s.showForm)
	root.Post("/form/{connection}/mend/{token}", s.takeForm)
	root.Get("/healthz", s.health)
	root.Get("/readyz", s.ready)
	root.Get("/metrics", s.metrics)
	guard := http.NewCrossOriginProtection()
	root.Group(func(r chi.Router) {
		r.Use(guard.Handler, s.notesCaller, s.sessions.LoadAndSave)
		s.api = humachi.New(r, config())
		s.routes()
		r.Get("/api/docs", s.docs)
		r.Group(func(r chi.Router) {
			r.Use(s.signedIn)
			r.Get("/api/events", s.stream)
			if o.Practice != "" {
				target, err := url.Parse(o.Practice)
				if err == nil {
					r.Handle("/api/practice/*", s.practiceProxy(target))
				}
			}
		})
	})
	root.Handle("/*", s.frontend())
	s.handler = root
	return s, nil
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

func (s *Server) routes() {
	s.signInRoutes()
	s.workflowRoutes()
	s.proofRoutes()
	s.rehearsalRoutes()
	s.applyingRoutes()
	s.draftingRoutes()
	s.tryRoutes()
	s.arrivalRoutes()
	s.runRoutes()
	s.outboxRoutes()
	s.connectionRoutes()
	s.startRoutes()
	s.scheduleRoutes()
	s.todayRoutes()
	s.peopleRoutes()
	s.invitationRoutes()
	s.signInsRoutes()
	s.auditRoutes()
	describeOutside(s.api.OpenAPI())
}

// OpenAPI is the description of the API.
func (s *Server) OpenAPI() *huma.OpenAPI { return s.api.OpenAPI() }

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
			if p := s.person(r.In.Context()); p != nil {
				r.Out.Header.Set("X-Practice-By", p.Name)
			}
		},
		ErrorHandler: func(w http.ResponseWriter, _ *http.Request, err error) {
			writeProblem(w, http.StatusBadGateway, "", "the practice apps do not answer: "+err.Error())
		},
	}
	return proxy
}

// Describe gives the OpenAPI description as JSON, without a running server.
func Describe() ([]byte, error) {
	s := &Server{}
	s.api = humachi.New(chi.NewMux(), config())
	s.routes()
	return json.MarshalIndent(s.api.OpenAPI(), "", "  ")
}
