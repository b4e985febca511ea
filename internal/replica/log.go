package replica

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"maps"
	"os"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"github.com/klauspost/compress/zstd"

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
	Take(ctx context.Context, r *store.Revision, changes []store.Change) error
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

	mu     sync.Mutex // held from the publishing of an entry until the machine has it too
	at     end
	facts  map[string]string
	doubt  atomic.Bool // what has become of the entry that is pending is not known
	over   atomic.Bool // another machine writes by now
	unsure pending     // the entry
	seqs   map[uint64]uint64
	taken  uint64 // revision of the last snapshot
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
}

// DivergedError is that the log and the machine have gone different ways.
type DivergedError struct{ Number uint64 }

func (e *DivergedError) Error() string {
	return fmt.Sprintf("revision %d here is another than that of the log: this folder was written to on its own. Set it aside, and begin with a backup of the machine that has written the log", e.Number)
}

// OpenLog begins to write the log: the machine takes over what the log has and it has not, and the log what it lacks.
func OpenLog(ctx context.Context, o LogOptions) (*Log, error) {
	l := &Log{bus: o.Bus, signer: o.Signer, keys: o.Keys, local: o.Local, me: o.Me, clock: o.Clock, log: o.Log, policy: o.Policy, facts: map[string]string{}, seqs: map[uint64]uint64{}, moment: make(chan struct{}, 1)}
	l.mu.Lock()
	defer l.mu.Unlock()
	if err := l.begin(ctx); err != nil {
		return nil, fmt.Errorf("begin to write the log of revisions: %w", err)
	}
	return l, nil
}

// begin brings log and machine to the same revision, and begins an epoch.
func (l *Log) begin(ctx context.Context) error {
	list, err := l.local.Revisions(ctx, store.Which{}, 1)
	if err != nil {
		return err
	}
	var mine store.Revision // the last one here
	if len(list) > 0 {
		mine = list[0]
	}
	found, err := l.readLog(ctx, &mine)
	if err != nil {
		return err
	}
	if !found { // there is no log yet: it begins with what is here, after whatever another log said that somebody may have followed
		l.at.number, l.at.chain = mine.Number, mine.Chain
		l.at.seq = uint64(l.clock().UnixMilli())
		l.at.epoch = l.at.seq
	} else if err := l.holdsEnd(ctx); err != nil {
		return err
	}
	if err := l.publish(ctx, &Entry{Kind: Epoch, Epoch: l.at.epoch + 1, Writer: l.me}); err != nil {
		return err
	}
	return l.publishUpTo(ctx, mine.Number)
}

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
func (l *Log) readLog(ctx context.Context, mine *store.Revision) (found bool, err error) {
	if _, l.at.place, err = l.bus.Tail(ctx); err != nil || l.at.place == 0 {
		return false, err
	}
	since, facts, err := l.newestFacts(ctx)
	if err != nil && !errors.Is(err, ErrNone) {
		return false, err
	}
	err = l.bus.Each(ctx, 0, func(text []byte) error {
		e, err := l.keys.Entry(text)
		if errors.As(err, new(*ForgedError)) {
			l.log.Error("the log of revisions holds something that is passed over", "problem", err)
			return nil
		}
		if err != nil {
			return err
		}
		found = true
		l.at = end{l.at.place, e.Seq, e.Epoch, e.Number, e.Chain}
		if e.Seq > since {
			facts = withFacts(facts, e.Facts)
		}
		return l.takeOver(ctx, e, mine)
	})
	l.facts = maps.Collect(facts.All)
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
	if err := l.local.Take(ctx, &r, e.Changes); err != nil {
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
	return l.publishRevision(ctx, &list[0], changes)
}

// Append adds a revision to the log, and then has the machine keep it, by the function given, which calls published at the last moment at which it can still
// be given up: there the log must have it.
func (l *Log) Append(ctx context.Context, keep func(published func(r *store.Revision, changes []store.Change) error) error) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.over.Load() {
		return ErrMoved
	}
	if l.doubt.Load() {
		return ErrUnknown
	}
	if _, ok := l.bus.(*Ring); ok {
		return l.keepFirst(ctx, keep)
	}
	has, before := false, l.at
	err := keep(func(r *store.Revision, changes []store.Change) error {
		if err := l.publishUpTo(ctx, r.Number-1); err != nil {
			return err
		}
		kept := *r
		l.unsure.revision = &kept
		err := l.publishRevision(ctx, r, changes)
		has = err == nil
		return err
	})
	if has && err != nil && !errors.Is(err, store.ErrUnmarked) { // it is in the log, and could not be kept here
		l.at = before
		l.doubt.Store(true)
		return fmt.Errorf("%w: %w", ErrUnknown, err)
	}
	if has && l.at.number >= l.taken+snapshotsAfter {
		l.wake()
	}
	return err
}

