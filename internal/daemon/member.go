package daemon

import (
	"context"
	"crypto/ed25519"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"sentier/internal/bus"
	"sentier/internal/policy"
	"sentier/internal/replica"
	"sentier/internal/server"
	"sentier/internal/store"
)

// Peers says how a machine is one of several that may write.
type Peers struct {
	Keys       []ed25519.PublicKey // of the others
	SealingKey string              // file of the key that they share, by which is sealed what nobody else has to know
	WriterCA   string              // file of the authorities that vouch for them, PEM; empty: those of the machine
}

// keys are those of the others.
func (p *Peers) keys() []ed25519.PublicKey {
	if p == nil {
		return nil
	}
	return p.Keys
}

// Times of a machine that may write.
const (
	leaseAsk     = 300 * time.Millisecond // between tries to take the lease
	lostAgain    = 10 * time.Second       // after it could not take over
	leaveTime    = 3 * time.Second        // in which it gives the lease up
	mostPeerWait = 1_000_000              // entries of the record that wait to be handed over
)

// Member is a machine that is one of several that may write: it writes while it holds the lease, and stands by while another does.
type Member struct {
	files *Daemon // what is the same whatever it does: the files, the address, the line
	front *server.Front
	now   atomic.Pointer[Daemon] // as what it answers
	post  *post
	end   func() // ends what is done beside answering, and waits
}

// post is what a machine is among those that may write.
type post struct {
	stood *replica.Standby
	lease *bus.Lease // nil: it stands by
	name  string

	over chan handing // by whoever hands the lease over
	had  replica.Copy // what it has answered from while it stood by; nothing: it did not
}

// handing is that another machine is to write.
type handing struct {
	to   string
	done chan error
}

// handOver has another machine write, and returns when this one writes no more.
func (p *post) handOver(ctx context.Context, machine string) error {
	h := handing{machine, make(chan error, 1)}
	select {
	case p.over <- h:
	case <-ctx.Done():
		return ctx.Err()
	}
	select {
	case err := <-h.done:
		return err
	case <-ctx.Done():
		return ctx.Err()
	}
}

// preloaded is a store whose policy is known already.
type preloaded struct {
	*store.Store
	policy *policy.Policy
	of     store.Revision
}

// Load is the policy, where the store has gone no further.
func (p *preloaded) Load(ctx context.Context) (*policy.Policy, store.Revision, error) {
	last, err := p.LastRevision(ctx)
	if err == nil && p.policy != nil && last == p.of.Number {
		return p.policy, p.of, nil
	}
	return p.Store.Load(ctx)
}

func (p *post) loaded(st *store.Store) replica.Kept {
	return &preloaded{st, p.had.Policy, p.had.Revision}
}

// OpenMember opens the store and takes the address, and answers nothing yet: it writes where nobody else does, and else stands by. Nothing is left open
// where it fails.
func OpenMember(ctx context.Context, o Options) (*Member, error) {
	if o.Clock == nil {
		o.Clock = time.Now
	}
	st, err := openStore(ctx, o)
	if err != nil {
		return nil, err
	}
	m := &Member{files: newDaemon(st, o), front: &server.Front{}, end: func() {}}
	if err := m.open(ctx); err != nil {
		return nil, errors.Join(err, m.files.Close())
	}
	return m, nil
}

func (m *Member) open(ctx context.Context) error {
	d := m.files
	if err := d.openFiles(ctx); err != nil {
		return err
	}
	var err error
	if d.line, err = d.options.Line.open(&d.options); err != nil {
		return err
	}
	d.line.sink = &reports{line: d.line, record: d.record}
	box, err := replica.LoadBox(d.options.Peers.SealingKey)
	if err != nil {
		return err
	}
	keys, err := d.line.trusted(d.options.Peers.Keys...)
	if err != nil {
		return err
	}
	if err := d.line.prepare(ctx, d); err != nil {
		return err
	}
	stood, err := replica.OpenStandby(ctx, replica.StandbyOptions{Feed: d.line.bus, Keys: keys, Box: box, Own: d.store, Log: d.options.Log})
	if err != nil {
		return err
	}
	m.post = &post{stood: stood, name: d.line.name, over: make(chan handing)}
	for end := time.Now().Add(lineTime); ; {
		took, err := m.tryToWrite(ctx)
		if err == nil && !took {
			err = m.standBy(ctx)
		}
		if err == nil || ctx.Err() != nil || time.Now().After(end) || replica.CannotGoOn(err) {
			return err
		}
		d.options.Log.Warn("this machine can neither write nor stand by yet", "error", err) // the servers elect a leader, or nobody has written yet
		sleep(ctx, againAfter)
	}
}

