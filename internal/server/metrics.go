package server

import (
	"net/http"
	"os"
	"path/filepath"
	"strconv"
	"sync/atomic"
	"time"

	"github.com/labstack/echo/v5"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"
)

// metrics are the figures that operation watches.
type metrics struct {
	decisions *prometheus.CounterVec
	signIns   *prometheus.CounterVec
	requests  *prometheus.HistogramVec
	handler   http.Handler
	asked     atomic.Uint64 // decisions in all
}

// Interfaces by which decisions are asked for.
const (
	byCheck       = "check"
	byEvaluation  = "evaluation"
	byEvaluations = "evaluations"
)

func newMetrics(s *Server, version string) *metrics {
	registry := prometheus.NewRegistry()
	m := &metrics{
		decisions: prometheus.NewCounterVec(prometheus.CounterOpts{Name: "sentier_decisions_total", Help: "Decisions answered, by their reason and the interface."}, []string{"decision", "reason", "interface"}),
		signIns:   prometheus.NewCounterVec(prometheus.CounterOpts{Name: "sentier_sign_ins_total", Help: "Sign-ins that were tried."}, []string{"outcome"}),
		requests: prometheus.NewHistogramVec(prometheus.HistogramOpts{
			Name: "sentier_http_request_seconds", Help: "Time to answer a request.",
			Buckets: []float64{.0002, .001, .005, .02, .1, .5, 2, 10},
		}, []string{"method", "route", "status"}),
		handler: promhttp.HandlerFor(registry, promhttp.HandlerOpts{}),
	}
	gauge := func(name, help string, labels prometheus.Labels, value func() float64) {
		registry.MustRegister(prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: name, Help: help, ConstLabels: labels}, value))
	}
	gauge("sentier_build_info", "1, with the version of the program.", prometheus.Labels{"version": version}, func() float64 { return 1 })
	gauge("sentier_revision", "Number of the policy's revision.", nil, func() float64 { return float64(s.service.State().Revision.Number) })
	gauge("sentier_writer", "1: this machine writes; 0: it follows the one that does, or stands by.", nil, func() float64 {
		if s.writer != nil {
			return 0
		}
		return 1
	})
	gauge("sentier_record_entries", "Number of the last entry of the record.", nil, func() float64 { return float64(s.service.Record().Last()) })
	gauge("sentier_streams", "Streams of events that are open.", nil, func() float64 { return float64(len(s.streams)) })
	gauge("sentier_last_backup_timestamp_seconds", "When the last backup was made; 0: none is on record.", nil, s.service.LastBackup)
	for name, writes := range s.service.Writes() {
		of := prometheus.Labels{"of": name}
		registry.MustRegister(prometheus.NewCounterFunc(prometheus.CounterOpts{Name: "sentier_writes_total", Help: "Revisions of the policy, or batches of the record, that were written.", ConstLabels: of}, func() float64 {
			count, _ := writes.Read()
			return float64(count)
		}), prometheus.NewCounterFunc(prometheus.CounterOpts{Name: "sentier_write_seconds_total", Help: "Time that it took to write them, and to bring them to the disk.", ConstLabels: of}, func() float64 {
			_, took := writes.Read()
			return took.Seconds()
		}))
	}
	for _, file := range s.service.DataFiles() {
		gauge("sentier_data_bytes", "Size of a file of the service's folder.", prometheus.Labels{"file": filepath.Base(file)}, func() float64 {
			info, err := os.Stat(file)
			if err != nil {
				return 0
			}
			return float64(info.Size())
		})
	}
	if s.certificate != nil {
		gauge("sentier_certificate_expiry_timestamp_seconds", "When the TLS certificate ends.", nil, func() float64 { return float64(s.certificate.until().Unix()) })
	}
	registry.MustRegister(m.decisions, m.signIns, m.requests, collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	return m
}

// decided counts a decision. Its reason is one of the codes, of which there are few.
func (m *metrics) decided(by string, allowed bool, reason string) {
	decision := "deny"
	if allowed {
		decision = "allow"
	}
	m.decisions.WithLabelValues(decision, reason, by).Inc()
	m.asked.Add(1)
}

// signedIn counts a sign-in, good or not.
func (m *metrics) signedIn(err error) {
	outcome := "done"
	if err != nil {
		outcome = "refused"
	}
	m.signIns.WithLabelValues(outcome).Inc()
}

// handle shows the figures to whoever may read.
func (m *metrics) handle(r *request) error {
	m.handler.ServeHTTP(r.Response(), r.Request())
	return nil
}

// methodLabel is a method that there is a label for: what anybody can send becomes no key of what is kept.
func methodLabel(method string) string {
	switch method {
	case http.MethodGet, http.MethodHead, http.MethodPost, http.MethodPut, http.MethodPatch, http.MethodDelete, http.MethodOptions:
		return method
	}
	return "other"
}

// observe times requests by their route.
func (s *Server) observe(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		start := time.Now()
		err := next(c)
		status := http.StatusOK
		if err != nil {
			status = statusOf(err)
		}
		s.metrics.requests.WithLabelValues(methodLabel(c.Request().Method), c.Path(), strconv.Itoa(status)).Observe(time.Since(start).Seconds())
		return err
	}
}
