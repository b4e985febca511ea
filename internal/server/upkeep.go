package server

import (
	"net/http"

	"sentier/internal/service"
	"sentier/internal/wire"
)

type (
	findingsQuery struct {
		Kind      string `query:"kind" description:"only of this kind"`
		Dismissed bool   `query:"dismissed" description:"those that were dismissed, instead of the others"`
	}
	reopenQuery struct {
		Key string `query:"key" description:"of the finding"`
	}
)

func (s *Server) upkeepRoutes() []route {
	return []route{
		{id: "listFindings", method: "GET", path: "/api/v1/findings", tag: "upkeep", summary: "What may not be meant as it is, why it matters, and the changes that mend it", in: findingsQuery{}, needs: service.Read, heavy: true, out: wire.Findings{}, handle: s.listFindings},
		{id: "dismissFinding", method: "POST", path: "/api/v1/findings/dismissals", tag: "upkeep", summary: "Leave a finding as it is, for a reason, until it comes back", in: wire.Dismiss{}, needs: service.Manage, takes: smallJSON, status: 204, handle: s.dismissFinding},
		{id: "reopenFinding", method: "DELETE", path: "/api/v1/findings/dismissals", tag: "upkeep", summary: "Have a finding that was dismissed told again", in: reopenQuery{}, needs: service.Manage, status: 204, handle: s.reopenFinding},
	}
}

func (s *Server) listFindings(r *request) error {
	dismissed, err := r.flag("dismissed")
	if err != nil {
		return err
	}
	return r.tell(r.answers().Upkeep(r.Request().Context(), r.caller, r.QueryParam("kind"), dismissed))
}

func (s *Server) dismissFinding(r *request) error {
	var in wire.Dismiss
	if err := r.decode(&in); err != nil {
		return err
	}
	if err := s.service.Dismiss(r.Request().Context(), r.caller, in); err != nil {
		return err
	}
	return r.NoContent(http.StatusNoContent)
}

func (s *Server) reopenFinding(r *request) error {
	if err := s.service.Reopen(r.Request().Context(), r.caller, r.QueryParam("key")); err != nil {
		return err
	}
	return r.NoContent(http.StatusNoContent)
}
