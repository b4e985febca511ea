package server

import (
	"encoding/json"
	"errors"
	"net/http"

	"github.com/labstack/echo/v5"

	"sentier/internal/service"
	"sentier/internal/wire"
)

// problem answers with an RFC 9457 problem. What goes wrong inside is logged, and not told.
func (s *Server) problem(c *echo.Context, err error) {
	if r, e := echo.UnwrapResponse(c.Response()); e == nil && r.Committed {
		return
	}
	p := wire.Problem{Type: "about:blank", Status: statusOf(err), Detail: err.Error()}
	p.Title = http.StatusText(p.Status)
	var input *service.InputError
	var faults service.Faults
	var policyFaults service.PolicyFaults
	var conflict *service.ConflictError
	switch {
	case errors.As(err, &conflict):
		p.Current = conflict.Current
	case errors.As(err, &input):
		p.Detail = "the request cannot be understood"
		p.Faults = []wire.Fault{{Path: input.Field, Problem: input.Problem}}
	case errors.As(err, &faults):
		p.Detail = "the request holds faults"
		for _, f := range faults {
			p.Faults = append(p.Faults, wire.Fault{Path: f.Path, Problem: f.Problem, Line: f.Line, Column: f.Column})
		}
	case errors.As(err, &policyFaults):
		p.Detail = "the change holds faults"
		for _, f := range policyFaults {
			p.Faults = append(p.Faults, wire.Fault{Path: f.Path(), Problem: f.Problem})
		}
	case p.Status == http.StatusNotFound:
		p.Detail = "there is nothing here, or nothing that you may see"
	case p.Status >= http.StatusInternalServerError && p.Status != http.StatusServiceUnavailable:
		s.log.Error("request failed", "method", c.Request().Method, "path", c.Request().URL.Path, "error", firstLine(err.Error()))
		p.Detail = "the service could not do this; its log says why"
	}
	h := c.Response().Header()
	if p.Status == http.StatusUnauthorized {
		h.Set("WWW-Authenticate", `Bearer realm="sentier"`)
	}
	if p.Status == http.StatusTooManyRequests {
		h.Set("Retry-After", "60")
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

func firstLine(text string) string {
	for i, r := range text {
		if r == '\n' {
			return text[:i]
		}
	}
	return text
}
