package server

import (
	"errors"
	"net/http"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"sentier/internal/service"
)

// route is one operation of the HTTP interface: what is served, and what the OpenAPI document says of it.
type route struct {
	method, path string // path with {places}
	summary      string
	tag          string
	in           any // query, path and body as a tagged struct, or several in a []any; nil: none
	out          any // body of the answer; nil: none
	status       int // of a good answer; 0: 200
	open         bool
	handle       func(r *request) error
}

func (r route) echoPath() string {
	return strings.NewReplacer("{", ":", "}", "").Replace(r.path)
}

// request is a request whose caller is known.
type request struct {
	*echo.Context
	service *service.Service
	caller  service.Caller
	expires time.Time
}

const cookieName = "sentier_session"

// handler makes sure of the caller before a route sees the request.
func (s *Server) handler(r route) echo.HandlerFunc {
	return func(c *echo.Context) error {
		if id := c.Request().Header.Get("X-Request-ID"); id != "" {
			c.Response().Header().Set("X-Request-ID", id)
		}
		req := &request{Context: c, service: s.service}
		if !r.open {
			var err error
			if req.caller, req.expires, err = s.authenticate(c.Request()); err != nil {
				return err
			}
		}
		if r.open || req.caller.Via == "console" {
			if err := s.origin.Check(c.Request()); err != nil {
				return &httpError{http.StatusForbidden, "the request comes from another site"}
			}
		}
		req.caller.Language = c.Request().Header.Get("Accept-Language")
		return r.handle(req)
	}
}

// authenticate finds the caller by a bearer token or by the console's cookie.
func (s *Server) authenticate(r *http.Request) (service.Caller, time.Time, error) {
	if h := r.Header.Get("Authorization"); h != "" {
		scheme, secret, _ := strings.Cut(h, " ")
		if !strings.EqualFold(scheme, "Bearer") {
			return service.Caller{}, time.Time{}, service.ErrCredential
		}
		caller, expires, err := s.service.Authenticate(strings.TrimSpace(secret))
		if err == nil && caller.Via == "console" {
			err = service.ErrCredential // a cookie's secret is no bearer token
		}
		return caller, expires, err
	}
	cookie, err := r.Cookie(cookieName)
	if err != nil {
		return service.Caller{}, time.Time{}, service.ErrCredential
	}
	caller, expires, err := s.service.Authenticate(cookie.Value)
	if err == nil && caller.Via != "console" {
		err = service.ErrCredential
	}
	return caller, expires, err
}

// httpError is a fault that is of the protocol, not of the service.
type httpError struct {
	status int
	detail string
}

func (e *httpError) Error() string { return e.detail }

// statusOf maps the errors of the service to those of HTTP.
func statusOf(err error) int {
	var (
		h         *httpError
		forbidden *service.ForbiddenError
		owner     *service.LastOwnerError
		stale     *service.StaleError
		input     *service.InputError
		coder     echo.HTTPStatusCoder
		bad       *badRequest
		conflict  *service.ConflictError
		key       *service.KeyError
	)
	switch {
	case errors.As(err, &bad):
		return http.StatusBadRequest
	case errors.As(err, &h):
		return h.status
	case errors.Is(err, service.ErrCredential), errors.Is(err, service.ErrSignIn):
		return http.StatusUnauthorized
	case errors.Is(err, service.ErrTooMany):
		return http.StatusTooManyRequests
	case errors.Is(err, service.ErrNotFound):
		return http.StatusNotFound
	case errors.Is(err, service.ErrNoOwner):
		return http.StatusServiceUnavailable
	case errors.As(err, &forbidden):
		return http.StatusForbidden
	case errors.As(err, &owner):
		return http.StatusConflict
	case errors.As(err, &key):
		return http.StatusUnprocessableEntity
	case errors.As(err, &stale), errors.As(err, &conflict):
		return http.StatusPreconditionFailed
	case errors.As(err, &input):
		return http.StatusBadRequest
	case errors.As(err, new(service.Faults)), errors.As(err, new(service.PolicyFaults)):
		return http.StatusUnprocessableEntity
	case errors.As(err, &coder):
		return coder.StatusCode()
	}
	return http.StatusInternalServerError
}
