package service

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"sentier/internal/audit"
	"sentier/internal/policy"
	"sentier/internal/source"
	"sentier/internal/store"
	"sentier/internal/wire"
	"sentier/internal/wording"
)

// viaSource is by what a revision came that a source has brought.
const viaSource = "source"

// retryAfter is after how long a source is tried again that could not be read, where it would not be read earlier.
const retryAfter = 5 * time.Minute

// HeldError is that what a source says does not count by itself: somebody has to look at it first.
type HeldError struct{ Why policy.Said }

func (e *HeldError) Error() string { return e.Why.Error() }

// Unwrap is the sentence that it is told as.
func (e *HeldError) Unwrap() error { return e.Why }

// lately is what a source held not long ago, or holds now.
func (s *Service) lately(ctx context.Context, k *keptSource) (*lately, error) {
	if last, ok := s.sourcing.read.Load(k.ID); ok {
		if last := last.(*lately); last.version == k.Version && s.borders.Clock().Sub(last.at) < heldFor {
			return last, nil
		}
	}
	held, err := s.readSource(ctx, k)
	return &lately{held, s.borders.Clock(), k.Version}, err
}

// TestSource tries to read a source that is set up, or is going to be; id is that of the source whose content is read, where it has no address.
func (s *Service) TestSource(ctx context.Context, c Caller, id string, in wire.NewSource) (wire.SourceTest, error) {
	st := s.State()
	if err := s.Permit(st, c, Manage, ""); err != nil {
		return wire.SourceTest{}, err
	}
	in, _, err := s.checkSource(in)
	if err != nil {
		return wire.SourceTest{}, err
	}
	out := wire.SourceTest{Matched: []wire.SourceMatch{}, Loose: []wire.SourceMatch{}, Problems: []wire.SourceProblem{}}
	kind := kindOf(in.Kind)
	if kind.read == nil {
		return out, Wrong("kind", "is not read: it brings people and groups by itself")
	}
	start := time.Now()
	held, err := kind.read(ctx, s, &in, id)
	out.Took = time.Since(start).Seconds()
	words := wording.Accepted(c.Language)
	if err != nil {
		out.Why = words.Put(policy.SaidBy(err))
		return out, nil
	}
	in.Bring.Things = in.Kind == kindInventory
	plan := source.Make(st.Policy, s.known.Load(), id, &in.Bring, held)
	out.OK, out.People, out.Groups, out.Events, out.Things = true, len(held.People), len(held.Groups), len(held.Events), len(held.Things)
	out.Matched, out.Loose = s.wireMatches(st, words, plan.Matched), s.wireMatches(st, words, plan.Loose)
	out.Problems, out.More = problems(words, plan.Told)
	return out, nil
}

// FindInSource looks for people and groups at a source by some letters.
func (s *Service) FindInSource(ctx context.Context, c Caller, id, letters string) (wire.SourceFound, error) {
	st := s.State()
	if err := s.Permit(st, c, Whole, ""); err != nil {
		return wire.SourceFound{}, err
	}
	if strings.TrimSpace(letters) == "" {
		return wire.SourceFound{}, Wrong("q", "is empty: type some letters of a name")
	}
	k, err := s.sourceOf(ctx, id)
	if err != nil {
		return wire.SourceFound{}, err
	}
	last, err := s.lately(ctx, k)
	if err != nil {
		return wire.SourceFound{}, err
	}
	out := wire.SourceFound{At: last.at.UTC(), People: []wire.SourcePerson{}, Groups: []wire.SourceGroup{}}
	known := s.known.Load()
	person := func(p *source.Person) wire.SourcePerson {
		told := wire.SourcePerson{Outside: p.Outside, Place: p.Place, ID: p.ID, Name: p.Name, Email: p.Email}
		if user, ok := known.Stands(k.ID, policy.Users, p.Outside); ok {
			told.User = &wire.Named{ID: user, Name: st.Policy.Title(policy.Users, user)}
		}
		return told
	}
	people, groups := last.held.Find(letters, foundMost)
	for i := range people {
		out.People = append(out.People, person(&people[i]))
	}
	byOutside := map[string]*source.Person{}
	for i := range last.held.People {
		byOutside[last.held.People[i].Outside] = &last.held.People[i]
	}
	for _, g := range groups {
		told := wire.SourceGroup{Outside: g.Outside, Place: g.Place, Name: g.Name, Count: len(g.Members), Members: []wire.SourcePerson{}}
		for _, m := range g.Members[:min(len(g.Members), membersTold)] {
			if p := byOutside[m]; p != nil {
				told.Members = append(told.Members, person(p))
			}
		}
		out.Groups = append(out.Groups, told)
	}
	return out, nil
}

