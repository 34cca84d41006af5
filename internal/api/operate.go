package api

import (
	"context"
	"crypto/subtle"
	"net"
	"net/http"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	"go.opentelemetry.io/otel"
	"go.opentelemetry.io/otel/attribute"
	"go.opentelemetry.io/otel/propagation"
	"go.opentelemetry.io/otel/trace"

	"dorfbote/internal/api/kit"
)

// health says that the process lives. It asks nothing of others, so that a database that is away does not have the
// process restarted for it.
func (s *Server) health(w http.ResponseWriter, _ *http.Request) {
	_, _ = w.Write([]byte("ok\n"))
}

// ready says whether requests can be served now: the database answers and is up to date.
func (s *Server) ready(w http.ResponseWriter, r *http.Request) {
	ctx, cancel := context.WithTimeout(r.Context(), 2*time.Second)
	defer cancel()
	up, err := s.Store.Usable(ctx)
	switch {
	case err != nil:
		w.Header().Set("Retry-After", "2")
		kit.WriteProblem(w, http.StatusServiceUnavailable, "", "the database does not answer")
	case !up:
		w.Header().Set("Retry-After", "5")
		kit.WriteProblem(w, http.StatusServiceUnavailable, "", "the database is not up to date; run 'dorfbote migrate'")
	default:
		_, _ = w.Write([]byte("ready\n"))
	}
}

// metrics answers a scrape from this machine, or one that carries the token that was set for it.
func (s *Server) metrics(w http.ResponseWriter, r *http.Request) {
	host, _, _ := net.SplitHostPort(r.RemoteAddr)
	ip := net.ParseIP(host)
	near := ip != nil && ip.IsLoopback() && (s.Proxies == nil || !s.Proxies.Trusts(host)) && r.Header.Get("X-Forwarded-For") == "" && r.Header.Get("Forwarded") == ""
	given := r.Header.Get("Authorization")
	if !near && (s.o.MetricsToken == "" || subtle.ConstantTimeCompare([]byte(given), []byte("Bearer "+s.o.MetricsToken)) != 1) {
		w.Header().Set("WWW-Authenticate", "Bearer")
		kit.WriteProblem(w, http.StatusUnauthorized, "", "metrics are given to this machine, and to whoever carries the token set by DORFBOTE_METRICS_TOKEN")
		return
	}
	s.Meters.Handler().ServeHTTP(w, r)
}

// observed counts requests, traces them, and logs those that failed. What is logged is the route and never the
// address, which may hold a token.
func (s *Server) observed(next http.Handler) http.Handler {
	tracer := otel.Tracer("dorfbote/http")
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		began := time.Now()
		ctx := otel.GetTextMapPropagator().Extract(r.Context(), propagation.HeaderCarrier(r.Header))
		ctx, span := tracer.Start(ctx, r.Method, trace.WithSpanKind(trace.SpanKindServer))
		w.Header().Set("X-Content-Type-Options", "nosniff")
		ww := middleware.NewWrapResponseWriter(w, r.ProtoMajor)
		r = r.WithContext(ctx)
		defer func() {
			route := "other"
			if rc := chi.RouteContext(r.Context()); rc != nil && rc.RoutePattern() != "" {
				route = rc.RoutePattern()
			}
			status := ww.Status()
			if status == 0 {
				status = http.StatusOK
			}
			s.Meters.Answered(method(r.Method), route, status, time.Since(began))
			if status >= 500 {
				s.Log.Warn("request failed", "method", method(r.Method), "route", route, "status", status, "took_ms", time.Since(began).Milliseconds())
			}
			span.SetName(method(r.Method) + " " + route)
			span.SetAttributes(attribute.String("http.route", route), attribute.Int("http.response.status_code", status))
			span.End()
		}()
		next.ServeHTTP(ww, r)
	})
}

// method keeps invented methods out of metrics, where each would be a series of its own.
func method(m string) string {
	switch m {
	case http.MethodGet, http.MethodPost, http.MethodPut, http.MethodPatch, http.MethodDelete, http.MethodHead, http.MethodOptions:
		return m
	}
	return "other"
}
