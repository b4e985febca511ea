package cli

import (
	"errors"
	"io"
	"log/slog"
	"net"
	"sync"
	"time"
)

// relay is a cable between a machine of the demonstration and the servers of the log: it can be cut, and mended.
type relay struct {
	listener net.Listener
	to       []string // the first that answers is taken
	log      *slog.Logger

	mu    sync.Mutex
	isCut bool
	open  map[net.Conn]bool
}

// relayTime is in which a server must take a connection.
const relayTime = 500 * time.Millisecond

func newRelay(to []string, log *slog.Logger) (*relay, error) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	r := &relay{listener: listener, to: to, log: log, open: map[net.Conn]bool{}}
	go r.serve()
	return r, nil
}

func (r *relay) serve() {
	for {
		from, err := r.listener.Accept()
		if errors.Is(err, net.ErrClosed) {
			return
		}
		if err != nil {
			r.log.Warn("a cable of the demonstration could not be taken up", "error", err)
			time.Sleep(relayTime)
			continue
		}
		go r.carry(from)
	}
}

// carry carries one connection until one of its ends closes it, or the cable is cut.
func (r *relay) carry(from net.Conn) {
	defer from.Close()
	to, err := r.dial()
	if err != nil || !r.keep(from, to) {
		return
	}
	defer to.Close()
	both := make(chan error, 2)
	go func() { _, err := io.Copy(to, from); both <- err }()
	go func() { _, err := io.Copy(from, to); both <- err }()
	if err := <-both; err != nil {
		r.log.Debug("a cable of the demonstration has lost a connection", "error", err)
	}
	r.mu.Lock()
	delete(r.open, from)
	delete(r.open, to)
	r.mu.Unlock()
}

func (r *relay) dial() (to net.Conn, err error) {
	for _, at := range r.to {
		if to, err = net.DialTimeout("tcp", at, relayTime); err == nil {
			return to, nil
		}
	}
	return nil, err
}

func (r *relay) keep(conns ...net.Conn) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, c := range conns {
		if r.isCut {
			c.Close()
		} else {
			r.open[c] = true
		}
	}
	return !r.isCut
}

// cut ends what is carried, and carries nothing until the cable is mended.
func (r *relay) cut(so bool) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.isCut = so
	for c := range r.open {
		if so {
			c.Close()
		}
	}
}