// planned is what a reading does, worked out under the lock.
type planned struct {
	source.Plan
	digest string
}

// plan works out what comes of what a source holds, as the policy is.
func (s *Service) plan(now *State, k *keptSource, held *source.Held) (*planned, error) {
	bring := k.set.Bring
	bring.Things = k.Kind == kindInventory
	p := &planned{Plan: source.Make(now.Policy, s.known.Load(), k.ID, &bring, held)}
	text, err := json.Marshal(p.Changes)
	if err != nil {
		return nil, fmt.Errorf("write what the source %s changes: %w", k.ID, err)
	}
	sum := sha256.Sum256(text)
	p.digest = hex.EncodeToString(sum[:])
	return p, nil
}

func (p *planned) counts() wire.SourceCounts {
	return wire.SourceCounts{People: p.People, New: p.NewUsers, Changed: p.ChangedUsers, Back: p.BackUsers, Gone: p.GoneUsers, Joined: len(p.Joined), Left: len(p.Left), NewDays: p.NewDays, GoneDays: p.GoneDays,
		Things: p.ThingsRead, NewThings: p.NewThings, ChangedThings: p.ChangedThings, GoneThings: p.GoneThings}
}

// tooMany is why a plan does not count by itself; nil: it does.
func (p *planned) tooMany(k *keptSource) error {
	if !p.TooMany() {
		return nil
	}
	if p.GoneThings > 0 {
		return &HeldError{policy.Say("%d of %d devices and sites of %q would be there no more at once: look at it, and read it again with a reason if it is meant", p.GoneThings, p.ThingsBefore, k.Name)}
	}
	if p.GoneDays > 0 {
		return &HeldError{policy.Say("%d of %d days of %q would go at once: look at it, and read it again with a reason if it is meant", p.GoneDays, p.DaysBefore, k.Name)}
	}
	return &HeldError{policy.Say("%d of %d people and %d of %d memberships of %q would go at once: look at it, and read it again with a reason if it is meant",
		p.GoneUsers, p.UsersBefore, len(p.Left), p.MembersBefore, k.Name)}
}

// unread is why nothing of a plan counts; nil: there is no reason.
func (p *planned) unread() error {
	if len(p.Faults) == 0 {
		return nil
	}
	return &UnreadError{Why: policy.Say("%d of its events cannot be understood, and nothing of it counts until they can: %s says that %s", len(p.Faults), p.Faults[0].Place, p.Faults[0].Why)}
}

// LookSource tells what a reading would do, before it counts.
func (s *Service) LookSource(ctx context.Context, c Caller, id string) (wire.SourceLook, error) {
	st := s.State()
	if err := s.Permit(st, c, Manage, ""); err != nil {
		return wire.SourceLook{}, err
	}
	k, err := s.sourceOf(ctx, id)
	if err != nil {
		return wire.SourceLook{}, err
	}
	last, err := s.lately(ctx, k)
	if err != nil {
		return wire.SourceLook{}, err
	}
	words := wording.Accepted(c.Language)
	var plan *planned
	o := EditOptions{way: k.way(), about: k.ID, DryRun: true, Impact: true}
	would, _, err := s.change(ctx, c, &o, func(now *State) (step, error) {
		var err error
		if plan, err = s.plan(now, k, last.held); err != nil {
			return step{}, err
		}
		next, done, err := now.Policy.Apply(plan.Changes)
		return step{policy: next, done: done}, err
	})
	if err != nil {
		return wire.SourceLook{}, err
	}
	out := wire.SourceLook{At: last.at.UTC(), Digest: plan.digest, Counts: plan.counts(), Would: would}
	out.Matched, out.Loose = s.wireMatches(st, words, plan.Matched), s.wireMatches(st, words, plan.Loose)
	out.Problems, out.More = problems(words, plan.Told)
	out.Calendars = s.wireCalendars(st, plan.Calendars)
	var held *HeldError
	switch {
	case plan.unread() != nil:
		out.Held = words.Put(policy.SaidBy(plan.unread()))
	case errors.As(plan.tooMany(k), &held):
		out.Held = words.Put(held.Why)
	case len(would.Unmet) > 0:
		out.Held = (&UnmetError{would.Unmet}).In(words)
	case len(would.Approval) > 0:
		out.Held = (&ApprovalError{would.Approval}).In(words)
	}
	return out, nil
}

