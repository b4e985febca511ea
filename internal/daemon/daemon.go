// Package daemon puts a store, a service and a server together into one running process.
package daemon

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"net/netip"
	"net/url"
	"os"
	"os/signal"
	"path/filepath"
	"sync"
	"syscall"
	"time"

	"sentier/internal/audit"
	"sentier/internal/mail"
	"sentier/internal/policy"
	"sentier/internal/replica"
	"sentier/internal/server"
	"sentier/internal/service"
	"sentier/internal/store"
	"sentier/internal/wire"
)

// Options say what to run.
type Options struct {
	Dir              string         // of the database
	Listen           string         // address
	Socket           net.Listener   // that was passed to this process, see [Passed]; nil: it listens at Listen
	Certificate, Key string         // PEM files; empty: no TLS
	PublicURL        *url.URL       // how clients reach it; nil: where it listens
	Trusted          []netip.Prefix // of proxies
	Console          fs.FS
	Log              *slog.Logger
	Clock            func() time.Time // nil: the machine's
	Version          string
	Mail             mail.Sender // sends links, and tells of requests; nil: nobody does
	Checkpoints      string      // file that checkpoints of the record are appended to as well; empty: none
	Syslog           string      // host:port of a server that the record is sent to, by RFC 5424 over TLS; empty: none
	SyslogCA         string      // PEM file of the authorities that vouch for that server; empty: those of the machine
	AuditLines       io.Writer   // that the record is written to as lines of JSON; nil: none
	Line             Line        // to the other machines
	Following        *Following  // nil: this machine writes
	Peers            *Peers      // others that may write as well; nil: this machine alone
}

// ParsePublicURL reads the address by which clients reach a service; see [server.ParsePublicURL].
func ParsePublicURL(text string) (*url.URL, error) { return server.ParsePublicURL(text) }

// Daemon is a service that is ready to answer.
type Daemon struct {
	Service  *service.Service
	store    *store.Store
	record   *audit.Record
	server   *server.Server
	listener net.Listener
	options  Options
	line     *line // to the other machines; nil: there are none
	post     *post // of one of several that may write; nil: it is no such
	clock    *steadyClock
	seen     store.Seen
}

// Open opens the store and takes the address, and answers nothing yet. Nothing is left open where it fails. Where a socket was passed, it
// waits for the process before it to give the folder up.
func Open(ctx context.Context, o Options) (*Daemon, error) {
	st, err := openStore(ctx, o)
	if err != nil {
		return nil, err
	}
	if o.Clock == nil {
		o.Clock = time.Now
	}
	d := newDaemon(st, o)
	if err := d.prepare(ctx); err != nil {
		return nil, errors.Join(err, d.Close())
	}
	return d, nil
}

// newDaemon has its clock go by what was seen.
func newDaemon(st *store.Store, o Options) *Daemon {
	d := &Daemon{store: st, options: o, clock: &steadyClock{base: o.Clock}}
	d.options.Clock = d.clock.Now
	return d
}

func (d *Daemon) prepare(ctx context.Context) error {
	if err := d.openFiles(ctx); err != nil {
		return err
	}
	var err error
	if d.line, err = d.options.Line.open(&d.options); err != nil {
		return err
	}
	return d.answer(ctx)
}

// openFiles opens what lies beside the store, and takes the address.
func (d *Daemon) openFiles(ctx context.Context) (err error) {
	if d.listener = d.options.Socket; d.listener == nil {
		d.listener, err = net.Listen("tcp", d.options.Listen)
	}
	if err != nil {
		return fmt.Errorf("listen on %s: %w: stop what uses the address, or give another with --listen", d.options.Listen, err)
	}
	if err := d.store.ClearPassing(); err != nil {
		return fmt.Errorf("let go what is left of another process: %w", err)
	}
	if d.record, err = openRecord(ctx, d.store, d.options); err != nil {
		return err
	}
	if err := fits(ctx, d.store, d.record); err != nil {
		return err
	}
	bind(d.store, d.record, d.options.Log)
	if d.seen, err = seenBy(ctx, d.store, d.record); err == nil {
		d.clock.seen.Store(d.seen.At.UnixNano())
	}
	return err
}