// keepFirst adds a revision to a ring, once the machine has kept it: nobody else can write, and what was kept counts.
func (l *Log) keepFirst(ctx context.Context, keep func(published func(r *store.Revision, changes []store.Change) error) error) error {
	var made store.Revision
	var of []store.Change
	err := keep(func(r *store.Revision, changes []store.Change) error {
		made, of = *r, changes
		return nil
	})
	if err != nil && !errors.Is(err, store.ErrUnmarked) || made.Number == 0 {
		return err
	}
	failed := errSkip // another process has made one in between, as it makes the first
	if made.Number == l.at.number+1 {
		failed = l.publishRevision(ctx, &made, of)
	}
	if failed != nil {
		if !errors.Is(failed, errSkip) {
			l.log.Warn("a revision is not told to those who follow over HTTP, who begin anew", "error", failed)
		}
		l.skip(&Entry{Number: made.Number, Chain: made.Chain})
	}
	return err
}

// ErrUnknown is that it is not known whether the log has a revision, or it has it and this machine has not. None follows until [Log.Settle] has found out.
var ErrUnknown = errors.New("it is not known whether the log of revisions has it")

// Settle finds out what has become of an entry, where that is not known: a revision that the log has is made here as well, and took says so. The error is
// [ErrUnknown] while the log cannot be asked, and [ErrMoved] where another machine writes.
func (l *Log) Settle(ctx context.Context) (took bool, err error) {
	if l.over.Load() {
		return false, ErrMoved
	}
	if !l.doubt.Load() {
		return false, nil
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	_, place, err := l.bus.Tail(ctx)
	if err == nil && place != l.at.place {
		err = l.bus.Each(ctx, l.at.seq, func(text []byte) error {
			made, err := l.settleEntry(ctx, text)
			took = took || made
			return err
		})
	}
	if errors.Is(err, ErrMoved) {
		return took, err
	}
	if err != nil {
		return took, fmt.Errorf("%w: %w", ErrUnknown, err)
	}
	l.at.place = place
	l.doubt.Store(false) // where it comes later still, it finds its place taken, or the next entry does
	return took, nil
}

// settleEntry makes what an entry has made that came after the last that is known here.
func (l *Log) settleEntry(ctx context.Context, text []byte) (took bool, err error) {
	e, err := l.keys.Entry(text)
	if err != nil || e.Seq != l.at.seq+1 {
		return false, nil // it is passed over, as everybody does
	}
	if e.Epoch > l.at.epoch {
		l.over.Store(true)
		return false, ErrMoved
	}
	if e.Kind == Revision {
		if err := fetch(ctx, l.bus.Get, e); err != nil {
			return false, err
		}
		r := e.Made()
		if bytes.Equal(text, l.unsure.text) && l.unsure.revision != nil {
			r.RequestKey, r.RequestHash, r.Answer = l.unsure.revision.RequestKey, l.unsure.revision.RequestHash, l.unsure.revision.Answer
		}
		if err := l.local.Take(ctx, &r, e.Changes); err != nil {
			return false, err
		}
		took = true
	}
	l.at = end{l.at.place, e.Seq, e.Epoch, e.Number, e.Chain}
	return took, nil
}

// Problem says why nothing can be saved now; empty: it can.
func (l *Log) Problem() string {
	switch {
	case l.over.Load():
		return "another machine writes the log of revisions"
	case l.doubt.Load():
		return "the servers of the log of revisions do not answer"
	}
	return ""
}

func (l *Log) publishRevision(ctx context.Context, r *store.Revision, changes []store.Change) error {
	e := &Entry{Kind: Revision, Epoch: l.at.epoch, At: r.At, Number: r.Number, Chain: r.Chain, By: r.By, Via: r.Via, Note: r.Note, State: r.State, Hash: r.Form, Changes: changes}
	err := l.setApart(ctx, e)
	if errors.Is(err, errSkip) {
		l.skip(e)
		return nil
	}
	if err != nil {
		return err
	}
	if err := l.publish(ctx, e); err != nil {
		return err
	}
	l.seqs[e.Number] = e.Seq
	delete(l.seqs, e.Number-64)
	return nil
}

// skip has the ring go on after a revision that is not in it.
func (l *Log) skip(e *Entry) {
	l.at.seq++
	l.at.number, l.at.chain = e.Number, e.Chain
	if ring, ok := l.bus.(*Ring); ok {
		ring.Skip(l.at.seq + 1)
	}
}

// errSkip is that a revision is too large for a ring: who follows it begins with a snapshot.
var errSkip = errors.New("the revision is skipped")

// setApart keeps the changes of a large revision as an object.
func (l *Log) setApart(ctx context.Context, e *Entry) error {
	size := 0
	for i := range e.Changes {
		c := &e.Changes[i]
		size += len(c.Type) + len(c.ID)
		for _, part := range []*string{c.Before, c.After, c.Added, c.Dropped} {
			if part != nil {
				size += len(*part)
			}
		}
	}
	if size < mostInLog/4 { // what is quoted in what is quoted grows
		return nil
	}
	if _, ok := l.bus.(*Ring); ok {
		return errSkip
	}
	text, err := json.Marshal(e.Changes)
	if err != nil {
		return err
	}
	packer, err := zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest))
	if err != nil {
		return err
	}
	packed := packer.EncodeAll(text, nil)
	sum := sha256.Sum256(packed)
	e.Changes, e.Object = nil, &Object{Name: ChangesPrefix + fmt.Sprintf("%020d-", e.Number) + hex.EncodeToString(sum[:8]), Size: int64(len(packed)), SHA256: sum[:]}
	return l.bus.Put(ctx, e.Object.Name, bytes.NewReader(packed))
}

