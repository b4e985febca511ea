package server

import (
	"encoding/json"
	"errors"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"github.com/labstack/echo/v5"

	"sentier/internal/scim"
	"sentier/internal/service"
)

// scimPath is below what SCIM is served: RFC 7644.
const scimPath = "/scim/v2"

// scimMedia is the media type of SCIM.
const scimMedia = "application/scim+json"

// Bounds of SCIM.
const (
	scimPage     = 100    // resources, where nobody says
	scimMostPage = 1000   // resources
	mostBulk     = 10_000 // operations
)

type (
	scimQuery struct {
		Filter     string `query:"filter"`
		SortBy     string `query:"sortBy"`
		SortOrder  string `query:"sortOrder"`
		StartIndex string `query:"startIndex"`
		Count      string `query:"count"`
		scimShape
	}
	scimShape struct {
		Attributes string `query:"attributes"`
		Excluded   string `query:"excludedAttributes"`
	}
)

// scimRoutes are what SCIM serves. They describe themselves, at /Schemas, and are no part of the interface that OpenAPI describes.
func (s *Server) scimRoutes() []route {
	at := func(method, path string, in any, takes content, handle func(*request) error) route {
		return route{id: "scim", method: method, path: scimPath + path, tag: "scim", summary: "SCIM", in: in, takes: takes, scim: true, handle: handle}
	}
	out := []route{
		at("GET", "/ServiceProviderConfig", nil, nothing, func(r *request) error {
			return r.scim(http.StatusOK, scim.ProviderConfig(mostBulk, int(contents[scimJSON].limit), scimMostPage))
		}),
		at("GET", "/ResourceTypes", nil, nothing, s.scimTypes), at("GET", "/ResourceTypes/{id}", nil, nothing, s.scimTypes),
		at("GET", "/Schemas", nil, nothing, s.scimSchemas), at("GET", "/Schemas/{id}", nil, nothing, s.scimSchemas),
		at("POST", "/Bulk", nil, scimJSON, s.scimBulk),
	}
	for _, path := range []string{"Users", "Groups"} {
		of := func(handle func(*request, string) error) func(*request) error {
			return func(r *request) error { return handle(r, path) }
		}
		out = append(out,
			at("GET", "/"+path, scimQuery{}, nothing, of(s.scimList)), at("POST", "/"+path+"/.search", nil, scimJSON, of(s.scimSearch)),
			at("GET", "/"+path+"/{id}", scimShape{}, nothing, of(s.scimOne)), at("POST", "/"+path, scimShape{}, scimJSON, of(s.scimChange)),
			at("PUT", "/"+path+"/{id}", scimShape{}, scimJSON, of(s.scimChange)), at("PATCH", "/"+path+"/{id}", scimShape{}, scimJSON, of(s.scimChange)),
			at("DELETE", "/"+path+"/{id}", nil, nothing, of(s.scimChange)))
	}
	return out
}

// scim answers with a resource or a message of SCIM.
func (r *request) scim(status int, v any) error {
	data, err := json.Marshal(v)
	if err != nil {
		return err
	}
	return r.send(status, scimMedia, data)
}

// scimBase is the address below which clients reach SCIM.
func (r *request) scimBase() string {
	return r.here() + scimPath
}

// list is a list response of all of some resources.
func scimAll(all []scim.Resource) scim.Resource {
	return scim.Resource{"schemas": []string{scim.ListMessage}, "totalResults": len(all), "startIndex": 1, "itemsPerPage": len(all), "Resources": all}
}

func (s *Server) scimTypes(r *request) error   { return r.described(scim.ResourceTypes(r.scimBase())) }
func (s *Server) scimSchemas(r *request) error { return r.described(scim.Schemas(r.scimBase())) }

// described answers with all of some descriptions, or with the one that was asked for.
func (r *request) described(all []scim.Resource) error {
	id := r.Param("id")
	if id == "" {
		return r.scim(http.StatusOK, scimAll(all))
	}
	for _, d := range all {
		if d["id"] == id {
			return r.scim(http.StatusOK, d)
		}
	}
	return service.ErrNotFound
}

func (r *request) shape(schema string, res scim.Resource) scim.Resource {
	return scim.Project(schema, res, names(r.QueryParam("attributes")), names(r.QueryParam("excludedAttributes")))
}

// names are some apart by commas.
func names(text string) (out []string) {
	for name := range strings.SplitSeq(text, ",") {
		if name = strings.TrimSpace(name); name != "" {
			out = append(out, name)
		}
	}
	return out
}

func schemaOf(path string) string {
	if path == "Users" {
		return scim.UserSchema
	}
	return scim.GroupSchema
}

