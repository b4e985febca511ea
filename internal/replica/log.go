package replica

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"sentier/internal/container"
	"sentier/internal/policy"
	"sentier/internal/store"
)

// What the log is made of.
const (
	mostInLog      = 512 << 10 // bytes of an entry; the changes of a larger one are kept apart
	snapshotsKept  = 2
	snapshotsAfter = 1000             // revisions
	snapshotPrefix = "snapshot-"      // pictures
	rowsPrefix     = "rows-"          // the same, as rows
	sealedPrefix   = "sealed-"        // what was done beside the policy, where it is too large for its entry
	publishTime    = 10 * time.Second // in which it must be known whether the log has an entry
	publishAgain   = 300 * time.Millisecond
)

// ChangesPrefix begins the names of objects that are changes of a revision, and nothing else.
const ChangesPrefix = "changes-"

// Local is the store of the machine that writes, as far as the log asks of it.
type Local interface {
	// Rows writes the rows of the policy as they are at the moment at which it calls begun.
	Rows(ctx context.Context, to io.Writer, begun func()) (store.Revision, error)
	Revisions(ctx context.Context, w store.Which, limit int) ([]store.Revision, error)
	RawChanges(ctx context.Context, revision uint64) ([]store.Change, error)
	Take(ctx context.Context, r *store.Revision, changes []store.Change, beside *store.Taken) error
	FactOf(ctx context.Context, name string) (string, error)
	SetFact(ctx context.Context, name, value string) error
}

// Log is the log of revisions, at the machine that writes it. It may be used from many goroutines at once.
type Log struct {
	bus    Bus
	signer *Signer
	keys   Keys
	local  Local
	me     Writer
	clock  func() time.Time
	log    *slog.Logger
	policy func() (*policy.Policy, store.Revision) // nil: it is not known
	box    *Box                                    // nil: nothing is sealed, as no other machine may write
	until  func() time.Time                        // nil: this machine may write for good
	stood  *Standby                                // that this machine was before; nil: none

	mu     sync.Mutex // held from the publishing of an entry until the machine has it too
	at     end
	facts  map[string]string
	doubt  atomic.Bool // what has become of the entry that is pending is not known
	over   atomic.Bool // another machine writes by now
	unsure pending     // the entry
	seqs   map[uint64]uint64
	taken  atomic.Uint64 // revision of the last snapshot
	beats  atomic.Uint64 // that were sent
	moment chan struct{}
}

// pending is an entry of which it is not known what has become.
type pending struct {
	text     []byte
	revision *store.Revision // with what the machine keeps of it beside; nil: it makes none
}

// end is how far the log goes.
type end struct {
	place  uint64 // on the bus
	seq    uint64
	epoch  uint64
	number uint64
	chain  []byte
	trail  []byte
}

// end is how far the log goes with an entry.
func (e *Entry) end(place uint64) end {
	return end{place, e.Seq, e.Epoch, e.Number, e.Chain, e.Trail}
}

// LogOptions say who writes a log, and where.
type LogOptions struct {
	Bus    Bus
	Signer *Signer
	Keys   Keys // whose entries are taken over; the machine's own is one of them
	Local  Local
	Me     Writer
	Clock  func() time.Time
	Log    *slog.Logger
	// Policy is the policy that the machine answers from, and its revision; nil: snapshots are of rows alone.
	Policy func() (*policy.Policy, store.Revision)
	// Stood is what this machine has been until now, where it is one of several that may write: what the log has is taken by it. nil: it is the only one.
	Stood *Standby
	// Facts are known of that time, up to a place in the log; 0: none are.
	Facts   container.Map[string, string]
	FactsAt uint64
	// Until is until when this machine may write, by the clock that only goes forward; nil: for good.
	Until func() time.Time
}

// DivergedError is that the log and the machine have gone different ways.
type DivergedError struct{ Number uint64 }

func (e *DivergedError) Error() string {
	return fmt.Sprintf("revision %d here is another than that of the log: this folder was written to on its own. Set it aside, and begin with a backup of the machine that has written the log", e.Number)
}

