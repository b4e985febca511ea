package replica

import (
	"bytes"
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
	bus  Bus
	keys Keys
	disk disk
	log  *slog.Logger

	current atomic.Pointer[Copy]
	moved   notifier.Notifier
	heard   atomic.Pointer[heard]
	problem atomic.Pointer[Problem] // nil: there is none
}

// heard is the writer's last word.
type heard struct {
	beat Beat
	at   time.Time // by the clock of this machine that only goes forward
}

// Problem is what was last refused, and when.
type Problem struct {
	Err error
	At  time.Time
}

// FollowerOptions say what is followed, and where it is kept.
type FollowerOptions struct {
	Bus  Bus
	Keys Keys
	Dir  string
	Log  *slog.Logger
}

// OpenFollower reads what the folder has of the log, and where it has nothing waits for the newest snapshot.
func OpenFollower(ctx context.Context, o FollowerOptions) (*Follower, error) {
	f := &Follower{bus: o.Bus, keys: o.Keys, disk: disk{dir: o.Dir, keys: o.Keys}, log: o.Log}
	c, problem, err := f.disk.read(func(e *Entry) error { return fetch(ctx, f.object, e) })
	if err != nil {
		return nil, fmt.Errorf("read what is kept of the log of revisions: %w", err)
	}
	if problem != nil {
		f.refuse(problem)
	}
	f.current.Store(&c)
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
	return max(0, now.Sub(h.at)), true
}

func (f *Follower) refuse(err error) {
	f.problem.Store(&Problem{err, time.Now()})
	f.log.Error("something that came for the policy is refused, and the last good one goes on", "problem", err)
}

// beginAnew takes the newest snapshot.
func (f *Follower) beginAnew(ctx context.Context) error {
	var taken Copy
	_, err := f.disk.begin(func(into *os.File) (Head, error) {
		head, err := takeNewest(ctx, f.bus, f.keys, into)
		if err == nil {
			err = sought(into)
		}
		if err == nil && head.Seq <= f.Copy().Seq && f.Copy().Policy != nil {
			err = fmt.Errorf("%s is not newer than what is here", head.name())
		}
		if err == nil {
			taken, _, err = f.keys.ReadSnapshot(into)
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
	return nil
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
		if errors.Is(err, errGap) { // the log does not go back so far: a newer snapshot has it
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
	if err := f.disk.keep(text); err != nil {
		f.log.Warn("what has come cannot be kept here, and is asked for again at the next start", "error", err)
	}
	f.show(step, took)
	if e.Kind == Snapshot && f.disk.count >= entriesAtRun {
		f.renew(ctx, e)
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

// renew takes a snapshot that the log tells of in the place of the one that is kept, and of the entries up to it.
func (f *Follower) renew(ctx context.Context, e *Entry) {
	_, err := f.disk.begin(func(into *os.File) (Head, error) {
		from, err := f.bus.Get(ctx, e.Object.Name)
		if err != nil {
			return Head{}, err
		}
		head, err := f.keys.TakeSnapshot(from, into)
		if err = errors.Join(err, from.Close()); err == nil && !bytes.Equal(head.SHA256, e.Object.SHA256) {
			err = forged(head.name(), "is another than the log tells of")
		}
		return head, err
	})
	if err != nil && ctx.Err() == nil {
		f.log.Warn("a newer snapshot could not be kept here", "error", err)
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
	if b.Epoch < c.Epoch || before != nil && !b.At.After(before.beat.At) && b.Epoch == before.beat.Epoch {
		return
	}
	if b.Seq > c.Seq { // what it tells of is on its way
		return
	}
	f.heard.Store(&heard{b, now})
}
