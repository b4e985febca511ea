package audit

import (
	"bufio"
	"bytes"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"fmt"
	"io"
	"math/big"
	"net"
	"os"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"
)

// authority makes a certificate for 127.0.0.1, and the pool that knows it.
func authority(t *testing.T) (tls.Certificate, *x509.CertPool) {
	t.Helper()
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	template := x509.Certificate{SerialNumber: big.NewInt(1), NotAfter: time.Now().Add(time.Hour), IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}}
	der, err := x509.CreateCertificate(rand.Reader, &template, &template, &key.PublicKey, key)
	if err != nil {
		t.Fatal(err)
	}
	leaf, err := x509.ParseCertificate(der)
	if err != nil {
		t.Fatal(err)
	}
	pool := x509.NewCertPool()
	pool.AddCert(leaf)
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}, pool
}

// collector is a syslog server that keeps what it is sent, and breaks connections off.
type collector struct {
	mu   sync.Mutex
	got  map[int]string
	open []net.Conn
}

// serve takes connections until the listener ends, by the framing of RFC 5425.
func (c *collector) serve(t *testing.T, l net.Listener) {
	for {
		conn, err := l.Accept()
		if err != nil {
			return
		}
		c.mu.Lock()
		c.open = append(c.open, conn)
		c.mu.Unlock()
		go func() {
			in := bufio.NewReader(conn)
			for {
				length, err := in.ReadString(' ')
				if err != nil {
					return
				}
				n, err := strconv.Atoi(strings.TrimSpace(length))
				if err != nil {
					t.Errorf("a frame begins with %q", length)
					return
				}
				message := make([]byte, n)
				if _, err := io.ReadFull(in, message); err != nil {
					return
				}
				m := form5424.FindStringSubmatch(string(message))
				if m == nil {
					t.Errorf("no message of RFC 5424: %s", message)
					continue
				}
				var e struct{ Entry int }
				if err := json.Unmarshal([]byte(m[4]), &e); err != nil {
					t.Errorf("%v in %s", err, message)
				}
				c.mu.Lock()
				c.got[e.Entry] = string(message)
				c.mu.Unlock()
			}
		}()
	}
}

// form5424 is the form of RFC 5424, 6: header, structured data, message.
var form5424 = regexp.MustCompile(`^<(\d{1,3})>1 \d{4}-\d\d-\d\dT\d\d:\d\d:\d\d\.\d{6}Z [!-~]{1,255} sentier \d+ ([!-~]{1,32}) (\[audit@32473(?: [a-z]+="(?:[^"\\\]]|\\["\\\]])*")*\]) (.*)$`)

func (c *collector) has() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return len(c.got)
}

// TestTheRecordLeavesTheHouse over TLS, by messages of RFC 5424: connections that break, and a server that is not there for a while, lose nothing.
func TestTheRecordLeavesTheHouse(t *testing.T) {
	t.Parallel()
	r := opened(t, t.TempDir())
	defer r.Close()
	certificate, pool := authority(t)
	l, err := tls.Listen("tcp", "127.0.0.1:0", &tls.Config{Certificates: []tls.Certificate{certificate}})
	if err != nil {
		t.Fatal(err)
	}
	c := &collector{got: map[int]string{}}
	go c.serve(t, l)
	ctx, stop := context.WithCancel(context.Background())
	ended := make(chan error, 1)
	sink := &Syslog{Address: l.Addr().String(), TLS: &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}}
	// One that was there before is not sent: a server that is new has what comes from now on.
	if err := r.Add(Entry{At: began, Kind: Service, Outcome: Made}); err != nil {
		t.Fatal(err)
	}
	began := r.Last()
	go func() { ended <- r.Forward(ctx, "syslog", sink) }()
	waitFor(t, "the place is kept", func() bool {
		text, err := fact(r.reader, factSent+"syslog")
		return err == nil && text == fmt.Sprint(began)
	})
	awkward := Entry{At: r.Clock(), Kind: Refusal, Outcome: Refused, By: `o"neill]\`, User: "naïve\nname", From: "::1", More: json.RawMessage(`{"what":"a \"quoted\" thing]"}`)}
	for round := range 6 {
		for range 40 {
			if err := r.Add(awkward); err != nil {
				t.Fatal(err)
			}
		}
		switch round {
		case 1, 3: // broken off in the middle, unread data and all
			c.mu.Lock()
			for _, conn := range c.open {
				conn.Close()
			}
			c.open = nil
			c.mu.Unlock()
		}
	}
	waitFor(t, "all is there", func() bool { return c.has() == 240 })
	if m := c.got[int(began)+1]; !strings.Contains(m, `<108>1 `) || !strings.Contains(m, ` refusal [audit@32473 entry="2" outcome="refused" by="o\"neill\]\\" from="::1" user="naïve`) {
		t.Errorf("an entry is sent as %s", m)
	}
	waitFor(t, "it is known that all is there", func() bool {
		text, err := fact(r.reader, factSent+"syslog")
		return err == nil && text == fmt.Sprint(r.Last())
	})
	stop()
	if err := <-ended; err != nil {
		t.Error(err)
	}

	// Another start goes on where this one ended; a server of another authority is told nothing.
	if err := r.Add(awkward); err != nil {
		t.Fatal(err)
	}
	if err := (&Syslog{Address: l.Addr().String(), TLS: &tls.Config{MinVersion: tls.VersionTLS12}}).Send(context.Background(), []Entry{awkward}); err == nil {
		t.Error("a server that nobody knows is told of the record")
	}
	var lines bytes.Buffer
	ctx, stop = context.WithCancel(context.Background())
	go func() { ended <- r.Forward(ctx, "syslog", Lines{&lines}) }()
	waitFor(t, "the next is sent", func() bool {
		text, err := fact(r.reader, factSent+"syslog")
		return err == nil && text == fmt.Sprint(r.Last())
	})
	stop()
	if err := <-ended; err != nil || strings.Count(lines.String(), "\n") != 1 || !strings.Contains(lines.String(), fmt.Sprintf(`"entry":%d,`, r.Last())) {
		t.Errorf("%v: %s", err, lines.String())
	}
}

