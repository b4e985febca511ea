package server

import (
	"net/http"
	"strconv"
	"time"

	"github.com/labstack/echo/v5"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"sentier/internal/service"
)

// metrics are the figures that operation watches.
type metrics struct {
	service         *service.Service
	allowed, denied prometheus.Counter
	requests        *prometheus.HistogramVec
	handler         http.Handler
}

func newMetrics(svc *service.Service) *metrics {
	registry := prometheus.NewRegistry()
	decisions := prometheus.NewCounterVec(prometheus.CounterOpts{Name: "sentier_decisions_total", Help: "Decisions answered."}, []string{"decision"})
	m := &metrics{
		service: svc,
		allowed: decisions.WithLabelValues("allow"),
		denied:  decisions.WithLabelValues("deny"),
		requests: prometheus.NewHistogramVec(prometheus.HistogramOpts{
			Name: "sentier_http_request_seconds", Help: "Time to answer a request.",
			Buckets: []float64{.0002, .001, .005, .02, .1, .5, 2, 10},
		}, []string{"method", "route", "status"}),
		handler: promhttp.HandlerFor(registry, promhttp.HandlerOpts{}),
	}
	revision := prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: "sentier_revision", Help: "Number of the policy's revision."},
		func() float64 { return float64(svc.State().Revision.Number) })
	registry.MustRegister(decisions, m.requests, revision, collectors.NewGoCollector(), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	return m
}

func (m *metrics) decided(allowed bool) {
	if allowed {
		m.allowed.Inc()
		return
	}
	m.denied.Inc()
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
