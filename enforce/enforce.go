// Package enforce decides in the process of an enforcement point: the panel, the gateway or the application in front of a device.
//
// A [Point] follows the policy of a Sentier service, over HTTP or by the servers of its log, and keeps the last good one on its disk. It answers from that
// without asking anybody, so that a question takes what the decision takes, and goes on when the line is cut: denials, lockouts and ends hold at once and
// always; what is granted holds until the answer's end, and for no longer than [Options.Lasts] after it was last known that nothing newer is there. It opens
// nothing while its clock is not to be trusted, and takes nothing that was not signed by a key that it was given.
package enforce

import (
	"context"
	"crypto/ed25519"
	"encoding/base64"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/netip"
	"os"
	"sync"
	"sync/atomic"
	"time"

	"sentier/internal/bus"
	"sentier/internal/decision"
	"sentier/internal/notifier"
	"sentier/internal/policy"
	"sentier/internal/replica"
)

// Options say whom a point follows. One of Service, NATS and Snapshot is given.
type Options struct {
	Service string       // address of the service, whose log is followed over HTTP
	Token   string       // with which it is asked: of a user with a mandate of enforcement
	Client  *http.Client // by which it is asked; nil: one that goes by no proxy

	NATS        string // servers that carry the log, with commas between
	Credentials string // file of the credentials by which they know this point; empty: none

	Snapshot string // file of a snapshot, which somebody has brought

	Keys  []string      // public keys of the machines whose word is taken, each 44 characters, as “sentier audit key” shows it
	Dir   string        // where the last good policy is kept
	Name  string        // of this point, as the servers of the log are told it
	Lasts time.Duration // for how long what is granted holds after it was last known that nothing newer is there; 0: [DefaultLasts]
	Log   *slog.Logger  // nil: nothing is told
	Clock func() time.Time
}

// DefaultLasts is for how long what is granted holds without a line.
const DefaultLasts = time.Hour

// Known is what is known of a circumstance.
type Known int8

// The values of a [Known].
const (
	Unknown Known = iota
	Yes
	No
)

// Question is who wants to do what to which device. It is not changed.
type Question struct {
	User, Right string
	Device      string
	Point       string     // of the device; empty: the device itself
	IP          netip.Addr // that the user comes from; invalid: not known
	Place       string     // id of the site at which the user is; empty: not known

	StrongSignIn, Attended Known

	At time.Time // at which it is asked; zero: now. Whether the point is current is judged now, whatever is asked.
}

// Reason says why an answer is as it is: one of the codes of the service, or one of those of a point.
type Reason string

// The reasons of a point that does not open, though the policy that it has would.
const (
	Granted    Reason = "granted"
	NotCurrent Reason = "not_current" // nothing was heard of the service for longer than [Options.Lasts]
	ClockMoved Reason = "clock_moved" // the clock of this machine has jumped, and the service has not been heard since, or it has another time
)

// Verdict is whether somebody may, and why.
type Verdict struct {
	Allowed  bool
	Reason   Reason
	Revision uint64 // of the policy
}

// Answer is a verdict with its end and its limits.
type Answer struct {
	Verdict
	At     time.Time
	Until  time.Time // the verdict may be another from then on; zero: not within 400 days
	Limits map[string]Limit
}

// Limit is what a grant sets: a number, or a list of texts.
type Limit struct {
	Number float64
	Texts  []string // nil: it is the number
}

// Standing is how a point stands.
type Standing struct {
	Revision uint64
	Since    time.Time // when it was last known that nothing newer is there, by the clock of the service; zero: never
	Closed   Reason    // why nothing is opened; empty: what is granted is
	Refused  error     // what was last refused of what came; nil: nothing

	// Ahead is by how much the clock here was ahead of that of the service when it was last heard; less than nothing: behind.
	Ahead time.Duration
}

// standing is what questions are answered from. It never changes.
type standing struct {
	compiled *decision.Compiled
	revision uint64
	closed   Reason
}

