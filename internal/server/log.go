package server

import (
	"context"
	"errors"
	"io"
	"net/http"
	"strconv"
	"strings"
	"sync"
	"time"

	"sentier/internal/replica"
	"sentier/internal/service"
	"sentier/internal/wire"
)

// Log is the log of revisions, for whoever follows it over HTTP.
type Log struct {
	Bus      replica.Bus
	Snapshot func(ctx context.Context, picture bool) (io.ReadSeekCloser, error) // of the policy as it is; the error is [replica.ErrNone] where there is none yet
}

// logQuery is from where on the log is followed.
type logQuery struct {
	After uint64 `query:"after" description:"place in the log after which entries are sent; left out: from its beginning"`
}

// snapshotQuery says which snapshot is wanted.
type snapshotQuery struct {
	Picture string `query:"picture" description:"form of pictures that the asking program knows: where it is that of the service, a picture comes, else rows, which anybody can read"`
}

func (s *Server) logRoutes() []route {
	one := idPath{}
	return []route{
		{id: "followLog", method: "GET", path: "/api/v1/log", tag: "machines", summary: "The log of revisions as server-sent events: entries and beats, each a JSON Web Signature of the machine that writes; gone: begin with a snapshot", in: logQuery{}, needs: service.Follow, stream: true, produces: []string{"text/event-stream"}, handle: s.followLog},
		{id: "getLogObject", method: "GET", path: "/api/v1/log/{id}", tag: "machines", summary: "The changes of a revision that is too large for its entry", in: one, needs: service.Follow, produces: []string{"application/octet-stream"}, handle: s.logObject},
		{id: "getSnapshot", method: "GET", path: "/api/v1/snapshot", tag: "machines", summary: "The policy as it is, signed by the machine that writes, for whoever follows the log from there", in: snapshotQuery{}, needs: service.Follow, heavy: true, produces: []string{"application/octet-stream"}, handle: s.snapshot},
		{id: "tellStatus", method: "POST", path: "/api/v1/machines/{id}/status", tag: "machines", summary: "How a machine stands, by its own signed word", in: []any{one, wire.Signed{}}, needs: service.Follow, takes: plainJSON, status: 204, handle: s.tellStatus},
		{id: "handOverRecord", method: "POST", path: "/api/v1/machines/{id}/record", tag: "machines", summary: "Entries of the record of a machine that was admitted, signed by it; each counts once, however often it comes", in: []any{one, wire.Signed{}}, needs: service.Follow, takes: plainJSON, status: 204, handle: s.handOverRecord},
	}
}

// followLog streams the log. What has not to be known to decide is left out.
func (s *Server) followLog(r *request) error {
	var from uint64
	if text := r.QueryParam("after"); text != "" {
		var err error
		if from, err = strconv.ParseUint(text, 10, 64); err != nil {
			return service.Wrong("after", "%q is no place in the log: give the seq of the last entry that came, or of the head of a snapshot", service.Clip(text))
		}
	}
	return r.streaming(from, func(ctx context.Context, after uint64, to *stream) error {
		var mu sync.Mutex // entries and beats come each by themselves
		ctx, cancel := context.WithCancelCause(ctx)
		defer cancel(nil)
		send := func(event string, text []byte) error {
			mu.Lock()
			defer mu.Unlock()
			if !s.service.Still(r.caller) || s.service.Permit(s.service.State(), r.caller, service.Follow, "") != nil {
				return service.ErrCredential
			}
			return to.send("event: " + event + "\ndata: " + string(text) + "\n\n")
		}
		var beats sync.WaitGroup
		beats.Go(func() {
			err := s.logged.Bus.Beats(ctx, func(text []byte) {
				if err := send("beat", text); err != nil {
					cancel(err)
				}
			})
			cancel(err)
		})
		err := s.logged.Bus.Follow(ctx, after, func(text []byte) error { return send("entry", replica.Bare(text)) })
		if errors.Is(err, replica.ErrGone) {
			err = send("gone", []byte("{}"))
		}
		cancel(nil)
		beats.Wait()
		if errors.Is(err, context.Canceled) {
			return nil
		}
		return err
	})
}

// logObject gives the changes of a large revision, and nothing else that lies beside them.
func (s *Server) logObject(r *request) error {
	if !strings.HasPrefix(r.id(), replica.ChangesPrefix) {
		return service.ErrNotFound
	}
	from, err := s.logged.Bus.Get(r.Request().Context(), r.id())
	if errors.Is(err, replica.ErrNone) {
		return service.ErrNotFound
	}
	if err != nil {
		return err
	}
	defer from.Close()
	return r.pour("application/octet-stream", func(to io.Writer) error {
		_, err := io.Copy(to, from)
		return err
	})
}

func (s *Server) snapshot(r *request) error {
	picture := r.QueryParam("picture") == strconv.FormatUint(replica.PictureForm, 10)
	from, err := s.logged.Snapshot(r.Request().Context(), picture)
	if errors.Is(err, replica.ErrNone) {
		return service.ErrNoOwner
	}
	if err != nil {
		return err
	}
	defer from.Close()
	r.Response().Header().Set("Last-Modified", s.service.State().Revision.At.UTC().Format(http.TimeFormat))
	http.NewResponseController(r.Response()).SetWriteDeadline(time.Now().Add(heavyTime))
	return r.pour("application/octet-stream", func(to io.Writer) error {
		_, err := io.Copy(to, from)
		return err
	})
}

func (s *Server) tellStatus(r *request) error {
	var in wire.Signed
	if err := r.decode(&in); err != nil {
		return err
	}
	if err := s.service.TakeStatus(r.Request().Context(), r.id(), []byte(in.Signed)); err != nil {
		return err
	}
	return r.NoContent(http.StatusNoContent)
}

func (s *Server) handOverRecord(r *request) error {
	var in wire.Signed
	if err := r.decode(&in); err != nil {
		return err
	}
	if err := s.service.TakeRecord(r.Request().Context(), r.id(), []byte(in.Signed)); err != nil {
		return err
	}
	return r.NoContent(http.StatusNoContent)
}
