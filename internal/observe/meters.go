// Package observe is what Dorfbote shows of itself to whoever runs it: metrics in the Prometheus text format, and traces
// over OTLP where an address for them is set.
package observe

import (
	"context"
	"net/http"
	"strconv"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"dorfbote/internal/store"
)

// Meters count what a process does. A nil *Meters counts nothing. Labels hold only what this side chose: never a
// record's text, and no address.
type Meters struct {
	registry  *prometheus.Registry
	arrivals  *prometheus.CounterVec
	decided   *prometheus.CounterVec
	deciding  prometheus.Histogram
	posts     *prometheus.CounterVec
	posting   *prometheus.HistogramVec
	told      prometheus.Histogram
	steps     *prometheus.CounterVec
	requests  *prometheus.CounterVec
	answering *prometheus.HistogramVec
}

// NewMeters makes meters. With a store, what waits in the database is looked up with each scrape: by destination for kinds of
// connection whose places are listed, by connection for all others, since an address is somebody's own and there is no end to them.
func NewMeters(st *store.Store, listed []string) *Meters {
	r := prometheus.NewRegistry()
	counter := func(name, help string, labels ...string) *prometheus.CounterVec {
		c := prometheus.NewCounterVec(prometheus.CounterOpts{Namespace: "dorfbote", Name: name, Help: help}, labels)
		r.MustRegister(c)
		return c
	}
	histogram := func(name, help string, buckets []float64, labels ...string) *prometheus.HistogramVec {
		h := prometheus.NewHistogramVec(prometheus.HistogramOpts{Namespace: "dorfbote", Name: name, Help: help, Buckets: buckets}, labels)
		r.MustRegister(h)
		return h
	}
	fine := []float64{.0005, .001, .0025, .005, .01, .025, .05, .1, .25, .5, 1, 2.5, 5, 10, 30}
	long := []float64{.01, .025, .05, .1, .25, .5, 1, 2.5, 5, 15, 60, 300, 1800, 3600, 6 * 3600, 24 * 3600}
	single := func(h *prometheus.HistogramVec) prometheus.Histogram {
		return h.WithLabelValues().(prometheus.Histogram)
	}
	m := &Meters{
		registry:  r,
		arrivals:  counter("arrivals_total", "Events that were taken in, and those that were known already.", "known"),
		decided:   counter("verdicts_total", "What workflows made of arrivals, by verdict; ignored ones are not counted.", "verdict"),
		deciding:  single(histogram("decide_batch_seconds", "How long a batch of arrivals took to decide and write.", fine)),
		posts:     counter("post_attempts_total", "Tries to send a post, by its connection, what became of it (taken, again or refused) and the class of the answer: 2xx, 4xx, 5xx or none.", "connection", "outcome", "answer"),
		posting:   histogram("post_seconds", "How long the other side took to answer.", fine, "connection"),
		told:      single(histogram("arrival_to_post_seconds", "From an arrival's being taken in to its post's being delivered.", long)),
		steps:     counter("step_attempts_total", "Tries of what follows on a post, by kind and outcome.", "kind", "outcome"),
		requests:  counter("http_requests_total", "Requests that were answered.", "method", "route", "status"),
		answering: histogram("http_seconds", "How long requests took to answer.", fine, "route"),
	}
	r.MustRegister(collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	if st != nil {
		r.MustRegister(newBacklog(st, listed))
	}
	return m
}

// Handler answers a scrape.
func (m *Meters) Handler() http.Handler {
	return promhttp.HandlerFor(m.registry, promhttp.HandlerOpts{EnableOpenMetrics: true})
}

// Arrived counts events that were taken in.
func (m *Meters) Arrived(fresh, known int) {
	if m != nil {
		m.arrivals.WithLabelValues("no").Add(float64(fresh))
		m.arrivals.WithLabelValues("yes").Add(float64(known))
	}
}

// Decided counts verdicts of a batch, and how long it took.
func (m *Meters) Decided(verdicts map[string]int, took time.Duration) {
	if m == nil {
		return
	}
	m.deciding.Observe(took.Seconds())
	for v, n := range verdicts {
		m.decided.WithLabelValues(v).Add(float64(n))
	}
}

// What became of a try to send a post.
const (
	Taken   = "taken"
	Again   = "again" // it may be taken later
	Refused = "refused"
)

// Posted counts a try to send a post over a connection.
func (m *Meters) Posted(connection, outcome string, status int, took time.Duration) {
	if m != nil {
		m.posts.WithLabelValues(connection, outcome, class(status)).Inc()
		m.posting.WithLabelValues(connection).Observe(took.Seconds())
	}
}

// Told notes how long it was from an arrival to its post.
func (m *Meters) Told(after time.Duration) {
	if m != nil {
		m.told.Observe(after.Seconds())
	}
}

// Stepped counts a try of a step.
func (m *Meters) Stepped(kind, outcome string) {
	if m != nil {
		m.steps.WithLabelValues(kind, outcome).Inc()
	}
}

// Answered counts a request.
func (m *Meters) Answered(method, route string, status int, took time.Duration) {
	if m != nil {
		m.requests.WithLabelValues(method, route, strconv.Itoa(status)).Inc()
		m.answering.WithLabelValues(route).Observe(took.Seconds())
	}
}

func class(status int) string {
	if status == 0 {
		return "none"
	}
	return strconv.Itoa(status/100) + "xx"
}

// lateAfter is how old an arrival is when it should long have been decided.
const lateAfter = 30 * time.Second

// backlog tells what waits in the database.
type backlog struct {
	store                                          *store.Store
	listed                                         []string // kinds of connection
	waiting, oldest, paused, jobs, steps, late, db *prometheus.Desc
}

func newBacklog(st *store.Store, listed []string) *backlog {
	desc := func(name, help string, labels ...string) *prometheus.Desc {
		return prometheus.NewDesc("dorfbote_"+name, help, labels, nil)
	}
	return &backlog{
		store:   st,
		listed:  listed,
		waiting: desc("posts_waiting", "Posts that wait for a destination, or for the addresses of a connection.", "destination"),
		oldest:  desc("posts_waiting_oldest_seconds", "For how long the oldest post has waited.", "destination"),
		paused:  desc("destination_paused", "1 where a destination is paused.", "destination"),
		jobs:    desc("jobs", "Jobs that are not done, by queue and state.", "queue", "state"),
		steps:   desc("steps_waiting", "Steps of runs that wait."),
		late:    desc("arrivals_undecided", "Arrivals that came in over 30 seconds ago and are not decided; to be 0."),
		db:      desc("database_connections", "Connections to PostgreSQL, by state.", "state"),
	}
}

// Describe implements prometheus.Collector.
func (b *backlog) Describe(ch chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{b.waiting, b.oldest, b.paused, b.jobs, b.steps, b.late, b.db} {
		ch <- d
	}
}

// Collect implements prometheus.Collector. What cannot be looked up is left out.
func (b *backlog) Collect(ch chan<- prometheus.Metric) {
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
	defer cancel()
	gauge := func(d *prometheus.Desc, v float64, labels ...string) {
		ch <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, v, labels...)
	}
	stat := b.store.Pool.Stat()
	gauge(b.db, float64(stat.AcquiredConns()), "used")
	gauge(b.db, float64(stat.IdleConns()), "idle")
	db := b.store.DB.WithContext(ctx)
	var places []struct {
		Name    string
		Paused  bool
		Waiting int64
		Oldest  float64
	}
	if db.Raw(`SELECT CASE WHEN c.kind IN ? THEN d.name ELSE d.connection END AS name, bool_or(d.paused) AS paused, count(p.id) AS waiting,
			coalesce(extract(epoch FROM now() - min(p.created_at)), 0) AS oldest
		FROM destinations d LEFT JOIN connections c ON c.id = d.connection LEFT JOIN posts p ON p.destination = d.name AND p.state = 'waiting' GROUP BY 1`, b.listed).Scan(&places).Error != nil {
		return
	}
	for _, p := range places {
		gauge(b.waiting, float64(p.Waiting), p.Name)
		gauge(b.oldest, p.Oldest, p.Name)
		paused := 0.0
		if p.Paused {
			paused = 1
		}
		gauge(b.paused, paused, p.Name)
	}
	var jobs []struct {
		Queue, State string
		N            int64
	}
	if db.Raw("SELECT queue, state::text AS state, count(*) AS n FROM river_job WHERE state IN ('available', 'running', 'retryable', 'scheduled') GROUP BY 1, 2").Scan(&jobs).Error == nil {
		for _, j := range jobs {
			gauge(b.jobs, float64(j.N), j.Queue, j.State)
		}
	}
	if n, err := b.store.Undecided(ctx, lateAfter); err == nil {
		gauge(b.late, float64(n))
	}
	var steps int64
	if db.Raw("SELECT count(*) FROM steps WHERE state = 'waiting'").Scan(&steps).Error == nil {
		gauge(b.steps, float64(steps))
	}
}
