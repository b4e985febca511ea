package daemon

import (
	"context"
	"crypto/ed25519"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
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
	lineTime    = 30 * time.Second // in which the servers of the log must answer at a start of the machine that writes
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
	sink     *reports          // of one that follows
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

// write begins to write the log, once its servers answer.
func (l *line) write(ctx context.Context, d *Daemon) error {
	carrier := replica.Bus(replica.NewRing())
	if l.bus != nil {
		carrier = l.bus
		if err := l.prepare(ctx, d); err != nil {
			return err
		}
	}
	keys, err := replica.Trust(l.key.Public().(ed25519.PublicKey))
	if err != nil {
		return err
	}
	l.carrier = carrier
	at := d.Address()
	if d.options.PublicURL != nil {
		at = d.options.PublicURL.String()
	}
	l.log, err = replica.OpenLog(ctx, replica.LogOptions{
		Bus: carrier, Signer: l.signer, Keys: keys, Local: d.store, Me: replica.Writer{Machine: l.name, URL: at}, Clock: d.options.Clock, Log: d.options.Log,
		Policy: func() (*policy.Policy, store.Revision) {
			if d.Service == nil { // it is not open yet
				return nil, store.Revision{}
			}
			st := d.Service.State()
			return st.Policy, st.Revision
		},
	})
	return err
}

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
		case <-time.After(againAfter):
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
	all.Go(func() { d.Service.KeepSettled(ctx) })
	all.Go(func() { d.Service.Tell(ctx, l.log.Know) })
	all.Go(func() { l.takeRecords(ctx, d) })
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
		Machine: l.name, Role: replica.Writes, Key: l.key.Public().(ed25519.PublicKey), Version: d.options.Version, URL: d.Address(), At: now, Started: l.begun.UTC(),
		Number: d.Service.State().Revision.Number, Asked: l.rate(d.server.Asked()), Heard: now,
	}
	if d.options.PublicURL != nil {
		out.URL = d.options.PublicURL.String()
	}
	if l.log != nil {
		out.Seq = l.log.Seq()
		return out
	}
	c := l.follower.Copy()
	out.Role, out.Epoch, out.Seq, out.Heard, out.Waiting = replica.Follows, c.Epoch, c.Seq, time.Time{}, l.sink.waiting()
	if age, known := l.follower.Age(time.Now()); known {
		out.Heard = now.Add(-age)
	}
	if p := l.follower.Problem(); p != nil {
		out.Problem, out.Problems = p.Err.Error(), p.At.UTC()
	}
	return out
}

// takeRecords takes the records of the machines that were admitted.
func (l *line) takeRecords(ctx context.Context, d *Daemon) {
	for ctx.Err() == nil {
		changed := d.Service.MachinesChanged()
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
			all.Go(func() { l.takeRecord(until, d, name, key) })
		}
		select {
		case <-ctx.Done():
		case <-changed:
		}
		stop()
		all.Wait()
	}
}

