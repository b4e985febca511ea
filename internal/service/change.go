package service

import (
	"context"
	"encoding/json"
	"errors"

	"sentier/internal/decision"
	"sentier/internal/policy"
	"sentier/internal/store"
	"sentier/internal/translate"
	"sentier/internal/wire"
)

// step is a change worked out: the policy that it leads to, and what it does to each record.
type step struct {
	policy *policy.Policy
	done   []policy.RecordChange

	compiled *decision.Compiled  // nil: not compiled yet
	staged   *store.Staged       // nil: its rows are not laid ready
	written  []wire.RecordChange // what is told of it; nil: not written yet
}

// compile is the policy of the step ready to be asked, made once.
func (st *step) compile(from *State) *decision.Compiled {
	if st.compiled == nil {
		st.compiled = from.Compiled.Next(st.policy, st.done)
	}
	return st.compiled
}

// onto gives a step that was worked out on one state as one of a later state: as if it had come first, and what the others did after it.
// It is not ok where they changed the same records, or what they did does not go with it.
func (st step) onto(from, to *State) (_ step, ok bool) {
	ours := make(map[recordID]bool, len(st.done))
	for _, c := range st.done {
		ours[recordID{c.Record().Type(), c.Record().Key()}] = true
	}
	theirs := from.Policy.Compare(to.Policy)
	for _, c := range theirs {
		if ours[recordID{c.Record().Type(), c.Record().Key()}] {
			return st, false
		}
	}
	next, done, err := st.policy.Apply(policy.Changes(theirs))
	if err != nil {
		return st, false
	}
	st.compiled, st.policy = st.compiled.Next(next, done), next
	return st, true
}

// making is a change on its way through the [steps].
type making struct {
	*Service
	ctx    context.Context
	now    *State // the policy that it is made on
	caller Caller
	o      *EditOptions
	work   func(now *State) (step, error)

	step
	next     *State // nil: there is none yet
	saved    wire.Saved
	expected chan error      // what is expected of the policy, which is looked at while the rows are written; nil: nothing is
	given    []policy.UserID // who gains something by it, as far as that is counted
	recorded bool            // it is in the audit log
}

// edit is the way of every change of objects that build makes of the policy as it is; see [Service.change].
func (s *Service) edit(ctx context.Context, c Caller, o *EditOptions, build func(now *State) ([]policy.Change, error)) (saved wire.Saved, replayed []byte, err error) {
	return s.change(ctx, c, o, func(now *State) (step, error) {
		changes, err := build(now)
		if err != nil {
			return step{}, err
		}
		if !o.leaves(StepPermit) {
			if err := s.mayTouch(now, c, changes); err != nil {
				return step{}, err
			}
		}
		next, done, err := now.Policy.Apply(changes)
		if err != nil {
			return step{}, err
		}
		return signed(c, o, now, step{policy: next, done: done})
	})
}

// signed is a step in which each lockout that is new, or another, is by whoever makes the change: who set one is never what is typed. What takes back or
// carries out what somebody has put together before leaves it as it was.
func signed(c Caller, o *EditOptions, now *State, st step) (step, error) {
	if o.way == WayUndo || o.way == WayDraftEnd || o.leaves(StepKept) {
		return st, nil
	}
	var changes []policy.Change
	for _, done := range st.done {
		d, ok := done.After.(*policy.Device)
		if !ok || d.Lockout == nil {
			continue
		}
		by := string(c.User)
		if was, ok := done.Before.(*policy.Device); ok && was.Lockout != nil {
			same := *d.Lockout
			if same.By = was.Lockout.By; same == *was.Lockout {
				by = was.Lockout.By
			}
		}
		if d.Lockout.By != by {
			mine, lockout := *d, *d.Lockout
			lockout.By, mine.Lockout = by, &lockout
			changes = append(changes, policy.Change{Op: policy.Put, Type: policy.Devices, ID: d.Key(), Record: &mine})
		}
	}
	if len(changes) == 0 {
		return st, nil
	}
	next, _, err := st.policy.Apply(changes)
	return step{policy: next, done: now.Policy.Compare(next)}, err
}

// change is the way of every change: work is called with the policy as it is, and no other change comes in between. A
// repetition of a request is given the answer that the request had: replayed holds it then.
func (s *Service) change(ctx context.Context, c Caller, o *EditOptions, work func(now *State) (step, error)) (saved wire.Saved, replayed []byte, err error) {
	if o.Draft != "" || o.into != nil {
		saved, err = s.intoDraft(ctx, c, o, work)
		return saved, nil, err
	}
	if o.DryRun {
		saved, err = s.lookAhead(ctx, s.State(), c, o, work)
		return saved, nil, err
	}
	defer s.progress.begin(c, o.Key)()
	ctx = context.WithoutCancel(ctx) // a change that was asked for in full is made, though the caller may have gone
	if o.rows >= manyRows {
		return s.changeMany(ctx, c, o, work)
	}
	s.writing.Lock()
	defer s.writing.Unlock()
	return s.next(ctx, c, o, work)
}

// manyRows is from how many records on a change is worked out and laid ready while others change the policy.
const manyRows = 1000

// triesBeside is how often a large change is worked out anew because others have changed the same records meanwhile, before they are
// made to wait for it.
const triesBeside = 3