// Point is an enforcement point. It may be used from many goroutines at once.
type Point struct {
	follower *replica.Follower
	line     *bus.Bus // nil: it follows over HTTP
	clock    func() time.Time
	lasts    time.Duration

	now     atomic.Pointer[standing]
	mu      sync.Mutex // held by whoever makes the next one
	changed notifier.Notifier
	base    time.Time // the clock at the last look, and
	steady  time.Time // the one that only goes forward: by both, jumps are seen
	jumped  bool
	heard   time.Time // the writer's clock when it was last heard

	stop func()
	done chan struct{}
}

// Times.
const (
	lookEvery = 100 * time.Millisecond // at the clock
	mostJump  = 2 * time.Second        // between the wall clock and the one that only goes forward
	mostApart = time.Minute            // between the clock here and that of the service, for it to be trusted again
)

// Open begins to follow. It waits for the first policy, where the folder has none, until ctx ends. The error says what is wrong with the options, or why none
// has come.
func Open(ctx context.Context, o Options) (*Point, error) {
	p := &Point{clock: o.Clock, lasts: o.Lasts, done: make(chan struct{})}
	if p.clock == nil {
		p.clock = time.Now
	}
	if p.lasts == 0 {
		p.lasts = DefaultLasts
	}
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	keys, err := o.keys()
	if err != nil {
		return nil, err
	}
	carrier, err := p.carrier(&o)
	if err != nil {
		return nil, err
	}
	p.follower, err = replica.OpenFollower(ctx, replica.FollowerOptions{Bus: carrier, Keys: keys, Dir: o.Dir, Log: o.Log, Clock: p.clock, Newest: o.Snapshot != ""})
	if err != nil {
		p.closeLine()
		return nil, fmt.Errorf("follow the policy: %w", err)
	}
	p.base, p.steady = p.clock(), time.Now()
	c := p.follower.Copy()
	p.show(&standing{compiled: decision.Compile(c.Policy), revision: c.Revision.Number})
	p.look()
	run, stop := context.WithCancel(context.Background())
	p.stop = stop
	go p.run(run)
	return p, nil
}

func (o *Options) keys() (replica.Keys, error) {
	var out []ed25519.PublicKey
	for _, text := range o.Keys {
		key, err := base64.StdEncoding.DecodeString(text)
		if err != nil || len(key) != ed25519.PublicKeySize {
			return nil, fmt.Errorf("%q is no public key of a machine: it has 44 characters, as “sentier audit key” shows it", text)
		}
		out = append(out, key)
	}
	if len(out) == 0 {
		return nil, errors.New("no key is trusted: give that of the machine that writes, as “sentier audit key” shows it")
	}
	return replica.Trust(out...)
}

// carrier is how the log comes.
func (p *Point) carrier(o *Options) (replica.Feed, error) {
	given := 0
	for _, way := range []string{o.Service, o.NATS, o.Snapshot} {
		if way != "" {
			given++
		}
	}
	if given != 1 || o.Dir == "" {
		return nil, errors.New("give one of the service, the servers of its log, or a snapshot; and a folder in which the last good policy is kept")
	}
	if o.Snapshot != "" {
		if _, err := os.Stat(o.Snapshot); err != nil {
			return nil, err
		}
		return bus.File{Path: o.Snapshot}, nil
	}
	if o.Service != "" {
		client := o.Client
		if client == nil {
			t := http.DefaultTransport.(*http.Transport).Clone()
			t.Proxy = nil
			client = &http.Client{Transport: t}
		}
		return &bus.HTTP{Base: o.Service, Token: o.Token, Client: client}, nil
	}
	var err error
	p.line, err = bus.Connect(bus.Options{URL: o.NATS, Credentials: o.Credentials, Name: o.Name, Log: o.Log})
	return p.line, err
}

func (p *Point) closeLine() {
	if p.line != nil {
		p.line.Close()
	}
}

// Close ends the following.
func (p *Point) Close() {
	p.stop()
	<-p.done
	p.closeLine()
}

