package daemon

import (
	"bytes"
	"context"
	"crypto/ed25519"
	"encoding/base64"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"sentier/internal/audit"
	"sentier/internal/bus"
	"sentier/internal/policy"
	"sentier/internal/replica"
	"sentier/internal/service"
	"sentier/internal/store"
)

// Line says how the servers of the log of revisions are reached, by which several machines are one service.
type Line struct {
	URL         string // of one or several servers, with commas between; empty: this machine is alone
	Credentials string // file of a user's credentials; empty: none
	CA          string // file of the authorities that vouch for the servers, PEM; empty: those of the machine
	Certificate string // file of the certificate by which this machine is known, PEM; empty: none
	Key         string // file of its key
	Replicas    int    // on how many servers the log is kept; 0: 1
	Machine     string // name of this machine; empty: that of the host
}

// Times.
const (
	lineTime    = time.Minute // in which the servers of the log must answer at a start of the machine that writes
	statusEvery = 2 * time.Second
	statusSoon  = 200 * time.Millisecond
	writerTime  = 2 * time.Second // that a change waits at most for what it did to be told to others
	againAfter  = time.Second
)

// name is the name of this machine.
func (l *Line) name() (string, error) {
	name := l.Machine
	if name == "" {
		host, err := os.Hostname()
		if err != nil {
			return "", fmt.Errorf("find the name of this machine: %w: give one with --machine", err)
		}
		name, _, _ = strings.Cut(strings.ToLower(host), ".")
	}
	if err := replica.CheckMachine(name); err != nil {
		return "", fmt.Errorf("%w: give one with --machine", err)
	}
	return name, nil
}

// Machine tells by which name and which public key a machine is known to others.
func Machine(o Options) (name, key string, err error) {
	if name, err = o.Line.name(); err != nil {
		return "", "", err
	}
	if err := os.MkdirAll(o.Dir, 0o700); err != nil {
		return "", "", err
	}
	private, err := audit.LoadKey(filepath.Join(o.Dir, audit.KeyName))
	if err != nil {
		return "", "", err
	}
	return name, base64.StdEncoding.EncodeToString(private.Public().(ed25519.PublicKey)), nil
}

// ParseKey reads the public key of a machine.
func ParseKey(text string) (ed25519.PublicKey, error) { return audit.ParseKey(text) }

// line is a machine's connection to the others.
type line struct {
	bus    *bus.Bus // nil: this machine is alone
	said   service.Machines
	name   string
	key    ed25519.PrivateKey
	signer *replica.Signer
	begun  time.Time

	carrier  replica.Bus
	shot     snapshots
	log      *replica.Log      // of the machine that writes; nil: it follows
	follower *replica.Follower // nil: it writes
	sink     *reports          // of one that follows, or may write beside others; nil: the record is here
	standsBy *replica.Standby  // of one that stands by; nil: it does not
	shared   bool              // other machines may write as well
	copied   *copied

	asked     uint64 // at the last status
	askedAt   time.Time
	askedRate float64
}

// alone is how a machine is named that nobody has named, and whose host has no name that goes.
const alone = "sentier"

// open connects to the servers of the log, where there are any.
func (l *Line) open(o *Options) (*line, error) {
	name, err := l.name()
	if err != nil && l.URL == "" && l.Machine == "" {
		name, err = alone, nil
	}
	if err != nil {
		return nil, err
	}
	key, err := audit.LoadKey(filepath.Join(o.Dir, audit.KeyName))
	if err != nil {
		return nil, err
	}
	signer, err := replica.NewSigner(key)
	if err != nil {
		return nil, err
	}
	out := &line{name: name, key: key, signer: signer, begun: o.Clock()}
	if l.URL == "" {
		return out, nil
	}
	out.bus, err = bus.Connect(bus.Options{URL: l.URL, Credentials: l.Credentials, CA: l.CA, Certificate: l.Certificate, Key: l.Key, Name: name, Replicas: l.Replicas, Log: o.Log})
	return out, err
}

// again is the same connection, for another role of the machine.
func (l *line) again() *line {
	return &line{bus: l.bus, name: l.name, key: l.key, signer: l.signer, begun: l.begun}
}

// trusted are the keys of the machines that may write: this one, and others.
func (l *line) trusted(others ...ed25519.PublicKey) (replica.Keys, error) {
	return replica.Trust(append([]ed25519.PublicKey{l.key.Public().(ed25519.PublicKey)}, others...)...)
}