// changeMany makes a large change, which holds up others for as long as its rows take to be moved into their place.
func (s *Service) changeMany(ctx context.Context, c Caller, o *EditOptions, work func(now *State) (step, error)) (saved wire.Saved, replayed []byte, err error) {
	s.many.Lock()
	defer s.many.Unlock()
	defer func() { // however it ends; the next large change would clear it away as well
		if err := s.borders.Stage.Unstage(ctx); err != nil {
			s.borders.Log.Warn("what was laid ready for a large change is still there", "error", err)
		}
	}()
	var laid *store.Staged
	for range triesBeside {
		now := s.State()
		if kept, repeated, err := s.asked(ctx, now, c, o); repeated || err != nil {
			return saved, kept, err
		}
		m := &making{Service: s, ctx: ctx, now: now, caller: c, o: o, work: work}
		if err := m.take(StepRead, StepPermit, StepKept); err != nil {
			return saved, nil, err
		}
		ready := m.step
		compiled := make(chan *decision.Compiled, 1) // beside the writing of the rows
		go func() { compiled <- now.Compiled.Next(ready.policy, ready.done) }()
		ready.staged, err = s.borders.Stage.Stage(ctx, ready.done, laid, func(n, of int) { s.progress.wrote(c, o.Key, n, of) })
		ready.compiled = <-compiled
		if laid = ready.staged; errors.Is(err, store.ErrMoved) {
			continue
		}
		if err != nil {
			return saved, nil, s.noRoom(err)
		}
		ready.written = translate.Changes(ready.done)
		if saved, replayed, err, ok := s.nextOnto(ctx, c, o, now, ready); ok {
			return saved, replayed, err
		}
	}
	s.writing.Lock()
	defer s.writing.Unlock()
	return s.next(ctx, c, o, work)
}

// nextOnto makes the next revision of a step that was worked out on a state; it is not ok where that cannot be, as others have changed
// the policy meanwhile.
func (s *Service) nextOnto(ctx context.Context, c Caller, o *EditOptions, from *State, ready step) (saved wire.Saved, replayed []byte, err error, ok bool) {
	s.writing.Lock()
	defer s.writing.Unlock()
	if err := s.settle(ctx); err != nil {
		return saved, nil, err, true
	}
	if now := s.State(); now != from {
		if len(o.Match) > 0 { // the caller has named the state that they mean
			return saved, nil, nil, false
		}
		if ready, ok = ready.onto(from, now); !ok {
			return saved, nil, nil, false
		}
	}
	saved, replayed, err = s.next(ctx, c, o, func(*State) (step, error) { return ready, nil })
	return saved, replayed, err, true
}

// asked tells whether a caller may make a change, and finds the answer where this is the repetition of a request.
func (s *Service) asked(ctx context.Context, now *State, c Caller, o *EditOptions) (answer []byte, repeated bool, err error) {
	if !o.leaves(StepPermit) {
		if err := s.Permit(now, c, Write, ""); err != nil {
			return nil, false, err
		}
	}
	if o.Key == "" {
		return nil, false, nil
	}
	return s.repetition(ctx, c, o.Asked)
}

// mayTouch refuses what a caller can be known not to do before it is worked out, so that no fault of it tells them of what they do not see.
func (s *Service) mayTouch(now *State, c Caller, changes []policy.Change) error {
	r, v := s.Rights(now, c), s.View(now, c)
	if v.Whole() {
		return nil
	}
	for _, change := range changes {
		if unseen(now, v, change.Type, change.ID) && change.Type != policy.SettingsType {
			return ErrNotFound // the same as for what is not there
		}
		if err := r.Touch(change); err != nil {
			return err
		}
	}
	return nil
}

// next makes the next revision of what work gives, for a caller who may. The caller holds s.writing.
func (s *Service) next(ctx context.Context, c Caller, o *EditOptions, work func(now *State) (step, error)) (saved wire.Saved, replayed []byte, err error) {
	if err := s.settle(ctx); err != nil {
		return saved, nil, err
	}
	now := s.State()
	if kept, repeated, err := s.asked(ctx, now, c, o); repeated || err != nil {
		return saved, kept, err
	}
	m := &making{Service: s, ctx: ctx, now: now, caller: c, o: o, work: work}
	if err := m.take(StepRead, StepPermit, StepKept); err != nil {
		return saved, nil, err
	}
	if err := s.mayChange(); err != nil {
		return saved, nil, err
	}
	if len(m.done) == 0 { // a change that changes nothing makes no revision
		return wire.Saved{Saved: true, Revision: now.Revision.Number, Changes: []wire.RecordChange{}, Tag: o.tag(now.Policy)}, nil, nil
	}
	err = m.take(StepApproval, StepExpectations, StepSave, StepRecord, StepPublish, StepTell)
	return m.saved, nil, err
}

// read works the change out on the policy as it is. What is wrong with it is told as far as the caller may see it.
func (m *making) read() (err error) {
	if m.step, err = m.work(m.now); err != nil && !m.o.leaves(StepPermit) {
		return hide(m.now, m.View(m.now, m.caller), err)
	}
	return err
}

// permit judges the change by what it does to objects: only now is that known.
func (m *making) permit() error {
	return m.Rights(m.now, m.caller).Change(m.now.Policy, m.policy, m.done)
}

// answer is the answer to the change, and how it is kept for a repetition of the request.
func (m *making) answer() (kept []byte, err error) {
	if m.written == nil {
		m.written = translate.Changes(m.done)
	}
	o := m.o
	m.saved = wire.Saved{Saved: true, Revision: m.next.Revision.Number, Changes: m.written, Unmet: o.unmet, Tag: o.tag(m.next.Policy)}
	if o.Key == "" {
		return nil, nil
	}
	if o.of != nil && o.None {
		m.saved.ID = o.of.id
	}
	if o.keep != nil {
		return o.keep(m.saved)
	}
	return json.Marshal(keptAnswer{m.saved, m.saved.Tag})
}
