package identity

import (
	"crypto/rand"
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"net/netip"
	"sync"
	"time"
)

// loginLimiter bounds how fast passwords can be tried.
type loginLimiter struct {
	key [32]byte // of the hashes of names and addresses, so that nobody can choose where they fall

	accounts, addresses, known *buckets
}

// How fast passwords can be tried: some at once, then one in a while. A try that succeeds costs nothing.
const (
	triesAtOnce = 10
	tryAgain    = 6 * time.Second
)

func newLimiter() *loginLimiter {
	l := &loginLimiter{accounts: newBuckets(), addresses: newBuckets(), known: newBuckets()}
	rand.Read(l.key[:]) // never fails
	return l
}

// buckets hold how much may still be tried, for as many keys as there are: their number is fixed, and keys that fall on the same
// one share it. So nothing that anybody sends makes them grow, and nothing empties them.
type buckets struct {
	mu   sync.Mutex
	list []time.Duration // how far ahead of the clock the tries so far have gone
	from time.Time
}

const bucketCount = 1 << 16

func newBuckets() *buckets {
	return &buckets{list: make([]time.Duration, bucketCount), from: time.Now()}
}

// take takes a try; where there is none left, wait is until when.
func (b *buckets) take(at uint32) (wait time.Duration) {
	b.mu.Lock()
	defer b.mu.Unlock()
	now := time.Since(b.from)
	spent := max(b.list[at%bucketCount], now) + tryAgain
	if wait = spent - now - triesAtOnce*tryAgain; wait > 0 {
		return wait
	}
	b.list[at%bucketCount] = spent
	return 0
}

// giveBack gives a try back that succeeded.
func (b *buckets) giveBack(at uint32) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.list[at%bucketCount] -= tryAgain
}

// attempt is a try to sign in, and what it was counted by.
type attempt struct {
	taken []func()
}

func (l *loginLimiter) slot(texts ...string) (uint32, []byte) {
	h := sha256.New()
	h.Write(l.key[:])
	for _, t := range texts {
		fmt.Fprintf(h, "%d:%s", len(t), t)
	}
	sum := h.Sum(nil)
	return binary.BigEndian.Uint32(sum), sum
}

// network is an address as tries are counted by it: of IPv6, whoever has one has all of its 64 bits' network.
func network(address string) string {
	ip, err := netip.ParseAddr(address)
	if err != nil {
		return address
	}
	if ip = ip.Unmap().WithZone(""); ip.Is6() {
		if p, err := ip.Prefix(64); err == nil {
			return p.String()
		}
	}
	return ip.String()
}

// try takes a try for an account from an address. Where the account has been signed in from there before, its tries are counted by
// themselves: what others try elsewhere does not keep its owner out.
func (l *loginLimiter) try(user, address string, known bool) (*attempt, error) {
	from := network(address)
	byAddress, _ := l.slot("address", from)
	byAccount, _ := l.slot("account", user)
	byBoth, _ := l.slot("both", user, from)
	a := &attempt{}
	take := func(b *buckets, at uint32) error {
		if wait := b.take(at); wait > 0 {
			a.giveBack()
			return &TooManyError{wait}
		}
		a.taken = append(a.taken, func() { b.giveBack(at) })
		return nil
	}
	if known {
		return a, take(l.known, byBoth)
	}
	if err := take(l.addresses, byAddress); err != nil {
		return nil, err
	}
	return a, take(l.accounts, byAccount)
}

// giveBack gives back what a try took that succeeded, or was not made.
func (a *attempt) giveBack() {
	for _, back := range a.taken {
		back()
	}
	a.taken = nil
}

// placeOf is a hash of where somebody signs in from.
func placeOf(user, address string) []byte {
	sum := sha256.Sum256([]byte("place\x00" + user + "\x00" + network(address)))
	return sum[:16]
}
