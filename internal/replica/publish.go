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
	"slices"
	"strconv"
	"sync"
	"time"

	"github.com/klauspost/compress/zstd"

	"sentier/internal/store"
)

// publishRevision publishes a revision, and what was done beside it; with nothing of that it is one that others may have.
func (l *Log) publishRevision(ctx context.Context, r *store.Revision, changes []store.Change, done store.Done) error {
	e := &Entry{Kind: Revision, Epoch: l.at.epoch, At: r.At, Number: r.Number, Chain: r.Chain, By: r.By, Via: r.Via, Note: r.Note, State: r.State, Hash: r.Form, Changes: changes}
	err := l.setApart(ctx, e)
	if errors.Is(err, errSkip) {
		l.skip(e)
		return nil
	}
	if err != nil {
		return err
	}
	if err := l.seal(ctx, e, &beside{done.Rows, r.RequestKey, r.RequestHash, r.Answer}, done.Trail); err != nil {
		return err
	}
	if err := l.publish(ctx, e); err != nil {
		return err
	}
	l.seqs[e.Number] = e.Seq
	delete(l.seqs, e.Number-64)
	return nil
}

// seal seals what goes with an entry, for the machines that may write.
func (l *Log) seal(ctx context.Context, e *Entry, in *beside, trail []byte) (err error) {
	if l.box == nil {
		return nil
	}
	if e.Sealed, err = l.box.seal(in); err != nil {
		return err
	}
	e.Trail = trail
	if len(e.Sealed) < mostInLog/4 {
		return nil
	}
	e.SealedApart = objectOf(sealedPrefix, e.Number, e.Sealed)
	data := e.Sealed
	e.Sealed = nil
	return l.bus.Put(ctx, e.SealedApart.Name, bytes.NewReader(data))
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
	packed, err := pack(text)
	if err != nil {
		return err
	}
	e.Changes, e.Object = nil, objectOf(ChangesPrefix, e.Number, packed)
	return l.bus.Put(ctx, e.Object.Name, bytes.NewReader(packed))
}

// objectOf describes what is kept apart of an entry, for as long as its revision may be wanted.
func objectOf(prefix string, number uint64, data []byte) *Object {
	sum := sha256.Sum256(data)
	return &Object{Name: fmt.Sprintf("%s%020d-%x", prefix, number, sum[:8]), Size: int64(len(data)), SHA256: sum[:]}
}

type getting func(ctx context.Context, name string) (io.ReadCloser, error)

// fetch reads the changes of an entry that are kept apart.
func fetch(ctx context.Context, get getting, e *Entry) error {
	if e.Kind != Revision || e.Object == nil {
		return nil
	}
	packed, err := e.apart(ctx, get, e.Object)
	if err != nil {
		return err
	}
	text, err := unpack(packed)
	if err == nil {
		err = json.Unmarshal(text, &e.Changes)
	}
	if err != nil {
		return forged(e.name(), "has changes that this program cannot read: bring it up to date")
	}
	return nil
}

// fetchSealed reads what is sealed with an entry, where it is kept apart.
func fetchSealed(ctx context.Context, get getting, e *Entry) (err error) {
	if e.SealedApart != nil {
		e.Sealed, err = e.apart(ctx, get, e.SealedApart)
	}
	return err
}

// apart reads what is kept apart of an entry.
func (e *Entry) apart(ctx context.Context, get getting, o *Object) ([]byte, error) {
	in, err := get(ctx, o.Name)
	if err != nil {
		return nil, fmt.Errorf("read what goes with %s: %w", e.name(), err)
	}
	defer in.Close()
	data, err := io.ReadAll(io.LimitReader(in, o.Size))
	if err != nil {
		return nil, fmt.Errorf("read what goes with %s: %w", e.name(), err)
	}
	if sum := sha256.Sum256(data); !bytes.Equal(sum[:], o.SHA256) {
		return nil, forged(e.name(), "has changes that are not those that were signed")
	}
	return data, nil
}

// packer is the one that packs: each entry of a machine that may write beside others waits for it.
var packer = sync.OnceValues(func() (*zstd.Encoder, error) { return zstd.NewWriter(nil, zstd.WithEncoderLevel(zstd.SpeedFastest)) })

func pack(text []byte) ([]byte, error) {
	p, err := packer()
	if err != nil {
		return nil, err
	}
	return p.EncodeAll(text, nil), nil
}

func unpack(packed []byte) ([]byte, error) {
	reader, err := zstd.NewReader(nil, zstd.WithDecoderMaxMemory(4<<30))
	if err != nil {
		return nil, err
	}
	defer reader.Close()
	return reader.DecodeAll(packed, nil)
}

// publish adds an entry at the end of the log: that it is there is known when it gives back no error. The caller holds l.mu.
func (l *Log) publish(ctx context.Context, e *Entry) error {
	e.Form, e.Seq = logForm, l.at.seq+1
	if e.Kind != Revision {
		e.Number, e.Chain, e.At = l.at.number, l.at.chain, l.clock().UTC()
	}
	if e.Kind != Revision && e.Kind != Beside {
		e.Trail = l.at.trail
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
	ctx, cancel, err := l.whileMine(ctx)
	if err != nil {
		return err
	}
	defer cancel()
	for {
		place, err := l.bus.Publish(ctx, l.at.place, id, e.Seq, text)
		if err == nil {
			l.at = e.end(place)
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

// whileMine bounds what is done to the log: it ends when it must be known what has become of it, and when this machine may write no more.
func (l *Log) whileMine(ctx context.Context) (context.Context, context.CancelFunc, error) {
	end := time.Now().Add(publishTime)
	if l.until != nil {
		until := l.until()
		if !time.Now().Before(until) {
			return nil, nil, ErrLease
		}
		if until.Before(end) {
			end = until
		}
	}
	ctx, cancel := context.WithDeadline(context.WithoutCancel(ctx), end)
	return ctx, cancel, nil
}

// ErrLease is that this machine may not write now: nothing was published.
var ErrLease = errors.New("this machine does not hold the lease by which one writes")

// errAgain is that an entry can be tried again, after something that is passed over.
var errAgain = errors.New("what stands in the log there is of nobody")

// moved looks at what stands in the place of an entry: this very entry, where an answer was lost; something that is of nobody; or the entry of another machine.
func (l *Log) moved(ctx context.Context, e *Entry, text []byte) error {
	last, place, err := l.bus.Tail(ctx)
	if err != nil {
		return errAgain // nothing is known yet
	}
	if bytes.Equal(last, text) {
		l.at = e.end(place)
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