// fetch reads the changes of an entry that are kept apart.
func fetch(ctx context.Context, get func(ctx context.Context, name string) (io.ReadCloser, error), e *Entry) error {
	if e.Kind != Revision || e.Object == nil {
		return nil
	}
	in, err := get(ctx, e.Object.Name)
	if err != nil {
		return fmt.Errorf("read the changes of revision %d: %w", e.Number, err)
	}
	defer in.Close()
	packed, err := io.ReadAll(io.LimitReader(in, e.Object.Size))
	if err != nil {
		return fmt.Errorf("read the changes of revision %d: %w", e.Number, err)
	}
	if sum := sha256.Sum256(packed); !bytes.Equal(sum[:], e.Object.SHA256) {
		return forged(e.name(), "has changes that are not those that were signed")
	}
	reader, err := zstd.NewReader(nil, zstd.WithDecoderMaxMemory(4<<30))
	if err != nil {
		return err
	}
	defer reader.Close()
	text, err := reader.DecodeAll(packed, nil)
	if err == nil {
		err = json.Unmarshal(text, &e.Changes)
	}
	if err != nil {
		return forged(e.name(), "has changes that this program cannot read: bring it up to date")
	}
	return nil
}

// publish adds an entry at the end of the log: that it is there is known when it gives back no error. The caller holds l.mu.
func (l *Log) publish(ctx context.Context, e *Entry) error {
	e.Form, e.Seq = logForm, l.at.seq+1
	if e.Kind != Revision {
		e.Number, e.Chain, e.At = l.at.number, l.at.chain, l.clock().UTC()
	}
	text, err := l.signer.Sign(e)
	if err != nil {
		return err
	}
	if l.unsure.text = text; e.Kind != Revision {
		l.unsure.revision = nil
	}
	sum := sha256.Sum256(text)
	id := strconv.FormatUint(e.Epoch, 10) + "-" + hex.EncodeToString(sum[:])
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), publishTime)
	defer cancel()
	for {
		place, err := l.bus.Publish(ctx, l.at.place, id, e.Seq, text)
		if err == nil {
			l.at = end{place, e.Seq, e.Epoch, e.Number, e.Chain}
			return nil
		}
		if errors.Is(err, ErrMoved) {
			if err = l.moved(ctx, e, text); err == nil {
				return nil
			}
			if !errors.Is(err, errAgain) {
				return err
			}
			continue
		}
		select {
		case <-ctx.Done():
			l.doubt.Store(true)
			return fmt.Errorf("%w: %w", ErrUnknown, err)
		case <-time.After(publishAgain):
		}
	}
}

