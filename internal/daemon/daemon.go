// Package daemon puts a store, a service and a server together into one running process.
package daemon

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"net"
	"runtime/debug"
	"time"

	"sentier/internal/policy"
	"sentier/internal/server"
	"sentier/internal/service"
	"sentier/internal/store"
	"sentier/internal/wire"
)

// Options say what to run.
type Options struct {
	Dir              string // of the database
	Listen           string // address
	Certificate, Key string // PEM files; empty: no TLS
	Console          fs.FS
	Log              *slog.Logger
	Clock            func() time.Time // nil: the machine's
	Version          string
}

// Daemon is a service that is ready to answer.
type Daemon struct {
	Service  *service.Service
	store    *store.Store
	server   *server.Server
	listener net.Listener
	options  Options
}

// Open opens the store and takes the address, and answers nothing yet. Nothing is left open where it fails.
func Open(ctx context.Context, o Options) (*Daemon, error) {
	st, err := store.Open(o.Dir, true)
	if err != nil {
		return nil, err
	}
	if o.Clock == nil {
		o.Clock = time.Now
	}
	d := &Daemon{store: st, options: o}
	if err := d.prepare(ctx); err != nil {
		return nil, errors.Join(err, d.Close())
	}
	return d, nil
}

func (d *Daemon) prepare(ctx context.Context) (err error) {
	if d.listener, err = net.Listen("tcp", d.options.Listen); err != nil {
		return fmt.Errorf("listen on %s: %w: stop what uses the address, or give another with --listen", d.options.Listen, err)
	}
	// Next to nothing of what is read at the start becomes garbage: looking for some again and again would be in vain.
	defer debug.SetGCPercent(debug.SetGCPercent(startPercent))
	if d.Service, err = service.Open(ctx, d.store, d.options.Log, d.options.Clock); err != nil {
		return err
	}
	d.server, err = server.New(d.Service, server.Options{Console: d.options.Console, Log: d.options.Log, Version: d.options.Version})
	return err
}

// startPercent is how much the memory may grow at the start before garbage is looked for, as GOGC counts.
const startPercent = 400

// Close gives up what Open took. It is for a daemon that does not run.
func (d *Daemon) Close() error {
	var err error
	if d.listener != nil {
		err = d.listener.Close()
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
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	if d.Service.Ready() != nil {
		go d.awaitOwner(ctx)
	}
	err := d.server.Serve(ctx, d.listener, d.options.Certificate, d.options.Key)
	return errors.Join(err, d.store.Close())
}

// awaitOwner looks for the first revision, which another process makes.
func (d *Daemon) awaitOwner(ctx context.Context) {
	for d.Service.Ready() != nil {
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

// Prepare makes the first revision of a daemon that has none; one that has is left as it is, but
// for the owner's password.
func (d *Daemon) Prepare(ctx context.Context, b Beginning) error {
	if d.Service.Ready() == nil {
		return d.Service.SetPassword(ctx, string(b.Owner), b.Password)
	}
	if err := service.Begin(ctx, d.store, b, d.options.Clock()); err != nil {
		return err
	}
	return d.Service.Reload(ctx)
}

// OwnerToken makes a token for an owner, for whoever has the machine in hand.
func (d *Daemon) OwnerToken(ctx context.Context, owner policy.UserID, name string) (string, error) {
	t, err := d.Service.CreateToken(ctx, service.Caller{User: owner}, wire.NewToken{User: string(owner), Name: name, Days: 1})
	return t.Secret, err
}
