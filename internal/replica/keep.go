package replica

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"sync"
	"time"

	"sentier/internal/container"
	"sentier/internal/policy"
	"sentier/internal/store"
)

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
			if l.taken.Load() == 0 {
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
	b := Beat{Epoch: l.at.epoch, Count: l.beats.Add(1), Seq: l.at.seq, Number: l.at.number, Chain: l.at.chain, At: l.clock().UTC(), Writer: l.me}
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
	if err == nil {
		l.taken.Store(head.Number)
	}
	l.mu.Unlock()
	if err != nil {
		return err
	}
	l.log.Info("snapshot for other machines", "revision", head.Number, "bytes", head.Size)
	return l.forget(ctx)
}

// putSnapshot takes a snapshot, and keeps it as an object.
func (l *Log) putSnapshot(ctx context.Context, picture bool) (head Head, name string, err error) {
	file, err := scratch()
	if err != nil {
		return head, "", err
	}
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
	from, at := l.stands(picture, withFacts)
	return l.signer.writeSnapshot(ctx, from, at, free, into)
}

// stands is what is written of the policy as it is. The caller holds l.mu.
func (l *Log) stands(picture, withFacts bool) (body, Standing) {
	at := Standing{Epoch: l.at.epoch, Seq: l.at.seq, Writer: l.me, Made: l.clock(), form: formRows}
	if withFacts {
		at.Facts = l.facts
	}
	if picture && l.policy != nil {
		if p, r := l.policy(); p != nil && r.Number == l.at.number { // it is so but for moments after a change
			at.form, at.picture = formPicture, policy.PictureForm
			return pictured(p, r), at
		}
	}
	return l.local.Rows, at
}

// Leave has this machine follow from where it wrote last: it begins a folder with the policy as it is here. made is when it was last known that nobody else had
// written.
func (l *Log) Leave(ctx context.Context, dir string, made time.Time) error {
	d := disk{dir: dir, keys: l.keys}
	_, err := d.begin(func(into *os.File) (Head, error) {
		l.mu.Lock() // until what is written is that of a moment
		free := sync.OnceFunc(l.mu.Unlock)
		defer free()
		from, at := l.stands(true, true)
		at.Made = made
		return l.signer.writeSnapshot(ctx, from, at, free, into)
	})
	return err
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
	for prefix, from := range map[string]uint64{ChangesPrefix: number + 1, sealedPrefix: number} { // what was done beside may be after the snapshot of its revision
		apart, err := l.bus.Objects(ctx, prefix)
		if err != nil {
			return err
		}
		for _, name := range apart {
			var of uint64
			if _, err := fmt.Sscanf(name, prefix+"%d-", &of); err == nil && of < from {
				gone = append(gone, name)
			}
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
	file, err := scratch()
	if err != nil {
		return 0, facts, err
	}
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