func (p *Point) run(ctx context.Context) {
	defer close(p.done)
	var looking sync.WaitGroup
	defer looking.Wait()
	looking.Go(func() {
		for ctx.Err() == nil {
			select {
			case <-ctx.Done():
			case <-time.After(lookEvery):
				p.look()
			}
		}
	})
	p.follower.Run(ctx, func(s replica.Step) { // its error is of the closing of what can be had again
		if len(s.Done) == 0 {
			return
		}
		p.mu.Lock()
		defer p.mu.Unlock()
		now := p.now.Load()
		p.show(&standing{compiled: now.compiled.Next(s.Copy.Policy, s.Done), revision: s.Copy.Revision.Number, closed: now.closed})
	})
}

func (p *Point) show(s *standing) {
	p.now.Store(s)
	p.changed.Notify()
}

// look looks at the clock, and at how long nothing was heard.
func (p *Point) look() {
	p.mu.Lock()
	defer p.mu.Unlock()
	now, closed := p.clock(), Reason("")
	steady := time.Now() // by the clock that only goes forward
	moved := now.Round(0).Sub(p.base.Round(0)) - steady.Sub(p.steady)
	p.jumped = p.jumped || moved.Abs() > mostJump
	since, known := p.follower.Since()
	if p.jumped && known && since.After(p.heard) && since.Sub(now).Abs() <= mostApart {
		p.jumped = false // the service has the same time
	}
	if !p.jumped {
		p.base, p.steady, p.heard = now, steady, since
	}
	switch {
	case p.jumped || known && since.Sub(now) > mostApart || p.follower.Ahead() > mostApart:
		closed = ClockMoved
	case !known || now.Sub(since) > p.lasts:
		closed = NotCurrent
	}
	if at := p.now.Load(); at.closed != closed {
		p.show(&standing{at.compiled, at.revision, closed})
	}
}

// question is a question as it is decided, at an instant.
func (q *Question) at(now time.Time) decision.Question {
	if !q.At.IsZero() {
		now = q.At
	}
	return decision.Question{
		User: policy.UserID(q.User), Right: policy.RightID(q.Right), Device: policy.DeviceID(q.Device), Point: policy.PointID(q.Point), At: now,
		Context: decision.Context{IP: q.IP, Place: policy.SiteID(q.Place), StrongSignIn: decision.Tri(q.StrongSignIn), Attended: decision.Tri(q.Attended)},
	}
}

// Decide tells whether somebody may, now. It asks nobody, and allocates nothing.
func (p *Point) Decide(q *Question) Verdict {
	s := p.now.Load()
	asked := q.at(p.clock())
	out := s.compiled.Decide(&asked)
	if out.Allowed && s.closed != "" {
		return Verdict{Reason: s.closed, Revision: s.revision}
	}
	return Verdict{out.Allowed, Reason(out.Reason.String()), s.revision}
}

// Ask tells whether somebody may, now, until when that holds, and within which limits. It asks nobody.
func (p *Point) Ask(q *Question) Answer {
	s := p.now.Load()
	asked := q.at(p.clock())
	a := s.compiled.Answer(asked)
	out := Answer{Verdict: Verdict{a.Allowed, Reason(a.Reason.String()), s.revision}, At: asked.At, Until: a.Until}
	if !a.Allowed {
		return out
	}
	if s.closed != "" {
		return Answer{Verdict: Verdict{Reason: s.closed, Revision: s.revision}, At: asked.At, Until: asked.At}
	}
	if since, known := p.follower.Since(); known { // by then nothing may have been heard for too long
		if end := since.Add(p.lasts); out.Until.IsZero() || end.Before(out.Until) {
			out.Until = end
		}
	}
	for name, limit := range a.Limits {
		if out.Limits == nil {
			out.Limits = map[string]Limit{}
		}
		out.Limits[name] = Limit{Number: limit.Number, Texts: limit.Texts}
	}
	return out
}

// Standing tells how the point stands.
func (p *Point) Standing() Standing {
	s := p.now.Load()
	out := Standing{Revision: s.revision, Closed: s.closed, Ahead: p.follower.Ahead()}
	if since, known := p.follower.Since(); known {
		out.Since = since
	}
	if problem := p.follower.Problem(); problem != nil {
		out.Refused = problem.Err
	}
	return out
}

// Changed is closed when another policy has come, or the point stands otherwise: what was answered before may be answered otherwise now.
func (p *Point) Changed() <-chan struct{} { return p.changed.Wait() }
