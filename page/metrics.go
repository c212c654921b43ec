package page

import (
	"net/http"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"kasbah/core/alert"
	"kasbah/core/value"
)

// Counters count what this watcher does. What the journal says is the same for every watcher, and is measured when
// it is asked for.
type Counters struct {
	registry   *prometheus.Registry
	surveys    *prometheus.CounterVec
	durations  *prometheus.HistogramVec
	deliveries *prometheus.CounterVec
	calls      *prometheus.CounterVec
}

// NewCounters counts from nothing. b is what else is measured.
func NewCounters(b *Board) *Counters {
	counter := func(name, help string, labels ...string) *prometheus.CounterVec {
		return prometheus.NewCounterVec(prometheus.CounterOpts{Name: name, Help: help}, labels)
	}
	m := &Counters{registry: prometheus.NewRegistry(),
		surveys:    counter("kasbah_surveys_total", "Surveys that this watcher has made.", "env", "ward", "result"),
		deliveries: counter("kasbah_deliveries_total", "Tries of this watcher to tell a receiver.", "env", "receiver", "result"),
		calls:      counter("kasbah_driver_calls_total", "Lists and readings that this watcher has asked a driver for.", "env", "driver"),
		durations: prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: "kasbah_survey_duration_seconds",
			Help: "How long the surveys of this watcher took.", Buckets: prometheus.ExponentialBuckets(0.05, 2, 14)}, []string{"env"}),
	}
	m.registry.MustRegister(m.surveys, m.durations, m.deliveries, m.calls, &gauges{b}, collectors.NewGoCollector(),
		collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	return m
}

// Surveyed counts a survey.
func (m *Counters) Surveyed(env, ward string, seconds float64, failed bool) {
	m.surveys.WithLabelValues(env, ward, result(failed, "failed", "done")).Inc()
	m.durations.WithLabelValues(env).Observe(seconds)
}

// Told counts a try to tell a receiver.
func (m *Counters) Told(env, receiver string, err error) {
	m.deliveries.WithLabelValues(env, receiver, result(err != nil, "failed", "told")).Inc()
}

// Called counts a call of a driver.
func (m *Counters) Called(env, driver string) { m.calls.WithLabelValues(env, driver).Inc() }

func result(is bool, yes, no string) string {
	if is {
		return yes
	}
	return no
}

// gauges measure what the board says.
type gauges struct{ board *Board }

var (
	resources = prometheus.NewDesc("kasbah_resources", "Resources by their verdict in the last survey of their ward.", []string{"env", "ward", "verdict"}, nil)
	alerts    = prometheus.NewDesc("kasbah_alerts", "Alerts by their state.", []string{"env", "state"}, nil)
	surveyed  = prometheus.NewDesc("kasbah_ward_surveyed_timestamp_seconds", "When the last survey of a ward ended.", []string{"env", "ward"}, nil)
	failures  = prometheus.NewDesc("kasbah_ward_failed_surveys", "Surveys of a ward that failed in a row.", []string{"env", "ward"}, nil)
	due       = prometheus.NewDesc("kasbah_ward_due_timestamp_seconds", "When a ward is due again.", []string{"env", "ward"}, nil)
	outbox    = prometheus.NewDesc("kasbah_outbox_messages", "Messages that some receiver has not got yet.", []string{"env"}, nil)
	up        = prometheus.NewDesc("kasbah_journal_up", "1 while the journal can be read, else 0.", []string{"env"}, nil)
	read      = prometheus.NewDesc("kasbah_journal_read_timestamp_seconds", "When the journal was read last.", []string{"env"}, nil)
	healthy   = prometheus.NewDesc("kasbah_healthy", "1 while /healthz says so, else 0.", nil, nil)
)

// Describe lists what is measured.
func (g *gauges) Describe(to chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{resources, alerts, surveyed, failures, due, outbox, up, read, healthy} {
		to <- d
	}
}

// Collect measures.
func (g *gauges) Collect(to chan<- prometheus.Metric) {
	gauge := func(d *prometheus.Desc, v float64, labels ...string) {
		to <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, v, labels...)
	}
	at := func(d *prometheus.Desc, t time.Time, labels ...string) {
		if !t.IsZero() {
			gauge(d, float64(t.UnixMilli())/1000, labels...)
		}
	}
	truth := func(is bool) float64 {
		if is {
			return 1
		}
		return 0
	}
	now := g.board.Now()
	gauge(healthy, truth(len(g.board.Troubles()) == 0))
	for _, e := range g.board.Environments() {
		gauge(up, truth(e.Wrong == nil && e.State != nil), e.Name)
		at(read, e.Read, e.Name)
		for _, ward := range value.Keys(e.Wards) {
			at(due, e.next(ward, now), e.Name, ward)
		}
		if e.State == nil {
			continue
		}
		gauge(outbox, float64(len(e.State.Outbox)), e.Name)
		counts := map[alert.Phase]int{alert.Open: 0, alert.Acknowledged: 0, alert.Resolved: 0}
		for _, a := range e.State.Alerts {
			counts[a.Phase]++
		}
		for phase, n := range counts {
			gauge(alerts, float64(n), e.Name, string(phase))
		}
		for _, ward := range value.Keys(e.State.Wards) {
			w := e.State.Wards[ward]
			if w.Last == nil {
				continue
			}
			at(surveyed, w.At, e.Name, ward)
			gauge(failures, float64(w.Failures), e.Name, ward)
			for verdict, n := range w.Last.Counts {
				gauge(resources, float64(n), e.Name, ward, verdict)
			}
		}
	}
}

// metrics answers in the OpenMetrics format, or in the older text format where that is asked for. Who may read
// one environment only is not told of others.
func (s *Server) metrics(w http.ResponseWriter, r *http.Request) {
	if len(s.readable(r)) < len(s.board.Environments()) {
		s.refuse(w, r, http.StatusForbidden, "Metrics need a token that is known in every environment that is watched here.")
		return
	}
	promhttp.HandlerFor(s.meter.registry, promhttp.HandlerOpts{EnableOpenMetrics: true}).ServeHTTP(w, r)
}