// ReadSource reads a source now, and makes what it says count.
func (s *Service) ReadSource(ctx context.Context, c Caller, id string, in wire.ReadSource) (wire.SourceRun, error) {
	if err := s.Permit(s.State(), c, Manage, ""); err != nil {
		return wire.SourceRun{}, err
	}
	in.Reason = strings.TrimSpace(in.Reason)
	if len([]rune(in.Reason)) > mostReason {
		return wire.SourceRun{}, Wrong("reason", "is longer than %d characters", mostReason)
	}
	k, err := s.sourceOf(ctx, id)
	if err != nil {
		return wire.SourceRun{}, err
	}
	if in.Accept && (in.Digest == "" && k.Kind != kindSCIM || in.Reason == "") {
		return wire.SourceRun{}, Wrong("accept", "goes with the digest of what was looked at, and a reason")
	}
	if k.Kind == kindSCIM && in.Accept {
		return s.letGo(ctx, c, k, in.Reason)
	}
	run, err := s.runSource(ctx, c, k, in)
	if err != nil {
		return wire.SourceRun{}, err
	}
	return s.wireRun(c, run)
}

// letGo lets a provider that pushes go on, though it takes away more than its settings let go at once.
func (s *Service) letGo(ctx context.Context, c Caller, k *keptSource, reason string) (wire.SourceRun, error) {
	now := s.borders.Clock()
	s.leaving.letGo(k.ID, now)
	run := store.SourceRun{Source: k.ID, At: now.UTC(), By: string(c.User), Outcome: store.RunSame}
	told := toldRun{}
	var err error
	if run.Told, err = json.Marshal(told); err != nil {
		return wire.SourceRun{}, err
	}
	if err := s.keepRun(ctx, c, k, &run, &told); err != nil {
		return wire.SourceRun{}, err
	}
	s.note(c, audit.Source, audit.Done, "", details{"source": k.ID, "name": k.Name, "what": "more may go for an hour", "reason": reason})
	return s.wireRun(c, run)
}

// runSource reads a source as somebody, and keeps what became of it. The error is that it could not even be tried.
func (s *Service) runSource(ctx context.Context, c Caller, k *keptSource, in wire.ReadSource) (store.SourceRun, error) {
	lock, _ := s.sourcing.reading.LoadOrStore(k.ID, &sync.Mutex{})
	if !lock.(*sync.Mutex).TryLock() {
		return store.SourceRun{}, &DraftError{policy.Say("the source %q is being read already", k.Name)}
	}
	defer lock.(*sync.Mutex).Unlock()
	start := time.Now()
	run := store.SourceRun{Source: k.ID, At: s.borders.Clock().UTC(), Outcome: store.RunSame}
	if c.Via != viaSource {
		run.By = string(c.User)
	}
	plan, saved, err := s.bring(ctx, c, k, in)
	told := toldRun{}
	var held *HeldError
	var unmet *UnmetError
	var approval *ApprovalError
	switch {
	case errors.As(err, &held), errors.As(err, &unmet), errors.As(err, &approval):
		run.Outcome = store.RunHeld
	case err != nil:
		run.Outcome = store.RunFailed
	case len(saved.Changes) > 0:
		run.Outcome, run.Revision = store.RunDone, saved.Revision
	}
	if err != nil {
		told.Why = keepSaid(policy.SaidBy(err))
	}
	if plan != nil {
		told.Counts = plan.counts()
		list := plan.Told[:min(len(plan.Told), problemsTold)]
		told.More = len(plan.Told) - len(list)
		for _, p := range list {
			told.Problems = append(told.Problems, toldProblem{p.Place, *keepSaid(p.Why)})
		}
		for _, m := range plan.Matched {
			if !m.Found && len(told.Missing) < problemsTold {
				told.Missing = append(told.Missing, m)
			}
		}
	}
	run.Took = time.Since(start)
	if run.Told, err = json.Marshal(told); err != nil {
		return run, fmt.Errorf("write the reading of %s: %w", k.ID, err)
	}
	return run, s.keepRun(context.WithoutCancel(ctx), c, k, &run, &told)
}

// keepRun keeps what became of a reading.
func (s *Service) keepRun(ctx context.Context, c Caller, k *keptSource, run *store.SourceRun, told *toldRun) error {
	now := s.borders.Clock().UTC()
	next := k.after(now)
	if run.Outcome == store.RunFailed && next != nil && next.Sub(now) > retryAfter {
		*next = now.Add(retryAfter)
	}
	s.sourcing.changing.Lock()
	defer s.sourcing.changing.Unlock()
	if err := s.kept(s.borders.Sources.AddRun(ctx, run, next)); err != nil {
		return err
	}
	if run.Outcome == store.RunHeld || run.Outcome == store.RunFailed {
		why := told.Why.said().Error()
		s.borders.Log.Warn("a source was not read, or what it says does not count yet", "source", k.ID, "outcome", run.Outcome, "why", why)
		s.note(c, audit.Source, audit.Refused, "", details{"source": k.ID, "name": k.Name, "outcome": run.Outcome, "why": why})
	}
	s.wakeHours()
	return nil
}