// answer makes the service, and what answers with it.
func (d *Daemon) answer(ctx context.Context) (err error) {
	defer startLightly(d.options.Dir)()
	borders := service.On(d.store, d.record, d.options.Log, d.options.Clock)
	borders.Behind = d.clock.Behind
	if borders.Site = d.options.PublicURL; borders.Site == nil {
		if borders.Site, err = url.Parse(d.Address()); err != nil {
			return err
		}
	}
	o := server.Options{
		Console: d.options.Console, Log: d.options.Log, Version: d.options.Version,
		Address: d.Address(), PublicURL: d.options.PublicURL, Trusted: d.options.Trusted,
		Mail:        d.options.Mail,
		Certificate: d.options.Certificate, Key: d.options.Key,
	}
	if err := d.join(ctx, &borders, &o); err != nil {
		return err
	}
	if d.Service, err = service.Open(ctx, borders); err != nil {
		return err
	}
	if d.options.Following != nil {
		if err := d.learnAll(); err != nil {
			return err
		}
	}
	d.server, err = server.New(d.Service, o)
	return err
}

// join makes this machine one of several, where it is.
func (d *Daemon) join(ctx context.Context, borders *service.Borders, o *server.Options) error {
	if d.line.said = borders.Machines; d.line.bus != nil {
		d.line.said = d.line
	}
	borders.Name = d.line.name
	if d.options.Following != nil {
		return d.follow(ctx, borders, o)
	}
	if err := d.line.write(ctx, d, d.post); err != nil {
		return err
	}
	o.Revisions = &server.Log{Bus: d.line.carrier, Snapshot: func(ctx context.Context, picture bool) (io.ReadSeekCloser, error) {
		return d.line.snapshot(ctx, d, picture)
	}}
	borders.Machines, borders.Line = d.line.said, d.line.log
	revisions := replica.Revisions{Kept: d.store, Log: d.line.log}
	if d.line.bus != nil {
		o.Place = func() uint64 { return d.line.place(d.Service) }
	}
	if d.post != nil {
		revisions.Kept, borders.HandOver = d.post.loaded(d.store), d.post.handOver
		d.store.Logged(d.line.log.AppendBeside)
	}
	borders.Revisions = revisions
	return nil
}

// openRecord opens the record that lies beside a store.
func openRecord(ctx context.Context, st *store.Store, o Options) (*audit.Record, error) {
	key, err := audit.LoadKey(filepath.Join(o.Dir, audit.KeyName))
	if err != nil {
		return nil, err
	}
	return audit.Open(ctx, audit.Options{Dir: o.Dir, Clock: o.Clock, Log: o.Log, Room: st.ReleaseReserve, Key: key, Beyond: o.Checkpoints})
}

// Store is what the daemon keeps everything in.
func (d *Daemon) Store() *store.Store { return d.store }

// Close gives up what Open took. It is for a daemon that does not run.
func (d *Daemon) Close() error {
	var err error
	if d.listener != nil {
		err = d.listener.Close()
	}
	return errors.Join(err, d.closeFiles())
}

func (d *Daemon) closeFiles() error {
	var err error
	if d.record != nil {
		err = d.record.Close()
	}
	if d.line != nil {
		err = errors.Join(err, d.line.close())
	}
	return errors.Join(err, d.store.Close())
}

// Address is where the service answers, as a URL.
func (d *Daemon) Address() string {
	scheme := "http"
	if d.options.Certificate != "" {
		scheme = "https"
	}
	return scheme + "://" + d.listener.Addr().String()
}

// waitForOwner is how often a service without a policy looks whether one has come.
const waitForOwner = 500 * time.Millisecond

// Run answers until ctx ends.
func (d *Daemon) Run(ctx context.Context) error {
	front := &server.Front{}
	front.Put(d.server)
	return d.run(ctx, front, d.server.ReadCertificate, d.work)
}

// run answers with a front until ctx ends, and does beside what work does.
func (d *Daemon) run(ctx context.Context, front *server.Front, readCertificate func(), work func(ctx context.Context)) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	go paceMemory(ctx)
	hung := make(chan os.Signal, 1)
	signal.Notify(hung, syscall.SIGHUP)
	defer signal.Stop(hung)
	go func() {
		for {
			select {
			case <-ctx.Done():
				return
			case <-hung:
				readCertificate()
			}
		}
	}()
	sinks, err := d.options.sinks()
	if err == nil && d.line.sink != nil {
		err = d.line.sink.begins() // again, after what was recorded at the start
		sinks[reportsName] = d.line.sink
	}
	if err != nil {
		return errors.Join(err, d.closeFiles())
	}
	var beside sync.WaitGroup
	beside.Go(func() { work(ctx) })
	for name, sink := range sinks {
		beside.Go(func() {
			if err := d.record.Forward(ctx, name, sink); err != nil && ctx.Err() == nil {
				d.options.Log.Error("the record is not sent on any more", "to", name, "error", err)
			}
		})
	}
	d.options.tell(ready)
	go func() {
		<-ctx.Done()
		d.options.tell(stopping)
	}()
	err = front.Serve(ctx, d.listener)
	cancel()
	beside.Wait()
	return errors.Join(err, d.closeFiles())
}

