package server

import (
	"net/http"
	"strconv"

	"sentier/internal/answers"
	"sentier/internal/service"
	"sentier/internal/wire"
)

type (
	auditFilter struct {
		Kind    []string `query:"kind" description:"of entry: decision, question, look, change, sign_in, sign_out, password, second_factor, link, token, request, refusal, backup, export, setting, service, closing or key"`
		Outcome []string `query:"outcome" description:"done, refused, made, ended, reset, or the reason of a decision; not_granted: every decision that is a no"`
		By      string   `query:"by" description:"id of the user who did it"`
		User    string   `query:"user" description:"id of the user whom it is about"`
		Of      string   `query:"of" description:"id of a user who did it or whom it is about"`
		Device  string   `query:"device" description:"id of a device, with its points; or device/point"`
		Right   string   `query:"right" description:"id of a right"`
		From    string   `query:"from" description:"address, or network such as 10.20.0.0/16"`
		Token   string   `query:"token" description:"id of the token that it was done with"`
		Since   string   `query:"since" description:"RFC 3339, or a local time of the policy such as 2026-11-24 06:00; included"`
		Until   string   `query:"until" description:"likewise; not included"`
	}
	auditQuery struct {
		auditFilter
		Limit  int    `query:"limit" minimum:"1" maximum:"1000"`
		Cursor string `query:"cursor"`
	}
	exportQuery struct {
		auditFilter
		Format string `query:"format" enum:"jsonl,csv"`
	}
)

func (s *Server) auditRoutes() []route {
	return []route{
		{id: "listAudit", method: "GET", path: "/api/v1/audit", tag: "audit", summary: "The record of what was done, asked and refused, newest first: for owners and auditors", in: auditQuery{}, needs: service.Whole, out: wire.AuditPage{}, handle: s.listAudit},
		{id: "exportAudit", method: "GET", path: "/api/v1/audit/export", produces: []string{"application/x-ndjson", "text/csv"}, tag: "audit", summary: "The record as JSON lines or CSV, oldest first: for owners and auditors", in: exportQuery{}, needs: service.Whole, heavy: true, handle: s.exportAudit},
		{id: "followAudit", method: "GET", path: "/api/v1/audit/follow", produces: []string{"text/event-stream"}, tag: "audit", summary: "Server-sent events of every entry of the record, resumable with Last-Event-ID: for owners and auditors", in: auditFilter{}, needs: service.Whole, stream: true, handle: s.followAudit},
		{id: "verifyAudit", method: "POST", path: "/api/v1/audit/verify", tag: "audit", summary: "Is the record what was written? The first entry that is not: for owners and auditors", in: wire.VerifyAudit{}, needs: service.Whole, takes: manyJSON, heavy: true, out: wire.AuditVerified{}, handle: s.verifyAudit},
		{id: "signAudit", method: "POST", path: "/api/v1/audit/checkpoints", tag: "audit", summary: "A signed checkpoint of the record as it is now, to be kept elsewhere: for owners and auditors", needs: service.Whole, out: wire.Checkpoint{}, status: 201, handle: s.signAudit},
		{id: "getAuditKey", method: "GET", path: "/api/v1/audit/key", tag: "audit", summary: "The key by which checkpoints can be verified: for owners and auditors", needs: service.Whole, out: wire.AuditKey{}, handle: s.auditKey},
		{id: "getServiceSettings", method: "GET", path: "/api/v1/service", tag: "operation", summary: "The settings of the service itself", needs: service.Whole, out: wire.ServiceSettings{}, handle: s.serviceSettings},
		{id: "changeServiceSettings", method: "PATCH", path: "/api/v1/service", tag: "operation", summary: "Change settings of the service itself by a JSON Merge Patch", in: wire.ServiceChange{}, needs: service.Manage, takes: mergePatch, out: wire.ServiceSettings{}, handle: s.changeServiceSettings},
	}
}

// auditQuery reads which entries are looked for.
func (r *request) auditQuery() (answers.AuditQuery, error) {
	all := r.QueryParams()
	q := answers.AuditQuery{Kinds: all["kind"], Outcomes: all["outcome"], By: all.Get("by"), User: all.Get("user"), Of: all.Get("of"), Device: all.Get("device"), Right: all.Get("right"),
		From: all.Get("from"), Token: all.Get("token"), Since: all.Get("since"), Until: all.Get("until"), Cursor: all.Get("cursor")}
	if text := all.Get("limit"); text != "" {
		var err error
		if q.Limit, err = strconv.Atoi(text); err != nil || q.Limit == 0 {
			return q, service.Wrong("limit", "%q is no number of entries", service.Clip(text))
		}
	}
	return q, nil
}

func (s *Server) listAudit(r *request) error {
	q, err := r.auditQuery()
	if err != nil {
		return err
	}
	page, err := r.answers().Audit(r.Request().Context(), r.caller, q)
	if err != nil {
		return err
	}
	r.next(page.Next)
	return r.JSON(http.StatusOK, page)
}

func (s *Server) exportAudit(r *request) error {
	q, err := r.auditQuery()
	if err != nil {
		return err
	}
	form, media := r.QueryParam("format"), "application/x-ndjson"
	switch form {
	case "":
		form = answers.JSONLines
	case answers.CSV:
		media = "text/csv; charset=utf-8"
	}
	write, err := r.answers().ExportAudit(r.Request().Context(), r.caller, q, form)
	if err != nil {
		return err
	}
	r.Response().Header().Set("Content-Disposition", `attachment; filename="sentier-record.`+form+`"`)
	return r.pour(media, write)
}

func (s *Server) verifyAudit(r *request) error {
	var in wire.VerifyAudit
	if err := r.decode(&in); err != nil {
		return err
	}
	return r.tell(r.answers().VerifyAudit(r.Request().Context(), r.caller, in))
}

func (s *Server) signAudit(r *request) error {
	c, err := r.answers().SignAudit(r.caller)
	if err != nil {
		return err
	}
	return r.JSON(http.StatusCreated, c)
}

func (s *Server) auditKey(r *request) error {
	key, err := r.answers().AuditKey(r.caller)
	return r.tell(wire.AuditKey{Key: key}, err)
}

func (s *Server) serviceSettings(r *request) error { return r.tell(s.service.Settings(r.caller)) }

func (s *Server) changeServiceSettings(r *request) error {
	var in wire.ServiceChange
	if err := r.decode(&in); err != nil {
		return err
	}
	return r.tell(s.service.ChangeSettings(r.Request().Context(), r.caller, in))
}
