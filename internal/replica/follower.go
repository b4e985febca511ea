package replica

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"sync"
	"sync/atomic"
	"time"

	"sentier/internal/notifier"
)

// Follower follows the log of revisions, and has at any time the last copy that was good.
type Follower struct {
	bus   Feed
	keys  Keys
	disk  disk
	log   *slog.Logger
	clock func() time.Time

	current atomic.Pointer[Copy]
	moved   notifier.Notifier
	heard   atomic.Pointer[heard]
	problem atomic.Pointer[Problem] // nil: there is none
	kept    time.Time               // when the writer's word was last kept
}

// heard is the writer's last word.
type heard struct {
	beat  Beat
	at    time.Time     // by the clock of this machine that only goes forward
	ahead time.Duration // of the clock of this machine; 0 where it was not heard just then
}

// newer tells whether a word is newer than another of the same epoch.
func (b *Beat) newer(than *Beat) bool {
	if than.Count > 0 {
		return b.Count > than.Count
	}
	return b.At.After(than.At) // which is known of a snapshot
}

// Problem is what was last refused, and when.
type Problem struct {
	Err error
	At  time.Time
}

// FollowerOptions say what is followed, and where it is kept.
type FollowerOptions struct {
	Bus    Feed
	Keys   Keys
	Dir    string
	Log    *slog.Logger
	Clock  func() time.Time // nil: the machine's
	Newest bool             // the newest snapshot is looked for although the folder has something: nothing else comes
}

// OpenFollower reads what the folder has of the log, and where it has nothing waits for the newest snapshot.
func OpenFollower(ctx context.Context, o FollowerOptions) (*Follower, error) {
	f := &Follower{bus: o.Bus, keys: o.Keys, disk: disk{dir: o.Dir, keys: o.Keys}, log: o.Log, clock: o.Clock}
	if f.clock == nil {
		f.clock = time.Now
	}
	c, problem, err := f.disk.read(func(e *Entry) error { return fetch(ctx, f.object, e) })
	if err != nil {
		return nil, fmt.Errorf("read what is kept of the log of revisions: %w", err)
	}
	if problem != nil {
		f.refuse(problem)
	}
	f.current.Store(&c)
	if err := f.readBeat(); err != nil {
		return nil, err
	}
	if o.Newest && c.Policy != nil {
		if err := f.beginAnew(ctx); err != nil && !errors.Is(err, errOlder) {
			return nil, errors.Join(err, f.disk.close())
		}
	}
	for told := false; f.Copy().Policy == nil; {
		err := f.beginAnew(ctx)
		if err == nil {
			break
		}
		if !told {
			f.log.Warn("there is no snapshot to begin with yet, and it is waited for", "error", err)
			told = true
		}
		select {
		case <-ctx.Done():
			return nil, errors.Join(fmt.Errorf("no snapshot has come to begin with: %w", err), f.disk.close())
		case <-time.After(beginAgain):
		}
	}
	return f, nil
}

const (
	beginAgain   = 500 * time.Millisecond
	followAgain  = time.Second
	entriesAtRun = 2000 // entries that are kept beside a snapshot before a newer one takes their place
)

// Copy is the last good copy.
func (f *Follower) Copy() *Copy { return f.current.Load() }

// Moved wakes when another copy has come.
func (f *Follower) Moved() <-chan struct{} { return f.moved.Wait() }

// Problem is what was last refused; nil: nothing.
func (f *Follower) Problem() *Problem { return f.problem.Load() }

// Age is for how long it may not be true any more that nothing newer than the copy is there: since the writer has last said so. It is false where the writer
// has not been heard since the start.
func (f *Follower) Age(now time.Time) (time.Duration, bool) {
	h := f.heard.Load()
	if h == nil {
		return 0, false
	}
	// By both clocks: a word that somebody has kept and sends again is as old as it says.
	return max(0, now.Sub(h.at), f.clock().Sub(h.beat.At)-MostSkew), true
}

