package server

import (
	"net/http"
	"net/url"

	"sentier/internal/service"
	"sentier/internal/wire"
)

type (
	draftsQuery struct {
		All bool `query:"all" description:"those that are over as well"`
	}
	takeOutQuery struct {
		ID   string `path:"id"`
		Type string `query:"type" description:"of the record"`
		Of   string `query:"record" description:"its id"`
	}
)

func (s *Server) draftRoutes() []route {
	return []route{
		{id: "listDrafts", method: "GET", path: "/api/v1/drafts", tag: "drafts", summary: "Drafts that can still be applied, or are to be taken back", in: draftsQuery{}, needs: service.Read, out: []wire.DraftHead{}, handle: s.drafts},
		{id: "createDraft", method: "POST", path: "/api/v1/drafts", tag: "drafts", summary: "Begin a draft", in: wire.NewDraft{}, needs: service.Write, takes: manyJSON, out: wire.Draft{}, status: 201, handle: s.newDraft},
		{id: "getDraft", method: "GET", path: "/api/v1/drafts/{id}", tag: "drafts", summary: "A draft as a whole, held against the newest revision: impact, conflicts, faults", in: idPath{}, needs: service.Read, hides: true, heavy: true, out: wire.Draft{}, handle: s.draft},
		{id: "previewReach", here: true, method: "POST", path: "/api/v1/preview/reach", tag: "drafts", summary: "What a user reaches beside what they would after changes that are not made", in: wire.WouldReach{}, needs: service.Write, takes: manyJSON, heavy: true, out: wire.SideBySide{}, handle: s.wouldReach},
		{id: "dropDraft", method: "DELETE", path: "/api/v1/drafts/{id}", tag: "drafts", summary: "Give a draft up", in: idPath{}, needs: service.Write, hides: true, status: 204, handle: s.dropDraft},
		{id: "takeOutOfDraft", method: "DELETE", path: "/api/v1/drafts/{id}/changes", tag: "drafts", summary: "Take what a draft does to one record out of it", in: takeOutQuery{}, needs: service.Write, hides: true, out: wire.Draft{}, handle: s.takeOut},
		{id: "settleConflict", method: "POST", path: "/api/v1/drafts/{id}/resolution", tag: "drafts", summary: "Take one of the versions of a record that a draft and somebody else have changed", in: []any{idPath{}, wire.Settle{}}, needs: service.Write, takes: smallJSON, hides: true, out: wire.Draft{}, handle: s.settle},
		{id: "approveDraft", method: "POST", path: "/api/v1/drafts/{id}/approval", tag: "drafts", summary: "Agree to what a draft changes, for whoever has put nothing into it", in: []any{idPath{}, wire.Approve{}}, needs: service.Write, takes: smallJSON, hides: true, out: wire.Draft{}, handle: s.approve},
		{id: "applyDraft", method: "POST", path: "/api/v1/drafts/{id}/application", tag: "drafts", summary: "Apply a draft: at once or at an hour, for good or for a time", in: []any{idPath{}, wire.ApplyDraft{}}, needs: service.Write, takes: smallJSON, hides: true, heavy: true, out: wire.Draft{}, handle: s.applyDraft},
	}
}

func (s *Server) drafts(r *request) error {
	all, err := r.flag("all")
	if err != nil {
		return err
	}
	return r.tell(s.service.Drafts(r.Request().Context(), r.caller, all))
}

func (s *Server) newDraft(r *request) error {
	var in wire.NewDraft
	if err := r.gather(&in); err != nil {
		return err
	}
	out, err := s.service.NewDraft(r.Request().Context(), r.caller, in)
	if err != nil {
		return err
	}
	r.Response().Header().Set("Location", s.prefix()+"/api/v1/drafts/"+url.PathEscape(out.ID))
	return r.JSON(http.StatusCreated, out)
}

func (s *Server) wouldReach(r *request) error {
	var in wire.WouldReach
	if err := r.gather(&in); err != nil {
		return err
	}
	return r.tell(r.answers().WouldReach(r.Request().Context(), r.caller, in))
}

func (s *Server) draft(r *request) error {
	return r.tell(s.service.Draft(r.Request().Context(), r.caller, r.id()))
}

func (s *Server) dropDraft(r *request) error {
	if err := s.service.DropDraft(r.Request().Context(), r.caller, r.id()); err != nil {
		return err
	}
	return r.NoContent(http.StatusNoContent)
}

func (s *Server) takeOut(r *request) error {
	return r.tell(s.service.TakeOut(r.Request().Context(), r.caller, r.id(), r.QueryParam("type"), r.QueryParam("record")))
}

func (s *Server) settle(r *request) error {
	var in wire.Settle
	if err := r.decode(&in); err != nil {
		return err
	}
	return r.tell(s.service.Settle(r.Request().Context(), r.caller, r.id(), in))
}

func (s *Server) approve(r *request) error {
	var in wire.Approve
	if err := r.decode(&in); err != nil {
		return err
	}
	return r.tell(s.service.Approve(r.Request().Context(), r.caller, r.id(), in))
}

func (s *Server) applyDraft(r *request) error {
	var in wire.ApplyDraft
	if err := r.decode(&in); err != nil {
		return err
	}
	return r.tell(s.service.ApplyDraft(r.Request().Context(), r.caller, r.id(), in))
}