// write begins to write the log, once its servers answer. post is what this machine was until now, where it is one of several that may write; nil: it is the
// only one.
func (l *line) write(ctx context.Context, d *Daemon, post *post) error {
	carrier := replica.Bus(replica.NewRing())
	if l.bus != nil {
		carrier = l.bus
	}
	if l.bus != nil && post == nil {
		if err := l.prepare(ctx, d); err != nil {
			return err
		}
	}
	keys, err := l.trusted()
	if post != nil {
		keys = post.stood.Keys
	}
	if err != nil {
		return err
	}
	l.carrier = carrier
	o := replica.LogOptions{
		Bus: carrier, Signer: l.signer, Keys: keys, Local: d.store, Me: replica.Writer{Machine: l.name, URL: d.told()}, Clock: d.options.Clock, Log: d.options.Log,
		Policy: func() (*policy.Policy, store.Revision) {
			if d.Service == nil { // it is not open yet
				return nil, store.Revision{}
			}
			st := d.Service.State()
			return st.Policy, st.Revision
		},
	}
	if post != nil {
		o.Stood, o.Until, o.Facts, o.FactsAt = post.stood, post.lease.Until, post.had.Facts, post.had.Seq
	}
	l.log, err = replica.OpenLog(ctx, o)
	return err
}

// told is the address at which others are told that this machine answers.
func (d *Daemon) told() string {
	if d.options.PublicURL != nil {
		return d.options.PublicURL.String()
	}
	return d.Address()
}

// close ends the connection, and lets what was kept for it go.
func (l *line) close() error {
	if l.bus != nil {
		l.bus.Close()
	}
	return l.shot.close()
}

// prepare waits for the servers of the log.
func (l *line) prepare(ctx context.Context, d *Daemon) error {
	ctx, cancel := context.WithTimeout(ctx, lineTime)
	defer cancel()
	for {
		err := l.bus.Prepare(ctx)
		if err == nil {
			return nil
		}
		d.options.Log.Warn("the servers of the log of revisions do not answer yet", "error", err)
		select {
		case <-ctx.Done():
			return fmt.Errorf("the servers of the log of revisions did not answer in %s: %w", lineTime, err)
		case <-time.After(againAfter/2 + rand.N(againAfter)): // others that have failed at the same moment do not try again at the same moment
		}
	}
}

// Statuses and Forget are what the service asks of the other machines; see [service.Machines].
func (l *line) Statuses(ctx context.Context) (map[string][]byte, error) { return l.bus.Machines(ctx) }

// Put keeps how a machine says that it stands.
func (l *line) Put(ctx context.Context, name string, text []byte) error {
	return l.bus.PutMachine(ctx, name, text)
}

// Forget lets go what a machine has said.
func (l *line) Forget(ctx context.Context, name string) error { return l.bus.DropMachine(ctx, name) }

// place is how far the log goes once others have been told all that was done here.
func (l *line) place(s *service.Service) uint64 {
	ctx, cancel := context.WithTimeout(context.Background(), writerTime)
	defer cancel()
	s.ToldBy(ctx)
	return l.log.Seq()
}

// run keeps what a machine has to do with the others until ctx ends.
func (l *line) run(ctx context.Context, d *Daemon) {
	var all sync.WaitGroup
	defer all.Wait()
	all.Go(func() { l.tellStatus(ctx, d) })
	if l.standsBy != nil || l.bus != nil && l.log != nil {
		all.Go(func() { l.takeRecords(ctx, d) })
	}
	if l.log == nil {
		all.Go(func() {
			if err := l.follower.Run(ctx, d.took); err != nil {
				d.options.Log.Warn("what has come could not be closed on the disk", "error", err)
			}
		})
		return
	}
	all.Go(func() { l.log.Keep(ctx) })
	if l.bus == nil { // nobody has to know who may come in here
		return
	}
	if !l.shared {
		all.Go(func() { d.Service.KeepSettled(ctx) })
	}
	all.Go(func() { d.Service.Tell(ctx, l.log.Know) })
	all.Go(func() { l.trimRecords(ctx, d) })
}

// trimEvery is how often what every machine has taken of the records of others is let go.
const trimEvery = time.Minute

// trimRecords lets what was taken of the records of others go.
func (l *line) trimRecords(ctx context.Context, d *Daemon) {
	for ctx.Err() == nil {
		sleep(ctx, trimEvery)
		if err := l.bus.TrimReports(ctx); err != nil && ctx.Err() == nil {
			d.options.Log.Debug("what was taken of the records of other machines could not be let go", "error", err)
		}
	}
}

