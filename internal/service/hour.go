package service

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"sentier/internal/audit"
	"sentier/internal/document"
	"sentier/internal/policy"
	"sentier/internal/store"
	"sentier/internal/wire"
)

// hoursEvery is how often the clock is looked at for what is to be done at an hour.
const hoursEvery = 500 * time.Millisecond

// viaDraft is by what a revision came that nobody made at that moment.
const viaDraft = "draft"

// ApplyDraft applies a draft: at once, or when its hour has come; and, where it is for a time, takes it back when that is over.
func (s *Service) ApplyDraft(ctx context.Context, c Caller, id string, in wire.ApplyDraft) (wire.Draft, error) {
	s.drafting.Lock()
	defer s.drafting.Unlock()
	d, err := s.openDraft(ctx, c, id)
	if err != nil {
		return wire.Draft{}, err
	}
	if in.Digest != "" {
		if err := d.asSeen(in.Digest); err != nil {
			return wire.Draft{}, err
		}
	}
	now := s.borders.Clock()
	at, err := s.hourOf("at", in.At, now)
	if err != nil {
		return wire.Draft{}, err
	}
	if d.Until, err = s.hourOf("until", in.Until, now); err != nil {
		return wire.Draft{}, err
	}
	if d.Until != nil && at != nil && !d.Until.After(*at) {
		return wire.Draft{}, Wrong("until", "is not after the hour at which it is applied")
	}
	if d.Until != nil && len(d.acts) > 0 {
		return wire.Draft{}, Wrong("until", "goes with changes of the policy alone: settings, sources and webhooks are not for a time")
	}
	d.AppliedBy, d.Mandate, d.Override, d.Problem = string(c.User), string(c.Mandate), strings.Join(in.Override, " "), ""
	if at == nil {
		if err := s.applyNow(ctx, c, WayDraft, d); err != nil {
			return wire.Draft{}, s.unagreed(ctx, d, err)
		}
		return s.wireDraft(ctx, c, d)
	}
	// What could not be applied now is told now, and not at night.
	o := s.draftOptions(WayDraftHour, d)
	o.DryRun = true
	would, _, err := s.change(ctx, c, &o, d.step)
	switch {
	case err != nil:
		return wire.Draft{}, err
	case len(would.Changes)+len(d.acts) == 0:
		return wire.Draft{}, d.nothing()
	}
	if rules := s.actRules(d, would.Approval); len(rules) > 0 {
		on, err := d.whole(s.State())
		if err == nil {
			err = s.agreed(ctx, s.State(), d, on, rules)
		}
		if err != nil {
			return wire.Draft{}, s.unagreed(ctx, d, err)
		}
	}
	if unmet := slices.DeleteFunc(would.Unmet, func(u wire.Unmet) bool { return slices.Contains(in.Override, u.ID) }); len(unmet) > 0 {
		return wire.Draft{}, &UnmetError{unmet}
	}
	d.State, d.ApplyAt = store.DraftWaiting, at
	if err := s.keepDraft(ctx, d); err != nil {
		return wire.Draft{}, err
	}
	s.noteDraft(c, d, audit.Made)
	return s.wireDraft(ctx, c, d)
}

// hourOf reads an instant that is still to come; nil where none is given.
func (s *Service) hourOf(field, text string, now time.Time) (*time.Time, error) {
	if text == "" {
		return nil, nil
	}
	zone, err := policy.LoadZone(s.State().Policy.Settings().Zone)
	if err != nil {
		return nil, err
	}
	at, err := document.ParseInstant(text, now, zone)
	if err != nil {
		return nil, Wrong(field, "%v", err)
	}
	if !at.After(now) {
		return nil, Wrong(field, "is over already: give a time to come")
	}
	if at.After(now.Add(mostUntil)) {
		return nil, Wrong(field, "is more than 400 days away")
	}
	at = at.UTC()
	return &at, nil
}

// step is what a draft does to the policy as it is then: for a time, where it has an end.
func (d *draft) step(now *State) (step, error) {
	on, err := d.whole(now)
	if err != nil {
		return step{}, err
	}
	if d.Until != nil {
		next, done, err := now.Policy.Apply(now.Policy.ForATime(on.Policy, *d.Until))
		return step{policy: next, done: done}, err
	}
	out := step{policy: on.Policy, done: on.done}
	if len(on.done) > 0 {
		out.compiled = on.Compiled
	}
	return out, nil
}

func (d *draft) nothing() error {
	return &DraftError{policy.Say("the draft %q changes nothing: it is so already", d.Name)}
}