// errAgain is that an entry can be tried again, after something that is passed over.
var errAgain = errors.New("what stands in the log there is of nobody")

// moved looks at what stands in the place of an entry: this very entry, where an answer was lost; something that is of nobody; or the entry of another machine.
func (l *Log) moved(ctx context.Context, e *Entry, text []byte) error {
	last, place, err := l.bus.Tail(ctx)
	if err != nil {
		return errAgain // nothing is known yet
	}
	if bytes.Equal(last, text) {
		l.at = end{place, e.Seq, e.Epoch, e.Number, e.Chain}
		return nil
	}
	other, err := l.keys.Entry(last)
	if err == nil && other.Seq <= l.at.seq {
		err = forged(other.name(), "stands in the log again, where place %d is next", l.at.seq+1)
	}
	if err != nil {
		l.log.Error("the log of revisions holds something that is passed over", "problem", err)
		l.at.place = place
		return errAgain
	}
	if other.Epoch == l.at.epoch { // one of this machine, that came late
		l.doubt.Store(true)
		return ErrUnknown
	}
	l.over.Store(true)
	return ErrMoved
}

// mostFacts is how many facts an entry has at most.
const mostFacts = 200

// Know makes some facts all that are known: what the log does not say of them is published. The map is kept, and not to be changed.
func (l *Log) Know(ctx context.Context, facts map[string]string) error {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.over.Load() {
		return ErrMoved
	}
	if l.doubt.Load() {
		return ErrUnknown
	}
	var list []Fact
	for key, value := range facts {
		if l.facts[key] != value {
			list = append(list, Fact{key, json.RawMessage(value)})
		}
	}
	for key := range l.facts {
		if _, still := facts[key]; !still {
			list = append(list, Fact{Key: key})
		}
	}
	slices.SortFunc(list, func(a, b Fact) int { return cmp.Compare(a.Key, b.Key) })
	for some := range slices.Chunk(list, mostFacts) {
		if err := l.publish(ctx, &Entry{Kind: Facting, Epoch: l.at.epoch, Facts: some}); err != nil {
			return err
		}
	}
	l.facts = facts
	return nil
}

// Seq is the place of the last entry.
func (l *Log) Seq() uint64 {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.at.seq
}

func (l *Log) wake() {
	select {
	case l.moment <- struct{}{}:
	default:
	}
}

const (
	beatEvery     = time.Second
	snapshotAgain = time.Minute // after one could not be taken
)

// Keep tells how far the log goes each second, and takes snapshots when enough has come since the last one, until ctx ends.
func (l *Log) Keep(ctx context.Context) {
	l.wake()
	beats := time.NewTicker(beatEvery)
	defer beats.Stop()
	again := time.Time{}
	for {
		select {
		case <-ctx.Done():
			return
		case <-l.moment:
			if time.Now().Before(again) {
				continue
			}
			if err := l.takeSnapshot(ctx); err != nil && ctx.Err() == nil {
				l.log.Warn("no snapshot could be taken for other machines, which is tried again", "error", err)
				again = time.Now().Add(snapshotAgain)
				time.AfterFunc(snapshotAgain, l.wake)
			}
		case <-beats.C:
			if l.taken == 0 {
				l.wake()
			}
		}
		if err := l.beat(); err != nil && ctx.Err() == nil {
			l.log.Debug("other machines could not be told how far the log goes", "error", err)
		}
	}
}

