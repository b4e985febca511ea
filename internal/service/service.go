// Package service is the one door to the policy: every question and every change goes through it, knows its
// caller, and counts from the moment it is answered.
package service

import (
	"context"
	"crypto/sha256"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"sentier/internal/decision"
	"sentier/internal/policy"
	"sentier/internal/store"
)

// Service answers from the policy's last revision and makes the next ones.
type Service struct {
	store *store.Store
	log   *slog.Logger
	now   func() time.Time

	current atomic.Pointer[State]
	writing sync.Mutex // held by the one change that is on its way
	tokens  tokenCache
	// passwords are users seen to have a password. A password is never taken away, only changed.
	passwords knownUsers
	progress  progress
	guard     guard
	bell      bell
}

// State is a revision, ready to be asked. It never changes.
type State struct {
	Policy   *policy.Policy
	Compiled *decision.Compiled
	Revision store.Revision
}

// Open starts a service on a store. now is the service's clock.
func Open(ctx context.Context, st *store.Store, log *slog.Logger, now func() time.Time) (*Service, error) {
	s := &Service{store: st, log: log, now: now, guard: newGuard()}
	if err := s.Reload(ctx); err != nil {
		return nil, err
	}
	tokens, err := st.Tokens(ctx, "")
	if err != nil {
		return nil, fmt.Errorf("read the tokens: %w", err)
	}
	for _, t := range tokens {
		s.tokens.put(t)
	}
	return s, nil
}

// Reload takes the last revision from the store.
func (s *Service) Reload(ctx context.Context) error {
	p, last, err := s.store.Load(ctx)
	if err != nil {
		return err
	}
	s.current.Store(&State{p, decision.Compile(p), last})
	return nil
}

// State is the current revision.
func (s *Service) State() *State { return s.current.Load() }

// Now is the service's clock.
func (s *Service) Now() time.Time { return s.now() }

// Store is what the service keeps its policy in.
func (s *Service) Store() *store.Store { return s.store }

// Ready tells whether anybody can sign in; the error says what is missing.
func (s *Service) Ready() error {
	if s.State().Revision.Number == 0 {
		return ErrNoOwner
	}
	return nil
}

// apply makes the next revision by a step. Nothing is changed where it fails, and a step that changes
// nothing makes no revision. The caller holds s.writing, and may make the change.
func (s *Service) apply(ctx context.Context, now *State, caller Caller, o EditOptions,
	step func(*policy.Policy) (*policy.Policy, []policy.RecordChange, error),
) (*State, []policy.RecordChange, error) {
	p, done, err := step(now.Policy)
	if err != nil || len(done) == 0 {
		return now, nil, err
	}
	next := &State{Policy: p, Revision: store.Revision{
		Number: now.Revision.Number + 1, At: s.now().UTC().Truncate(time.Millisecond),
		By: string(caller.User), Via: caller.Via, Note: o.Note,
	}}
	if o.Key != "" {
		sum := sha256.Sum256(o.Body)
		next.Revision.RequestKey, next.Revision.RequestHash = &o.Key, sum[:]
	}
	// The policy is compiled while the rows are written, which are kept only where an owner is left.
	compiled := make(chan *decision.Compiled, 1)
	go func() { compiled <- now.Compiled.Next(p, done) }()
	err = s.store.Save(context.WithoutCancel(ctx), &next.Revision, done, store.Saving{
		Wrote: func(n, of int) { s.progress.wrote(caller, o.Key, n, of) },
		Agree: func() error {
			next.Compiled = <-compiled
			return s.keepsOwner(ctx, caller, now, next)
		},
	})
	if err != nil {
		return now, nil, err
	}
	s.current.Store(next)
	s.bell.ring()
	s.log.Info("revision", "number", next.Revision.Number, "by", caller.User, "via", caller.Via, "records", len(done))
	return next, done, nil
}

// keepsOwner refuses a policy that would leave nobody who can sign in as its owner.
func (s *Service) keepsOwner(ctx context.Context, caller Caller, now, next *State) error {
	if isOwner(next, caller.User, s.now()) {
		if s.passwords.has(string(caller.User)) {
			return nil // the usual case
		}
	}
	withPassword, err := s.store.WithPassword(ctx)
	if err != nil {
		return err
	}
	s.passwords.put(withPassword...)
	if len(owners(next, withPassword, s.now())) > 0 {
		return nil
	}
	if before := owners(now, withPassword, s.now()); len(before) > 0 {
		return &LastOwnerError{Owners: before}
	}
	return nil
}

// owners lists the users who can sign in now and hold a mandate of owner.
func owners(st *State, withPassword []string, at time.Time) []string {
	return slices.DeleteFunc(slices.Clone(withPassword), func(id string) bool { return !isOwner(st, policy.UserID(id), at) })
}

func isOwner(st *State, id policy.UserID, at time.Time) bool {
	return slices.ContainsFunc(st.Compiled.Mandates(id, at), func(m *policy.Mandate) bool { return m.Role == policy.Owner })
}
