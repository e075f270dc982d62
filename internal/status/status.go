// Package status is what a process says of itself to those who run it: what it has done, whether it lives, and whether it is
// ready. It tells nothing of any site's content or people.
package status

import (
	"context"
	"net/http"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promauto"
	"github.com/prometheus/client_golang/prometheus/promhttp"
)

// registry has what a process counts, however many servers and queues it runs.
var registry = func() *prometheus.Registry {
	r := prometheus.NewRegistry()
	r.MustRegister(collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	return r
}()

var made = promauto.With(registry)

// What is counted where it happens.
var (
	Looks = made.NewCounterVec(prometheus.CounterOpts{Name: "tidemarker_looks_total",
		Help: "Looks at pages and journeys taken, by whether they could be made."}, []string{"outcome"})
	BrowsersStarted = made.NewCounter(prometheus.CounterOpts{Name: "tidemarker_browsers_started_total",
		Help: "How often Chromium was started, including restarts after it died."})
	TabsOpen = made.NewGauge(prometheus.GaugeOpts{Name: "tidemarker_tabs_open",
		Help: "Browser tabs that are open now."})
	ConnectorSeconds = made.NewHistogramVec(prometheus.HistogramOpts{Name: "tidemarker_connector_request_duration_seconds",
		Help: "How long connectors took to answer, by call and status; status 0: no answer.", Buckets: []float64{.01, .03, .1, .3, 1, 3, 10, 30}}, []string{"call", "status"})
	RequestSeconds = made.NewHistogramVec(prometheus.HistogramOpts{Name: "tidemarker_http_request_duration_seconds",
		Help: "How long the API took to answer, by method and status.", Buckets: []float64{.005, .01, .03, .1, .3, 1, 3, 10}}, []string{"method", "status"})
)

// Sample is one value of something that is read when it is asked for, with its labels' values.
type Sample struct {
	Labels []string
	Value  float64
}

// Gauge is something that is read when it is asked for.
type Gauge struct {
	Name, Help string
	Labels     []string
	Read       func(context.Context) ([]Sample, error)
}

// readWithin is how long reading a gauge may take.
const readWithin = 5 * time.Second

type gauges struct{ list []Gauge }

// Describe tells nothing beforehand: which labels there are is known only once they are read.
func (g gauges) Describe(chan<- *prometheus.Desc) {}

// Collect reads all gauges. One that cannot be read is an invalid metric, with the reason.
func (g gauges) Collect(out chan<- prometheus.Metric) {
	ctx, cancel := context.WithTimeout(context.Background(), readWithin)
	defer cancel()
	for _, x := range g.list {
		desc := prometheus.NewDesc(x.Name, x.Help, x.Labels, nil)
		samples, err := x.Read(ctx)
		if err != nil {
			out <- prometheus.NewInvalidMetric(desc, err)
			continue
		}
		for _, s := range samples {
			m, err := prometheus.NewConstMetric(desc, prometheus.GaugeValue, s.Value, s.Labels...)
			if err != nil {
				m = prometheus.NewInvalidMetric(desc, err)
			}
			out <- m
		}
	}
}

// Handler serves /healthz (the process answers), /readyz (200 when ready gives no error, otherwise 503 with the reason) and
// /metrics (OpenMetrics, or the older text format where that is asked for): what is counted, and the gauges.
func Handler(ready func(context.Context) error, list ...Gauge) http.Handler {
	all := prometheus.NewRegistry()
	all.MustRegister(gauges{list})
	mux := http.NewServeMux()
	mux.HandleFunc("GET /healthz", Healthy)
	mux.HandleFunc("GET /readyz", Ready(ready))
	mux.Handle("GET /metrics", promhttp.HandlerFor(prometheus.Gatherers{registry, all}, promhttp.HandlerOpts{EnableOpenMetrics: true, ErrorHandling: promhttp.ContinueOnError}))
	return mux
}

// Healthy answers that the process answers.
func Healthy(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte("It answers.\n")) }

// Ready answers whether the process can do its work.
func Ready(ready func(context.Context) error) http.HandlerFunc {
	return func(w http.ResponseWriter, r *http.Request) {
		ctx, cancel := context.WithTimeout(r.Context(), readWithin)
		defer cancel()
		if err := ready(ctx); err != nil {
			http.Error(w, "Not ready: the database does not answer.", http.StatusServiceUnavailable)
			return
		}
		_, _ = w.Write([]byte("It is ready.\n"))
	}
}