// OpenLog begins to write the log: the machine takes over what the log has and it has not, and the log what it lacks.
func OpenLog(ctx context.Context, o LogOptions) (*Log, error) {
	l := &Log{bus: o.Bus, signer: o.Signer, keys: o.Keys, local: o.Local, me: o.Me, clock: o.Clock, log: o.Log, policy: o.Policy, until: o.Until, stood: o.Stood, facts: map[string]string{}, seqs: map[uint64]uint64{}, moment: make(chan struct{}, 1)}
	if l.stood != nil {
		l.box = l.stood.Box
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if err := l.begin(ctx, &o); err != nil {
		return nil, fmt.Errorf("begin to write the log of revisions: %w", err)
	}
	return l, nil
}

// begin brings log and machine to the same revision, and begins an epoch.
func (l *Log) begin(ctx context.Context, o *LogOptions) error {
	list, err := l.local.Revisions(ctx, store.Which{}, 1)
	if err != nil {
		return err
	}
	var mine store.Revision // the last one here
	if len(list) > 0 {
		mine = list[0]
	}
	found, err := l.readLog(ctx, o, &mine)
	if err != nil {
		return err
	}
	if !found { // there is no log yet: it begins with what is here, after whatever another log said that somebody may have followed
		l.at.number, l.at.chain = mine.Number, mine.Chain
		if l.at.seq, err = l.first(ctx); err != nil {
			return err
		}
		l.at.epoch = l.at.seq
		if l.stood != nil {
			l.at.trail = l.stood.trail()
		}
	} else if err := l.holdsEnd(ctx); err != nil {
		return err
	}
	if err := l.publish(ctx, &Entry{Kind: Epoch, Epoch: l.at.epoch + 1, Writer: l.me}); err != nil {
		return err
	}
	return l.publishUpTo(ctx, mine.Number)
}

// first is the place after which a log begins that has nothing: after all that an earlier one had, which somebody may have followed, also where the clock was
// set back since.
func (l *Log) first(ctx context.Context) (uint64, error) {
	seq := uint64(l.clock().UnixMilli())
	if l.stood != nil { // facts are what goes through the log
		return seq, nil
	}
	before, err := l.local.FactOf(ctx, factBegan)
	if err != nil {
		return 0, err
	}
	if before != "" {
		last, err := strconv.ParseUint(before, 10, 64)
		if err != nil {
			return 0, fmt.Errorf("read where the log of revisions began last: %w", err)
		}
		if seq <= last {
			seq = last + mostInOne
		}
	}
	return seq, l.local.SetFact(ctx, factBegan, strconv.FormatUint(seq, 10))
}

const (
	factBegan = "log of revisions began after" // the place
	mostInOne = 1 << 32                        // entries of a log while one process writes it
)

// publishUpTo publishes the revisions up to one that this machine has and the log has not: another process has made them, as it makes the first.
func (l *Log) publishUpTo(ctx context.Context, number uint64) error {
	for next := l.at.number + 1; next <= number; next++ {
		if err := l.publishKept(ctx, next); err != nil {
			return err
		}
	}
	return nil
}

// readLog reads the log: how far it goes, what is known by it, and the revisions that this machine has not, which it makes.
func (l *Log) readLog(ctx context.Context, o *LogOptions, mine *store.Revision) (found bool, err error) {
	if _, l.at.place, err = l.bus.Tail(ctx); err != nil || l.at.place == 0 {
		return false, err
	}
	var wrote string // the machine whose epoch is the last
	since, facts, after := o.FactsAt, o.Facts, uint64(0)
	if since == 0 {
		since, facts, err = l.newestFacts(ctx)
	} else { // the last entry that is here is read again: the log may end there
		after = min(since, l.stood.Seq())
		after -= min(after, 1)
	}
	if err != nil && !errors.Is(err, ErrNone) {
		return false, err
	}
	err = l.bus.Each(ctx, after, func(text []byte) error {
		e, err := l.keys.Entry(text)
		if errors.As(err, new(*ForgedError)) {
			l.log.Error("the log of revisions holds something that is passed over", "problem", err)
			return nil
		}
		if err != nil {
			return err
		}
		found = true
		l.at = e.end(l.at.place)
		if e.Kind == Epoch {
			wrote = e.Machine
		}
		if e.Seq > since {
			facts = withFacts(facts, e.Facts)
		}
		if l.stood != nil {
			return l.stood.take(ctx, e)
		}
		return l.takeOver(ctx, e, mine)
	})
	l.facts = maps.Collect(facts.All)
	if l.stood != nil && found && err == nil {
		*mine, err = l.stood.reached(ctx, &l.at, wrote == l.me.Machine)
	}
	return found, err
}

// takeOver makes the revision of an entry, where this machine has not got it.
func (l *Log) takeOver(ctx context.Context, e *Entry, mine *store.Revision) error {
	switch {
	case e.Number == mine.Number && !bytes.Equal(e.Chain, mine.Chain):
		return &DivergedError{mine.Number}
	case e.Kind != Revision || e.Number <= mine.Number:
		return nil
	case e.Number != mine.Number+1:
		return fmt.Errorf("the log begins after revision %d, and this folder ends at revision %d: restore a newer backup of the machine that has written it", e.Number-1, mine.Number)
	}
	if err := fetch(ctx, l.bus.Get, e); err != nil {
		return err
	}
	r := e.Made()
	if ok, err := r.Follows(mine.Chain, e.Changes); err != nil || !ok {
		return errors.Join(&DivergedError{mine.Number}, err)
	}
	if err := l.local.Take(ctx, &r, e.Changes, nil); err != nil {
		return err
	}
	*mine = r
	return nil
}

// holdsEnd makes sure that the revision at the end of the log is the one that is here.
func (l *Log) holdsEnd(ctx context.Context) error {
	if l.at.number == 0 {
		return nil
	}
	list, err := l.local.Revisions(ctx, store.Which{UpTo: l.at.number}, 1)
	if err != nil {
		return err
	}
	if len(list) == 0 || list[0].Number != l.at.number || !bytes.Equal(list[0].Chain, l.at.chain) {
		return &DivergedError{l.at.number}
	}
	return nil
}

// publishKept publishes a revision that this machine has.
func (l *Log) publishKept(ctx context.Context, number uint64) error {
	list, err := l.local.Revisions(ctx, store.Which{UpTo: number}, 1)
	if err == nil && (len(list) == 0 || list[0].Number != number) {
		err = fmt.Errorf("revision %d is not there", number)
	}
	if err != nil {
		return err
	}
	changes, err := l.local.RawChanges(ctx, number)
	if err != nil {
		return err
	}
	return l.publishRevision(ctx, &list[0], changes, store.Done{Trail: l.at.trail})
}