func (l *Log) beat() error {
	l.mu.Lock()
	b := Beat{Epoch: l.at.epoch, Seq: l.at.seq, Number: l.at.number, Chain: l.at.chain, At: l.clock().UTC(), Writer: l.me}
	l.mu.Unlock()
	text, err := l.signer.SignBeat(b)
	if err != nil {
		return err
	}
	return l.bus.Beat(text)
}

// takeSnapshot takes a snapshot of the policy as it is, tells of it in the log, and lets older ones go, and the entries before them.
func (l *Log) takeSnapshot(ctx context.Context) error {
	if _, ok := l.bus.(*Ring); ok { // whoever follows over HTTP asks for one
		return nil
	}
	var head Head
	var name string
	for _, picture := range []bool{false, true} {
		var err error
		if head, name, err = l.putSnapshot(ctx, picture); errors.Is(err, ErrNone) { // there is no policy yet
			return nil
		} else if err != nil {
			return err
		}
	}
	l.mu.Lock()
	err := l.publish(ctx, &Entry{Kind: Snapshot, Epoch: l.at.epoch, Object: &Object{Name: name, Size: head.Size, SHA256: head.SHA256}})
	l.mu.Unlock()
	if err != nil {
		return err
	}
	l.taken = head.Number
	l.log.Info("snapshot for other machines", "revision", head.Number, "bytes", head.Size)
	return l.forget(ctx)
}

// putSnapshot takes a snapshot, and keeps it as an object.
func (l *Log) putSnapshot(ctx context.Context, picture bool) (head Head, name string, err error) {
	file, err := os.CreateTemp("", "sentier-snapshot-*")
	if err != nil {
		return head, "", err
	}
	defer os.Remove(file.Name()) // and if it cannot be, the machine clears its temporary files
	defer file.Close()
	if head, err = l.Snapshot(ctx, picture, true, file); err == nil {
		err = sought(file)
	}
	if err != nil {
		return head, "", err
	}
	name = snapshotName(rowsPrefix, &head)
	if picture {
		name = snapshotName(snapshotPrefix, &head)
	}
	return head, name, l.bus.Put(ctx, name, file)
}

// Snapshot writes a snapshot of the policy as it is into a file that is empty: as a picture for a program of the same version, or as rows for any; with what
// else is known or without it. The error is [ErrNone] where there is no policy yet.
func (l *Log) Snapshot(ctx context.Context, picture, withFacts bool, into *os.File) (Head, error) {
	l.mu.Lock() // until what is written is that of a moment
	free := sync.OnceFunc(l.mu.Unlock)
	defer free()
	last, err := l.local.Revisions(ctx, store.Which{}, 1)
	if err == nil && len(last) == 0 {
		err = ErrNone
	}
	if _, ok := l.bus.(*Ring); ok && err == nil && last[0].Number != l.at.number {
		l.skip(&Entry{Number: last[0].Number, Chain: last[0].Chain})
	} else if err == nil {
		err = l.publishUpTo(ctx, last[0].Number)
	}
	if err != nil {
		return Head{}, err
	}
	at := Standing{Epoch: l.at.epoch, Seq: l.at.seq, Writer: l.me, Made: l.clock(), form: formRows}
	if withFacts {
		at.Facts = l.facts
	}
	from := body(l.local.Rows)
	if picture && l.policy != nil {
		if p, r := l.policy(); p != nil && r.Number == l.at.number { // it is so but for moments after a change
			from, at.form, at.picture = pictured(p, r), formPicture, policy.PictureForm
		}
	}
	return l.signer.writeSnapshot(ctx, from, at, free, into)
}

