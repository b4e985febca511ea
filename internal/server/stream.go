package server

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"strconv"
	"time"

	"sentier/internal/service"
	"sentier/internal/wire"
)

// Times of a stream of events.
const (
	streamTime = 10 * time.Minute // it ends, and whoever follows resumes it
	quietTime  = 15 * time.Second // after which a comment shows that it is alive
	sendTime   = 20 * time.Second // in which whoever follows must take what is sent
)

// stream is a stream of server-sent events on its way.
type stream struct {
	w       http.ResponseWriter
	control *http.ResponseController
}

// stream answers with server-sent events after Last-Event-ID, or after last, which is what there is now. The first thing sent is the id after
// which they come, so that whoever loses the stream before any knows where to go on.
func (r *request) stream(last uint64, follow func(ctx context.Context, after uint64, to *stream) error) error {
	after := last
	if text := r.Request().Header.Get("Last-Event-ID"); text != "" {
		n, err := strconv.ParseUint(text, 10, 64)
		if err != nil {
			return service.Wrong("Last-Event-ID", "%q is no number of an event: give the id of the last one that came", service.Clip(text))
		}
		after = min(n, after)
	}
	return r.streaming(after, follow)
}

// streaming answers with server-sent events after one.
func (r *request) streaming(after uint64, follow func(ctx context.Context, after uint64, to *stream) error) error {
	leave, err := r.server.streams.enter()
	if err != nil {
		return err
	}
	defer leave()
	w := r.Response()
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("X-Accel-Buffering", "no") // a proxy hands each event on as it comes
	w.WriteHeader(http.StatusOK)
	if r.Request().Method == http.MethodHead {
		return nil
	}
	to := &stream{w, http.NewResponseController(w)}
	ctx, cancel := r.server.untilClosing(r.Request().Context())
	defer cancel()
	end := time.AfterFunc(streamTime, cancel)
	defer end.Stop()
	if err := to.control.SetReadDeadline(time.Time{}); err != nil { // all of the request is here
		return err
	}
	if err := to.send(fmt.Sprintf("retry: 1000\nid: %d\n\n", after)); err != nil {
		return err
	}
	return follow(ctx, after, to)
}

func (s *stream) send(text string) error {
	if err := s.control.SetWriteDeadline(time.Now().Add(sendTime)); err != nil {
		return err
	}
	if _, err := fmt.Fprint(s.w, text); err != nil {
		return err
	}
	return s.control.Flush()
}

// event sends an event.
func (s *stream) event(id uint64, name string, value any) error {
	data, err := json.Marshal(value)
	if err != nil {
		return err
	}
	return s.send(fmt.Sprintf("id: %d\nevent: %s\ndata: %s\n\n", id, name, data))
}

// alive shows that the stream goes on, when there is nothing to send.
func (s *stream) alive() error { return s.send(": still here\n\n") }

// events streams the revisions.
func (s *Server) events(r *request) error {
	return r.stream(s.service.State().Revision.Number, func(ctx context.Context, after uint64, to *stream) error {
		return s.service.Follow(ctx, r.caller, after, quietTime, func(e *wire.Event) error {
			if e == nil {
				return to.alive()
			}
			return to.event(e.Revision, "revision", e)
		})
	})
}

// followAudit streams the record.
func (s *Server) followAudit(r *request) error {
	q, err := r.auditQuery()
	if err != nil {
		return err
	}
	return r.stream(s.service.Record().Last(), func(ctx context.Context, after uint64, to *stream) error {
		return r.answers().FollowAudit(ctx, r.caller, after, q, quietTime, func(e *wire.AuditEntry) error {
			if e == nil {
				return to.alive()
			}
			return to.event(e.Entry, "entry", e)
		})
	})
}
