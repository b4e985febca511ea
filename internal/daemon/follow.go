package daemon

import (
	"context"
	"crypto/ed25519"
	"crypto/tls"
	"errors"
	"maps"
	"net/http"
	"net/url"
	"sync"
	"time"

	"sentier/internal/identity"
	"sentier/internal/policy"
	"sentier/internal/replica"
	"sentier/internal/server"
	"sentier/internal/service"
	"sentier/internal/store"
)

// Following says how a machine follows the one that writes.
type Following struct {
	Keys     []ed25519.PublicKey // of the machines whose word is taken
	WriterCA string              // file of the authorities that vouch for the machine that writes, PEM; empty: those of the machine
	Most     uint64              // entries of the record that wait to be handed over
	GoOn     bool                // with that many, answers go on without a record, and do not wait
}

// reportsName is by which the record knows how far the servers of the log have it.
const reportsName = "the machine that writes"

// untilTime is how long an answer of the machine that writes waits at most for what it did to be here.
const untilTime = 5 * time.Second

// follow makes this machine one that follows.
func (d *Daemon) follow(ctx context.Context, borders *service.Borders, o *server.Options) error {
	f := d.options.Following
	keys, err := replica.Trust(f.Keys...)
	if err != nil {
		return err
	}
	l := d.line
	if d.post != nil {
		l.standsBy = d.post.stood
	}
	if l.follower, err = replica.OpenFollower(ctx, replica.FollowerOptions{Bus: l.bus, Keys: keys, Dir: d.options.Dir, Log: d.options.Log, Clock: d.options.Clock}); err != nil {
		return err
	}
	l.copied = &copied{Follower: l.follower, recent: map[uint64]replica.Step{}}
	if l.sink == nil {
		l.sink = &reports{line: l, record: d.record}
	}
	if err := l.sink.begins(); err != nil {
		return err
	}
	reach, err := reaching(f.WriterCA)
	if err != nil {
		return err
	}
	borders.Revisions, borders.History, borders.Credentials = l.copied, l.copied, identity.Elsewhere{}
	borders.Follows = func() string { return l.follower.Copy().Writer.Machine }
	borders.Record = &boundedRecord{Record: d.record, waits: l.sink.waiting, most: f.Most, goOn: f.GoOn}
	o.Elsewhere = &server.Elsewhere{
		Me:    l.name,
		Moved: l.follower.Moved,
		Reach: reach,
		Writer: func() (string, *url.URL) {
			w := l.follower.Copy().Writer
			at, err := url.Parse(w.URL)
			if err != nil || w.URL == "" {
				return w.Machine, nil
			}
			return w.Machine, at
		},
		Since: l.copied.since,
		Until: func(ctx context.Context, seq uint64) { d.until(ctx, seq) },
		Age:   func() (time.Duration, bool) { return l.follower.Age(time.Now()) },
	}
	return nil
}

// reaching asks the machine that writes.
func reaching(ca string) (http.RoundTripper, error) {
	t := http.DefaultTransport.(*http.Transport).Clone()
	t.Proxy = nil // it is one of ours
	t.ResponseHeaderTimeout = time.Minute
	if ca == "" {
		return t, nil
	}
	pool, err := authorities(ca, "the machine that writes")
	t.TLSClientConfig = &tls.Config{MinVersion: tls.VersionTLS12, RootCAs: pool}
	return t, err
}

// until waits until this machine answers from a place in the log, for a while.
func (d *Daemon) until(ctx context.Context, seq uint64) {
	ctx, cancel := context.WithTimeout(ctx, untilTime)
	defer cancel()
	for {
		moved := d.line.follower.Moved()
		if d.line.follower.Copy().Seq >= seq {
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-moved:
		}
	}
}

// learnAll takes all that is known beside the policy.
func (d *Daemon) learnAll() error {
	return d.Service.Learn(maps.Collect(d.line.follower.Copy().Facts.All))
}

// took makes a step that has come the one that is answered from.
func (d *Daemon) took(s replica.Step) {
	told := map[string]string{}
	for _, f := range s.Facts {
		told[f.Key] = string(f.Value)
	}
	if len(told) > 0 {
		if err := d.Service.Learn(told); err != nil {
			d.options.Log.Error("something that the machine that writes has told is not known here", "error", err)
		}
	}
	if len(s.Done) > 0 {
		d.line.copied.keep(s)
		d.Service.Take(s.Copy.Policy, s.Copy.Revision, s.Done)
	}
}

// copied are the revisions of a machine that follows: those that have come.
type copied struct {
	*replica.Follower

	mu     sync.RWMutex
	recent map[uint64]replica.Step // by the revision that each has made
}

// mostRecent is how many revisions a machine that follows remembers, for whoever follows its events.
const mostRecent = 1000

func (c *copied) keep(s replica.Step) {
	c.mu.Lock()
	defer c.mu.Unlock()
	number := s.Copy.Revision.Number
	s.Copy.Policy = nil // it is not held for this
	c.recent[number] = s
	delete(c.recent, number-mostRecent)
}

// since tells whether all revisions after one were here.
func (c *copied) since(number uint64) bool {
	last := c.Copy().Revision.Number
	if number >= last {
		return true
	}
	_, err := c.step(number + 1)
	return err == nil
}

// step is what has made a revision. The error is [errFollows] where that was not here.
func (c *copied) step(number uint64) (replica.Step, error) {
	c.mu.RLock()
	defer c.mu.RUnlock()
	s, ok := c.recent[number]
	if !ok {
		return s, errFollows
	}
	return s, nil
}

// errFollows is that something is known by the machine that writes alone.
var errFollows = errors.New("the history is kept by the machine that writes")

// Load is the policy as it has come.
func (c *copied) Load(context.Context) (*policy.Policy, store.Revision, error) {
	at := c.Copy()
	return at.Policy, at.Revision, nil
}

// Append makes none.
func (c *copied) Append(context.Context, *store.Revision, []policy.RecordChange, store.Saving) error {
	return errFollows
}

// Revisions is one that has come of late.
func (c *copied) Revisions(_ context.Context, w store.Which, limit int) ([]store.Revision, error) {
	if limit != 1 || w != (store.Which{UpTo: w.UpTo}) {
		return nil, errFollows
	}
	s, err := c.step(w.UpTo)
	return []store.Revision{s.Copy.Revision}, err
}

// Changes is what one has done that has come of late.
func (c *copied) Changes(_ context.Context, number uint64) ([]policy.RecordChange, error) {
	s, err := c.step(number)
	return s.Done, err
}

// RevisionOf, TouchedBy, Back, RevisionAt and LaterChange are asked of the machine that writes.
func (c *copied) RevisionOf(context.Context, string, string) (store.Revision, error) {
	return store.Revision{}, errFollows
}

// TouchedBy is asked of the machine that writes.
func (c *copied) TouchedBy(context.Context, uint64, int) ([]store.Touched, int, error) {
	return nil, 0, errFollows
}

// Back is asked of the machine that writes.
func (c *copied) Back(context.Context, uint64, store.Revision) ([][]policy.RecordChange, error) {
	return nil, errFollows
}

// RevisionAt is asked of the machine that writes.
func (c *copied) RevisionAt(context.Context, time.Time) (store.Revision, error) {
	return store.Revision{}, errFollows
}

// LaterChange is asked of the machine that writes.
func (c *copied) LaterChange(context.Context, string, string, uint64) (uint64, error) {
	return 0, errFollows
}
