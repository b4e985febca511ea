package server

import (
	"net/http"
	"net/url"
	"strings"

	"sentier/internal/service"
	"sentier/internal/wire"
)

type (
	findInSourceQuery struct {
		ID string `path:"id"`
		Q  string `query:"q" required:"true" description:"some letters of a name, an id or an address"`
	}
	testSourceQuery struct {
		Of string `query:"of" description:"id of the source whose content is read, where it has no address"`
	}
	originsQuery struct {
		Type string `query:"type" required:"true" description:"users, user_groups, calendars, devices or sites"`
		IDs  string `query:"ids" required:"true" description:"of the records, apart by commas"`
	}
)

// mostOrigins is of how many records it is told at once from where they come.
const mostOrigins = 1000

func (s *Server) sourceRoutes() []route {
	one := idPath{}
	return []route{
		{id: "listSources", method: "GET", path: "/api/v1/sources", tag: "sources", summary: "Directories and what else users and groups come from, and how each last went", needs: service.Whole, out: []wire.Source{}, handle: s.sources},
		{id: "createSource", method: "POST", path: "/api/v1/sources", tag: "sources", summary: "Set a source up; nothing is read yet", in: wire.NewSource{}, needs: service.Manage, takes: manyJSON, out: wire.Source{}, status: 201, handle: s.newSource},
		{id: "testSource", method: "POST", path: "/api/v1/sources/test", tag: "sources", summary: "Try to read a source that is set up, or is going to be, and hold its mapping against it", in: []any{testSourceQuery{}, wire.NewSource{}}, needs: service.Manage, takes: manyJSON, heavy: true, out: wire.SourceTest{}, handle: s.testSource},
		{id: "getSource", method: "GET", path: "/api/v1/sources/{id}", tag: "sources", summary: "A source with its last readings", in: one, needs: service.Whole, out: wire.Source{}, handle: s.source},
		{id: "putSource", method: "PUT", path: "/api/v1/sources/{id}", tag: "sources", summary: "Set a source up otherwise", in: []any{one, wire.NewSource{}}, needs: service.Manage, takes: manyJSON, out: wire.Source{}, handle: s.changeSource},
		{id: "dropSource", method: "DELETE", path: "/api/v1/sources/{id}", tag: "sources", summary: "Take a source away; what it has brought stays, and is like any other record", in: one, needs: service.Manage, status: 204, handle: s.dropSource},
		{id: "findInSource", method: "GET", path: "/api/v1/sources/{id}/find", tag: "sources", summary: "People and groups of a source by some letters, with who is in them", in: findInSourceQuery{}, needs: service.Whole, heavy: true, out: wire.SourceFound{}, handle: s.findInSource},
		{id: "lookAtSource", method: "POST", path: "/api/v1/sources/{id}/look", tag: "sources", summary: "What a reading would do, before it counts", in: one, needs: service.Manage, heavy: true, out: wire.SourceLook{}, handle: s.lookAtSource},
		{id: "readSource", method: "POST", path: "/api/v1/sources/{id}/read", tag: "sources", summary: "Read a source now, and make what it says count", in: []any{one, wire.ReadSource{}}, needs: service.Manage, takes: smallJSON, heavy: true, out: wire.SourceRun{}, handle: s.readSource},
		{id: "bringToSource", method: "PUT", path: "/api/v1/sources/{id}/content", tag: "sources", summary: "Bring what a source is read from that has no address; nothing counts yet", in: one, needs: service.Manage, takes: feedText, heavy: true, out: wire.BroughtContent{}, handle: s.bringToSource},
		{id: "createSourceToken", method: "POST", path: "/api/v1/sources/{id}/tokens", tag: "sources", summary: "Make a token by which a source brings its people and groups over SCIM, and that is good for nothing else", in: []any{one, wire.NewSourceToken{}}, needs: service.Manage, takes: smallJSON, out: wire.Token{}, status: 201, handle: s.sourceToken},
		{id: "linkSource", method: "POST", path: "/api/v1/sources/{id}/links", tag: "sources", summary: "Say that somebody of a source is a user who was here before", in: []any{one, wire.LinkSource{}}, needs: service.Manage, takes: smallJSON, out: wire.Source{}, handle: s.linkSource},
		{id: "listOrigins", method: "GET", path: "/api/v1/origins", tag: "sources", summary: "From where some records come, and what of them a source keeps", in: originsQuery{}, needs: service.Read, out: []wire.Origin{}, handle: s.origins},
	}
}

func (s *Server) sources(r *request) error {
	return r.tell(s.service.Sources(r.Request().Context(), r.caller))
}

func (s *Server) newSource(r *request) error {
	var in wire.NewSource
	if err := r.decode(&in); err != nil {
		return err
	}
	out, err := s.service.NewSource(r.Request().Context(), r.caller, in)
	if err != nil {
		return err
	}
	r.Response().Header().Set("Location", s.prefix()+"/api/v1/sources/"+url.PathEscape(out.ID))
	return r.JSON(http.StatusCreated, out)
}

func (s *Server) testSource(r *request) error {
	var in wire.NewSource
	if err := r.decode(&in); err != nil {
		return err
	}
	return r.tell(s.service.TestSource(r.Request().Context(), r.caller, r.QueryParam("of"), in))
}

func (s *Server) source(r *request) error {
	return r.tell(s.service.Source(r.Request().Context(), r.caller, r.id()))
}

func (s *Server) changeSource(r *request) error {
	var in wire.NewSource
	if err := r.decode(&in); err != nil {
		return err
	}
	return r.tell(s.service.ChangeSource(r.Request().Context(), r.caller, r.id(), in))
}

func (s *Server) dropSource(r *request) error {
	if err := s.service.DropSource(r.Request().Context(), r.caller, r.id()); err != nil {
		return err
	}
	return r.NoContent(http.StatusNoContent)
}

func (s *Server) findInSource(r *request) error {
	return r.tell(s.service.FindInSource(r.Request().Context(), r.caller, r.id(), r.QueryParam("q")))
}

func (s *Server) lookAtSource(r *request) error {
	return r.tell(s.service.LookSource(r.Request().Context(), r.caller, r.id()))
}

func (s *Server) readSource(r *request) error {
	var in wire.ReadSource
	if err := r.decode(&in); err != nil {
		return err
	}
	return r.tell(s.service.ReadSource(r.Request().Context(), r.caller, r.id(), in))
}

func (s *Server) bringToSource(r *request) error {
	body, err := r.body()
	if err != nil {
		return err
	}
	return r.tell(s.service.BringToSource(r.Request().Context(), r.caller, r.id(), body))
}

func (s *Server) linkSource(r *request) error {
	var in wire.LinkSource
	if err := r.decode(&in); err != nil {
		return err
	}
	return r.tell(s.service.LinkSource(r.Request().Context(), r.caller, r.id(), in))
}

func (s *Server) sourceToken(r *request) error {
	var in wire.NewSourceToken
	if err := r.decode(&in); err != nil {
		return err
	}
	out, err := s.service.SourceToken(r.Request().Context(), r.caller, r.id(), in)
	if err != nil {
		return err
	}
	return r.JSON(http.StatusCreated, out)
}

func (s *Server) origins(r *request) error {
	ids := strings.Split(r.QueryParam("ids"), ",")
	if len(ids) > mostOrigins {
		return service.Wrong("ids", "has %d: keep it to %d", len(ids), mostOrigins)
	}
	return r.tell(s.service.Origins(r.caller, r.QueryParam("type"), ids))
}
