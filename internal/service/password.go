package service

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"fmt"
	"net/netip"
	"runtime"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"golang.org/x/crypto/argon2"
)

// Parameters of argon2id: 19 MiB, two passes, one lane.
const (
	argonMemory = 19 * 1024
	argonTime   = 2
	argonKey    = 32
	minPassword = 12
	maxPassword = 200
)

// guard bounds how many passwords are hashed at once and how fast they can be tried.
type guard struct {
	hashing chan struct{}
	waiting chan struct{}
	key     [32]byte // of the hashes of names and addresses, so that nobody can choose where they fall

	accounts, addresses, known *buckets
}

// How fast passwords can be tried: some at once, then one in a while. A try that succeeds costs nothing.
const (
	triesAtOnce = 10
	tryAgain    = 6 * time.Second
	mostQueued  = 16 // sign-ins that wait for their turn to be hashed
)

func newGuard() *guard {
	g := &guard{
		hashing: make(chan struct{}, max(1, runtime.GOMAXPROCS(0)/2)), waiting: make(chan struct{}, mostQueued),
		accounts: newBuckets(), addresses: newBuckets(), known: newBuckets(),
	}
	rand.Read(g.key[:]) // never fails
	return g
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

func (g *guard) slot(texts ...string) (uint32, []byte) {
	h := sha256.New()
	h.Write(g.key[:])
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
func (g *guard) try(user, address string, known bool) (*attempt, error) {
	from := network(address)
	byAddress, _ := g.slot("address", from)
	byAccount, _ := g.slot("account", user)
	byBoth, _ := g.slot("both", user, from)
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
		return a, take(g.known, byBoth)
	}
	if err := take(g.addresses, byAddress); err != nil {
		return nil, err
	}
	return a, take(g.accounts, byAccount)
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

var errQueue = errors.New("too many are signing in")

// argon hashes a password when it is its turn.
func (g *guard) argon(ctx context.Context, password string, salt []byte) ([]byte, error) {
	select {
	case g.waiting <- struct{}{}:
		defer func() { <-g.waiting }()
	default:
		return nil, &TooManyError{2 * time.Second}
	}
	select {
	case g.hashing <- struct{}{}:
		defer func() { <-g.hashing }()
	case <-ctx.Done():
		return nil, errQueue
	}
	return argon2.IDKey([]byte(password), salt, argonTime, argonMemory, 1, argonKey), nil
}

// hash gives the PHC string of a password.
func (g *guard) hash(ctx context.Context, password string) (string, error) {
	if n := utf8.RuneCountInString(password); n < minPassword || n > maxPassword || !utf8.ValidString(password) {
		return "", Wrong("password", "has %d characters: a password has %d to %d", n, minPassword, maxPassword)
	}
	salt := make([]byte, 16)
	rand.Read(salt) // never fails
	b64 := base64.RawStdEncoding.EncodeToString
	sum, err := g.argon(ctx, password, salt)
	if err != nil {
		return "", err
	}
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=1$%s$%s", argon2.Version, argonMemory, argonTime, b64(salt), b64(sum)), nil
}

var errHash = errors.New("the kept hash of a password cannot be read")

// matches tells whether a password has the hash. An empty hash matches nothing, in the same time.
func (g *guard) matches(ctx context.Context, password, hash string) (bool, error) {
	if hash == "" {
		_, err := g.argon(ctx, password, make([]byte, 16))
		return false, err
	}
	parts := strings.Split(hash, "$")
	if len(parts) != 6 || parts[1] != "argon2id" {
		return false, errHash
	}
	salt, err1 := base64.RawStdEncoding.DecodeString(parts[4])
	want, err2 := base64.RawStdEncoding.DecodeString(parts[5])
	if err1 != nil || err2 != nil {
		return false, errHash
	}
	sum, err := g.argon(ctx, password, salt)
	return err == nil && subtle.ConstantTimeCompare(sum, want) == 1, err
}