// bring reads a source and makes what it says the next revision.
func (s *Service) bring(ctx context.Context, c Caller, k *keptSource, in wire.ReadSource) (*planned, wire.Saved, error) {
	if err := s.Permit(s.State(), c, Manage, ""); err != nil {
		return nil, wire.Saved{}, err
	}
	held, err := s.readSource(ctx, k)
	if err != nil {
		return nil, wire.Saved{}, err
	}
	plan, err := s.plan(s.State(), k, held)
	if err != nil {
		return nil, wire.Saved{}, err
	}
	if err := plan.unread(); err != nil {
		return plan, wire.Saved{}, err
	}
	o := EditOptions{way: k.way(), about: k.ID, digest: in.Digest, title: "read from the source “" + k.Name + "”", Note: in.Reason, Override: in.Override, rows: len(plan.Changes)}
	saved, err := answerOf(s.change(ctx, c, &o, func(now *State) (step, error) {
		if plan, err = s.plan(now, k, held); err != nil {
			return step{}, err
		}
		if in.Digest != "" && in.Digest != plan.digest {
			return step{}, &DraftError{policy.Say("what %q says is another than you have looked at: look at it again", k.Name)}
		}
		if err := plan.tooMany(k); err != nil && !in.Accept {
			return step{}, err
		}
		o.plan = &plan.Plan
		next, done, err := now.Policy.Apply(plan.Changes)
		return step{policy: next, done: done}, err
	}))
	if err != nil {
		return plan, saved, err
	}
	return plan, saved, s.learn(ctx, saved, &plan.Plan)
}

// learn keeps what else is known of where records come from, where no revision was made that would have kept it.
func (s *Service) learn(ctx context.Context, saved wire.Saved, p *source.Plan) error {
	if len(saved.Changes) > 0 || broughtBy(p).Empty() {
		return nil
	}
	s.writing.Lock()
	defer s.writing.Unlock()
	if err := s.kept(s.borders.Sources.KeepBrought(ctx, broughtBy(p))); err != nil {
		return err
	}
	s.known.Store(s.known.Load().With(p, nil))
	return nil
}

// broughtBy is what a plan comes to, as it is kept.
func broughtBy(p *source.Plan) *store.Brought {
	if p == nil {
		return nil
	}
	out := &store.Brought{}
	thing := func(o source.Origin) store.Origin {
		return store.Origin{Source: o.Source, Type: o.Type.String(), Outside: o.Outside, Record: o.Record, Place: o.Place, Gone: o.Gone, Suspended: o.Suspended, Made: o.Made, Told: []byte(o.Told)}
	}
	for _, o := range p.Origins {
		out.Origins = append(out.Origins, thing(o))
	}
	for _, o := range p.Lost {
		out.Lost = append(out.Lost, thing(o))
	}
	for _, m := range p.Joined {
		out.Joined = append(out.Joined, store.OriginMember{Source: m.Source, GroupID: m.Group, UserID: m.User})
	}
	for _, m := range p.Left {
		out.Left = append(out.Left, store.OriginMember{Source: m.Source, GroupID: m.Group, UserID: m.User})
	}
	return out
}

// sourceHours has those sources read whose hour has come, each beside what else there is to do, and notes when the next is due.
func (s *Service) sourceHours(ctx context.Context) error {
	list, err := s.borders.Sources.Sources(ctx)
	if err != nil {
		return err
	}
	now := s.borders.Clock()
	for _, kept := range list {
		if kept.Paused || kept.NextRun == nil {
			continue
		}
		if now.Before(*kept.NextRun) {
			s.nextHour.Store(min(s.nextHour.Load(), kept.NextRun.UnixMilli()))
			continue
		}
		k, err := readSource(kept)
		if err != nil {
			return err
		}
		lock, _ := s.sourcing.reading.LoadOrStore(k.ID, &sync.Mutex{})
		if !lock.(*sync.Mutex).TryLock() { // somebody has it read: that notes when it is read next
			continue
		}
		lock.(*sync.Mutex).Unlock()
		s.sourcing.running.Go(func() {
			c := Caller{User: policy.UserID(k.Author), Via: viaSource, Mandate: policy.MandateID(k.Mandate)}
			if _, err := s.runSource(ctx, c, k, wire.ReadSource{}); err != nil && ctx.Err() == nil {
				s.borders.Log.Warn("a source could not be read", "source", k.ID, "error", err)
			}
		})
	}
	return nil
}
