package bus

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"sync/atomic"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"
)

// The lease by which one machine writes: a key that ends by itself where its holder does not renew it.
const (
	leaseBucket = "SENTIER_LEASE"
	leaseKey    = "writer"
	leaseTime   = 9 * time.Second // as long as the servers take at most to elect a leader: who writes does not change for that
	leaseRenew  = time.Second
	// leaseMargin is by how much a holder counts it as ended before the servers do.
	leaseMargin = 500 * time.Millisecond
)

// Holding is who holds the lease, or is to have it next.
type Holding struct {
	Machine string `json:"machine,omitempty"`
	ID      string `json:"id,omitempty"`   // of this holding: a machine that starts again is another holder
	Next    string `json:"next,omitempty"` // it was given up for this machine, and nobody else takes it until it has ended
}

// Lease is the lease as this machine holds it.
type Lease struct {
	bus   *Bus
	text  []byte
	at    uint64       // the place of the key
	asked atomic.Int64 // nanoseconds since began, on the clock that only goes forward
	lost  atomic.Bool
	began time.Time
}

// ErrHeld is that another machine holds the lease.
var ErrHeld = errors.New("another machine holds the lease by which one writes")

// Holder is who holds the lease now; nobody where it is free.
func (b *Bus) Holder(ctx context.Context) (Holding, error) {
	h, _, err := b.holder(ctx)
	return h, err
}

func (b *Bus) holder(ctx context.Context) (h Holding, at uint64, err error) {
	kv, err := b.leaseOf(ctx)
	if err != nil {
		return h, 0, fmt.Errorf("read who writes: %w", err)
	}
	e, err := kv.Get(ctx, leaseKey)
	if errors.Is(err, jetstream.ErrKeyNotFound) {
		return h, 0, nil
	}
	if err != nil {
		return h, 0, fmt.Errorf("read who writes: %w", err)
	}
	if err := json.Unmarshal(e.Value(), &h); err != nil {
		return h, 0, fmt.Errorf("read who writes: %w", err)
	}
	return h, e.Revision(), nil
}

func (b *Bus) leaseOf(ctx context.Context) (jetstream.KeyValue, error) {
	return foundOnce(b, &b.lease, func() (jetstream.KeyValue, error) { return b.js.KeyValue(ctx, leaseBucket) })
}

// TakeLease takes the lease for a machine, where it is free or was given up for it. The error is [ErrHeld] where it is not.
func (b *Bus) TakeLease(ctx context.Context, machine string) (*Lease, error) {
	text, err := json.Marshal(Holding{Machine: machine, ID: rand.Text()})
	if err != nil {
		return nil, err
	}
	l := &Lease{bus: b, text: text, began: time.Now()}
	h, at, err := b.holder(ctx)
	if err != nil {
		return nil, err
	}
	asked := time.Now()
	switch {
	case at == 0:
		kv, err := b.leaseOf(ctx)
		if err != nil {
			return nil, err
		}
		l.at, err = kv.Create(ctx, leaseKey, text, jetstream.KeyTTL(leaseTime))
		if errors.Is(err, jetstream.ErrKeyExists) {
			return nil, ErrHeld
		}
		if err != nil {
			return nil, fmt.Errorf("take the lease: %w", err)
		}
	case h.Next == machine:
		if l.at, err = b.putLease(ctx, at, text); err != nil {
			return nil, err
		}
	default:
		return nil, ErrHeld
	}
	l.holds(asked)
	return l, nil
}

// putLease puts the key in the place of what stands there. The error is [ErrHeld] where that is something else.
func (b *Bus) putLease(ctx context.Context, after uint64, text []byte) (uint64, error) {
	msg := &nats.Msg{Subject: "$KV." + leaseBucket + "." + leaseKey, Data: text}
	ack, err := b.js.PublishMsg(ctx, msg, jetstream.WithMsgTTL(leaseTime), jetstream.WithExpectLastSequencePerSubject(after), jetstream.WithRetryAttempts(0))
	if wrongSequence(err) {
		return 0, ErrHeld
	}
	if err != nil {
		return 0, fmt.Errorf("renew the lease: %w", err)
	}
	return ack.Sequence, nil
}

// holds notes that the lease was asked for at an instant, and given.
func (l *Lease) holds(asked time.Time) {
	l.asked.Store(int64(asked.Sub(l.began)))
}

// Until is until when this machine holds the lease; the zero time where it has lost it.
func (l *Lease) Until() time.Time {
	if l.lost.Load() {
		return time.Time{}
	}
	return l.Renewed().Add(leaseTime - leaseMargin)
}

// Renewed is when the servers have last been asked for the lease and have given it: nobody else has written until then.
func (l *Lease) Renewed() time.Time { return l.began.Add(time.Duration(l.asked.Load())) }

// Keep renews the lease until ctx ends, or it is lost: then its error says why.
func (l *Lease) Keep(ctx context.Context) error {
	for {
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(leaseRenew):
		}
		asked := time.Now()
		limited, cancel := context.WithTimeout(ctx, leaseRenew) // what is asked while the servers elect a leader is lost, and asked again
		at, err := l.bus.putLease(limited, l.at, l.text)
		cancel()
		switch {
		case err == nil:
			l.at = at
			l.holds(asked)
		case ctx.Err() != nil:
			return nil
		case errors.Is(err, ErrHeld):
			if l.found(ctx) {
				continue
			}
			l.lost.Store(true)
			return ErrHeld
		case !time.Now().Before(l.Until()):
			return err
		}
	}
}

func (h Holding) text() []byte {
	text, err := json.Marshal(h)
	if err != nil {
		panic(err) // two texts can be written
	}
	return text
}

// found tells whether the lease is still this machine's, after an answer to an earlier try was lost.
func (l *Lease) found(ctx context.Context) bool {
	mine, at, err := l.bus.holder(ctx)
	if err != nil || at == 0 || string(l.text) != string(mine.text()) {
		return false
	}
	l.at = at
	return true
}

// GiveUp ends the lease, for another machine or for any. [Lease.Keep] has ended before.
func (l *Lease) GiveUp(ctx context.Context, next string) error {
	l.lost.Store(true)
	err := l.giveUp(ctx, next)
	if errors.Is(err, ErrHeld) && l.found(ctx) { // it was renewed in the moment in which that was ended
		err = l.giveUp(ctx, next)
	}
	return err
}

func (l *Lease) giveUp(ctx context.Context, next string) error {
	if next != "" {
		_, err := l.bus.putLease(ctx, l.at, Holding{Next: next}.text())
		return err
	}
	kv, err := l.bus.leaseOf(ctx)
	if err != nil {
		return err
	}
	err = kv.Delete(ctx, leaseKey, jetstream.LastRevision(l.at))
	if wrongSequence(err) {
		return ErrHeld
	}
	return err
}

func wrongSequence(err error) bool {
	var refused *jetstream.APIError
	return errors.As(err, &refused) && (refused.ErrorCode == wrongLastSequence || refused.ErrorCode == wrongLastSequenceAgain)
}
