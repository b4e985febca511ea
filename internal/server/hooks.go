package server

import (
	"net/http"
	"net/url"

	"sentier/internal/service"
	"sentier/internal/wire"
)

func (s *Server) hookRoutes() []route {
	one := idPath{}
	return []route{
		{id: "listHooks", method: "GET", path: "/api/v1/hooks", tag: "hooks", summary: "To whom it is told what happens, how far that has come, and what was answered last", needs: service.Whole, out: []wire.Hook{}, handle: s.hooks},
		{id: "createHook", method: "POST", path: "/api/v1/hooks", tag: "hooks", summary: "Have it told what happens, from now on: CloudEvents 1.0, signed as Standard Webhooks has it", in: wire.NewHook{}, needs: service.Manage, takes: smallJSON, out: wire.Hook{}, status: 201, handle: s.newHook},
		{id: "putHook", method: "PUT", path: "/api/v1/hooks/{id}", tag: "hooks", summary: "Set a hook up otherwise; what failed is tried again at once", in: []any{one, wire.NewHook{}}, needs: service.Manage, takes: smallJSON, out: wire.Hook{}, handle: s.changeHook},
		{id: "dropHook", method: "DELETE", path: "/api/v1/hooks/{id}", tag: "hooks", summary: "Take a hook away: nothing more is told", in: one, needs: service.Manage, status: 204, handle: s.dropHook},
		{id: "testHook", method: "POST", path: "/api/v1/hooks/{id}/test", tag: "hooks", summary: "Tell an event of no meaning, once, to see whether it is taken", in: one, needs: service.Manage, out: wire.Hook{}, handle: s.testHook},
	}
}

func (s *Server) hooks(r *request) error {
	return r.tell(s.service.Hooks(r.Request().Context(), r.caller))
}

func (s *Server) newHook(r *request) error {
	var in wire.NewHook
	if err := r.decode(&in); err != nil {
		return err
	}
	out, err := s.service.NewHook(r.Request().Context(), r.caller, in)
	if err != nil {
		return err
	}
	r.Response().Header().Set("Location", s.prefix()+"/api/v1/hooks/"+url.PathEscape(out.ID))
	return r.JSON(http.StatusCreated, out)
}

func (s *Server) changeHook(r *request) error {
	var in wire.NewHook
	if err := r.decode(&in); err != nil {
		return err
	}
	return r.tell(s.service.ChangeHook(r.Request().Context(), r.caller, r.id(), in))
}

func (s *Server) dropHook(r *request) error {
	if err := s.service.DropHook(r.Request().Context(), r.caller, r.id()); err != nil {
		return err
	}
	return r.NoContent(http.StatusNoContent)
}

func (s *Server) testHook(r *request) error {
	return r.tell(s.service.TestHook(r.Request().Context(), r.caller, r.id()))
}