// draftOptions are how the change is made that a draft is. A repetition, as after an end of the program in the middle of it, makes no second.
func (s *Service) draftOptions(way Way, d *draft) EditOptions {
	o := EditOptions{way: way, about: d.ID, title: "draft “" + d.Name + "”", Note: d.Reason, Override: strings.Fields(d.Override)}
	o.Key, o.Request = "draft-"+d.ID, sha256.Sum256(d.Changes)
	return o
}

// applyNow applies a draft as the caller, who may make the change.
func (s *Service) applyNow(ctx context.Context, c Caller, way Way, d *draft) error {
	o := s.draftOptions(way, d)
	if len(d.acts) > 0 {
		if err := s.mayAct(ctx, c, d); err != nil {
			return err
		}
	}
	saved, err := answerOf(s.change(ctx, c, &o, d.step))
	if err != nil {
		return err
	}
	if len(saved.Changes)+len(d.acts) == 0 {
		return d.nothing()
	}
	if d.Until != nil {
		s.timed[d.ID] = true
	}
	if d.State, d.ApplyAt = store.DraftApplied, nil; len(saved.Changes) > 0 {
		d.Revision = saved.Revision
	}
	if err := s.act(ctx, c, d); err != nil { // what was saved stands
		d.Problem = err.Error()
		s.borders.Log.Error("not all that a draft does beside the policy could be done", "draft", d.ID, "error", d.Problem)
	}
	return s.keepDraft(ctx, d)
}

// wakeHours has the drafts looked at anew for the next hour.
func (s *Service) wakeHours() { s.nextHour.Store(0) }

// keepHours applies drafts, and takes them back, when their hours have come, until ctx ends. What came due while nothing ran is done at once.
func (s *Service) keepHours(ctx context.Context) {
	for {
		if s.borders.Clock().UnixMilli() >= s.nextHour.Load() {
			s.nextHour.Store(math.MaxInt64)
			if err := errors.Join(s.hours(ctx), s.reviews(ctx), s.sourceHours(ctx)); err != nil && ctx.Err() == nil {
				s.borders.Log.Error("the drafts, reviews and sources that wait for their hour could not be looked at", "error", err)
				s.nextHour.Store(s.borders.Clock().Add(time.Minute).UnixMilli())
			}
		}
		select {
		case <-ctx.Done():
			s.sourcing.running.Wait()
			return
		case <-time.After(hoursEvery):
		}
	}
}

// hours does what is due, and notes when something is due next.
func (s *Service) hours(ctx context.Context) error {
	s.drafting.Lock()
	defer s.drafting.Unlock()
	list, err := s.borders.Drafts.Drafts(ctx, false, math.MaxInt32)
	if err != nil {
		return err
	}
	var failed error
	for _, kept := range list {
		hour, act := kept.ApplyAt, s.applyAtHour
		switch {
		case kept.State == store.DraftApplied:
			if kept.Until == nil && kept.Problem != "" && kept.Revision > 0 && len(kept.Acts) == 0 { // a version before this could not end it
				over := kept.ChangedAt
				kept.Until = &over
			}
			hour, act = kept.Until, s.endDraft
		case kept.State != store.DraftWaiting:
			continue
		}
		if hour == nil {
			continue
		}
		if s.borders.Clock().Before(*hour) {
			s.nextHour.Store(min(s.nextHour.Load(), hour.UnixMilli()))
			if kept.State != store.DraftApplied || s.timed[kept.ID] {
				continue
			}
			act = s.lookForEnd
		}
		d, err := readDraft(kept)
		if err != nil {
			return err
		}
		if err := act(ctx, d); err != nil {
			failed = errors.Join(failed, err) // the others do not wait for it
		}
	}
	return failed
}

// applyAtHour applies a draft as whoever set its hour, if they still may.
func (s *Service) applyAtHour(ctx context.Context, d *draft) error {
	c := Caller{User: policy.UserID(d.AppliedBy), Via: viaDraft, Mandate: policy.MandateID(d.Mandate)}
	err := s.Permit(s.State(), c, Write, "")
	if err == nil {
		err = s.applyNow(ctx, c, WayDraftHour, d)
	}
	if err != nil {
		return s.failed(ctx, c, d, err)
	}
	return nil
}

