package service

import (
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"golang.org/x/crypto/argon2"
	"golang.org/x/time/rate"
)

// Parameters of argon2id: 19 MiB, two passes, one lane.
const (
	argonMemory = 19 * 1024
	argonTime   = 2
	argonKey    = 32
	minPassword = 10
	maxPassword = 200
)

// guard bounds how many passwords are hashed at once and how fast they can be tried.
type guard struct {
	slots    chan struct{}
	mu       *sync.Mutex
	attempts map[string]*rate.Limiter
}

func newGuard() guard {
	return guard{make(chan struct{}, 2), &sync.Mutex{}, map[string]*rate.Limiter{}}
}

const (
	triesAtOnce  = 10
	tryAgain     = 6 * time.Second
	triesTracked = 10_000
)

// allow tells whether another attempt may be made for a key, such as a user and an address.
func (g *guard) allow(key string) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	if len(g.attempts) > triesTracked {
		clear(g.attempts)
	}
	l, ok := g.attempts[key]
	if !ok {
		l = rate.NewLimiter(rate.Every(tryAgain), triesAtOnce)
		g.attempts[key] = l
	}
	return l.Allow()
}

func (g *guard) argon(password string, salt []byte) []byte {
	g.slots <- struct{}{}
	defer func() { <-g.slots }()
	return argon2.IDKey([]byte(password), salt, argonTime, argonMemory, 1, argonKey)
}

// hash gives the PHC string of a password.
func (g *guard) hash(password string) (string, error) {
	if n := utf8.RuneCountInString(password); n < minPassword || n > maxPassword {
		return "", fmt.Errorf("a password has %d to %d characters; this has %d", minPassword, maxPassword, n)
	}
	salt := make([]byte, 16)
	rand.Read(salt) // never fails
	b64 := base64.RawStdEncoding.EncodeToString
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=1$%s$%s", argon2.Version, argonMemory, argonTime, b64(salt), b64(g.argon(password, salt))), nil
}

var errHash = errors.New("the kept hash of a password cannot be read")

// matches tells whether a password has the hash. An empty hash matches nothing, in the same time.
func (g *guard) matches(password, hash string) (bool, error) {
	if hash == "" {
		g.argon(password, make([]byte, 16))
		return false, nil
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
	return subtle.ConstantTimeCompare(g.argon(password, salt), want) == 1, nil
}
