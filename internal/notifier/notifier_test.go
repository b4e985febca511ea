package notifier

import (
	"context"
	"sync"
	"testing"
	"time"
)

// TestNobodyMissesWhatCame: whoever takes the channel and then looks sees every change, however quickly they come.
func TestNobodyMissesWhatCame(t *testing.T) {
	const last = 2000
	var (
		n     Notifier
		mu    sync.Mutex
		value int
		all   sync.WaitGroup
	)
	look := func() int {
		mu.Lock()
		defer mu.Unlock()
		return value
	}
	for range 20 {
		all.Go(func() {
			for {
				next := n.Wait()
				if look() == last {
					return
				}
				<-next // a change that came since Wait has closed it: the test hangs where one was missed
			}
		})
	}
	for range last {
		mu.Lock()
		value++
		mu.Unlock()
		n.Notify()
	}
	all.Wait()
}

// TestQuietly tells what came, what stayed away, and that nobody waits any more.
func TestQuietly(t *testing.T) {
	var n Notifier
	ended, end := context.WithCancel(t.Context())
	end()
	rung := n.Wait()
	n.Notify()
	for _, c := range []struct {
		name         string
		ctx          context.Context
		next         <-chan struct{}
		quiet        time.Duration
		silent, open bool
	}{
		{"something came", t.Context(), rung, time.Hour, false, true},
		{"nothing came", t.Context(), n.Wait(), time.Millisecond, true, true},
		{"nobody waits", ended, n.Wait(), time.Hour, false, false},
	} {
		if silent, open := Quietly(c.ctx, c.next, c.quiet); silent != c.silent || open != c.open {
			t.Errorf("%s: silent %v, open %v", c.name, silent, open)
		}
	}
}