// work does what a service does beside answering, until ctx ends.
func (d *Daemon) work(ctx context.Context) {
	if !d.HasOwner() {
		go d.awaitOwner(ctx)
	}
	var all sync.WaitGroup
	defer all.Wait()
	all.Go(func() { d.Service.Watch(ctx) })
	all.Go(func() { d.keepSeen(ctx, d.seen) })
	all.Go(func() { d.line.run(ctx, d) })
}

// sinks are where the record is sent to, by the names under which it is known how far each has it.
func (o *Options) sinks() (map[string]audit.Sink, error) {
	out := map[string]audit.Sink{}
	if o.AuditLines != nil {
		out["standard output"] = audit.Lines{To: o.AuditLines}
	}
	if o.Syslog == "" {
		return out, nil
	}
	config := &tls.Config{MinVersion: tls.VersionTLS12}
	if o.SyslogCA != "" {
		var err error
		if config.RootCAs, err = authorities(o.SyslogCA, "the syslog server"); err != nil {
			return nil, err
		}
	}
	out["syslog "+o.Syslog] = &audit.Syslog{Address: o.Syslog, TLS: config}
	return out, nil
}

// authorities reads the file of those that vouch for a server, PEM.
func authorities(file, of string) (*x509.CertPool, error) {
	pem, err := os.ReadFile(file)
	if err != nil {
		return nil, fmt.Errorf("read the authority of %s: %w", of, err)
	}
	pool := x509.NewCertPool()
	if !pool.AppendCertsFromPEM(pem) {
		return nil, fmt.Errorf("%s holds no certificate in PEM", file)
	}
	return pool, nil
}

// HasOwner tells whether anybody can sign in.
func (d *Daemon) HasOwner() bool {
	_, err := d.Service.Ready()
	return err == nil
}

// awaitOwner looks for the first revision, which another process makes.
func (d *Daemon) awaitOwner(ctx context.Context) {
	for !d.HasOwner() {
		select {
		case <-ctx.Done():
			return
		case <-time.After(waitForOwner):
		}
		number, err := d.store.LastRevision(ctx)
		if err == nil && number > 0 {
			err = d.Service.Reload(ctx)
		}
		if err != nil && ctx.Err() == nil {
			d.options.Log.Error("look for the first owner", "error", err)
		}
	}
	d.options.Log.Info("the first owner is there")
}

// ClockFrom is a clock that shows an instant now and goes on from there.
func ClockFrom(at time.Time) func() time.Time {
	begun := time.Now()
	return func() time.Time { return at.Add(time.Since(begun)) }
}

// Beginning is what the first revision is made of.
type Beginning = service.Beginning

// Begin makes the first revision in a folder, whether a service runs there or not.
func Begin(ctx context.Context, dir string, b Beginning, at time.Time) error {
	st, err := store.Open(dir, false)
	if err != nil {
		return err
	}
	return errors.Join(service.Begin(ctx, st, b, at), st.Close())
}

// Prepare makes the first revision of a daemon that has none. One that the demonstration has begun gets a new password for
// its owner; one that is somebody's is refused, and left as it is.
func (d *Daemon) Prepare(ctx context.Context, b Beginning) error {
	if !d.HasOwner() {
		if err := service.Begin(ctx, d.store, b, d.options.Clock()); err != nil {
			return err
		}
		return d.Service.Reload(ctx)
	}
	demo, err := d.Service.IsDemo(ctx)
	if err == nil && !demo {
		err = fmt.Errorf("%s is somebody's, and no demonstration has begun it: start it with “sentier serve --data %s”, or give another folder", d.options.Dir, d.options.Dir)
	}
	if err != nil {
		return err
	}
	return d.Service.SetPassword(ctx, string(b.Owner), b.Password)
}

// Recover makes a user the lasting owner of a folder on which no service runs, and gives the number of the last revision. It stays in the
// record.
func Recover(ctx context.Context, dir string, b Beginning, at time.Time) (uint64, error) {
	st, err := openThere(dir)
	if err != nil {
		return 0, err
	}
	number, err := recovered(ctx, st, b, at)
	return number, errors.Join(err, st.Close())
}