func (l *line) takeRecord(ctx context.Context, d *Daemon, name string, key []byte) {
	for ctx.Err() == nil {
		err := l.bus.Reports(ctx, name, func(text []byte) error {
			entries, err := service.ReportOf(text, name, key)
			if err != nil {
				d.options.Log.Error("a part of the record of another machine is refused", "machine", name, "error", err)
				return nil // it would come again for ever
			}
			return d.record.AddFrom(name, entries)
		})
		if err != nil && ctx.Err() == nil {
			d.options.Log.Warn("the record of another machine cannot be taken, which is tried again", "machine", name, "error", err)
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

// begins notes that all that was recorded before is about this machine alone, where nothing was handed over yet.
func (r *reports) begins() error {
	sent, err := r.record.Sent(reportsName)
	if err == nil && sent == 0 {
		sent = r.record.Last()
	}
	r.sent.Store(sent)
	return err
}

// reports are where the record of a machine that follows goes. It is a sink of the record.
type reports struct {
	line   *line
	record *audit.Record
	sent   atomic.Uint64                                           // the last entry that the servers of the log have
	send   func(ctx context.Context, id string, text []byte) error // nil: to the servers of the log
}

// waiting is how many entries of the record the servers of the log have not got.
func (r *reports) waiting() uint64 {
	last, sent := r.record.Last(), r.sent.Load()
	return last - min(sent, last)
}

// mostReport is how many entries go at once: so that they fit into what a server takes.
const mostReport = 200

// Send hands entries over, signed.
func (r *reports) Send(ctx context.Context, entries []audit.Entry) error {
	for len(entries) > 0 {
		some := entries[:min(len(entries), mostReport)]
		entries = entries[len(some):]
		list, err := json.Marshal(some)
		if err != nil {
			return err
		}
		text, err := r.line.signer.SignReport(&replica.Report{Machine: r.line.name, Entries: list})
		if err != nil {
			return err
		}
		first, last := some[0].Seq, some[len(some)-1].Seq
		id, err := fmt.Sprintf("%s-%d-%d", r.line.name, first, last), error(nil)
		if r.send != nil {
			err = r.send(ctx, id, text)
		} else {
			err = r.line.bus.Report(ctx, r.line.name, id, text)
		}
		if err != nil {
			return err
		}
		r.sent.Store(last)
	}
	return nil
}

// Lost tells that nothing is lost that the servers have taken.
func (r *reports) Lost() bool { return false }

// Settles tells that what they have taken is there.
func (r *reports) Settles() time.Duration { return 0 }

// Close leaves the connection to whoever has opened it.
func (r *reports) Close() error { return nil }

// boundedRecord is the record of a machine that follows: no more of it waits for the servers of the log than is set.
type boundedRecord struct {
	*audit.Record
	waits func() uint64
	most  uint64
	goOn  bool // answers go on without a record, and do not wait
	lost  atomic.Uint64
}

// errWaits is that no more may wait.
var errWaits = errors.New("the record of this machine is full of what could not be handed over yet")

// Add adds entries, as long as not too many wait.
func (r *boundedRecord) Add(entries ...audit.Entry) error {
	if r.waits() < r.most {
		if lost := r.lost.Swap(0); lost > 0 {
			more, err := json.Marshal(map[string]any{"what": "decisions were answered and not recorded, as too many waited to be handed over", "times": lost})
			if err != nil {
				return err
			}
			entries = append([]audit.Entry{{At: r.Clock(), Kind: audit.Service, Outcome: audit.Refused, Via: "service", More: more}}, entries...)
		}
		return r.Record.Add(entries...)
	}
	if !r.goOn {
		return errWaits
	}
	if r.lost.Add(uint64(len(entries))) == uint64(len(entries)) {
		r.Log.Error("decisions are answered and not recorded from now on", "why", errWaits)
	}
	return nil
}

// snapshots keeps the last snapshots that were asked for over HTTP, as long as no revision comes: as rows, and as a picture.
type snapshots struct {
	mu   sync.Mutex
	kept map[bool]keptSnapshot
}

type keptSnapshot struct {
	path   string
	number uint64
}

// snapshot is one of the policy as it is, without what else is known.
func (l *line) snapshot(ctx context.Context, d *Daemon, picture bool) (io.ReadSeekCloser, error) {
	s := &l.shot
	s.mu.Lock()
	defer s.mu.Unlock()
	before := s.kept[picture]
	if before.path != "" && before.number == d.Service.State().Revision.Number {
		return os.Open(before.path)
	}
	file, err := os.CreateTemp("", "sentier-snapshot-*")
	if err != nil {
		return nil, err
	}
	head, err := l.log.Snapshot(ctx, picture, false, file)
	if err == nil {
		_, err = file.Seek(0, io.SeekStart)
	}
	if err != nil {
		return nil, errors.Join(err, file.Close(), os.Remove(file.Name()))
	}
	if s.kept == nil {
		s.kept = map[bool]keptSnapshot{}
	}
	s.kept[picture] = keptSnapshot{file.Name(), head.Number}
	if before.path != "" {
		err = os.Remove(before.path)
	}
	return file, err
}

// close lets the kept ones go.
func (s *snapshots) close() error {
	s.mu.Lock()
	defer s.mu.Unlock()
	var err error
	for _, kept := range s.kept {
		err = errors.Join(err, os.Remove(kept.path))
	}
	return err
}