// Ahead is by how much the clock of this machine was ahead of that of the writer when it was last heard, or its word took that long; less than nothing: behind.
// It is 0 where the writer has not been heard since the start.
func (f *Follower) Ahead() time.Duration {
	if h := f.heard.Load(); h != nil {
		return h.ahead
	}
	return 0
}

// MostSkew is how far the clocks of two machines differ that are well looked after.
const MostSkew = 2 * time.Second

func (f *Follower) refuse(err error) {
	f.problem.Store(&Problem{err, time.Now()})
	f.log.Error("something that came for the policy is refused, and the last good one goes on", "problem", err)
}

// beginAnew takes the newest snapshot.
func (f *Follower) beginAnew(ctx context.Context) error {
	var taken Copy
	var made time.Time
	_, err := f.disk.begin(func(into *os.File) (Head, error) {
		head, err := takeNewest(ctx, f.bus, f.keys, into)
		if err == nil {
			err = sought(into)
		}
		if err == nil && head.Seq <= f.Copy().Seq && f.Copy().Policy != nil {
			err = fmt.Errorf("%s: %w", head.name(), errOlder)
		}
		if err == nil {
			taken, _, err = f.keys.ReadSnapshot(into)
			made = head.Made
		}
		return head, err
	})
	if errors.As(err, new(*ForgedError)) {
		f.refuse(err)
	}
	if err != nil {
		return err
	}
	f.current.Store(&taken)
	if before := f.heard.Load(); before == nil || made.After(before.beat.At) { // nothing newer was there when it was made
		f.heard.Store(&heard{beat: Beat{Epoch: taken.Epoch, Seq: taken.Seq, At: made}, at: f.ago(made)})
	}
	return nil
}

// errOlder is that a snapshot is not newer than what is here.
var errOlder = errors.New("it is not newer than what is here")

// ago is an instant of the service by the clock of this machine that only goes forward.
func (f *Follower) ago(at time.Time) time.Time { return time.Now().Add(-f.clock().Sub(at)) }

// Since is when it was last known that nothing newer than the copy is there, by the clock of the service. It is false where that never was.
func (f *Follower) Since() (time.Time, bool) {
	h := f.heard.Load()
	if h == nil {
		return time.Time{}, false
	}
	return h.beat.At, true
}

// Run follows until ctx ends. took is called with each step in order, before it is there for others to see.
func (f *Follower) Run(ctx context.Context, took func(Step)) error {
	var beats sync.WaitGroup
	defer beats.Wait()
	beats.Go(func() {
		for ctx.Err() == nil {
			if err := f.bus.Beats(ctx, f.hear); err != nil && ctx.Err() == nil {
				f.log.Debug("the writer cannot be heard", "error", err)
				pause(ctx, followAgain)
			}
		}
	})
	for ctx.Err() == nil {
		err := f.bus.Follow(ctx, f.Copy().Seq, func(text []byte) error { return f.take(ctx, text, took) })
		if ctx.Err() != nil {
			break
		}
		if err == nil { // the other end has ended it, as it does now and then
			continue
		}
		if errors.Is(err, errGap) || errors.Is(err, ErrGone) { // the log does not go back so far: a newer snapshot has it
			before := f.Copy()
			if err = f.beginAnew(ctx); err == nil {
				after := f.Copy()
				took(Step{Copy: *after, Done: before.Policy.Compare(after.Policy), Facts: factsBetween(before, after)})
				f.moved.Notify()
				continue
			}
		}
		f.log.Warn("the log of revisions cannot be followed, and is tried again", "error", err)
		pause(ctx, followAgain)
	}
	return f.disk.close()
}

// factsBetween are those of a copy that are not those of one before.
func factsBetween(before, after *Copy) []Fact {
	var out []Fact
	for key, value := range after.Facts.All {
		if was, ok := before.Facts.Get(key); !ok || was != value {
			out = append(out, Fact{key, json.RawMessage(value)})
		}
	}
	for key := range before.Facts.All {
		if _, still := after.Facts.Get(key); !still {
			out = append(out, Fact{Key: key})
		}
	}
	return out
}

