// Package server is the HTTP interface of the service, and serves the console.
package server

import (
	"fmt"
	"io/fs"
	"log/slog"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"sync"

	"github.com/labstack/echo/v5"
	"github.com/labstack/echo/v5/middleware"

	"sentier/internal/mail"
	"sentier/internal/service"
)

// Options are what a server needs besides the service.
type Options struct {
	Console          fs.FS // the built console; nil: none
	Log              *slog.Logger
	Version          string
	Address          string         // where it answers, as a URL
	PublicURL        *url.URL       // how clients reach it; nil: at Address
	Mail             mail.Sender    // sends links, and tells of requests; nil: nobody does
	Trusted          []netip.Prefix // of the proxies whose word on where a request came from counts
	Certificate, Key string         // PEM files of TLS, which are read again when they change; empty: none
	Elsewhere        *Elsewhere     // the machine that writes; nil: this one does
	Place            func() uint64  // how far the log of revisions goes; nil: there is none
	Revisions        *Log           // for whoever follows it over HTTP; nil: this machine follows itself
}

// Server answers HTTP requests with a service.
type Server struct {
	service     *service.Service
	echo        *echo.Echo
	log         *slog.Logger
	metrics     *metrics
	crossOrigin *http.CrossOriginProtection
	console     *console // nil: none
	address     string
	mail        mail.Sender // nil: none is sent
	public      *url.URL
	trusted     []netip.Prefix
	openAPI     func() (*packed, error) // the description of the HTTP interface, JSON; made when it is first asked for
	certificate *certificate            // nil: no TLS
	closing     chan struct{}           // closed when the server ends, or another takes its place
	ending      sync.Once
	writer      *Elsewhere    // the machine that writes; nil: this one does
	place       func() uint64 // nil: there is no log
	logged      *Log          // nil: this machine follows

	signIns, streams room
	requests         callerRoom
	heavy, large     heavyRoom // what takes long, and what has a large body
	asked            lastAsked // anything else
	bodies           byteRoom
	refusals         pace
}

// New prepares a server.
func New(svc *service.Service, o Options) (*Server, error) {
	s := &Server{
		service: svc, log: o.Log, crossOrigin: http.NewCrossOriginProtection(), closing: make(chan struct{}),
		address: o.Address, public: o.PublicURL, trusted: o.Trusted, mail: o.Mail, writer: o.Elsewhere, place: o.Place, logged: o.Revisions,
		signIns: make(room, mostSignIns), streams: make(room, mostStreams), requests: newCallerRoom(), heavy: newHeavyRoom(mostWaiting, nil),
	}
	s.large = newHeavyRoom(mostLarge, &s.asked)
	s.bodies.free.Store(mostBytes)
	if s.mail != nil {
		svc.Remind(s.remindByMail)
	}
	if s.public != nil {
		if err := s.crossOrigin.AddTrustedOrigin(s.public.Scheme + "://" + s.public.Host); err != nil {
			return nil, fmt.Errorf("the public address: %w", err)
		}
	}
	if o.Certificate != "" {
		var err error
		if s.certificate, err = newCertificate(o.Certificate, o.Key, o.Log); err != nil {
			return nil, err
		}
	}
	if o.Console != nil {
		var err error
		if s.console, err = newConsole(o.Console, s.prefix()); err != nil {
			return nil, err
		}
	}
	s.metrics = newMetrics(s, o.Version)
	router := echo.NewRouter(echo.RouterConfig{UnescapePathParamValues: true, AutoHandleHEAD: true, NotFoundHandler: s.elsewhere})
	s.echo = echo.NewWithConfig(echo.Config{Logger: o.Log, HTTPErrorHandler: s.problem, Router: router})
	s.echo.Use(s.observe, middleware.RecoverWithConfig(middleware.RecoverConfig{DisablePrintStack: true}), s.secure)
	routes := slices.Concat(s.routes(), s.editRoutes(), s.auditRoutes(), s.ownRoutes(), s.draftRoutes(), s.upkeepRoutes(), s.reviewRoutes(), s.sourceRoutes(), s.hookRoutes(), s.feedRoutes(), s.machineRoutes(), s.logRoutes())
	for _, r := range slices.Concat(routes, s.scimRoutes(), s.signOnRoutes()) {
		s.echo.Add(r.method, r.echoPath(), s.handler(r))
	}
	// It takes longer than all else of a start, and most services are never asked for it.
	s.openAPI = sync.OnceValues(func() (*packed, error) {
		document, err := describe(routes, o.Version, s.prefix())
		if err != nil {
			return nil, err
		}
		return pack(document), nil
	})
	return s, nil
}

// ReadCertificate reads the files of the TLS certificate again, where they have changed.
func (s *Server) ReadCertificate() {
	if s.certificate != nil {
		s.certificate.again()
	}
}

// Asked is how many decisions were answered since the start.
func (s *Server) Asked() uint64 { return s.metrics.asked.Load() }

// ServeHTTP answers one request.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	s.echo.ServeHTTP(w, s.withoutPrefix(r))
}

// secure sets the headers that keep a browser from doing what the console never asks for, and answers from being kept.
func (s *Server) secure(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		h := c.Response().Header()
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "no-referrer")
		h.Set("X-Frame-Options", "DENY")
		// Radix places its layers with inline styles; scripts come from here alone.
		h.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; "+
			"object-src 'none'; base-uri 'self'; form-action 'self'; frame-ancestors 'none'")
		if s.public != nil && s.public.Scheme == "https" {
			h.Set("Strict-Transport-Security", "max-age=31536000")
		}
		if path := c.Request().URL.Path; strings.HasPrefix(path, "/api/") || strings.HasPrefix(path, "/access/") || strings.HasPrefix(path, scimPath+"/") {
			h.Set("Cache-Control", "no-store")
			h.Set("Vary", "Accept-Encoding, Accept-Language, Authorization, Cookie")
		}
		return next(c)
	}
}
