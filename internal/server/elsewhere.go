package server

import (
	"context"
	"net/http"
	"net/http/httputil"
	"net/url"
	"strconv"
	"time"

	"sentier/internal/service"
)

// Elsewhere is the machine that writes, as one has it that follows.
type Elsewhere struct {
	Me     string                                 // name of this machine
	Writer func() (name string, at *url.URL)      // at is nil where it has not told
	Moved  func() <-chan struct{}                 // is closed when another may write
	Reach  http.RoundTripper                      // by which it is asked
	Until  func(ctx context.Context, seq uint64)  // waits until this machine has a place in the log, for a while
	Since  func(revision uint64) bool             // whether all that came after a revision is known here
	Age    func() (age time.Duration, known bool) // for how long it may not be true any more that nothing newer is there
}

// Headers of answers.
const (
	revisionHeader = "Sentier-Revision" // from which, or a later one, it is answered
	placeHeader    = "Sentier-Log"      // how far the log went when it was answered, for a machine that follows
	byHeader       = "Sentier-Machine"  // the machine that follows: of an answer, the one whose own it is; of a request, the one that hands it on
)

// answeredHere tells whether a machine that follows answers a route by itself: what asks of the policy as it is, and how the machine stands.
func (r *route) answeredHere(req *request) bool {
	if last, err := strconv.ParseUint(req.Request().Header.Get("Last-Event-ID"), 10, 64); r.id == "followEvents" && err == nil && !req.server.writer.Since(last) {
		return false
	}
	return r.here || r.past && r.id != "listHistory" && req.QueryParam(asOf) == ""
}

// standing says in an answer whose it is, from which revision, and how old that may be (RFC 9111, section 5.1).
func (s *Server) standing(h http.Header) {
	h.Set(byHeader, s.writer.Me)
	h.Set(revisionHeader, strconv.FormatUint(s.service.State().Revision.Number, 10))
	if age, known := s.writer.Age(); known {
		h.Set("Age", strconv.Itoa(int(age/time.Second)))
	}
}

// goOn has the machine that writes answer a request, and waits until this one knows what that did: whoever asks next sees what they did.
func (s *Server) goOn(req *request) error {
	name, at := s.writer.Writer()
	if at == nil || name == s.writer.Me || req.Request().Header.Get(byHeader) != "" { // it went to where the writer was
		return &awayError{name, name == s.writer.Me}
	}
	if err := extend(req.Response()); err != nil {
		return err
	}
	ctx, cancel := context.WithCancel(req.Request().Context())
	defer cancel()
	go s.writer.whileWrites(ctx, name, cancel)
	var failed error
	proxy := &httputil.ReverseProxy{
		Transport: s.writer.Reach, FlushInterval: -1,
		Rewrite: func(p *httputil.ProxyRequest) {
			p.SetURL(at)
			p.SetXForwarded()
			p.Out.Header.Del("Origin") // which was looked at here
			p.Out.Header.Set(byHeader, s.writer.Me)
			s.withCookie(req, p.Out)
		},
		ModifyResponse: func(answer *http.Response) error {
			s.ownCookies(req, answer)
			seq, err := strconv.ParseUint(answer.Header.Get(placeHeader), 10, 64)
			if err == nil {
				s.writer.Until(req.Request().Context(), seq)
			}
			answer.Header.Del(placeHeader)
			return nil
		},
		ErrorHandler: func(_ http.ResponseWriter, _ *http.Request, err error) { failed = err },
	}
	proxy.ServeHTTP(req.Response(), req.Request().WithContext(ctx))
	if failed == nil || req.Request().Context().Err() != nil {
		return nil
	}
	s.log.Warn("the machine that writes could not be asked", "machine", name, "error", failed)
	return &awayError{name: name}
}

// whileWrites waits until ctx ends, or another machine writes: then it calls end, as nobody is to wait for one that may be gone.
func (e *Elsewhere) whileWrites(ctx context.Context, name string, end func()) {
	for {
		moved := e.Moved()
		if now, _ := e.Writer(); now != name {
			end()
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-moved:
		}
	}
}

// awayError is that the machine that writes does not answer.
type awayError struct {
	name string
	me   bool // it is this one, which writes no more and knows of no other yet
}

func (e *awayError) Error() string { return e.Unwrap().Error() }

// Unwrap is the sentence that it is told as.
func (e *awayError) Unwrap() error {
	if e.me {
		return service.Say("this machine writes no more, and has not heard from the servers of the log which one does; questions are answered here")
	}
	if e.name == "" {
		return service.Say("this is done by the machine that writes, which has not been heard of yet; questions are answered here")
	}
	return service.Say("this is done by the machine that writes (%s), which does not answer; questions are answered here", e.name)
}

// withCookie names the session's cookie as the machine that writes does: one that is reached by TLS names it otherwise.
func (s *Server) withCookie(req *request, out *http.Request) {
	cookie, err := req.Request().Cookie(s.cookieName(req.origin))
	if err != nil {
		return
	}
	out.Header.Del("Cookie")
	for _, name := range []string{cookieName, securePrefix + cookieName} {
		out.AddCookie(&http.Cookie{Name: name, Value: cookie.Value})
	}
}

// ownCookies names the session's cookie in an answer of the machine that writes as this one does.
func (s *Server) ownCookies(req *request, answer *http.Response) {
	cookies := answer.Cookies()
	if len(cookies) == 0 {
		return
	}
	answer.Header.Del("Set-Cookie")
	for _, c := range cookies {
		if c.Name == cookieName || c.Name == securePrefix+cookieName {
			c.Name, c.Secure = s.cookieName(req.origin), s.isSecure(req.origin)
		}
		answer.Header.Add("Set-Cookie", c.String())
	}
}
