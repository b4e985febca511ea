// Package notifier tells whoever waits that something has come.
package notifier

import (
	"context"
	"sync"
	"time"
)

// Notifier wakes everybody who waits at once. Its zero value is ready, and may be used from many goroutines.
type Notifier struct {
	mu   sync.Mutex
	rung chan struct{}
}

// Wait gives a channel that is closed with the next Notify. Whoever looks for what has come does so after Wait, and misses nothing.
func (n *Notifier) Wait() <-chan struct{} {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.rung == nil {
		n.rung = make(chan struct{})
	}
	return n.rung
}

// Notify wakes everybody who waits.
func (n *Notifier) Notify() {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.rung != nil {
		close(n.rung)
		n.rung = nil
	}
}

// Quietly waits for what Wait gave. Where it is quiet for longer than a time, or ctx ends, it goes on as well: silent tells of the one, and open is
// false after the other.
func Quietly(ctx context.Context, next <-chan struct{}, quiet time.Duration) (silent, open bool) {
	timer := time.NewTimer(quiet)
	defer timer.Stop()
	select {
	case <-ctx.Done():
		return false, false
	case <-next:
		return false, true
	case <-timer.C:
		return true, true
	}
}