func (s *Server) scimOne(r *request, path string) error {
	out, err := s.service.SCIMResource(r.Request().Context(), r.caller, r.scimBase(), path, r.Param("id"))
	if err != nil {
		return err
	}
	return r.tagged(http.StatusOK, path, out)
}

// tagged answers with a resource and its entity tag.
func (r *request) tagged(status int, path string, res scim.Resource) error {
	meta, _ := res["meta"].(scim.Resource)
	tag, _ := meta["version"].(string)
	location, _ := meta["location"].(string)
	h := r.Response().Header()
	h.Set("ETag", tag)
	h.Set("Content-Location", location)
	if status == http.StatusCreated {
		h.Set("Location", location)
	}
	return r.scim(status, r.shape(schemaOf(path), res))
}

// whole reads a number of the query.
func whole(text string, otherwise, most int) (int, error) {
	if text == "" {
		return otherwise, nil
	}
	n, err := strconv.Atoi(text)
	if err != nil {
		return 0, scim.Wrong(scim.InvalidValue, "%q is no number", service.Clip(text))
	}
	return min(n, most), nil
}

func (s *Server) scimList(r *request, path string) error {
	return s.scimFound(r, path, scimQuery{Filter: r.QueryParam("filter"), SortBy: r.QueryParam("sortBy"), SortOrder: r.QueryParam("sortOrder"), StartIndex: r.QueryParam("startIndex"), Count: r.QueryParam("count"),
		scimShape: scimShape{r.QueryParam("attributes"), r.QueryParam("excludedAttributes")}})
}

// scimSearch is a list that is asked for by a body, so that no filter stands in a log of addresses.
func (s *Server) scimSearch(r *request, path string) error {
	body, err := r.resource()
	if err != nil {
		return err
	}
	joined := func(name string) string {
		list, _ := body[name].([]any)
		var out []string
		for _, x := range list {
			if text, ok := x.(string); ok {
				out = append(out, text)
			}
		}
		return strings.Join(out, ",")
	}
	number := func(name string) string {
		if n, ok := body[name].(float64); ok {
			return strconv.Itoa(int(n))
		}
		return ""
	}
	return s.scimFound(r, path, scimQuery{Filter: scim.Text(body, "filter"), SortBy: scim.Text(body, "sortBy"), SortOrder: scim.Text(body, "sortOrder"), StartIndex: number("startIndex"), Count: number("count"),
		scimShape: scimShape{joined("attributes"), joined("excludedAttributes")}})
}

func (s *Server) scimFound(r *request, path string, in scimQuery) error {
	q := service.SCIMQuery{Path: path, Filter: in.Filter, SortBy: in.SortBy, Descending: strings.EqualFold(in.SortOrder, "descending")}
	var err error
	if q.Start, err = whole(in.StartIndex, 1, 1<<30); err != nil {
		return err
	}
	if q.Count, err = whole(in.Count, scimPage, scimMostPage); err != nil {
		return err
	}
	q.Start, q.Count = max(q.Start, 1), max(q.Count, 0) // RFC 7644, 3.4.2.4
	if err := r.queue(s.large); err != nil {
		return err
	}
	list, total, err := s.service.SCIMList(r.Request().Context(), r.caller, r.scimBase(), q)
	if err != nil {
		return err
	}
	out := []scim.Resource{}
	for _, res := range list {
		out = append(out, scim.Project(schemaOf(path), res, names(in.Attributes), names(in.Excluded)))
	}
	return r.scim(http.StatusOK, scim.Resource{"schemas": []string{scim.ListMessage}, "totalResults": total, "startIndex": q.Start, "itemsPerPage": len(out), "Resources": out})
}

// resource reads the body.
func (r *request) resource() (scim.Resource, error) {
	data, err := r.body()
	if err != nil {
		return nil, err
	}
	return scim.Read(data)
}

func (s *Server) scimChange(r *request, path string) error {
	op := service.SCIMOperation{Method: r.Request().Method, Path: path, ID: r.Param("id"), Match: tags(r.Request().Header.Values("If-Match"))}
	if op.Method != http.MethodDelete {
		var err error
		if op.Body, err = r.resource(); err != nil {
			return err
		}
	}
	done, err := s.service.ChangeSCIM(r.Request().Context(), r.caller, []service.SCIMOperation{op}, 0)
	if err != nil {
		return err
	}
	if done[0].Err != nil {
		return done[0].Err
	}
	if op.Method == http.MethodDelete {
		return r.NoContent(http.StatusNoContent)
	}
	out, err := s.service.SCIMResource(r.Request().Context(), r.caller, r.scimBase(), path, done[0].ID)
	if err != nil {
		return err
	}
	status := http.StatusOK
	if op.Method == http.MethodPost {
		status = http.StatusCreated
	}
	return r.tagged(status, path, out)
}