// waitFor waits until something is so, for half a minute at most.
func waitFor(t *testing.T, what string, so func() bool) {
	t.Helper()
	for range 600 {
		if so() {
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
	t.Fatalf("%s: it never came to be", what)
}

// TestAConnectionThatBreaksUnseen between the look and the next message: what was sent before it broke may be lost, and that is told after, though there is a new connection.
func TestAConnectionThatBreaksUnseen(t *testing.T) {
	t.Parallel()
	certificate, pool := authority(t)
	l, err := tls.Listen("tcp", "127.0.0.1:0", &tls.Config{Certificates: []tls.Certificate{certificate}})
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	conns := make(chan net.Conn, 2)
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			go func() { _ = conn.(*tls.Conn).Handshake(); conns <- conn }()
		}
	}()
	s := &Syslog{Address: l.Addr().String(), TLS: &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}}
	defer s.Close()
	send := func() {
		t.Helper()
		if err := s.Send(t.Context(), []Entry{{At: began, Kind: Service, Outcome: Made}}); err != nil {
			t.Fatal(err)
		}
	}
	send()
	if s.Lost() {
		t.Fatal("nothing is lost yet")
	}
	(<-conns).Close()
	waitFor(t, "the end of the connection is seen", s.ended)
	send() // over a new connection
	if !s.Lost() {
		t.Error("what was sent over the connection that broke is taken for arrived")
	}
	if s.Lost() {
		t.Error("it is told twice")
	}
}

// TestWhatARecordHasInCommonIsNotTakenOver: a machine that began with a backup of another has what that one recorded until then, and takes what came after it.
func TestWhatARecordHasInCommonIsNotTakenOver(t *testing.T) {
	dir, other := t.TempDir(), t.TempDir()
	r := opened(t, dir)
	add := func(r *Record, user string) {
		t.Helper()
		if err := r.Add(Entry{Kind: Decision, Outcome: Granted, User: user, Device: "mill-bridge", Revision: 1}); err != nil {
			t.Fatal(err)
		}
	}
	add(r, "tomas.field")
	add(r, "noor.haddad")
	if err := r.Close(); err != nil {
		t.Fatal(err)
	}
	if err := os.CopyFS(other, os.DirFS(dir)); err != nil {
		t.Fatal(err)
	}
	r, copied := opened(t, dir), opened(t, other)
	common := r.Last()
	add(r, "asha.raman")
	add(copied, "clara.fontes") // the same place, and something else
	var all []Entry
	if err := r.Each(t.Context(), Filter{}, func(e *Entry) error { all = append(all, *e); return nil }); err != nil {
		t.Fatal(err)
	}
	before := copied.Last()
	for _, some := range [][]Entry{all[:1], all[1:], all} { // and again
		if err := copied.AddFrom("control-room", FromWriter, some); err != nil {
			t.Fatal(err)
		}
	}
	var taken []string
	err := copied.Each(t.Context(), Filter{After: before}, func(e *Entry) error {
		if e.Taken() {
			taken = append(taken, e.User)
		}
		return nil
	})
	if err != nil || !slices.Equal(taken, []string{"asha.raman"}) {
		t.Errorf("taken over, of %d in common: %v %v", common, taken, err)
	}
}
