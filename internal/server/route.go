package server

import (
	"errors"
	"net/http"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"sentier/internal/answers"
	"sentier/internal/service"
)

// route is one operation of the HTTP interface: what is served, and what the OpenAPI document says of it.
type route struct {
	id           string // of the operation: listDevices
	method, path string // path with {places}
	summary      string
	tag          string
	in           any      // query, path and body as a tagged struct, or several in a []any; nil: none
	out          any      // body of the answer; nil: none, or a record
	record       string   // type of record that comes or goes; empty: none
	list         bool     // a page of them goes
	produces     []string // media types of the answer; none: JSON
	bodyless     bool     // the body may be left out
	status       int      // of a good answer; 0: 200
	open         bool
	needs        service.Action // what a caller must be allowed before anything of the request is read; empty: the service looks
	takes        content        // the body
	filters      []string       // parameters of the query beside those of in
	heavy        bool           // few of its kind at a time
	past         bool           // can be asked of the policy as it was
	here         bool           // a machine that follows answers it by itself, as it does what can be asked of the past
	scim         bool           // for the source that a token belongs to, and for nobody else
	stream       bool           // lasts, and is counted by itself
	hides        bool           // whoever may not see it is told that it is not there
	handle       func(r *request) error
}

func (r route) echoPath() string {
	return strings.NewReplacer("{", ":", "}", "").Replace(r.path)
}

// parameters are the names that the query of a route may have, and those among them that it may have several times: the lists.
func (r route) parameters() (known, several []string) {
	known = slices.Clone(r.filters)
	if r.past {
		known = append(known, asOf)
	}
	parts, ok := r.in.([]any)
	if !ok {
		parts = []any{r.in}
	}
	for _, part := range parts {
		if part != nil {
			known, several = queryNames(reflect.TypeOf(part), known, several)
		}
	}
	return known, several
}

// asOf is the parameter that says of which policy something is asked.
const asOf = "as_of"

func queryNames(t reflect.Type, known, several []string) (_, _ []string) {
	if t.Kind() != reflect.Struct {
		return known, several
	}
	for i := range t.NumField() {
		f := t.Field(i)
		if f.Anonymous {
			known, several = queryNames(f.Type, known, several)
		}
		if name := f.Tag.Get("query"); name != "" {
			known = append(known, name)
			if f.Type.Kind() == reflect.Slice {
				several = append(several, name)
			}
		}
	}
	return known, several
}

// request is a request whose caller is known.
type request struct {
	*echo.Context
	service *service.Service
	caller  service.Caller
	expires time.Time
	origin  origin
	limit   int64  // of the body, in bytes
	sent    []byte // the body, once it is read
	prefix  string // below which clients reach the service
	server  *Server
	heavy   bool
	queued  bool            // it has had its turn
	asks    answers.Service // of which it asks
	own     bool            // the caller may ask about nobody but themself
	leave   []func()        // give back the room that the work on the request has taken
}

// answers is what a request asks: the policy as it is, or as it was.
func (r *request) answers() answers.Service { return r.asks }

// queue waits for a turn, unless the request has one.
func (r *request) queue(room heavyRoom) error {
	if r.heavy || r.queued {
		return nil
	}
	leave, err := room.enter(r.Request().Context())
	if err == nil {
		r.queued = true
		r.leave = append(r.leave, leave)
	}
	return err
}

// done is called when the work on a request is done, before it is answered: an answer may be taken slowly.
func (r *request) done() {
	for _, leave := range r.leave {
		leave()
	}
	r.leave = nil
}

// cookieName is the cookie of a console's session. Where clients come by TLS its name has the prefix by which browsers
// make sure that no other host and no plain connection has set it.
const (
	cookieName   = "sentier_session"
	securePrefix = "__Host-"
)

// maxRequestID is how long an X-Request-ID may be that is echoed.
const maxRequestID = 128