// Address is where the machine answers, as a URL.
func (m *Member) Address() string { return m.files.Address() }

// Now is as what the machine answers.
func (m *Member) Now() *Daemon { return m.now.Load() }

// Writes tells whether the machine writes now.
func (m *Member) Writes() bool { return m.now.Load().options.Following == nil }

// Close gives up what OpenMember took. It is for a machine that does not run.
func (m *Member) Close() error { return errors.Join(m.leave(), m.files.Close()) }

// Run answers until ctx ends.
func (m *Member) Run(ctx context.Context) error {
	return m.files.run(ctx, m.front, func() { m.now.Load().server.ReadCertificate() }, m.work)
}

// as is this machine, with the same files, as one that does something else from now on.
func (m *Member) as(following *Following) *Daemon {
	d := *m.files
	d.options.Following = following
	sink := d.line.sink
	d.line = d.line.again()
	d.line.sink, d.line.shared = sink, true
	d.post = m.post
	return &d
}

// answers has the machine answer as something from now on. What was done beside until now ends.
func (m *Member) answers(d *Daemon) {
	before := m.now.Swap(d)
	m.front.Put(d.server)
	if before != nil {
		d.options.Log.Info("this machine goes on", "writes", d.options.Following == nil, "revision", d.Service.State().Revision.Number)
	}
}

// tryToWrite has the machine write, where it gets the lease. It is false where another holds it.
func (m *Member) tryToWrite(ctx context.Context) (bool, error) {
	lease, err := m.files.line.bus.TakeLease(ctx, m.post.name)
	if errors.Is(err, bus.ErrHeld) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	m.post.lease = lease
	if before := m.now.Load(); before != nil {
		m.post.had = *before.line.follower.Copy()
	}
	d := m.as(nil)
	kept, stop := context.WithCancel(ctx)
	ended := make(chan error, 1)
	go func() { ended <- lease.Keep(kept) }()
	err = d.answer(ctx)
	stop()
	if lost := <-ended; err == nil && lost != nil {
		err = lost
	}
	m.post.had = replica.Copy{}
	if err != nil {
		m.files.store.Logged(nil)
		return false, errors.Join(err, m.leave())
	}
	if err := d.Service.Join(ctx, d.line.key.Public().(ed25519.PublicKey)); err != nil {
		return false, errors.Join(err, m.leave())
	}
	m.answers(d)
	return true, nil
}

// leave gives the lease up, where the machine has it.
func (m *Member) leave() error {
	if m.post == nil || m.post.lease == nil {
		return nil
	}
	lease := m.post.lease
	m.post.lease = nil
	ctx, cancel := context.WithTimeout(context.Background(), leaveTime)
	defer cancel()
	return lease.GiveUp(ctx, "")
}

// standBy has the machine follow the one that writes, from what its folder has.
func (m *Member) standBy(ctx context.Context) error {
	p := m.files.options.Peers
	d := m.as(&Following{Keys: append([]ed25519.PublicKey{m.files.line.key.Public().(ed25519.PublicKey)}, p.Keys...), WriterCA: p.WriterCA, Most: mostPeerWait})
	if err := d.answer(ctx); err != nil {
		return err
	}
	m.answers(d)
	return nil
}

// work does what there is to do beside answering, until ctx ends.
func (m *Member) work(ctx context.Context) {
	for ctx.Err() == nil {
		d := m.now.Load()
		own, stop := context.WithCancel(context.WithoutCancel(ctx)) // the log is left before the rest ends
		var all sync.WaitGroup
		all.Go(func() { d.work(own) })
		end := func() {
			stop()
			all.Wait()
			if err := d.line.shot.close(); err != nil {
				d.options.Log.Warn("something that was kept for other machines could not be let go", "error", err)
			}
		}
		if d.options.Following == nil {
			m.whileWriting(ctx, d, end)
		} else {
			m.whileStandingBy(ctx, end)
		}
	}
}