func recovered(ctx context.Context, st *store.Store, b Beginning, at time.Time) (uint64, error) {
	number, err := service.Recover(ctx, st, b, at)
	if err != nil {
		return 0, err
	}
	record, err := openRecord(ctx, st, Options{Dir: st.Dir(), Clock: func() time.Time { return at }, Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		return 0, err
	}
	err = record.Add(audit.Entry{At: at, Kind: audit.Password, Outcome: audit.Reset, Via: "recovery", User: string(b.Owner), Revision: number})
	return number, errors.Join(err, record.Close())
}

// openThere opens a folder that has a database.
func openThere(dir string) (*store.Store, error) {
	if _, err := os.Stat(filepath.Join(dir, store.FileName)); err != nil {
		return nil, fmt.Errorf("%s holds no database: %w", dir, err)
	}
	return store.Open(dir, true)
}

// Verify verifies the files of a folder, or one file.
func Verify(ctx context.Context, path string) (wire.Verified, error) {
	found, err := store.VerifyFile(ctx, path)
	out, err := verified(found, err)
	if err != nil || !out.Whole {
		return out, err
	}
	return out, withRecord(ctx, &out, path)
}

// withRecord verifies the record of a folder or a backup as well, where it holds one.
func withRecord(ctx context.Context, out *wire.Verified, path string) error {
	r, err := audit.There(path, store.FileName)
	if err != nil {
		return err
	}
	if r == nil {
		return missingRecord(ctx, out, path)
	}
	record, err := service.AuditVerified(r.Verify(ctx, audit.Against{}))
	out.Whole, out.Wrong, out.Recorded = record.Whole, record.Wrong, record.Entries
	out.Marked = out.Marked && record.Marked
	if info, statErr := os.Stat(path); err == nil && out.Whole && statErr == nil && info.IsDir() {
		st, openErr := store.OpenToRead(path)
		if openErr != nil {
			return errors.Join(openErr, r.Close())
		}
		if misfit := fits(ctx, st, r); misfit != nil {
			out.Whole, out.Wrong = false, misfit.Error()
		}
		err = st.Close()
	}
	return errors.Join(err, r.Close())
}

// missingRecord tells of a folder that has had an audit log, and has none now.
func missingRecord(ctx context.Context, out *wire.Verified, path string) error {
	if info, err := os.Stat(path); err != nil || !info.IsDir() {
		return err // a copy of the database alone
	}
	st, err := store.OpenToRead(path)
	if err != nil {
		return err
	}
	known, err := st.RecordKept(ctx)
	_, marked := os.Stat(filepath.Join(path, audit.HeadName))
	if err == nil && (known != nil || marked == nil) {
		out.Whole, out.Wrong = false, audit.FileName+" is missing: what was done and asked is not there any more. Put it back from a good copy"
	}
	return errors.Join(err, st.Close())
}

// Restore puts a verified copy of a database into a folder that has none.
func Restore(ctx context.Context, file, dir string) (wire.Verified, error) {
	found, err := store.Restore(ctx, file, dir)
	out, err := verified(found, err)
	if err != nil || !out.Whole {
		return out, err
	}
	if err := audit.Restore(ctx, file, dir, store.FileName); err != nil {
		return out, err
	}
	return out, withRecord(ctx, &out, dir)
}

func verified(v store.Verified, err error) (wire.Verified, error) {
	out := wire.Verified{Whole: err == nil, Revisions: v.Revisions, Records: v.Records, Entries: v.Entries, Marked: v.Marked}
	if err != nil {
		out.Wrong = err.Error()
	}
	if errors.As(err, new(*store.WrongError)) || errors.Is(err, store.ErrDamaged) {
		err = nil // it is what was asked
	}
	return out, err
}

// OwnerToken makes a token for an owner, for whoever has the machine in hand.
func (d *Daemon) OwnerToken(ctx context.Context, owner policy.UserID, name string) (string, error) {
	t, err := d.Service.CreateToken(ctx, service.Caller{User: owner, Via: "service"}, wire.NewToken{User: string(owner), Name: name, Days: 1}, service.Asked{})
	return t.Secret, err
}

// VerifyAudit verifies the record of a folder, or the one in a backup.
func VerifyAudit(ctx context.Context, path string, in wire.VerifyAudit) (wire.AuditVerified, error) {
	against, err := service.Against(in)
	if err != nil {
		return wire.AuditVerified{}, err
	}
	r, err := audit.There(path, store.FileName)
	if err == nil && r == nil {
		err = fmt.Errorf("%s holds no record", path)
	}
	if err != nil {
		return wire.AuditVerified{}, err
	}
	found, err := service.AuditVerified(r.Verify(ctx, against))
	if info, statErr := os.Stat(path); err == nil && found.Whole && statErr == nil && info.IsDir() {
		st, openErr := store.OpenToRead(path)
		if openErr != nil {
			return found, errors.Join(openErr, r.Close())
		}
		if misfit := fits(ctx, st, r); misfit != nil {
			found.Whole, found.Wrong = false, misfit.Error()
		}
		err = st.Close()
	}
	return found, errors.Join(err, r.Close())
}