func pause(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// errGap is that entries are missing between the copy and what comes.
var errGap = errors.New("entries are missing")

// take takes an entry that has come.
func (f *Follower) take(ctx context.Context, text []byte, took func(Step)) error {
	e, err := f.keys.Entry(text)
	if err != nil {
		f.refuse(err)
		return nil
	}
	c := f.Copy()
	if e.Seq > c.Seq+1 {
		return errGap
	}
	if e.Seq > c.Seq {
		if err := fetch(ctx, f.object, e); err != nil && !errors.As(err, new(*ForgedError)) {
			return err
		}
	}
	step, err := c.Next(e)
	if err != nil {
		f.refuse(err)
		return nil
	}
	if step.Seen {
		return nil
	}
	if e.Kind != Facting { // what is sealed is for others
		text = Bare(text)
	}
	if err := f.disk.keep(text); err != nil {
		f.log.Warn("what has come cannot be kept here, and is asked for again at the next start", "error", err)
	}
	f.show(step, took)
	if f.disk.count >= entriesAtRun && f.disk.count%(entriesAtRun/4) == 0 {
		f.renew(ctx)
	}
	return nil
}

// object gives an object from the disk, where it is put when it has come.
func (f *Follower) object(ctx context.Context, name string) (io.ReadCloser, error) {
	if kept, err := f.disk.object(name); err == nil || !errors.Is(err, fs.ErrNotExist) {
		return kept, err
	}
	from, err := f.bus.Get(ctx, name)
	if err != nil {
		return nil, err
	}
	if err := errors.Join(f.disk.putObject(name, from), from.Close()); err != nil {
		return nil, err
	}
	return f.disk.object(name)
}

// show makes the copy of a step the one that others see.
func (f *Follower) show(step Step, took func(Step)) {
	took(step)
	f.current.Store(&step.Copy)
	f.moved.Notify()
}

// renew takes the newest snapshot in the place of the one that is kept, and of the entries up to it.
func (f *Follower) renew(ctx context.Context) {
	_, err := f.disk.begin(func(into *os.File) (Head, error) {
		head, err := takeNewest(ctx, f.bus, f.keys, into)
		if err == nil && head.Seq <= f.disk.since {
			err = fmt.Errorf("%s is not newer than the one that is kept", head.name())
		}
		return head, err
	})
	if err != nil && ctx.Err() == nil {
		f.log.Debug("a newer snapshot is not kept here", "why", err)
	}
}

// hear takes the writer's word. One that is older than the last is of no use to anybody.
func (f *Follower) hear(text []byte) {
	now := time.Now()
	b, err := f.keys.Beat(text)
	if err != nil {
		f.refuse(err)
		return
	}
	c := f.Copy()
	before := f.heard.Load()
	if b.Epoch < c.Epoch || before != nil && b.Epoch == before.beat.Epoch && !b.newer(&before.beat) {
		return
	}
	if b.Seq > c.Seq { // what it tells of is on its way
		return
	}
	f.heard.Store(&heard{b, now, f.clock().Sub(b.At)})
	if now.Sub(f.kept) >= keepBeats {
		f.kept = now
		if err := f.disk.keepBeat(text); err != nil {
			f.log.Warn("when the writer was last heard cannot be kept", "error", err)
		}
	}
}

// keepBeats is how often the writer's word is kept on the disk: a machine that starts without a line knows by it how old what it has is.
const keepBeats = 5 * time.Second

// readBeat reads the writer's last word that is kept.
func (f *Follower) readBeat() error {
	if c := f.Copy(); c.Policy != nil { // nothing newer was there when the snapshot was taken
		f.heard.Store(&heard{beat: Beat{Epoch: c.Epoch, At: f.disk.made}, at: f.ago(f.disk.made)})
	}
	text, err := f.disk.beat()
	if text == nil || err != nil {
		return err
	}
	b, err := f.keys.Beat(text)
	if err != nil {
		f.refuse(err)
		return nil
	}
	if b.Seq <= f.Copy().Seq && b.At.After(f.disk.made) {
		f.heard.Store(&heard{beat: b, at: f.ago(b.At)})
	}
	return nil
}
