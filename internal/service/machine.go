package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"sync/atomic"
	"time"

	"sentier/internal/identity"
	"sentier/internal/notifier"
	"sentier/internal/policy"
	"sentier/internal/replica"
	"sentier/internal/store"
)

// Line is the log by which other machines follow this one. A [replica.Log] is one.
type Line interface {
	// Settle finds out what has become of a revision of which that was not known. Where it was made after all, the store has it, and took says so.
	Settle(ctx context.Context) (took bool, err error)
	// Problem says why nothing can be saved; empty: it can.
	Problem() string
}

// UnknownError is that it is not known whether a change was saved.
type UnknownError struct{ Err error }

func (e *UnknownError) Error() string { return policy.SaidBy(e.said()).Error() }

func (e *UnknownError) said() error {
	if errors.Is(e.Err, store.ErrFull) {
		return policy.Say("the log of revisions has this, and the disk of this machine has no room for it: it counts once there is some")
	}
	return policy.Say("it is not known whether this was saved, as the servers of the log of revisions do not answer: look at the history before you make it again")
}

// Unwrap is the sentence that it is told as, and what has led to it.
func (e *UnknownError) Unwrap() []error { return []error{e.said(), e.Err} }

// LineError is that nothing was saved, as the servers of the log do not answer.
type LineError struct{ Err error }

func (e *LineError) Error() string { return policy.SaidBy(e.said()).Error() }

func (e *LineError) said() error {
	return policy.Say("nothing was saved: the servers of the log of revisions do not answer, and changes go there before they count")
}

// Unwrap is the sentence that it is told as, and what has led to it.
func (e *LineError) Unwrap() []error { return []error{e.said(), e.Err} }

// MovedError is that another machine writes by now, and nothing was saved.
type MovedError struct{}

func (e *MovedError) Error() string { return policy.SaidBy(e.Unwrap()).Error() }

// Unwrap is the sentence that it is told as.
func (e *MovedError) Unwrap() error {
	return policy.Say("nothing was saved: another machine writes by now, and changes are made there")
}

// ofLine says of an error what it means, where it is one of the log of revisions.
func ofLine(err error) error {
	switch {
	case errors.Is(err, replica.ErrUnknown):
		return &UnknownError{err}
	case errors.Is(err, replica.ErrMoved):
		return &MovedError{}
	case errors.Is(err, replica.ErrLease):
		return &LineError{err}
	}
	return err
}

// settle makes sure that this machine is where the log is. The caller holds s.writing.
func (s *Service) settle(ctx context.Context) error {
	if s.borders.Line == nil {
		return nil
	}
	took, err := s.borders.Line.Settle(ctx)
	if took {
		err = errors.Join(err, s.catchUp(ctx))
	}
	if errors.Is(err, replica.ErrUnknown) {
		return &LineError{err}
	}
	return ofLine(err)
}

// KeepSettled makes sure, now and then, that this machine is where the log is, until ctx ends.
func (s *Service) KeepSettled(ctx context.Context) {
	for ctx.Err() == nil {
		if s.borders.Line.Problem() != "" {
			s.writing.Lock()
			err := s.settle(ctx)
			s.writing.Unlock()
			if err != nil && ctx.Err() == nil {
				s.borders.Log.Warn("changes cannot be saved", "why", err)
			}
		}
		select {
		case <-ctx.Done():
		case <-time.After(tellTried):
		}
	}
}

// catchUp makes the revisions that the store has and the service has not those that are answered from. The caller holds s.writing.
func (s *Service) catchUp(ctx context.Context) error {
	for {
		now := s.State()
		list, err := s.borders.History.Revisions(ctx, store.Which{UpTo: now.Revision.Number + 1}, 1)
		if err != nil || len(list) == 0 || list[0].Number == now.Revision.Number {
			return err
		}
		done, err := s.borders.History.Changes(ctx, list[0].Number)
		if err != nil {
			return err
		}
		p, _, err := now.Policy.Apply(policy.Changes(done))
		if err != nil {
			return err
		}
		next := &State{Policy: p, Compiled: now.Compiled.Next(p, done), Revision: list[0]}
		s.current.Store(next)
		s.who.Forget(store.EndedAccounts(done))
		s.revised.Notify()
		s.changed(Caller{User: policy.UserID(list[0].By), Via: list[0].Via}, next, done)
		s.borders.Log.Info("revision, saved after all", "number", next.Revision.Number, "by", next.Revision.By)
	}
}

// What other machines are told beside the policy begins with one of these.
const (
	toldSettings = "settings"
	toldToken    = "token/"
	toldAccount  = "account/"
)