// whileWriting holds the lease until ctx ends or it is lost or handed over, and then has the machine stand by.
func (m *Member) whileWriting(ctx context.Context, d *Daemon, end func()) {
	log, lease := d.line.log, m.post.lease
	holding, stop := context.WithCancel(ctx)
	lost := make(chan error, 1)
	var keeping sync.WaitGroup
	keeping.Go(func() { lost <- lease.Keep(holding) })
	over := handing{done: make(chan error, 1)}
	why := m.untilOver(ctx, log, lost, &over)
	log.Retire()
	m.files.store.Logged(nil)
	stop()
	left := make(chan error, 1)
	go func() {
		limited, cancel := context.WithTimeout(context.Background(), leaveTime)
		defer cancel()
		keeping.Wait()
		left <- lease.GiveUp(limited, over.to)
	}()
	if why != nil {
		d.options.Log.Warn("this machine writes no more, and stands by", "why", why)
	}
	renewed := time.Since(lease.Renewed())
	m.post.lease = nil
	if ctx.Err() != nil {
		if err := <-left; err != nil {
			d.options.Log.Warn("the lease could not be given up, and ends by itself", "error", err)
		}
		end()
		return
	}
	err := <-left
	if over.to == "" {
		err = nil // it ends by itself
	}
	over.done <- err
	m.stepDown(ctx, d, renewed, end)
}

// untilOver waits until the machine can write no more. The error says why; nil: another is to.
func (m *Member) untilOver(ctx context.Context, log *replica.Log, lost <-chan error, over *handing) error {
	look := time.NewTicker(leaseAsk)
	defer look.Stop()
	for {
		select {
		case <-ctx.Done():
			return nil
		case err := <-lost:
			return fmt.Errorf("the lease is lost: %w", err)
		case *over = <-m.post.over:
			return nil
		case <-look.C:
			if log.Lost() {
				return fmt.Errorf("%w", replica.ErrUnknown)
			}
		}
	}
}

// stepDown has the machine that wrote follow from where it is. Until it can, it answers as it did, and changes nothing.
func (m *Member) stepDown(ctx context.Context, d *Daemon, since time.Duration, end func()) {
	for {
		err := d.line.log.Leave(ctx, d.options.Dir, d.options.Clock().Add(-since))
		if err == nil {
			err = m.post.stood.Again(ctx)
		}
		if err == nil {
			err = m.standBy(ctx)
		}
		if err == nil || ctx.Err() != nil {
			break
		}
		d.options.Log.Error("this machine cannot stand by yet, which is tried again", "error", err)
		sleep(ctx, againAfter)
	}
	end()
}

// whileStandingBy follows the log, and takes the lease when it is free, until ctx ends or the machine writes.
func (m *Member) whileStandingBy(ctx context.Context, end func()) {
	defer end()
	for ctx.Err() == nil {
		following, stop := context.WithCancel(ctx)
		var all sync.WaitGroup
		all.Go(func() { m.post.stood.Run(following) })
		m.awaitLease(ctx)
		stop()
		all.Wait()
		if ctx.Err() != nil {
			return
		}
		took, err := m.tryToWrite(ctx)
		if took {
			return
		}
		if err != nil && ctx.Err() == nil {
			m.files.options.Log.Error("this machine could not take over", "error", err)
			wait := againAfter // in which others that can may
			if replica.CannotGoOn(err) {
				m.post.stood.Refuse(err)
				wait = lostAgain
			}
			m.standFor(ctx, wait)
		}
	}
}

// standFor follows for a while, without trying to write: others may.
func (m *Member) standFor(ctx context.Context, d time.Duration) {
	limited, stop := context.WithTimeout(ctx, d)
	defer stop()
	m.post.stood.Run(limited)
}

// awaitLease waits until the lease is free, or was given up for this machine.
func (m *Member) awaitLease(ctx context.Context) {
	for ctx.Err() == nil {
		limited, cancel := context.WithTimeout(ctx, againAfter)
		h, err := m.files.line.bus.Holder(limited)
		cancel()
		if err == nil && h.Machine == "" && (h.Next == "" || h.Next == m.post.name) {
			return
		}
		sleep(ctx, leaseAsk)
	}
}
