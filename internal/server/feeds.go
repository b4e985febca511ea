package server

import (
	"net/http"
	"strings"

	"sentier/internal/service"
	"sentier/internal/wire"
)

// feedPath is where feeds lie; what follows is a secret, and is logged nowhere.
const feedPath = "/feeds/"

type feedQuery struct {
	Secret string `path:"id" description:"the secret, and .ics"`
}

func (s *Server) feedRoutes() []route {
	return []route{
		{id: "getFeed", method: "GET", path: feedPath + "{id}", tag: "feeds", summary: "A calendar, for whoever has its secret address", open: true, produces: []string{"text/calendar"}, in: feedQuery{}, handle: s.feed},
		{id: "listFeeds", method: "GET", path: "/api/v1/feeds", tag: "feeds", summary: "Your calendars that others read by a secret address", out: []wire.Feed{}, handle: s.feeds},
		{id: "createFeed", method: "POST", path: "/api/v1/feeds", tag: "feeds", summary: "Make a calendar that others read by a secret address, which is told once", in: wire.NewFeed{}, takes: smallJSON, out: wire.Feed{}, status: 201, handle: s.newFeed},
		{id: "dropFeed", method: "DELETE", path: "/api/v1/feeds/{id}", tag: "feeds", summary: "Take a calendar away: its address is good for nothing from then on", in: idPath{}, status: 204, handle: s.dropFeed},
	}
}

// loggedPath is the path of a request as it is logged.
func loggedPath(r *http.Request) string {
	if strings.HasPrefix(r.URL.Path, feedPath) {
		return feedPath + "…"
	}
	return service.Clip(r.URL.Path)
}

func (s *Server) feed(r *request) error {
	secret, ok := strings.CutSuffix(r.id(), ".ics")
	if !ok {
		return service.ErrNotFound
	}
	text, err := r.answers().Feed(r.Request().Context(), secret, func() error { return r.queue(s.heavy) })
	if err != nil {
		return err
	}
	r.Response().Header().Set("Cache-Control", "private, max-age=300")
	return r.send(http.StatusOK, "text/calendar; charset=utf-8", text)
}

func (s *Server) feeds(r *request) error {
	return r.tell(s.service.Feeds(r.Request().Context(), r.caller))
}

func (s *Server) newFeed(r *request) error {
	var in wire.NewFeed
	if err := r.decode(&in); err != nil {
		return err
	}
	out, err := s.service.NewFeed(r.Request().Context(), r.caller, in)
	if err != nil {
		return err
	}
	out.Path = s.prefix() + out.Path
	return r.JSON(http.StatusCreated, out)
}

func (s *Server) dropFeed(r *request) error {
	if err := s.service.DropFeed(r.Request().Context(), r.caller, r.id()); err != nil {
		return err
	}
	return r.NoContent(http.StatusNoContent)
}
