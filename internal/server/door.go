package server

import (
	"container/list"
	"context"
	"crypto/tls"
	"fmt"
	"net"
	"net/http"
	"net/netip"
	"sync"
	"sync/atomic"
	"time"
)

// Shares of the connections that are open at once. A guest is a stranger until a request with a good credential has come over the connection, so that those who
// show none never take the room of those who do.
const (
	mostConnections = 4096
	mostStrangers   = 3072
	mostOfAddress   = 1024        // strangers from one address
	mostOfNetwork   = 2048        // strangers from one network: 256 addresses of IPv4, a site of IPv6
	silentTime      = time.Second // for which a stranger may say nothing while others wait for the room
)

// door takes connections, each as long as there is room for it: whoever comes takes the place of a stranger who says nothing. One for whom there is none is told
// so, and closed.
type door struct {
	net.Listener
	plain bool                  // without TLS, in which a sentence could not be said
	proxy func(netip.Addr) bool // tells whether an address is that of a proxy, which brings many

	mu        sync.Mutex
	open      int
	strangers int
	each      map[netip.Prefix]int // strangers by address and by network
	waiting   *list.List           // strangers who ask nothing, the one who has waited longest first

	stopped atomic.Bool
	once    sync.Once
	ended   chan struct{} // is closed with the listener
}

func newDoor(l net.Listener, plain bool, proxy func(netip.Addr) bool) *door {
	return &door{Listener: l, plain: plain, proxy: proxy, each: map[netip.Prefix]int{}, waiting: list.New(), ended: make(chan struct{})}
}

// guest is a connection that was let in.
type guest struct {
	net.Conn
	at    *door
	share []netip.Prefix // the address and the network among whose strangers it counts

	// Under the door's lock:
	left  bool
	known bool // a request with a good credential has come over it
	asks  int  // requests that are being answered
	since time.Time
	place *list.Element // among those who wait; nil: it is not there
}

// stop takes no more connections: whoever holds the socket open as well takes them. It does not end Accept, as Close does.
func (d *door) stop() error {
	d.stopped.Store(true)
	return d.Listener.Close()
}

// Close ends Accept.
func (d *door) Close() error {
	d.once.Do(func() { close(d.ended) })
	if d.stopped.Load() {
		return nil
	}
	return d.Listener.Close()
}

const fullAnswer = "HTTP/1.1 503 Service Unavailable\r\nRetry-After: 1\r\nConnection: close\r\nContent-Length: 0\r\n\r\n"

// Accept waits for the next connection that there is room for.
func (d *door) Accept() (net.Conn, error) {
	for {
		c, err := d.Listener.Accept()
		if err != nil {
			if d.stopped.Load() {
				<-d.ended
			}
			return nil, err
		}
		g := &guest{Conn: c, at: d}
		leaves, ok := d.let(g, time.Now())
		if leaves != nil {
			leaves.Close()
		}
		if ok {
			return g, nil
		}
		if d.plain {
			if err := c.SetWriteDeadline(time.Now().Add(time.Second)); err == nil {
				fmt.Fprint(c, fullAnswer) // whoever has gone needs no answer
			}
		}
		c.Close()
	}
}

// let lets a guest in, in the place of another where it must be.
func (d *door) let(g *guest, now time.Time) (leaves *guest, ok bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if from, err := netip.ParseAddrPort(g.RemoteAddr().String()); err == nil && !d.proxy(from.Addr()) {
		g.share = sharesOf(from.Addr())
	}
	full := d.open >= mostConnections || d.strangers >= mostStrangers
	var of netip.Prefix // whose share is used up
	for i, share := range g.share {
		if d.each[share] >= [...]int{mostOfAddress, mostOfNetwork}[i] {
			full, of = true, share
			break
		}
	}
	if full {
		if leaves = d.longest(of, now); leaves == nil {
			return nil, false
		}
		d.leave(leaves)
	}
	d.open++
	d.count(g, 1)
	d.wait(g, now)
	return leaves, true
}

// sharesOf are the address and the network among whose strangers somebody counts.
func sharesOf(from netip.Addr) []netip.Prefix {
	from = from.Unmap().WithZone("")
	bits := 24
	if from.Is6() {
		bits = 48
	}
	network, err := from.Prefix(bits)
	if err != nil {
		return nil // it is no address
	}
	return []netip.Prefix{netip.PrefixFrom(from, from.BitLen()), network}
}

// longest is the stranger, of a share or of any, who has said nothing for the longest time; nil: none has for long enough.
func (d *door) longest(of netip.Prefix, now time.Time) *guest {
	for e := d.waiting.Front(); e != nil; e = e.Next() {
		g := e.Value.(*guest)
		if now.Sub(g.since) < silentTime {
			return nil
		}
		if !of.IsValid() || len(g.share) > 0 && (g.share[0] == of || g.share[1] == of) {
			return g
		}
	}
	return nil
}

// count counts a guest among the strangers, or no more. The caller holds the lock, as of the functions below.
func (d *door) count(g *guest, by int) {
	d.strangers += by
	for _, share := range g.share {
		if d.each[share] += by; d.each[share] == 0 {
			delete(d.each, share)
		}
	}
}

func (d *door) wait(g *guest, now time.Time) {
	g.since = now
	g.place = d.waiting.PushBack(g)
}

func (d *door) unwait(g *guest) {
	if g.place != nil {
		d.waiting.Remove(g.place)
		g.place = nil
	}
}

// leave counts a guest out, once.
func (d *door) leave(g *guest) {
	if g.left {
		return
	}
	g.left = true
	d.open--
	if d.unwait(g); !g.known {
		d.count(g, -1)
	}
}

// Close closes the connection and makes room for another.
func (g *guest) Close() error {
	g.at.mu.Lock()
	g.at.leave(g)
	g.at.mu.Unlock()
	return g.Conn.Close()
}

// begin and end are called around each request.
func (g *guest) begin() {
	g.at.mu.Lock()
	defer g.at.mu.Unlock()
	g.asks++
	g.at.unwait(g)
}

func (g *guest) end() {
	g.at.mu.Lock()
	defer g.at.mu.Unlock()
	if g.asks--; g.asks == 0 && !g.known && !g.left {
		g.at.wait(g, time.Now())
	}
}

// guestKey finds the guest in the context of a request.
type guestKey struct{}

// guestOf is the guest behind a connection of the server.
func guestOf(c net.Conn) *guest {
	if t, ok := c.(*tls.Conn); ok {
		c = t.NetConn()
	}
	g, _ := c.(*guest)
	return g
}

// shows notes of a request whether it came with a good credential.
func shows(ctx context.Context, good bool) {
	if g, _ := ctx.Value(guestKey{}).(*guest); g != nil {
		g.at.mu.Lock()
		defer g.at.mu.Unlock()
		if g.known != good && !g.left {
			g.known = good
			g.at.count(g, map[bool]int{true: -1, false: 1}[good])
		}
	}
}

// guests has each request counted at its connection.
func guests(to http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if g, _ := r.Context().Value(guestKey{}).(*guest); g != nil {
			g.begin()
			defer g.end()
		}
		to.ServeHTTP(w, r)
	})
}
