package server

import (
	"context"
	"net/http"

	"sentier/internal/service"
	"sentier/internal/wire"
)

func (s *Server) ownRoutes() []route {
	return []route{
		{id: "getMine", method: "GET", path: "/api/v1/mine", tag: "own", summary: "What you can do by yourself with what is yours", out: wire.Mine{}, handle: s.mine},
		{id: "giveBack", method: "POST", path: "/api/v1/mine/give-back", tag: "own", summary: "End a membership, or a grant by name, of your own", in: wire.GiveBack{}, takes: smallJSON, out: wire.Saved{}, handle: act(s.service.GiveBack)},
		{id: "joinGroup", method: "POST", path: "/api/v1/mine/join", tag: "own", summary: "Join a group for a time, at once or after somebody has agreed", in: wire.JoinGroup{}, takes: smallJSON, out: wire.Request{}, handle: asks(s, s.service.JoinGroup)},
		{id: "askFor", method: "POST", path: "/api/v1/requests", tag: "own", summary: "Ask for a right on a device for a time", in: wire.AskFor{}, takes: smallJSON, out: wire.Request{}, handle: asks(s, s.service.AskFor)},
		{id: "listRequests", method: "GET", path: "/api/v1/requests", tag: "own", summary: "The requests that you may answer, and what was joined of late", needs: service.Write, out: []wire.Request{}, handle: s.requestsToAnswer},
		{id: "answerRequest", method: "POST", path: "/api/v1/requests/{id}/answer", tag: "own", summary: "Agree to a request, by which it is granted, or say no", in: []any{idPath{}, wire.AnswerRequest{}}, needs: service.Write, takes: plainJSON, out: wire.Request{}, handle: s.answerRequest},
		{id: "withdrawRequest", method: "DELETE", path: "/api/v1/requests/{id}", tag: "own", summary: "Take a request of your own back", in: idPath{}, status: 204, handle: s.withdrawRequest},
	}
}

// act reads a body, does what it asks for, and tells what came of it.
func act[I, O any](do func(context.Context, service.Caller, I) (O, error)) func(*request) error {
	return func(r *request) error {
		var in I
		if err := r.decode(&in); err != nil {
			return err
		}
		return r.tell(do(r.Request().Context(), r.caller, in))
	}
}

// asks reads what is asked for, and tells those who have to know.
func asks[I any](s *Server, do func(context.Context, service.Caller, I) (wire.Request, error)) func(*request) error {
	return func(r *request) error {
		var in I
		if err := r.decode(&in); err != nil {
			return err
		}
		asked, err := do(r.Request().Context(), r.caller, in)
		return s.tellOf(r, asked, err)
	}
}

func (s *Server) mine(r *request) error {
	return r.tell(s.service.Mine(r.Request().Context(), r.caller))
}

func (s *Server) requestsToAnswer(r *request) error {
	return r.tell(s.service.Requests(r.Request().Context(), r.caller))
}

func (s *Server) answerRequest(r *request) error {
	var in wire.AnswerRequest
	if err := r.gather(&in); err != nil {
		return err
	}
	return r.tell(s.service.AnswerRequest(r.Request().Context(), r.caller, r.id(), in))
}

func (s *Server) withdrawRequest(r *request) error {
	if err := s.service.WithdrawRequest(r.Request().Context(), r.caller, r.id()); err != nil {
		return err
	}
	return r.NoContent(http.StatusNoContent)
}