// ElsewhereError is that something is done by the machine that writes, and this one follows it.
type ElsewhereError struct{ Writer string }

func (e *ElsewhereError) Error() string { return policy.SaidBy(e.Unwrap()).Error() }

// Unwrap is the sentence that it is told as.
func (e *ElsewhereError) Unwrap() error {
	return policy.Say("changes are made by the machine that writes (%s): this one follows it", e.Writer)
}

// telling is how far others have been told what they have to know beside the policy.
type telling struct {
	wanted, done atomic.Uint64
	changed      notifier.Notifier
	told         notifier.Notifier
}

func (t *telling) more() {
	t.wanted.Add(1)
	t.changed.Notify()
}

// tellAgain is how often others are told at most, and tellLeast at least: what ends by itself is told then.
const (
	tellAgain = 20 * time.Millisecond
	tellLeast = 20 * time.Second
	tellTried = time.Second
)

// Tell has others told what they have to know beside the policy, whenever that changes, until ctx ends.
func (s *Service) Tell(ctx context.Context, tell func(ctx context.Context, told map[string]string) error) {
	t := &s.telling
	for ctx.Err() == nil {
		next, wanted, pause := t.changed.Wait(), t.wanted.Load(), tellLeast
		told, err := s.Told()
		if err == nil {
			err = tell(ctx, told)
		}
		if err == nil {
			t.done.Store(wanted)
			t.told.Notify()
		} else if ctx.Err() == nil {
			s.borders.Log.Warn("other machines could not be told who may come in, which is tried again", "error", err)
			next, pause = nil, tellTried
		}
		select {
		case <-ctx.Done():
		case <-next:
			time.Sleep(tellAgain)
		case <-time.After(pause):
		}
	}
}

// ToldBy waits until others have been told all that was so when it was called, or ctx ends.
func (s *Service) ToldBy(ctx context.Context) {
	t := &s.telling
	for wanted := t.wanted.Load(); ; {
		told := t.told.Wait()
		if t.done.Load() >= wanted {
			return
		}
		select {
		case <-ctx.Done():
			return
		case <-told:
		}
	}
}

// Told is all that other machines have to know beside the policy, to let in whoever this one does and to record what this one would.
func (s *Service) Told() (map[string]string, error) {
	out := map[string]string{}
	put := func(key string, value any) error {
		text, err := json.Marshal(value)
		out[key] = string(text)
		return err
	}
	if err := put(toldSettings, s.settings.Load().ServiceSettings); err != nil {
		return nil, err
	}
	tokens, accounts := s.who.Tell()
	for id, t := range tokens {
		if err := put(toldToken+id, t); err != nil {
			return nil, err
		}
	}
	for user, a := range accounts {
		if err := put(toldAccount+user, a); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Learn takes what the machine that writes tells, by key; empty: it is so no more.
func (s *Service) Learn(told map[string]string) error {
	tokens, accounts := map[string]*identity.Told{}, map[string]*identity.ToldAccount{}
	for key, text := range told {
		var err error
		if id, ok := strings.CutPrefix(key, toldToken); ok {
			err = learn(tokens, id, text)
		} else if user, ok := strings.CutPrefix(key, toldAccount); ok {
			err = learn(accounts, user, text)
		} else if key == toldSettings && text != "" {
			in := defaultSettings
			if err = json.Unmarshal([]byte(text), &in); err == nil {
				s.setSettings(in)
			}
		}
		if err != nil {
			return fmt.Errorf("read what the machine that writes tells of %s: %w", policy.Clip(key), err)
		}
	}
	s.who.Learn(tokens, accounts)
	return nil
}

func learn[T any](into map[string]*T, key, text string) error {
	into[key] = nil
	if text == "" {
		return nil
	}
	into[key] = new(T)
	return json.Unmarshal([]byte(text), into[key])
}

// Take makes the policy that the machine that writes has made the one that is answered from. done is what it does to the one before.
func (s *Service) Take(p *policy.Policy, r store.Revision, done []policy.RecordChange) {
	s.writing.Lock()
	defer s.writing.Unlock()
	now := s.State()
	if r.Number <= now.Revision.Number {
		return
	}
	s.current.Store(&State{Policy: p, Compiled: now.Compiled.Next(p, done), Revision: r})
	s.who.Forget(store.EndedAccounts(done))
	s.revised.Notify()
}

// follows is the name of the machine that writes, where this one follows it.
func (s *Service) follows() (writer string, follows bool) {
	if s.borders.Follows == nil {
		return "", false
	}
	return s.borders.Follows(), true
}
