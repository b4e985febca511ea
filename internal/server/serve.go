package server

import (
	"context"
	"crypto/tls"
	"errors"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"sync"
	"sync/atomic"
	"time"
)

// shutdownTime is how long answers in flight may take when the service ends.
const shutdownTime = 10 * time.Second

// newcomerTime is how long a connection that was taken before the service ends may take to send its first request.
const newcomerTime = 2 * time.Second

// maxHeader bounds the headers of a request, in bytes.
const maxHeader = 16 << 10

// Serve answers on a listener until ctx ends; see [Front.Serve].
func (s *Server) Serve(ctx context.Context, l net.Listener) error {
	f := &Front{}
	f.Put(s)
	return f.Serve(ctx, l)
}

// Front answers with a server in whose place another can be put while it answers.
type Front struct{ now atomic.Pointer[Server] }

// Put has a server answer what is asked from now on. What the one before is answering goes on; its streams, which would never end, end.
func (f *Front) Put(s *Server) {
	if before := f.now.Swap(s); before != nil {
		before.endStreams()
	}
}

// ServeHTTP answers one request.
func (f *Front) ServeHTTP(w http.ResponseWriter, r *http.Request) { f.now.Load().ServeHTTP(w, r) }

func (s *Server) endStreams() { s.ending.Do(func() { close(s.closing) }) }

// Serve answers on a listener until ctx ends; answers in flight are given then, and those to requests on their way over a new connection, within a
// grace after which connections are closed, whatever clients hold open.
func (f *Front) Serve(ctx context.Context, l net.Listener) error {
	first := f.now.Load()
	log := first.log
	server := &http.Server{
		ReadHeaderTimeout: headerTime,
		ReadTimeout:       requestTime,
		WriteTimeout:      answerTime,
		IdleTimeout:       2 * time.Minute,
		MaxHeaderBytes:    maxHeader,
		HTTP2:             &http.HTTP2Config{MaxConcurrentStreams: 64, MaxReceiveBufferPerConnection: 64 << 10, MaxReceiveBufferPerStream: 64 << 10},
		ErrorLog:          slog.NewLogLogger(log.Handler(), slog.LevelDebug),
	}
	entrance := newDoor(l, first.certificate == nil, func(a netip.Addr) bool { return f.now.Load().trusts(a.String()) })
	news := &newcomers{open: map[net.Conn]bool{}}
	server.ConnState, server.ConnContext, server.Handler = news.state, news.context, news.handler(guests(f))
	server.RegisterOnShutdown(func() { f.now.Load().endStreams() })
	ended := make(chan error, 1)
	go func() {
		<-ctx.Done()
		if err := entrance.stop(); err != nil {
			log.Warn("the socket could not be closed", "error", err)
		}
		server.SetKeepAlivesEnabled(false)
		news.wait(newcomerTime)
		grace, cancel := context.WithTimeout(context.Background(), shutdownTime)
		defer cancel()
		err := server.Shutdown(grace)
		if errors.Is(err, context.DeadlineExceeded) {
			log.Warn("connections were still open after the grace, and are closed", "grace", shutdownTime)
			err = server.Close()
		}
		ended <- err
	}()
	var err error
	if first.certificate != nil {
		server.TLSConfig = &tls.Config{MinVersion: tls.VersionTLS12, GetCertificate: func(hello *tls.ClientHelloInfo) (*tls.Certificate, error) { return f.now.Load().certificate.get(hello) }}
		err = server.ServeTLS(entrance, "", "")
	} else {
		err = server.Serve(entrance)
	}
	if errors.Is(err, http.ErrServerClosed) {
		return <-ended
	}
	return err
}

// newcomers are the connections whose first request has not reached its handler yet. The server of the standard library closes them when it is shut
// down, even where the request has come already; so it is shut down when there are none, and whoever asks while one process takes over from another
// has an answer.
type newcomers struct {
	mu   sync.Mutex
	open map[net.Conn]bool
}

type connKey struct{}

func (n *newcomers) state(c net.Conn, state http.ConnState) {
	n.mu.Lock()
	defer n.mu.Unlock()
	switch state {
	case http.StateNew:
		n.open[c] = true
	case http.StateIdle, http.StateClosed, http.StateHijacked:
		delete(n.open, c)
	}
}

func (n *newcomers) context(ctx context.Context, c net.Conn) context.Context {
	return context.WithValue(context.WithValue(ctx, connKey{}, c), guestKey{}, guestOf(c))
}

func (n *newcomers) handler(to http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		c := r.Context().Value(connKey{}).(net.Conn) // which context has put there
		n.mu.Lock()
		delete(n.open, c)
		n.mu.Unlock()
		to.ServeHTTP(w, r)
	})
}

// wait waits until there are none, at most for a time.
func (n *newcomers) wait(most time.Duration) {
	for end := time.Now().Add(most); time.Now().Before(end); time.Sleep(time.Millisecond) {
		n.mu.Lock()
		left := len(n.open)
		n.mu.Unlock()
		if left == 0 {
			return
		}
	}
}

// untilClosing gives a context that ends with the server, for answers that would never end by themselves.
func (s *Server) untilClosing(ctx context.Context) (context.Context, context.CancelFunc) {
	ctx, cancel := context.WithCancel(ctx)
	go func() {
		select {
		case <-s.closing:
			cancel()
		case <-ctx.Done():
		}
	}()
	return ctx, cancel
}
