// Package notifier tells whoever waits that something has come.
package notifier

import "sync"

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