// forget lets go what nobody begins with any more.
func (l *Log) forget(ctx context.Context) error {
	names, err := l.bus.Objects(ctx, snapshotPrefix)
	if err != nil || len(names) <= snapshotsKept {
		return err
	}
	seq, number, err := ofSnapshot(names[len(names)-snapshotsKept])
	if err != nil {
		return err
	}
	if err := l.bus.Forget(ctx, seq); err != nil {
		return err
	}
	gone := slices.Clone(names[:len(names)-snapshotsKept])
	rows, err := l.bus.Objects(ctx, rowsPrefix)
	if err != nil {
		return err
	}
	gone = append(gone, rows[:max(0, len(rows)-snapshotsKept)]...)
	changes, err := l.bus.Objects(ctx, ChangesPrefix)
	if err != nil {
		return err
	}
	for _, name := range changes {
		var of uint64
		if _, err := fmt.Sscanf(name, ChangesPrefix+"%d-", &of); err == nil && of <= number {
			gone = append(gone, name)
		}
	}
	return l.bus.Drop(ctx, gone...)
}

// snapshotName is the name of a snapshot as an object: a later one comes after it.
func snapshotName(prefix string, h *Head) string {
	return fmt.Sprintf("%s%020d-%020d-%x", prefix, h.Seq, h.Number, h.SHA256[:8])
}

// ofSnapshot reads of what a snapshot is from its name.
func ofSnapshot(name string) (seq, number uint64, err error) {
	if _, err = fmt.Sscanf(name, snapshotPrefix+"%d-%d-", &seq, &number); err != nil {
		err = fmt.Errorf("the object %q is no snapshot of ours", name)
	}
	return seq, number, err
}

// newestFacts are the facts of the newest snapshot, and up to where in the log they go. The error is [ErrNone] where there is none.
func (l *Log) newestFacts(ctx context.Context) (since uint64, facts container.Map[string, string], err error) {
	file, err := os.CreateTemp("", "sentier-snapshot-*")
	if err != nil {
		return 0, facts, err
	}
	defer os.Remove(file.Name()) // and if it cannot be, the machine clears its temporary files
	defer file.Close()
	if _, err = takeNewest(ctx, l.bus, l.keys, file); err == nil {
		err = sought(file)
	}
	if err != nil {
		return 0, facts, err
	}
	o, err := l.keys.openSnapshot(file)
	if err != nil {
		return 0, facts, err
	}
	o.unpacked.Close()
	return o.head.Seq, o.facts, nil
}

// takeNewest copies the newest snapshot that is good into a file: a picture, or rows where that is of another version. The error is [ErrNone] where there is
// none.
func takeNewest(ctx context.Context, bus Feed, keys Keys, into *os.File) (Head, error) {
	head, err := takeOf(ctx, bus, keys, snapshotPrefix, into)
	if errors.Is(err, ErrNone) || errors.As(err, new(*OtherError)) {
		head, err = takeOf(ctx, bus, keys, rowsPrefix, into)
	}
	return head, err
}

func takeOf(ctx context.Context, bus Feed, keys Keys, prefix string, into *os.File) (Head, error) {
	names, err := bus.Objects(ctx, prefix)
	if err != nil {
		return Head{}, err
	}
	err = ErrNone
	for _, name := range slices.Backward(names) {
		if err := errors.Join(into.Truncate(0), sought(into)); err != nil {
			return Head{}, err
		}
		var from io.ReadCloser
		if from, err = bus.Get(ctx, name); err != nil {
			continue
		}
		var head Head
		head, err = keys.TakeSnapshot(from, into)
		if err = errors.Join(err, from.Close()); err == nil {
			return head, nil
		}
	}
	return Head{}, err
}

func sought(file *os.File) error {
	_, err := file.Seek(0, io.SeekStart)
	return err
}

// Kept is where revisions are kept by the machine that writes. A [store.Store] is one.
type Kept interface {
	Load(ctx context.Context) (*policy.Policy, store.Revision, error)
	Append(ctx context.Context, r *store.Revision, done []policy.RecordChange, how store.Saving) error
}

// Revisions are revisions that go into a log, and are kept once it has them.
type Revisions struct {
	Kept
	Log *Log
}

// Append adds a revision to the log, and keeps it. The error is [ErrUnknown] where it is not known whether the log has it.
func (r Revisions) Append(ctx context.Context, revision *store.Revision, done []policy.RecordChange, how store.Saving) error {
	return r.Log.Append(ctx, func(published func(*store.Revision, []store.Change) error) error {
		how.Published = published
		return r.Kept.Append(ctx, revision, done, how)
	})
}