// handler makes sure of the caller, and of what they may do, before a route sees anything of what they have sent.
func (s *Server) handler(r route) echo.HandlerFunc {
	known, several := r.parameters()
	return func(c *echo.Context) (err error) {
		if id := c.Request().Header.Get("X-Request-ID"); id != "" && len(id) <= maxRequestID {
			c.Response().Header().Set("X-Request-ID", id)
		}
		req := &request{Context: c, service: s.service, origin: s.originOf(c.Request()), prefix: s.prefix(), limit: contents[r.takes].limit, server: s, asks: answers.Of(s.service)}
		if err := s.identify(r, req); err != nil {
			return err
		}
		defer func() { s.refused(r, req, err) }()
		leave, err := s.admit(r, req)
		if err != nil {
			return err
		}
		defer leave()
		defer req.done()
		defer func() {
			if !req.heavy && !req.queued && !r.stream && !r.open {
				s.asked.note(time.Now())
			}
		}()
		if s.writer != nil {
			if !r.answeredHere(req) {
				return s.goOn(req)
			}
			s.standing(c.Response().Header())
		}
		if s.place != nil { // at the end of what is done
			if response, err := echo.UnwrapResponse(c.Response()); err == nil {
				response.Before(func() { response.Header().Set(placeHeader, strconv.FormatUint(s.place(), 10)) })
			}
		}
		if err := checkParameters(req, known, several); err != nil {
			return err
		}
		if err := s.permit(r, req); err != nil {
			return err
		}
		if err := req.checkContent(r.takes); err != nil {
			return err
		}
		past := r.past && req.QueryParam(asOf) != ""
		if r.heavy || past {
			if err := extend(c.Response()); err != nil {
				return err
			}
			if err := req.queue(s.heavy); err != nil {
				return err
			}
			req.heavy = true
		}
		if past {
			if req.asks, err = req.asks.AsOf(req.Request().Context(), &req.caller, req.QueryParam(asOf)); err != nil {
				return err
			}
		}
		return r.handle(req)
	}
}

// identify finds the caller.
func (s *Server) identify(r route, req *request) error {
	if !r.open {
		var err error
		req.caller, req.expires, err = s.authenticate(req)
		shows(req.Request().Context(), err == nil)
		if err != nil {
			return err
		}
	}
	if r.open || req.caller.Via == "console" {
		if err := s.crossOrigin.Check(req.Request()); err != nil {
			return &httpError{http.StatusForbidden, service.Say("the request comes from another site")}
		}
	}
	req.caller.From = req.origin.address
	req.caller.Language = req.Request().Header.Get("Accept-Language")
	if r.open {
		return nil
	}
	if err := service.SourceOnly(req.caller); err != nil && !r.scim {
		return err
	}
	err := s.service.Admitted(req.caller)
	if r.tag == "session" && !errors.Is(err, service.ErrCredential) {
		return nil // one's own account has to be put in order before anything else
	}
	return err
}

// refused keeps that somebody who is known was refused something: also where they wrote to what they are told is not there.
func (s *Server) refused(r route, req *request, err error) {
	if req.caller.User == "" {
		return
	}
	out := service.Refusal{What: r.summary, Route: r.method + " " + r.path, About: strings.Join(req.pathIDs(r), " ")}
	if about := (*service.AboutError)(nil); errors.As(err, &about) {
		out.About = about.About
	}
	var forbidden *service.ForbiddenError
	switch writes := r.method != http.MethodGet && r.method != http.MethodHead; {
	case errors.As(err, &forbidden):
		out.Missing = forbidden.Missing.Error()
	case writes && errors.Is(err, service.ErrNotFound) && s.service.Hides(req.caller):
		out.Missing = "something that they may see"
	default:
		return
	}
	s.service.Refused(req.caller, out)
}

// pathIDs are the values of the parameters in the path.
func (req *request) pathIDs(r route) (out []string) {
	for _, part := range strings.Split(r.path, "/") {
		if name, ok := strings.CutPrefix(part, "{"); ok {
			out = append(out, req.Param(strings.TrimSuffix(name, "}")))
		}
	}
	return out
}

// permit refuses who may not do a thing before any of its body is read.
func (s *Server) permit(r route, req *request) error {
	need := r.needs
	if looksAhead := map[service.Action]service.Action{service.Write: service.Read, service.Replace: service.Whole}[need]; looksAhead != "" {
		dryRun, err := req.flag("dry_run")
		if err != nil {
			return err
		}
		if dryRun {
			need = looksAhead // what it would do is a question
		}
	}
	switch {
	case need == "":
		return nil
	case need == service.Ask: // whoever may ask about nobody else asks small questions about themselves
		if req.own {
			req.limit = min(req.limit, contents[plainJSON].limit)
		}
		return nil
	}
	err := s.service.May(&req.caller, need)
	if err != nil && r.hides {
		return service.ErrNotFound
	}
	return err
}