// scimBulk makes many changes, each by itself: RFC 7644, 3.7.
func (s *Server) scimBulk(r *request) error {
	body, err := r.resource()
	if err != nil {
		return err
	}
	list, _ := body["Operations"].([]any)
	if len(list) == 0 {
		return scim.Wrong(scim.InvalidSyntax, "the body has no Operations")
	}
	if len(list) > mostBulk {
		return &scim.Error{Status: http.StatusRequestEntityTooLarge, Why: service.Say("the body has %d operations: keep it to %d", len(list), mostBulk)}
	}
	most := 0
	if n, ok := body["failOnErrors"].(float64); ok {
		most = int(n)
	}
	var ops []service.SCIMOperation
	for i, x := range list {
		one, _ := x.(scim.Resource)
		op := service.SCIMOperation{Method: strings.ToUpper(scim.Text(one, "method")), BulkID: scim.Text(one, "bulkId")}
		path, err := url.PathUnescape(strings.Trim(scim.Text(one, "path"), "/"))
		if err != nil {
			return scim.Wrong(scim.InvalidSyntax, "the path of operation %d cannot be read", i+1)
		}
		op.Path, op.ID, _ = strings.Cut(path, "/")
		op.Body, _ = one["data"].(scim.Resource)
		if v := scim.Text(one, "version"); v != "" {
			op.Match = tags([]string{v})
		}
		switch {
		case op.Method == http.MethodPost && (op.ID != "" || op.BulkID == ""):
			return scim.Wrong(scim.InvalidSyntax, "operation %d is a POST: it takes a bulkId, and a path without an id", i+1)
		case op.Method != http.MethodPost && op.Method != http.MethodPut && op.Method != http.MethodPatch && op.Method != http.MethodDelete:
			return scim.Wrong(scim.InvalidSyntax, "%q is no method of an operation", service.Clip(op.Method))
		}
		ops = append(ops, op)
	}
	if err := r.queue(s.large); err != nil {
		return err
	}
	done, err := s.service.ChangeSCIM(r.Request().Context(), r.caller, ops, most)
	if err != nil {
		return err
	}
	answers := []scim.Resource{}
	for i, d := range done {
		op := &ops[i]
		out := scim.Resource{"method": op.Method, "status": strconv.Itoa(map[string]int{"POST": 201, "DELETE": 204}[op.Method])}
		if op.BulkID != "" {
			out["bulkId"] = op.BulkID
		}
		if d.ID != "" {
			out["location"] = r.scimBase() + "/" + op.Path + "/" + d.ID
		}
		switch {
		case d.Err != nil:
			status, message := s.scimError(r, d.Err)
			out["status"], out["response"] = strconv.Itoa(status), message
		case op.Method == http.MethodPut || op.Method == http.MethodPatch:
			out["status"] = "200"
		}
		answers = append(answers, out)
	}
	return r.scim(http.StatusOK, scim.Resource{"schemas": []string{scim.BulkResponse}, "Operations": answers})
}

// scimError is an error as SCIM tells it.
func (s *Server) scimError(r *request, err error) (int, scim.Resource) {
	words := service.Accepted(r.Request().Header.Get("Accept-Language"))
	status, detail := statusOf(err), err.Error()
	var told *scim.Error
	var said service.Said
	var say speaker
	switch {
	case errors.As(err, &told):
		status, detail = told.Status, words.Put(told.Why)
	case status == http.StatusNotFound:
		detail = words.Say("problem.not-found.means")
	case status == http.StatusInternalServerError:
		s.log.Error("request failed", "method", service.Clip(r.Request().Method), "path", loggedPath(r.Request()), "error", firstLine(err.Error()))
		detail = words.Say("problem.internal.means")
	case errors.As(err, &say):
		detail = say.In(words)
	case errors.As(err, &said):
		detail = words.Put(said)
	}
	out := scim.Resource{"schemas": []string{scim.ErrorMessage}, "status": strconv.Itoa(status), "detail": detail}
	if told != nil && told.Type != "" {
		out["scimType"] = told.Type
	}
	return status, out
}

// scimProblem answers with an error of SCIM.
func (s *Server) scimProblem(c *echo.Context, err error) {
	r := &request{Context: c, server: s}
	status, message := s.scimError(r, err)
	h := c.Response().Header()
	h.Del("ETag")
	switch status {
	case http.StatusUnauthorized:
		h.Set("WWW-Authenticate", `Bearer realm="sentier"`)
	case http.StatusTooManyRequests, http.StatusServiceUnavailable:
		h.Set("Retry-After", retryAfter(waitOf(err)))
	}
	if err := r.scim(status, message); err != nil {
		s.log.Debug("answer not sent", "error", err)
	}
}
