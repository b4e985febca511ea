package server

import (
	"encoding/json"
	"errors"
	"fmt"
	"html/template"
	"net/http"
	"strings"
	"time"

	"github.com/labstack/echo/v5"

	"sentier/internal/service"
	"sentier/internal/wire"
)

// problems are the kinds of problem that are told apart, by status. Each has a page that says what it means and what mends it.
var problems = map[int]string{
	http.StatusBadRequest:            "bad-request",
	http.StatusUnauthorized:          "sign-in",
	http.StatusForbidden:             "forbidden",
	http.StatusNotFound:              "not-found",
	http.StatusMethodNotAllowed:      "method-not-allowed",
	http.StatusConflict:              "refused",
	http.StatusPreconditionFailed:    "changed-meanwhile",
	http.StatusRequestEntityTooLarge: "too-large",
	http.StatusUnsupportedMediaType:  "media-type",
	http.StatusUnprocessableEntity:   "faults",
	http.StatusTooManyRequests:       "too-many",
	http.StatusInternalServerError:   "internal",
	http.StatusBadGateway:            "source",
	http.StatusServiceUnavailable:    "busy",
	http.StatusInsufficientStorage:   "disk-full",
}

// speaker is an error that can say itself in the language of whoever is told.
type speaker interface {
	In(words service.Words) string
}

// problem answers with an RFC 9457 problem. What goes wrong inside is logged, and not told.
func (s *Server) problem(c *echo.Context, err error) {
	if r, e := echo.UnwrapResponse(c.Response()); e == nil && r.Committed {
		return
	}
	if wait := s.refusals.wait(time.Now()); wait > 0 {
		select {
		case <-time.After(wait):
		case <-c.Request().Context().Done():
		case <-s.closing:
		}
	}
	if strings.HasPrefix(c.Request().URL.Path, scimPath+"/") {
		s.scimProblem(c, err)
		return
	}
	words := service.Accepted(c.Request().Header.Get("Accept-Language"))
	p := wire.Problem{Status: statusOf(err), Detail: err.Error()}
	slug, known := problems[p.Status]
	if !known {
		p.Status, slug = http.StatusInternalServerError, "internal"
	}
	p.Type, p.Title = s.prefix()+"/problems/"+slug, words.Say("problem."+slug+".title")
	s.explain(c, &p, err, words)
	h := c.Response().Header()
	h.Del("ETag")
	h.Set("Content-Language", words.Language())
	switch p.Status {
	case http.StatusUnauthorized:
		h.Set("WWW-Authenticate", `Bearer realm="sentier"`)
	case http.StatusTooManyRequests, http.StatusServiceUnavailable:
		h.Set("Retry-After", retryAfter(waitOf(err)))
	}
	data, err := json.Marshal(p)
	if err != nil {
		s.log.Error("a problem does not marshal", "error", err)
		return
	}
	if err := c.Blob(p.Status, "application/problem+json", data); err != nil {
		s.log.Debug("answer not sent", "error", err)
	}
}

// explain fills in what a problem has to say beside its kind.
func (s *Server) explain(c *echo.Context, p *wire.Problem, err error, words service.Words) {
	var input *service.InputError
	var faults service.Faults
	var policyFaults service.PolicyFaults
	var conflict *service.ConflictError
	var gains *service.GainsError
	var unmet *service.UnmetError
	var approval *service.ApprovalError
	var say speaker
	var said service.Said
	switch {
	case errors.As(err, &input):
		p.Detail = words.Say("problem.request")
		p.Faults = []wire.Fault{{Path: input.Field, Problem: words.Put(input.Problem)}}
	case errors.As(err, &faults):
		p.Detail = words.Say("problem.document")
		for _, f := range faults {
			p.Faults = append(p.Faults, wire.Fault{Path: f.Path, Problem: words.Put(f.Problem), Line: f.Line, Column: f.Column})
		}
	case errors.As(err, &policyFaults):
		p.Detail = words.Say("problem.change")
		for _, f := range policyFaults {
			p.Faults = append(p.Faults, wire.Fault{Path: f.Path(), Problem: words.Put(f.Problem)})
		}
	case p.Status == http.StatusNotFound:
		p.Detail = words.Say("problem.not-found.means")
	case p.Status == http.StatusMethodNotAllowed:
		p.Detail = words.Say("problem.method-not-allowed.means")
	case p.Status == http.StatusInternalServerError:
		s.log.Error("request failed", "method", service.Clip(c.Request().Method), "path", loggedPath(c.Request()), "error", firstLine(err.Error()))
		p.Detail = words.Say("problem.internal.means")
	case errors.As(err, &say):
		p.Detail = say.In(words)
	case errors.As(err, &said):
		p.Detail = words.Put(said)
	case words.Language() != service.English.Language():
		p.Detail = words.Say("problem." + problems[p.Status] + ".means")
	}
	if errors.Is(err, service.ErrCode) {
		p.Needs = "second_factor"
	}
	if errors.As(err, &conflict) {
		p.Current = conflict.Current
	}
	if errors.As(err, &approval) {
		p.Approval = approval.Needed
	}
	if errors.As(err, &unmet) {
		p.Unmet = unmet.Unmet
	}
	if errors.As(err, &gains) {
		p.Gains = gains.Impact
	}
}

// waitOf is how long whoever is told to come again had better wait.
func waitOf(err error) time.Duration {
	var busy *busyError
	var many *service.TooManyError
	switch {
	case errors.As(err, &busy):
		return busy.after
	case errors.As(err, &many):
		return many.After
	}
	return 5 * time.Second
}

func firstLine(text string) string {
	for i, r := range text {
		if r == '\n' {
			return text[:i]
		}
	}
	return text
}

var problemPage = template.Must(template.New("problem").Parse(`<!doctype html>
<html lang="{{.Language}}"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1">
<title>{{.Title}} – Sentier</title><style>body{font:1rem/1.5 system-ui,sans-serif;max-width:42rem;margin:3rem auto;padding:0 1rem}h1{font-size:1.4rem}</style></head>
<body><p>Sentier · HTTP {{.Status}}</p><h1>{{.Title}}</h1><p>{{.Means}}</p><p>{{.Mend}}</p></body></html>
`))

// problemPages serves, for every kind of problem, what it means and what mends it.
func (s *Server) problemPages(r *request) error {
	for status, slug := range problems {
		if slug != r.Param("kind") {
			continue
		}
		words := service.Accepted(r.Request().Header.Get("Accept-Language"))
		say := func(part string) string { return words.Say(fmt.Sprintf("problem.%s.%s", slug, part)) }
		h := r.Response().Header()
		h.Set("Content-Type", "text/html; charset=utf-8")
		h.Set("Content-Language", words.Language())
		return problemPage.Execute(r.Response(), map[string]any{
			"Language": words.Language(), "Status": status, "Title": say("title"), "Means": say("means"), "Mend": say("mend"),
		})
	}
	return service.ErrNotFound
}
