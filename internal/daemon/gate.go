package daemon

import (
	"context"
	"crypto/ed25519"
	"crypto/sha256"
	"crypto/tls"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"os"
	"strings"
	"sync"
	"time"

	"sentier/enforce"
	"sentier/internal/audit"
	"sentier/internal/bus"
	"sentier/internal/gate"
	"sentier/internal/identity"
	"sentier/internal/replica"
	"sentier/internal/wire"
)

// ParseMQTT reads how a gate is asked by MQTT: the address of the broker, and the topic.
func ParseMQTT(broker, topic, password, ca string) (*gate.MQTT, error) {
	at, err := url.Parse(broker)
	if err != nil || at.Host == "" || at.Scheme != "mqtt" && at.Scheme != "mqtts" {
		return nil, fmt.Errorf("%q is no address of a broker: write mqtts://user@broker.example:8883, or mqtt://127.0.0.1:1883 on the same machine", broker)
	}
	if host := net.ParseIP(at.Hostname()); at.Scheme == "mqtt" && (host == nil || !host.IsLoopback()) && at.Hostname() != "localhost" {
		return nil, fmt.Errorf("%s is on another machine: write mqtts, so that nobody on the way reads the secret of the gate", at.Host)
	}
	if err := gate.CheckTopic(topic); err != nil {
		return nil, err
	}
	out := &gate.MQTT{User: at.User.Username(), Password: password, Topic: topic, TLS: &tls.Config{MinVersion: tls.VersionTLS12}}
	if ca != "" {
		if out.TLS.RootCAs, err = authorities(ca, "the broker"); err != nil {
			return nil, err
		}
	}
	at.User = nil
	out.Broker = at
	return out, nil
}

// NewSecret makes a secret of 256 random bits after a prefix, and its SHA-256.
func NewSecret(prefix string) (secret string, hash []byte) { return identity.NewSecret(prefix) }

// GateOptions say how a gate is run.
type GateOptions struct {
	Enforce enforce.Options
	Listen  string
	Hash    [sha256.Size]byte // of the secret that whoever asks sends
	Machine string            // name of the gate among the machines; empty: that of the host
	Version string
	Most    uint64     // decisions that wait at most to be handed over to the one record
	GoOn    bool       // with that many, answers go on without a record, and do not wait
	MQTT    *gate.MQTT // how it is asked by MQTT 5 as well; nil: it is not
	Log     *slog.Logger
}

// Gate is a gate that is ready to answer.
type Gate struct {
	options  GateOptions
	point    *enforce.Point
	gate     *gate.Gate
	listener net.Listener
	record   *audit.Record
	bounded  *boundedRecord
	sink     *reports
	tell     func(ctx context.Context, status []byte) error
	line     *line
}

// OpenGate begins to follow the policy, and takes the address.
func OpenGate(ctx context.Context, o GateOptions) (g *Gate, err error) {
	g = &Gate{options: o}
	defer func() {
		if err != nil {
			err = errors.Join(err, g.close())
		}
	}()
	if o.Enforce.Clock == nil {
		o.Enforce.Clock = time.Now
	}
	if err := os.MkdirAll(o.Enforce.Dir, 0o700); err != nil {
		return g, err
	}
	config := Options{Dir: o.Enforce.Dir, Clock: o.Enforce.Clock, Log: o.Log, Version: o.Version}
	if g.line, err = (&Line{Machine: o.Machine, URL: o.Enforce.NATS, Credentials: o.Enforce.Credentials}).open(&config); err != nil {
		return g, err
	}
	o.Enforce.Name = g.line.name
	if g.listener, err = net.Listen("tcp", o.Listen); err != nil {
		return g, fmt.Errorf("listen on %s: %w: stop what uses the address, or give another with --listen", o.Listen, err)
	}
	if g.record, err = audit.Open(ctx, audit.Options{Dir: o.Enforce.Dir, Clock: o.Enforce.Clock, Log: o.Log, Key: g.line.key, Room: func() error { return nil }}); err != nil {
		return g, err
	}
	if err := g.reporting(&o); err != nil {
		return g, err
	}
	if g.point, err = enforce.Open(ctx, o.Enforce); err != nil {
		return g, err
	}
	g.gate = gate.New(gate.Options{Point: g.point, Hash: o.Hash, Record: g.decided, Clock: o.Enforce.Clock, Log: o.Log})
	return g, nil
}

