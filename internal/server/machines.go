package server

import (
	"net/http"

	"sentier/internal/service"
	"sentier/internal/wire"
)

func (s *Server) machineRoutes() []route {
	one := idPath{}
	return []route{
		{id: "listMachines", method: "GET", path: "/api/v1/machines", tag: "machines", summary: "The machines on which the service runs: which revision each answers from, and when it was last heard of", needs: service.Whole, out: wire.Machines{}, handle: s.machines},
		{id: "admitMachine", method: "PUT", path: "/api/v1/machines/{id}", tag: "machines", summary: "Admit a machine that follows by its key: what it records comes into this record", in: []any{one, wire.AdmitMachine{}}, needs: service.Manage, takes: smallJSON, status: 204, handle: s.admitMachine},
		{id: "promoteMachine", method: "POST", path: "/api/v1/machines/{id}/promote", tag: "machines", summary: "Have a machine that stands by write in the place of the one that does: answered when that one writes no more", in: one, needs: service.Manage, status: 204, handle: s.promoteMachine},
		{id: "dropMachine", method: "DELETE", path: "/api/v1/machines/{id}", tag: "machines", summary: "Take a machine away: what it records from now on comes into no record", in: one, needs: service.Manage, status: 204, handle: s.dropMachine},
	}
}

func (s *Server) machines(r *request) error {
	return r.tell(s.service.Machines(r.Request().Context(), r.caller))
}

func (s *Server) admitMachine(r *request) error {
	var in wire.AdmitMachine
	if err := r.decode(&in); err != nil {
		return err
	}
	if err := s.service.AdmitMachine(r.Request().Context(), r.caller, r.id(), in); err != nil {
		return err
	}
	return r.NoContent(http.StatusNoContent)
}

func (s *Server) promoteMachine(r *request) error {
	if err := s.service.Promote(r.Request().Context(), r.caller, r.id()); err != nil {
		return err
	}
	return r.NoContent(http.StatusNoContent)
}

func (s *Server) dropMachine(r *request) error {
	if err := s.service.DropMachine(r.Request().Context(), r.caller, r.id()); err != nil {
		return err
	}
	return r.NoContent(http.StatusNoContent)
}
