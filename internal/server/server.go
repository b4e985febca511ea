// Package server is the HTTP interface of the service, and serves the console.
package server

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"time"

	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"

	"sentier/internal/service"
)

// Options are what a server needs besides the service.
type Options struct {
	Console fs.FS // the built console; nil: none
	Log     *slog.Logger
	Version string
}

// Server answers HTTP requests with a service.
type Server struct {
	service *service.Service
	echo    *echo.Echo
	log     *slog.Logger
	metrics *metrics
	origin  *http.CrossOriginProtection
	openAPI []byte
	closing chan struct{} // closed when the server ends
}

// Bounds of a request's body, in bytes.
const (
	maxQuestion = 1 << 20
	maxDocument = 64 << 20
)

// New prepares a server.
func New(svc *service.Service, o Options) (*Server, error) {
	s := &Server{service: svc, log: o.Log, metrics: newMetrics(svc), origin: http.NewCrossOriginProtection(), closing: make(chan struct{})}
	e := echo.NewWithConfig(echo.Config{Logger: o.Log, HTTPErrorHandler: s.problem})
	s.echo = e
	e.Use(s.observe, middleware.RecoverWithConfig(middleware.RecoverConfig{DisablePrintStack: true}), secure)
	routes := append(s.routes(), s.editRoutes()...)
	for _, r := range routes {
		e.Add(r.method, r.echoPath(), s.handler(r))
	}
	var err error
	if s.openAPI, err = describe(routes, o.Version); err != nil {
		return nil, fmt.Errorf("describe the HTTP interface: %w", err)
	}
	if o.Console != nil {
		s.serveConsole(o.Console)
	}
	return s, nil
}

// OpenAPI is the description of the HTTP interface, JSON.
func (s *Server) OpenAPI() []byte { return s.openAPI }

// ServeHTTP answers one request.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) { s.echo.ServeHTTP(w, r) }

// shutdownTime is how long answers in flight may take when the service ends.
const shutdownTime = 20 * time.Second

// Serve answers on a listener until ctx ends; answers in flight are given then. certificate and key are files
// of a TLS certificate in PEM, or both empty.
func (s *Server) Serve(ctx context.Context, l net.Listener, certificate, key string) error {
	server := &http.Server{
		Handler:           s,
		ReadHeaderTimeout: 10 * time.Second,
		IdleTimeout:       2 * time.Minute,
		ErrorLog:          slog.NewLogLogger(s.log.Handler(), slog.LevelDebug),
	}
	server.RegisterOnShutdown(func() { close(s.closing) })
	ended := make(chan error, 1)
	go func() {
		<-ctx.Done()
		deadline, cancel := context.WithTimeout(context.Background(), shutdownTime)
		defer cancel()
		ended <- server.Shutdown(deadline)
	}()
	var err error
	if certificate != "" {
		err = server.ServeTLS(l, certificate, key)
	} else {
		err = server.Serve(l)
	}
	if errors.Is(err, http.ErrServerClosed) {
		return <-ended
	}
	return err
}

// untilClosing gives a context that ends with the server, for answers that would never end by themselves.
func (s *Server) untilClosing(ctx context.Context) (context.Context, context.CancelFunc) {
	ctx, cancel := context.WithCancel(ctx)
	go func() {
		select {
		case <-s.closing:
			cancel()
		case <-ctx.Done():
		}
	}()
	return ctx, cancel
}

// secure sets the headers that keep a browser from doing what the console never asks for.
func secure(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		h := c.Response().Header()
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "no-referrer")
		h.Set("X-Frame-Options", "DENY")
		// Radix places its layers with inline styles; scripts come from here alone.
		h.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; "+
			"object-src 'none'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'")
		return next(c)
	}
}

// mostAtOnce is how much room a body gets for nothing but the word of its sender.
const mostAtOnce = 1 << 20

// body reads a request's body up to a limit.
func body(c *echo.Context, limit int64) ([]byte, error) {
	var data bytes.Buffer
	if told := c.Request().ContentLength; told > 0 {
		data.Grow(int(min(told, limit, mostAtOnce)) + bytes.MinRead)
	}
	_, err := data.ReadFrom(http.MaxBytesReader(c.Response(), c.Request().Body, limit))
	var large *http.MaxBytesError
	if errors.As(err, &large) {
		return nil, &httpError{http.StatusRequestEntityTooLarge, fmt.Sprintf("the body is larger than the %d bytes that are read here", limit)}
	}
	if err != nil {
		return nil, &httpError{http.StatusBadRequest, "the body ended before it was complete"}
	}
	return data.Bytes(), nil
}