// tellStatus tells how this machine stands.
func (l *line) tellStatus(ctx context.Context, d *Daemon) {
	for {
		text, err := l.signer.SignStatus(l.status(d))
		if err == nil {
			limited, cancel := context.WithTimeout(ctx, statusEvery)
			err = l.said.Put(limited, l.name, text)
			cancel()
		}
		if err != nil && ctx.Err() == nil {
			d.options.Log.Debug("others could not be told how this machine stands", "error", err)
		}
		var moved <-chan struct{} // whoever looks sees at once how far a revision has come
		if l.follower != nil {
			moved = l.follower.Moved()
		}
		select {
		case <-ctx.Done():
			return
		case <-moved:
			sleep(ctx, statusSoon)
		case <-time.After(statusEvery):
		}
	}
}

// rate is how many questions a second were asked since the last status, of which there were so many in all.
func (l *line) rate(asked uint64) float64 {
	at := time.Now()
	if !l.askedAt.IsZero() && at.After(l.askedAt) {
		l.askedRate = float64(asked-l.asked) / at.Sub(l.askedAt).Seconds()
	}
	l.asked, l.askedAt = asked, at
	return l.askedRate
}

func (l *line) status(d *Daemon) *replica.Status {
	now := d.options.Clock().UTC()
	out := &replica.Status{
		Machine: l.name, Role: replica.Writes, Key: l.key.Public().(ed25519.PublicKey), Version: d.options.Version, URL: d.told(), At: now, Started: l.begun.UTC(),
		Number: d.Service.State().Revision.Number, Asked: l.rate(d.server.Asked()), Heard: now,
	}
	if l.log != nil {
		out.Seq = l.log.Seq()
		return out
	}
	c := l.follower.Copy()
	out.Role, out.Epoch, out.Seq, out.Heard, out.Waiting = replica.Follows, c.Epoch, c.Seq, time.Time{}, l.sink.waiting()
	out.Ahead = l.follower.Ahead().Seconds()
	if age, known := l.follower.Age(time.Now()); known {
		out.Heard = now.Add(-age)
	}
	p := l.follower.Problem()
	if l.standsBy != nil {
		out.Role, out.Seq, out.Number = replica.StandsBy, min(out.Seq, l.standsBy.Seq()), min(out.Number, l.standsBy.Number())
		if own := l.standsBy.Problem(); own != nil {
			p = own
		}
	}
	if p != nil {
		out.Problem, out.Problems = p.Err.Error(), p.At.UTC()
	}
	return out
}

// takeRecords takes the records of the machines that were admitted.
func (l *line) takeRecords(ctx context.Context, d *Daemon) {
	for ctx.Err() == nil {
		admitted, err := d.Service.AdmittedMachines(ctx)
		if err != nil {
			if ctx.Err() == nil {
				d.options.Log.Error("the records of other machines cannot be taken", "error", err)
			}
			sleep(ctx, againAfter)
			continue
		}
		until, stop := context.WithCancel(ctx)
		var all sync.WaitGroup
		for name, key := range admitted {
			if name != l.name {
				all.Go(func() { l.takeRecord(until, d, name, key) })
			}
		}
		for same := true; same && ctx.Err() == nil; {
			changed := d.Service.MachinesChanged()
			select {
			case <-ctx.Done():
			case <-changed:
			case <-time.After(admittedAgain): // by the machine that writes, where this one stands by
			}
			now, err := d.Service.AdmittedMachines(ctx)
			same = err != nil || maps.EqualFunc(now, admitted, bytes.Equal)
		}
		stop()
		all.Wait()
	}
}

// admittedAgain is how often it is looked whether other machines were admitted.
const admittedAgain = 5 * time.Second

func (l *line) takeRecord(ctx context.Context, d *Daemon, name string, key []byte) {
	kinds := audit.FromFollower
	if slices.ContainsFunc(d.options.Peers.keys(), func(k ed25519.PublicKey) bool { return bytes.Equal(k, key) }) {
		kinds = audit.FromWriter
	}
	for told := false; ctx.Err() == nil; {
		err := l.bus.Reports(ctx, name, l.name, func(text []byte) error {
			entries, err := service.ReportOf(text, name, key)
			if err != nil {
				d.options.Log.Error("a part of the record of another machine is refused", "machine", name, "error", err)
				return nil // it would come again for ever
			}
			told = false
			return d.record.AddFrom(name, kinds, entries)
		})
		if err != nil && ctx.Err() == nil {
			if !told {
				d.options.Log.Warn("the record of another machine cannot be taken, which is tried again", "machine", name, "error", err)
				told = true
			}
			sleep(ctx, againAfter)
		}
	}
}

func sleep(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}
