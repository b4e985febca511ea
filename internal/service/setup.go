package service

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base32"
	"strings"
	"sync"
	"time"

	"sentier/internal/policy"
	"sentier/internal/wire"
)

// setUpTime is for how long a set-up code is good.
const setUpTime = time.Hour

// setUpCode is the code by which the first owner comes in. Only its hash is held, and only in memory: a start makes another.
type setUpCode struct {
	mu    sync.Mutex
	hash  []byte // empty: there is none
	until time.Time
}

// MakeSetUpCode makes the code by which the first owner sets the service up, good once and for an hour.
func (s *Service) MakeSetUpCode() (code string, until time.Time) {
	random := make([]byte, 15)
	rand.Read(random) // never fails
	text := base32.StdEncoding.EncodeToString(random)
	s.setUp.mu.Lock()
	defer s.setUp.mu.Unlock()
	s.setUp.hash, s.setUp.until = hashOfSetUp(text), s.borders.Clock().Add(setUpTime)
	var parts []string
	for i := 0; i < len(text); i += 6 {
		parts = append(parts, text[i:i+6])
	}
	return strings.Join(parts, "-"), s.setUp.until
}

func hashOfSetUp(code string) []byte {
	sum := sha256.Sum256([]byte("set-up " + strings.ToUpper(strings.NewReplacer("-", "", " ", "").Replace(code))))
	return sum[:]
}

// NeedsSetUp tells whether there is no policy yet, and so nobody who could sign in.
func (s *Service) NeedsSetUp() bool { return s.State().Revision.Number == 0 }

// SetUp makes the first owner by the code that the start has printed, and begins a session. The error is [ErrNotFound] where there is an owner.
func (s *Service) SetUp(ctx context.Context, in wire.SetUp, address string) (wire.Session, error) {
	if !s.NeedsSetUp() {
		return wire.Session{}, ErrNotFound
	}
	try, err := s.who.Try("the set-up code", address, false)
	if err != nil {
		return wire.Session{}, err
	}
	name := strings.TrimSpace(in.Name)
	if name == "" {
		return wire.Session{}, Wrong("name", "is missing: say who you are")
	}
	owner := policy.UserID(in.User)
	if owner == "" {
		owner = policy.UserID(policy.MakeID(name, func(string) bool { return false }))
	}
	s.setUp.mu.Lock()
	defer s.setUp.mu.Unlock()
	if len(s.setUp.hash) == 0 || !s.borders.Clock().Before(s.setUp.until) || subtle.ConstantTimeCompare(s.setUp.hash, hashOfSetUp(in.Code)) != 1 {
		return wire.Session{}, Wrong("code", "is not the set-up code, or it is good no more: start the service again, and take the code that it prints then")
	}
	try.Good()
	if err := Begin(ctx, s.borders.Blank, Beginning{Owner: owner, Name: name, Password: in.Password}, s.borders.Clock()); err != nil {
		return wire.Session{}, err
	}
	s.setUp.hash = nil
	if err := s.Reload(ctx); err != nil {
		return wire.Session{}, err
	}
	if _, err := s.who.WithPassword(ctx); err != nil {
		return wire.Session{}, err
	}
	s.borders.Log.Info("set up by the code", "owner", owner)
	return s.begin(ctx, owner, address, in.Terminal, false, "the set-up code")
}
