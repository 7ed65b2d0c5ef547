package service

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"mellowgate/internal/core/evidence"
	"mellowgate/internal/core/reason"
	"mellowgate/internal/core/site"
	"mellowgate/internal/core/watch"
	"mellowgate/internal/live/server/gate"
	"mellowgate/internal/live/server/ledger"
	"mellowgate/internal/routine"
)

// Metrics counts what a service answers, and gives it to a monitor over HTTP:
// /metrics in the text form of Prometheus, and /health, which is 503 (RFC 9110, section
// 15.6.4) while something is wrong.
type Metrics struct {
	Health   *Health
	answers  *prometheus.CounterVec
	ends     *prometheus.GaugeVec // of certificates, by server
	heads    *prometheus.GaugeVec // signed, by chain
	took     *prometheus.HistogramVec
	reloads  *prometheus.CounterVec
	taken    prometheus.Gauge
	keys     *prometheus.GaugeVec // when each key was written, by its name
	free     prometheus.Gauge
	room     prometheus.Gauge
	registry *prometheus.Registry
	served   []served
}

// served is one place at which a monitor reads.
type served struct {
	server *http.Server
	ended  chan struct{}
}

// NewMetrics makes counters that nobody reads yet.
func NewMetrics() *Metrics {
	m := &Metrics{Health: newHealth(), registry: prometheus.NewRegistry(),
		answers: prometheus.NewCounterVec(prometheus.CounterOpts{
			Name: watch.MetricAnswers, Help: "Questions by server, protocol, kind of question, answer and reason."},
			[]string{watch.LabelServer, "protocol", "question", watch.LabelAnswer, "reason"}),
		ends: prometheus.NewGaugeVec(prometheus.GaugeOpts{Name: watch.MetricEnds,
			Help: "When the certificate of a server ends, in seconds since 1970."}, []string{watch.LabelServer}),
		heads: prometheus.NewGaugeVec(prometheus.GaugeOpts{Name: "mellowgate_ledger_head",
			Help: "The number of the newest record that was signed, with its hash and signature."},
			[]string{"chain", "last", "key", "signature"}),
		took: prometheus.NewHistogramVec(prometheus.HistogramOpts{Name: watch.MetricTook,
			Help:    "How long answers took, with the wait for the disk and refusals that are held back.",
			Buckets: []float64{0.0005, 0.001, 0.002, 0.005, 0.01, 0.02, 0.05, 0.1, 0.25, 0.5, 1, 2, 5}},
			[]string{watch.LabelServer, "question"}),
		reloads: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "mellowgate_site_reads_total",
			Help: "How often the site was read again while the service ran, by whether it was taken."},
			[]string{"result"}),
		taken: prometheus.NewGauge(prometheus.GaugeOpts{Name: "mellowgate_site_taken_timestamp_seconds",
			Help: "When the site in use was taken, in seconds since 1970."}),
		keys: prometheus.NewGaugeVec(prometheus.GaugeOpts{Name: "mellowgate_key_timestamp_seconds",
			Help: "When the file with a shared key was last written, in seconds since 1970."}, []string{"key"}),
		free: prometheus.NewGauge(prometheus.GaugeOpts{Name: "mellowgate_disk_free_bytes",
			Help: "Octets that are free on the disk with the records."}),
		room: prometheus.NewGauge(prometheus.GaugeOpts{Name: "mellowgate_disk_bytes",
			Help: "Octets of the disk with the records."})}
	m.registry.MustRegister(m.answers, m.ends, m.heads, m.took, m.reloads, m.taken, m.keys, m.free, m.room,
		m.Health.gauge,
		collectors.NewGoCollector(),
		collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	for _, result := range []string{"taken", "refused"} {
		m.reloads.WithLabelValues(result)
	}
	return m
}

// Waiting lets a monitor read how many records wait for the database.
func (m *Metrics) Waiting(now func() int64) {
	m.registry.MustRegister(prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: watch.MetricWaiting,
		Help: "Records that are safe on this disk and wait for the ledger's database."},
		func() float64 { return float64(now()) }))
}

// Took counts how long an answer took.
func (m *Metrics) Took(server string, q site.Question, d time.Duration) {
	m.took.WithLabelValues(server, string(q)).Observe(d.Seconds())
}

// Taken notes that a site was taken, with its servers that run here, and when the file of
// each of its keys was written, by the key's name.
func (m *Metrics) Taken(servers []*site.Server, keys map[string]time.Time) {
	m.taken.SetToCurrentTime()
	m.keys.Reset()
	for name, moment := range keys {
		m.keys.WithLabelValues(name).Set(float64(moment.Unix()))
	}
	for _, server := range servers { // what has not happened yet is 0, and not missing
		if server.Protocol == site.LDAP {
			continue
		}
		for answer, why := range map[evidence.Answer]reason.Reason{evidence.Accepted: reason.Accepted,
			evidence.Refused: reason.WrongPassword, evidence.Dropped: reason.KeyDiffers} {
			m.answers.WithLabelValues(server.Name, string(server.Protocol), string(site.Login.Question()),
				string(answer),
				string(why))
		}
	}
}

