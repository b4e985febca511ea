// Package logserver runs servers of the log of revisions in the process of whoever needs them for a while: NATS with JetStream, for the demonstration of
// several machines, and for what is measured and tested.
package logserver

import (
	"errors"
	"fmt"
	"net"
	"net/url"
	"strconv"
	"time"

	"github.com/nats-io/nats-server/v2/server"
)

// Options say how a server runs.
type Options struct {
	Dir     string // of its files
	Host    string // empty: this machine alone
	Port    int    // 0: any that is free
	Secret  string // without which nobody is let in; empty: everybody of the machine is
	Name    string // among those of a cluster; empty: it is alone
	Cluster string // host:port at which the others of the cluster reach it
	Routes  []string
}

// clusterName is the name of the cluster.
const clusterName = "larkmere"

// readyTime is how long a server has to begin.
const readyTime = 20 * time.Second

// Server is a server of the log that runs.
type Server struct {
	server *server.Server
	secret string
}

// Start starts a server. In a cluster it answers once most of the others do.
func Start(o Options) (*Server, error) {
	if o.Host == "" {
		o.Host = "127.0.0.1"
	}
	if o.Port == 0 {
		o.Port = server.RANDOM_PORT
	}
	in := &server.Options{Host: o.Host, Port: o.Port, JetStream: true, StoreDir: o.Dir, NoSigs: true, NoLog: true, Authorization: o.Secret}
	if o.Name != "" {
		host, port, err := net.SplitHostPort(o.Cluster)
		if err != nil {
			return nil, fmt.Errorf("a server of the log: %w", err)
		}
		in.ServerName, in.Cluster = o.Name, server.ClusterOpts{Name: clusterName, Host: host, NoAdvertise: true}
		var known *url.Userinfo // by which the servers know each other; nil: by nothing
		if o.Secret != "" {
			known, in.Cluster.Username, in.Cluster.Password = url.UserPassword(clusterName, o.Secret), clusterName, o.Secret
		}
		if in.Cluster.Port, err = strconv.Atoi(port); err != nil {
			return nil, fmt.Errorf("a server of the log: %w", err)
		}
		for _, at := range o.Routes {
			in.Routes = append(in.Routes, &url.URL{Scheme: "nats", Host: at, User: known})
		}
	}
	s, err := server.NewServer(in)
	if err != nil {
		return nil, fmt.Errorf("a server of the log: %w", err)
	}
	s.Start()
	if !s.ReadyForConnections(readyTime) {
		s.Shutdown()
		return nil, errors.New("a server of the log does not answer: is its port taken?")
	}
	return &Server{s, o.Secret}, nil
}

// URL is where the server answers, with its secret.
func (s *Server) URL() string {
	at := url.URL{Scheme: "nats", Host: s.server.Addr().String()}
	if s.secret != "" {
		at.User = url.User(s.secret)
	}
	return at.String()
}

// Port is the port at which the server answers.
func (s *Server) Port() int { return s.server.Addr().(*net.TCPAddr).Port }

// FreeAddresses are addresses of this machine, host:port, at which nobody answers now: they are told others before somebody answers there.
func FreeAddresses(count int) ([]string, error) {
	var out []string
	for range count {
		listener, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return nil, err
		}
		defer listener.Close() // no earlier: no two are the same
		out = append(out, listener.Addr().String())
	}
	return out, nil
}

// Stop ends the server, and waits.
func (s *Server) Stop() {
	s.server.Shutdown()
	s.server.WaitForShutdown()
}
