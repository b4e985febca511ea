package identity

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"runtime"
	"strings"
	"time"
	"unicode/utf8"

	"golang.org/x/crypto/argon2"
	"golang.org/x/text/unicode/norm"

	"sentier/internal/translate"
)

// Parameters of argon2id: 19 MiB, two passes, one lane.
const (
	argonMemory = 19 * 1024
	argonTime   = 2
	argonKey    = 32
	minPassword = 12
	maxPassword = 200
)

// passwordHasher bounds how many passwords are hashed at once, and how many wait for their turn.
type passwordHasher struct{ hashing, waiting chan struct{} }

const mostQueued = 16

func newHasher() *passwordHasher {
	return &passwordHasher{hashing: make(chan struct{}, max(1, runtime.GOMAXPROCS(0)/2)), waiting: make(chan struct{}, mostQueued)}
}

var errQueue = errors.New("too many are signing in")

// argon hashes a password when it is its turn.
func (h *passwordHasher) argon(ctx context.Context, password string, salt []byte) ([]byte, error) {
	select {
	case h.waiting <- struct{}{}:
		defer func() { <-h.waiting }()
	default:
		return nil, &TooManyError{2 * time.Second}
	}
	select {
	case h.hashing <- struct{}{}:
		defer func() { <-h.hashing }()
	case <-ctx.Done():
		return nil, errQueue
	}
	return argon2.IDKey([]byte(password), salt, argonTime, argonMemory, 1, argonKey), nil
}

// check says why a password cannot be one of a user.
func check(user, password string) error {
	password = norm.NFC.String(password)
	if n := utf8.RuneCountInString(password); n < minPassword || n > maxPassword || !utf8.ValidString(password) {
		return translate.Wrong("password", "has %d characters: a password has %d to %d", n, minPassword, maxPassword)
	}
	if weak := weakness(password, user); weak.Form != "" {
		return translate.Wrong("password", "%s", weak)
	}
	return nil
}

// hash gives the PHC string of a password of a user, unless it is too short or among the first that somebody would try.
func (h *passwordHasher) hash(ctx context.Context, user, password string) (string, error) {
	password = norm.NFC.String(password)
	if err := check(user, password); err != nil {
		return "", err
	}
	salt := make([]byte, 16)
	rand.Read(salt) // never fails
	b64 := base64.RawStdEncoding.EncodeToString
	sum, err := h.argon(ctx, password, salt)
	if err != nil {
		return "", err
	}
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=1$%s$%s", argon2.Version, argonMemory, argonTime, b64(salt), b64(sum)), nil
}

var errHash = errors.New("the kept hash of a password cannot be read")

// matches tells whether a password has the hash, however its letters with marks are composed (NFC of Unicode: keyboards differ in it). An empty hash
// matches nothing, in the same time.
func (h *passwordHasher) matches(ctx context.Context, password, hash string) (bool, error) {
	composed := norm.NFC.String(password)
	is, err := h.equals(ctx, composed, hash)
	if err != nil || is || composed == password {
		return is, err
	}
	return h.equals(ctx, password, hash) // one from before passwords were composed
}

func (h *passwordHasher) equals(ctx context.Context, password, hash string) (bool, error) {
	if hash == "" {
		_, err := h.argon(ctx, password, make([]byte, 16))
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
	sum, err := h.argon(ctx, password, salt)
	return err == nil && subtle.ConstantTimeCompare(sum, want) == 1, err
}

// HashPassword gives the hash that is kept of a password, for whoever makes the first account, before anybody can sign in.
func HashPassword(ctx context.Context, user, password string) (string, error) {
	return newHasher().hash(ctx, user, password)
}