// Read notes that the site was read again, and whether it was taken.
func (m *Metrics) Read(taken bool) {
	m.reloads.WithLabelValues(map[bool]string{true: "taken", false: "refused"}[taken]).Inc()
}

// Watch lets a monitor read how much a gate has to do.
func (m *Metrics) Watch(g *gate.Gate, version string) {
	m.registry.MustRegister(
		prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: "mellowgate_connections",
			Help: "Connections that are open."}, func() float64 { return float64(g.Connections()) }),
		prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: watch.MetricChecking,
			Help: "Passwords that wait for the memory which their hash takes, or are being checked."},
			func() float64 { return float64(g.Hashing()) }),
		prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: "mellowgate_build_info",
			Help: "The version of the program.", ConstLabels: prometheus.Labels{"version": version}},
			func() float64 { return 1 }))
}

// Behind lets a monitor read how many records are not in the index yet.
func (m *Metrics) Behind(now func() int64) {
	m.registry.MustRegister(prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: "mellowgate_index_behind_records",
		Help: "Records that are safe on disk and not in the index of the ledger yet."},
		func() float64 { return float64(now()) }))
}

// Room is how much of the disk with the records is free.
func (m *Metrics) Room(free, all uint64) {
	m.free.Set(float64(free))
	m.room.Set(float64(all))
}

// Head is the newest record that was signed.
func (m *Metrics) Head(h ledger.Head) {
	m.heads.Reset()
	m.heads.WithLabelValues(h.Chain, h.Hash, h.Key, h.Sign).Set(float64(h.Sequence))
}

// Certificates are the ends of the certificates in use from now on, by server.
func (m *Metrics) Certificates(ends map[string]time.Time) {
	m.ends.Reset()
	for server, end := range ends {
		m.ends.WithLabelValues(server).Set(float64(end.Unix()))
	}
}

// Event counts an event. No name of a person or device becomes a label: there
// are too many, and a monitor need not know them.
func (m *Metrics) Event(e evidence.Event) {
	m.answers.WithLabelValues(e.Server, string(e.Protocol), string(e.Question), string(e.Answer),
		string(e.Reason)).Inc()
}

// Listen serves the counters at an address until Close.
func (m *Metrics) Listen(address string) (net.Addr, error) {
	listener, err := net.Listen("tcp", address)
	if err != nil {
		return nil, fmt.Errorf("the metrics cannot be served at %s: %w; choose another address or port in "+
			"service.metrics of the site", address, err)
	}
	m.serve(listener)
	return listener.Addr(), nil
}

// ListenAt serves the counters at a socket of this host, which is a file, until Close.
// Who may write to the file may read them.
func (m *Metrics) ListenAt(path string) error {
	listener, err := net.Listen("unix", path)
	if err != nil {
		return err
	}
	listener.(*net.UnixListener).SetUnlinkOnClose(false) // by then the path may be another one's
	if err := os.Chmod(path, 0o600); err != nil {
		return errors.Join(err, listener.Close())
	}
	m.serve(listener)
	return nil
}

func (m *Metrics) serve(listener net.Listener) {
	paths := http.NewServeMux()
	paths.Handle("GET /metrics", promhttp.HandlerFor(m.registry, promhttp.HandlerOpts{EnableOpenMetrics: true}))
	paths.HandleFunc("GET /health", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/plain; charset=utf-8")
		wrong := m.Health.text()
		if wrong != "" {
			w.WriteHeader(http.StatusServiceUnavailable)
		}
		_, _ = fmt.Fprint(w, "running\n"+wrong)
	})
	s := served{server: &http.Server{Handler: paths, ReadHeaderTimeout: 5 * time.Second, ReadTimeout: 10 * time.Second,
		WriteTimeout: 10 * time.Second, MaxHeaderBytes: 1 << 14}, ended: make(chan struct{})}
	m.served = append(m.served, s)
	routine.Go(func() {
		defer close(s.ended)
		_ = s.server.Serve(listener)
	})
}

// Close ends the serving and waits for it.
func (m *Metrics) Close() error {
	var errs []error
	for _, s := range m.served {
		ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
		err := s.server.Shutdown(ctx)
		cancel()
		if errors.Is(err, context.DeadlineExceeded) {
			err = s.server.Close()
		}
		<-s.ended
		errs = append(errs, err)
	}
	return errors.Join(errs...)
}