// checkParameters refuses a parameter that is not known, as it may be one that was mistyped: without it the request would do
// something else than was meant.
func checkParameters(r *request, known, several []string) error {
	for name, values := range r.QueryParams() {
		switch {
		case name == asOf && !slices.Contains(known, name):
			return service.Wrong(asOf, "cannot be given here: this is about the policy as it is")
		case !slices.Contains(known, name):
			near := service.Nearest(name, known)
			for _, k := range known {
				if near == "" && strings.HasPrefix(name, k) { // dryrun
					near = k
				}
			}
			if near != "" {
				return service.Wrong(service.Clip(name), "is no parameter: did you mean %q?", near)
			}
			return service.Wrong(service.Clip(name), "is no parameter: there is none of that name here")
		case len(values) > 1 && !slices.Contains(several, name):
			return service.Wrong(name, "is given twice: keep one")
		}
	}
	return nil
}

// authenticate finds the caller by a bearer token or by the console's cookie.
func (s *Server) authenticate(r *request) (service.Caller, time.Time, error) {
	if h := r.Request().Header.Get("Authorization"); h != "" {
		scheme, secret, _ := strings.Cut(h, " ")
		if !strings.EqualFold(scheme, "Bearer") {
			return service.Caller{}, time.Time{}, service.ErrCredential
		}
		caller, expires, err := s.service.Authenticate(strings.TrimSpace(secret), r.origin.address)
		if err == nil && caller.Via == "console" {
			err = service.ErrCredential // a cookie's secret is no bearer token
		}
		return caller, expires, err
	}
	cookie, err := r.Request().Cookie(s.cookieName(r.origin))
	if err != nil {
		return service.Caller{}, time.Time{}, service.ErrCredential
	}
	caller, expires, err := s.service.Authenticate(cookie.Value, r.origin.address)
	if err == nil && caller.Via != "console" {
		err = service.ErrCredential
	}
	return caller, expires, err
}

func (s *Server) cookieName(o origin) string {
	if s.isSecure(o) {
		return securePrefix + cookieName
	}
	return cookieName
}

func (s *Server) cookie(r *request, value string, maxAge int) *http.Cookie {
	return &http.Cookie{
		Name: s.cookieName(r.origin), Value: value, Path: "/", MaxAge: maxAge,
		HttpOnly: true, Secure: s.isSecure(r.origin), SameSite: http.SameSiteStrictMode,
	}
}

// httpError is a fault that is of the protocol, not of the service.
type httpError struct {
	status int
	detail service.Said
}

func (e *httpError) Error() string { return e.detail.Error() }

// Unwrap is the sentence that it is told as.
func (e *httpError) Unwrap() error { return e.detail }

// statusOf maps the errors of the service to those of HTTP.
func statusOf(err error) int {
	var (
		h         *httpError
		forbidden *service.ForbiddenError
		owner     *service.LastOwnerError
		gains     *service.GainsError
		unmet     *service.UnmetError
		approval  *service.ApprovalError
		draft     *service.DraftError
		void      *service.VoidError
		later     *service.LaterError
		kept      *service.SourceError
		away      *awayError
		follows   *service.ElsewhereError
		unknown   *service.UnknownError
		moved     *service.MovedError
		line      *service.LineError
		unheard   *service.UnheardError
		held      *service.HeldError
		unread    *service.UnreadError
		stale     *service.StaleError
		input     *service.InputError
		coder     echo.HTTPStatusCoder
		bad       *badRequest
		conflict  *service.ConflictError
		exists    *service.ExistsError
		key       *service.KeyError
		busy      *busyError
		many      *service.TooManyError
		full      *service.FullError
		unsafe    *service.UnsafeError
	)
	switch {
	case errors.As(err, &bad):
		return http.StatusBadRequest
	case errors.As(err, &h):
		return h.status
	case errors.Is(err, service.ErrCredential), errors.Is(err, service.ErrSignIn), errors.Is(err, service.ErrCode), errors.Is(err, service.ErrPasskey):
		return http.StatusUnauthorized
	case errors.As(err, &many):
		return http.StatusTooManyRequests
	case errors.Is(err, service.ErrNotFound):
		return http.StatusNotFound
	case errors.Is(err, service.ErrNoOwner), errors.As(err, &busy), errors.As(err, &unsafe), errors.As(err, &away), errors.As(err, &follows), errors.As(err, &unknown), errors.As(err, &moved), errors.As(err, &line), errors.As(err, &unheard):
		return http.StatusServiceUnavailable
	case errors.As(err, &full):
		return http.StatusInsufficientStorage
	case errors.As(err, &forbidden):
		return http.StatusForbidden
	case errors.As(err, &owner), errors.As(err, &gains), errors.As(err, &unmet), errors.As(err, &approval), errors.As(err, &draft), errors.As(err, &void), errors.As(err, &later), errors.As(err, &exists), errors.As(err, &kept), errors.As(err, &held):
		return http.StatusConflict
	case errors.As(err, &unread):
		return http.StatusBadGateway
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