// forATime is what a draft did that was applied for a time, by “For a time” of the semantics; and what it did, where it was applied by a version that did not put
// the end into what it gave.
func (s *Service) forATime(ctx context.Context, d *draft) (timed, older []policy.RecordChange, err error) {
	now := s.State()
	since, err := s.borders.History.Back(ctx, d.Revision-1, now.Revision)
	if err != nil {
		return nil, nil, err
	}
	first := len(since) - 1 // which is what the draft did
	was, err := now.Policy.Before(since[:first])
	if err != nil {
		return nil, nil, err
	}
	base, err := was.Before(since[first:])
	if err != nil {
		return nil, nil, err
	}
	is, timed, err := base.Apply(base.ForATime(was, *d.Until))
	if err != nil {
		return nil, nil, err
	}
	return timed, is.Compare(was), nil
}

// lookForEnd makes sure once that what a draft gave for a time carries its end: an earlier version may have applied it.
func (s *Service) lookForEnd(ctx context.Context, d *draft) error {
	_, older, err := s.forATime(ctx, d)
	if err == nil {
		err = s.bringOver(ctx, d, older)
	}
	s.timed[d.ID] = err == nil
	return err
}

// endDraft takes back what a draft did, when its time is over. What it gave has ended by itself; all else is put back, but for what somebody has changed since.
// What fails now, as on a full disk, is tried again.
func (s *Service) endDraft(ctx context.Context, d *draft) error {
	timed, older, err := s.forATime(ctx, d)
	if err != nil {
		return fmt.Errorf("end the draft %s: %w", d.ID, err)
	}
	if err := s.bringOver(ctx, d, older); err != nil {
		return err
	}
	var left []policy.RecordChange
	o := EditOptions{way: WayDraftEnd, title: "the time of the draft “" + d.Name + "” is over"}
	o.Key, o.Request = "draft-end-"+d.ID, sha256.Sum256(d.Changes)
	saved, err := answerOf(s.edit(ctx, d.ender(), &o, func(now *State) (back []policy.Change, err error) {
		back, left = now.Policy.PutBack(timed)
		return back, nil
	}))
	if err != nil {
		if d.Problem != err.Error() {
			d.Problem = err.Error() // for somebody to look at: what was given is over, and the rest is tried again
			err = errors.Join(err, s.keepDraft(ctx, d))
		}
		return fmt.Errorf("end the draft %s: %w", d.ID, err)
	}
	delete(s.timed, d.ID)
	d.State, d.Problem = store.DraftEnded, ""
	if len(saved.Changes) > 0 {
		d.Ended = saved.Revision
	}
	if len(left) > 0 {
		d.Problem = policy.Say("what somebody has changed since stays as it is: %s", strings.Join(titles(s.State().Policy, left), ", ")).Error()
		s.noteDraft(d.ender(), d, audit.Refused)
	}
	return s.keepDraft(ctx, d)
}

// titles names objects that were changed, each once.
func titles(p *policy.Policy, of []policy.RecordChange) []string {
	var out []string
	for _, c := range of {
		if name := p.Title(c.Record().Type(), c.Record().Key()); !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	return out
}

// ender is as whom the time of a draft ends.
func (d *draft) ender() Caller { return Caller{User: policy.UserID(d.AppliedBy), Via: viaDraft} }

// bringOver puts the end of a draft into what it gave, where a version applied it that did not.
func (s *Service) bringOver(ctx context.Context, d *draft, older []policy.RecordChange) error {
	if len(older) == 0 {
		return nil
	}
	o := EditOptions{way: WayDraftEnd, title: "the end of the draft “" + d.Name + "” stands in what it gave"}
	o.Key, o.Request = "draft-for-a-time-"+d.ID, sha256.Sum256(d.Changes)
	saved, err := answerOf(s.edit(ctx, d.ender(), &o, func(now *State) ([]policy.Change, error) {
		back, _ := now.Policy.PutBack(older)
		return back, nil
	}))
	if err != nil {
		return fmt.Errorf("put the end of the draft %s into what it gave: %w", d.ID, err)
	}
	if len(saved.Changes) > 0 {
		s.borders.Log.Warn("the end of a draft was put into what it gave", "draft", d.ID, "revision", saved.Revision, "until", d.Until)
	}
	return nil
}

// failed keeps why a draft could not be applied, or taken back: for somebody to look at.
func (s *Service) failed(ctx context.Context, c Caller, d *draft, why error) error {
	d.Problem = why.Error()
	if d.ApplyAt, d.Until = nil, nil; d.Revision == 0 { // else it stays applied, until somebody takes it back
		d.State = store.DraftFailed
	}
	s.borders.Log.Error("a draft could not be applied, or taken back, at its hour", "draft", d.ID, "error", d.Problem)
	s.noteDraft(c, d, audit.Refused)
	return s.keepDraft(ctx, d)
}