// reporting lays ready how what is recorded goes into the one record.
func (g *Gate) reporting(o *GateOptions) error {
	g.sink = &reports{line: g.line, record: g.record}
	if err := g.sink.begins(); err != nil {
		return err
	}
	g.bounded = &boundedRecord{Record: g.record, waits: g.sink.waiting, most: o.Most, goOn: o.GoOn}
	switch {
	case o.Enforce.Service != "":
		to := &bus.HTTP{Base: o.Enforce.Service, Token: o.Enforce.Token, Client: o.Enforce.Client}
		if to.Client == nil {
			to.Client = &http.Client{Transport: &http.Transport{Proxy: nil}, Timeout: 30 * time.Second}
		}
		post := func(ctx context.Context, what string, text []byte) error {
			body, err := json.Marshal(wire.Signed{Signed: string(text)})
			if err != nil {
				return err
			}
			return to.Post(ctx, "/api/v1/machines/"+g.line.name+"/"+what, body)
		}
		g.sink.send = func(ctx context.Context, _ string, text []byte) error { return post(ctx, "record", text) }
		g.tell = func(ctx context.Context, status []byte) error { return post(ctx, "status", status) }
	case o.Enforce.NATS != "":
		g.tell = func(ctx context.Context, status []byte) error { return g.line.bus.PutMachine(ctx, g.line.name, status) }
	default: // a snapshot that somebody has brought: nobody hears of it
		g.bounded.goOn, g.bounded.most = false, ^uint64(0)
	}
	return nil
}

// decided records a decision.
func (g *Gate) decided(q *enforce.Question, a *enforce.Answer, from string) error {
	e := audit.Entry{At: a.At, Kind: audit.Decision, Outcome: string(a.Reason), Via: "gate", From: from, User: q.User, Right: q.Right, Device: q.Device, Point: q.Point, Revision: a.Revision}
	return g.bounded.Add(e)
}

// Address is where the gate answers, as a URL.
func (g *Gate) Address() string { return "http://" + g.listener.Addr().String() }

// Machine tells by which name and which public key the gate is known to others.
func (g *Gate) Machine() (name, key string) {
	return g.line.name, base64.StdEncoding.EncodeToString(g.line.key.Public().(ed25519.PublicKey))
}

// Standing tells how the gate stands.
func (g *Gate) Standing() enforce.Standing { return g.point.Standing() }

// Run answers until ctx ends.
func (g *Gate) Run(ctx context.Context) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	var all sync.WaitGroup
	if g.tell != nil {
		all.Go(func() { g.tellStatus(ctx) })
		all.Go(func() {
			if err := g.record.Forward(ctx, reportsName, g.sink); err != nil && ctx.Err() == nil {
				g.options.Log.Error("the record is not handed over any more", "error", err)
			}
		})
	}
	all.Go(func() { g.record.Keep(ctx, func() time.Duration { return gateKeeps }) })
	if m := g.options.MQTT; m != nil {
		m.Name = g.line.name
		all.Go(func() {
			if err := g.gate.ServeMQTT(ctx, *m); err != nil && ctx.Err() == nil {
				g.options.Log.Error("the gate is not asked by MQTT any more", "error", err)
			}
		})
	}
	err := g.gate.Serve(ctx, g.listener)
	cancel()
	all.Wait()
	return errors.Join(err, g.close())
}

// gateKeeps is for how long a gate keeps what it has recorded itself.
const gateKeeps = 90 * 24 * time.Hour

func (g *Gate) close() error {
	var err error
	if g.point != nil {
		g.point.Close()
	}
	if g.record != nil {
		err = g.record.Close()
	}
	if g.line != nil {
		err = errors.Join(err, g.line.close())
	}
	if g.gate == nil && g.listener != nil {
		err = errors.Join(err, g.listener.Close())
	}
	return err
}

func (g *Gate) tellStatus(ctx context.Context) {
	l := g.line
	for {
		s := g.point.Standing()
		now := g.options.clock().UTC()
		out := &replica.Status{
			Machine: l.name, Role: replica.Gates, Key: l.key.Public().(ed25519.PublicKey), Version: g.options.Version, URL: g.Address(), At: now, Started: l.begun.UTC(),
			Number: s.Revision, Heard: s.Since, Ahead: s.Ahead.Seconds(), Waiting: g.sink.waiting(), Asked: l.rate(g.gate.Asked()),
		}
		if s.Closed != "" {
			out.Problem = "it opens nothing: " + strings.ReplaceAll(string(s.Closed), "_", " ")
		} else if s.Refused != nil {
			out.Problem = s.Refused.Error()
		}
		text, err := l.signer.SignStatus(out)
		if err == nil {
			limited, cancel := context.WithTimeout(ctx, statusEvery)
			err = g.tell(limited, text)
			cancel()
		}
		if err != nil && ctx.Err() == nil {
			g.options.Log.Debug("nobody could be told how this gate stands", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(statusEvery):
		}
	}
}

func (o *GateOptions) clock() time.Time {
	if o.Enforce.Clock == nil {
		return time.Now()
	}
	return o.Enforce.Clock()
}
