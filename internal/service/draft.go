package service

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"

	"sentier/internal/audit"
	"sentier/internal/policy"
	"sentier/internal/store"
	"sentier/internal/translate"
	"sentier/internal/wire"
	"sentier/internal/wording"
)

// Bounds of drafts.
const (
	mostDrafts    = 500      // that are told
	mostDraftSize = 32 << 20 // bytes of what one changes
	mostPartSize  = 1 << 20  // likewise, of whoever administers a part
	mostOwnDrafts = 50       // that one user has begun, and that are not over
)

// draft is changes that are gathered before they count: each with the version of the record that it began with.
type draft struct {
	store.Draft
	done []policy.RecordChange
	acts []wire.DraftAct // what it does beside the policy
}

// held is a draft held against a state of the policy.
type held struct {
	*State                          // the policy with the draft, but for conflicts; nil where it holds faults
	done      []policy.RecordChange // what leads there
	conflicts []policy.RecordChange // of the draft
	faults    error
}

// onto holds a draft against a state: what others have changed meanwhile stays, and where both have changed the same, it is a conflict.
func (d *draft) onto(now *State) held {
	var out held
	var changes []policy.Change
	for _, c := range d.done {
		current, _ := now.Policy.Get(c.Record().Type(), c.Record().Key())
		switch {
		case c.Stands(current): // it is so already
		case c.Reverse().Stands(current):
			changes = append(changes, c.Changes()...)
		default:
			out.conflicts = append(out.conflicts, c)
		}
	}
	next, done, err := now.Policy.Apply(changes)
	if out.done, out.faults = done, err; err != nil {
		return out
	}
	out.State = &State{Policy: next, Compiled: now.Compiled, Revision: now.Revision, judged: now}
	if len(done) > 0 {
		out.Compiled = now.Compiled.Next(next, done)
	}
	return out
}

// whole is [draft.onto] where all of the draft can be made, or else why it cannot.
func (d *draft) whole(now *State) (held, error) {
	on := d.onto(now)
	if len(on.conflicts) > 0 {
		return on, &DraftError{policy.Say("the draft %q and somebody else have changed the same: take one of the versions first", d.Name)}
	}
	return on, on.faults
}

// DraftError is that a draft is not in a state in which a thing can be done with it.
type DraftError struct{ Why policy.Said }

func (e *DraftError) Error() string { return e.Why.Error() }

// Unwrap is the sentence that it is told as.
func (e *DraftError) Unwrap() error { return e.Why }

func (d *draft) digest() [sha256.Size]byte {
	if len(d.Acts) == 0 {
		return sha256.Sum256(d.Changes)
	}
	of, beside := sha256.Sum256(d.Changes), sha256.Sum256(d.Acts)
	return sha256.Sum256(append(of[:], beside[:]...))
}

// asSeen refuses to go on with a draft that is another than somebody has looked at.
func (d *draft) asSeen(digest string) error {
	if sum := d.digest(); digest != hex.EncodeToString(sum[:]) {
		return &DraftError{policy.Say("the draft %q is another than you have looked at: look at it again", d.Name)}
	}
	return nil
}

// approvedBy is who has agreed to the draft as it is; empty: nobody.
func (d *draft) approvedBy() string {
	if sum := d.digest(); d.ApprovedBy == "" || string(sum[:]) != string(d.Approved) {
		return ""
	}
	return d.ApprovedBy
}

// hand notes that somebody has put something into the draft.
func (d *draft) hand(user policy.UserID) { d.Hands = handed(d.Hands, user) }

// handed are the ids of those who had a hand in something, with one more.
func handed(hands string, user policy.UserID) string {
	if list := strings.Fields(hands); !slices.Contains(list, string(user)) {
		return strings.Join(append(list, string(user)), " ")
	}
	return hands
}

// put makes the draft one of other changes.
func (d *draft) put(done []policy.RecordChange) error {
	slices.SortFunc(done, func(a, b policy.RecordChange) int {
		x, y := a.Record(), b.Record()
		if x.Type() != y.Type() {
			return int(x.Type()) - int(y.Type())
		}
		return strings.Compare(x.Key(), y.Key())
	})
	text, err := json.Marshal(done)
	if err != nil {
		return fmt.Errorf("write the draft %s: %w", d.ID, err)
	}
	if len(text) > mostDraftSize {
		return Wrong("changes", "come to %d MB: a draft has %d at most", len(text)>>20, mostDraftSize>>20)
	}
	if done == nil {
		text = []byte("[]")
	}
	d.done, d.Changes = done, text
	return nil
}

// seesDraft tells whether a caller may know of a draft: who began it, and whoever sees the policy as a whole.
func (s *Service) seesDraft(now *State, c Caller, d *store.Draft) bool {
	r := s.Rights(now, c)
	return r.May(Whole, "") == nil || d.Author == string(c.User) && r.May(Write, "") == nil
}

// draftOf finds a draft that a caller may know of.
func (s *Service) draftOf(ctx context.Context, c Caller, id string) (*draft, error) {
	kept, err := s.borders.Drafts.DraftOfID(ctx, id)
	if errors.Is(err, store.ErrNotFound) || err == nil && !s.seesDraft(s.State(), c, &kept) {
		return nil, ErrNotFound
	}
	if err != nil {
		return nil, err
	}
	return readDraft(kept)
}

func readDraft(kept store.Draft) (*draft, error) {
	out := &draft{Draft: kept}
	if err := json.Unmarshal(kept.Changes, &out.done); err != nil {
		return nil, fmt.Errorf("read the draft %s: %w", kept.ID, err)
	}
	if len(kept.Acts) > 0 {
		if err := json.Unmarshal(kept.Acts, &out.acts); err != nil {
			return nil, fmt.Errorf("read what the draft %s does beside the policy: %w", kept.ID, err)
		}
	}
	return out, nil
}

// openDraft finds a draft that a caller may change: they may write, and it is neither applied nor dropped.
func (s *Service) openDraft(ctx context.Context, c Caller, id string) (*draft, error) {
	if err := s.Permit(s.State(), c, Write, ""); err != nil {
		return nil, err
	}
	d, err := s.draftOf(ctx, c, id)
	if err != nil {
		return nil, err
	}
	if !isOpen(d.State) {
		return nil, &DraftError{policy.Say("the draft %q is over, applied or dropped: begin another", d.Name)}
	}
	return d, nil
}

// isOpen tells whether a draft can still be changed, applied and dropped.
func isOpen(state string) bool {
	return state == store.DraftOpen || state == store.DraftWaiting || state == store.DraftFailed
}

// keepDraft keeps what became of a draft.
func (s *Service) keepDraft(ctx context.Context, d *draft) error {
	d.ChangedAt = s.borders.Clock().UTC()
	d.Version++
	kept, err := s.borders.Drafts.KeepDraft(context.WithoutCancel(ctx), d.Draft)
	if err == nil && !kept {
		err = &DraftError{policy.Say("somebody else has changed the draft %q meanwhile: look at it again", d.Name)}
	}
	s.wakeHours()
	return s.kept(err)
}

// freeID makes an id of a name that find does not find.
func freeID(name string, find func(id string) error) (id string, err error) {
	id = policy.MakeID(name, func(id string) bool {
		found := find(id)
		if found != nil && !errors.Is(found, store.ErrNotFound) {
			err = found
		}
		return found == nil
	})
	return id, err
}

// NewDraft begins a draft.
func (s *Service) NewDraft(ctx context.Context, c Caller, in wire.NewDraft) (wire.Draft, error) {
	now := s.State()
	if err := s.Permit(now, c, Write, ""); err != nil {
		return wire.Draft{}, err
	}
	name := strings.TrimSpace(in.Name)
	if err := checkName(name); err != nil {
		return wire.Draft{}, err
	}
	if len([]rune(in.Reason)) > maxNote/2 { // beside it, the note of the revision names what is overridden
		return wire.Draft{}, Wrong("reason", "is longer than %d characters", maxNote/2)
	}
	s.drafting.Lock()
	defer s.drafting.Unlock()
	begun, err := s.borders.Drafts.Drafts(ctx, false, math.MaxInt32)
	if err != nil {
		return wire.Draft{}, err
	}
	if own := slices.DeleteFunc(begun, func(d store.Draft) bool { return d.Author != string(c.User) || !isOpen(d.State) }); len(own) >= mostOwnDrafts {
		return wire.Draft{}, &DraftError{policy.Say("you have begun %d drafts that are not over: apply or drop some first", len(own))}
	}
	at := s.borders.Clock().UTC()
	d := &draft{Draft: store.Draft{Name: name, Reason: strings.TrimSpace(in.Reason), Author: string(c.User), State: store.DraftOpen, CreatedAt: at, ChangedAt: at, Version: 1, Changes: []byte("[]")}}
	if d.ID, err = freeID(name, func(id string) error { _, err := s.borders.Drafts.DraftOfID(ctx, id); return err }); err != nil {
		return wire.Draft{}, err
	}
	d.hand(c.User)
	if err := s.putActs(c, d, in.Acts); err != nil {
		return wire.Draft{}, err
	}
	if len(in.Changes) > 0 {
		o := EditOptions{way: WayIntoDraft, into: d}
		if _, err := s.Edit(ctx, c, wire.Edits{Changes: in.Changes}, o); err != nil {
			return wire.Draft{}, err
		}
	}
	if err := s.kept(s.borders.Drafts.AddDraft(ctx, d.Draft)); err != nil {
		return wire.Draft{}, err
	}
	return s.wireDraft(ctx, c, d)
}

// intoDraft puts what work makes of the policy, as the draft has it, into the draft; or looks at what that would do. Nothing else changes.
func (s *Service) intoDraft(ctx context.Context, c Caller, o *EditOptions, work func(now *State) (step, error)) (wire.Saved, error) {
	d := o.into // a draft that is not kept yet
	if d == nil {
		s.drafting.Lock()
		defer s.drafting.Unlock()
		var err error
		if d, err = s.openDraft(ctx, c, o.Draft); err != nil {
			return wire.Saved{}, err
		}
	}
	now := s.State()
	on, err := d.whole(now)
	if err != nil {
		return wire.Saved{}, err
	}
	c.found = nil
	if o.DryRun {
		out, err := s.lookAhead(ctx, on.State, c, o, work)
		out.Draft = d.ID
		return out, err
	}
	st, err := work(on.State)
	if err != nil {
		return wire.Saved{}, hide(on.State, s.View(on.State, c), err)
	}
	whole := now.Policy.Compare(st.policy)
	if err := s.Rights(now, c).Change(now.Policy, st.policy, whole); err != nil {
		return wire.Saved{}, err
	}
	if err := d.put(whole); err != nil {
		return wire.Saved{}, err
	}
	if len(d.Changes) > mostPartSize && !s.View(now, c).Whole() {
		return wire.Saved{}, Wrong("changes", "come to %d MB: a draft has %d at most", len(d.Changes)>>20, mostPartSize>>20)
	}
	d.hand(c.User)
	out := wire.Saved{Saved: true, Revision: now.Revision.Number, Changes: translate.Changes(st.done), Draft: d.ID, Tag: o.tag(st.policy)}
	if o.into == nil {
		err = s.keepDraft(ctx, d)
	}
	return out, err
}

// Drafted is the policy with a draft, but for conflicts, ready to be asked by a caller who may know of the draft.
func (s *Service) Drafted(ctx context.Context, c *Caller, id string) (*State, error) {
	d, err := s.draftOf(ctx, *c, id)
	if err != nil {
		return nil, err
	}
	now := s.State()
	c.found = nil
	if last := s.drafted.Load(); last != nil && last.id == d.ID && last.version == d.Version && last.state.judged == now {
		return last.state, nil
	}
	on := d.onto(now)
	if on.faults != nil {
		return nil, on.faults
	}
	s.drafted.Store(&lastDrafted{d.ID, d.Version, on.State})
	return on.State, nil
}

// lastDrafted is the draft that was asked of last: whoever works on one asks more than one question of it.
type lastDrafted struct {
	id      string
	version uint64
	state   *State
}

// Supposed is the policy as it would be after changes that the caller may make, and that are not made.
func (s *Service) Supposed(ctx context.Context, c Caller, edits []wire.Edit) (*State, error) {
	if len(edits) == 0 {
		return nil, Wrong("changes", "is empty: say what to change")
	}
	d := &draft{Draft: store.Draft{Changes: []byte("[]")}}
	if _, err := s.Edit(ctx, c, wire.Edits{Changes: edits}, EditOptions{way: WayIntoDraft, into: d}); err != nil {
		return nil, err
	}
	on := d.onto(s.State())
	if on.faults != nil {
		return nil, on.faults
	}
	return on.State, nil
}

// Drafts lists the drafts that a caller may know of: those that can still be applied or are to be taken back, or all.
func (s *Service) Drafts(ctx context.Context, c Caller, all bool) ([]wire.DraftHead, error) {
	now := s.State()
	if err := s.Permit(now, c, Read, ""); err != nil {
		return nil, err
	}
	list, err := s.borders.Drafts.Drafts(ctx, all, mostDrafts)
	if err != nil {
		return nil, err
	}
	out := []wire.DraftHead{}
	for _, kept := range list {
		if !s.seesDraft(now, c, &kept) {
			continue
		}
		d, err := readDraft(kept)
		if err != nil {
			return nil, err
		}
		out = append(out, s.draftHead(now, d))
	}
	return out, nil
}

func (s *Service) draftHead(now *State, d *draft) wire.DraftHead {
	named := func(id string) wire.Named { return wire.Named{ID: id, Name: now.Policy.Title(policy.Users, id)} }
	out := wire.DraftHead{
		ID: d.ID, Name: d.Name, Reason: d.Reason, Author: named(d.Author), State: d.State, Created: d.CreatedAt, Changed: d.ChangedAt, Records: len(d.done) + len(d.acts),
		ApplyAt: d.ApplyAt, Until: d.Until, Revision: d.Revision, Ended: d.Ended, Problem: d.Problem,
	}
	if d.AppliedBy != "" {
		by := named(d.AppliedBy)
		out.AppliedBy = &by
	}
	return out
}

// Draft is a draft as a whole, held against the newest revision.
func (s *Service) Draft(ctx context.Context, c Caller, id string) (wire.Draft, error) {
	d, err := s.draftOf(ctx, c, id)
	if err != nil {
		return wire.Draft{}, err
	}
	return s.wireDraft(ctx, c, d)
}

func (s *Service) wireDraft(ctx context.Context, c Caller, d *draft) (wire.Draft, error) {
	now := s.State()
	sum := d.digest()
	out := wire.Draft{
		DraftHead: s.draftHead(now, d), Digest: hex.EncodeToString(sum[:]), Now: now.Revision.Number,
		Changes: translate.Changes(d.done), Acts: d.acts, Conflicts: []wire.Conflict{}, Faults: []wire.Fault{}, Approval: wire.Approval{Needed: []string{}},
	}
	if by := d.approvedBy(); by != "" && !isOpen(d.State) {
		out.Approval.By, out.Approval.At = &wire.Named{ID: by, Name: now.Policy.Title(policy.Users, by)}, d.ApprovedAt
	}
	if !isOpen(d.State) {
		return out, nil
	}
	on := d.onto(now)
	for _, mine := range on.conflicts {
		out.Conflicts = append(out.Conflicts, conflictOf(now, mine))
	}
	var faults policy.Faults
	switch {
	case errors.As(on.faults, &faults):
		words := wording.Accepted(c.Language)
		for _, f := range faults {
			out.Faults = append(out.Faults, wire.Fault{Path: f.Path(), Problem: words.Put(f.Problem)})
		}
	case on.faults != nil:
		return out, on.faults
	case len(on.done) > 0:
		out.Impact = s.impact(c, now, on.Compiled, on.done)
		out.Unmet = s.told(now, c, on.Compiled, s.broken(now, on.Compiled, on.done))
		var err error
		if out.Approval.Needed, err = s.rulesOf(ctx, now, c, on); err != nil {
			return out, err
		}
	}
	out.Approval.Needed = s.actRules(d, out.Approval.Needed)
	if err := s.agreement(ctx, c, now, d, on, &out.Approval); err != nil {
		return out, err
	}
	r := s.Rights(now, c)
	may := r.May(Write, "") == nil && (len(d.acts) == 0 || r.May(Manage, "") == nil)
	any := len(d.done)+len(d.acts) > 0
	if on.State != nil {
		may = may && r.Change(now.Policy, on.Policy, on.done) == nil
	}
	out.May = wire.DraftMay{
		Change: r.May(Write, "") == nil, Apply: may && len(out.Conflicts)+len(out.Faults) == 0 && any,
		Approve: may && len(out.Conflicts)+len(out.Faults) == 0 && any && s.mayAgree(ctx, c, strings.Fields(d.Hands), d.CreatedAt) == nil,
	}
	return out, nil
}

func conflictOf(now *State, mine policy.RecordChange) wire.Conflict {
	r := mine.Record()
	current, _ := now.Policy.Get(r.Type(), r.Key())
	out := wire.Conflict{Type: r.Type().String(), ID: r.Key(), Name: r.Title(), Mine: translate.Changes([]policy.RecordChange{mine})[0]}
	if mine.Before != nil || current != nil {
		theirs := translate.Changes([]policy.RecordChange{{Before: mine.Before, After: current}})[0]
		out.Theirs = &theirs
	}
	return out
}

// Settle takes one of the versions of a record that a draft and somebody else have changed.
func (s *Service) Settle(ctx context.Context, c Caller, id string, in wire.Settle) (wire.Draft, error) {
	s.drafting.Lock()
	defer s.drafting.Unlock()
	d, err := s.openDraft(ctx, c, id)
	if err != nil {
		return wire.Draft{}, err
	}
	now := s.State()
	on := d.onto(now)
	at := slices.IndexFunc(on.conflicts, func(x policy.RecordChange) bool {
		return x.Record().Type().String() == in.Type && x.Record().Key() == in.ID
	})
	if at < 0 {
		return wire.Draft{}, Wrong("id", "is of no record that the draft and somebody else have changed")
	}
	mine := on.conflicts[at]
	base := now.Policy
	if on.State != nil {
		base = on.Policy
	}
	switch in.Take {
	case "mine":
		changes := mine.Changes()
		if _, there := base.Get(mine.Record().Type(), mine.Record().Key()); !there && mine.After != nil {
			changes = []policy.Change{{Op: policy.Put, Type: mine.Record().Type(), ID: mine.Record().Key(), Record: mine.After}}
		}
		if base, _, err = base.Apply(changes); err != nil {
			return wire.Draft{}, err
		}
	case "theirs":
	default:
		return wire.Draft{}, Wrong("take", "%q is neither mine nor theirs", policy.Clip(in.Take))
	}
	rest := slices.Delete(slices.Clone(on.conflicts), at, at+1)
	return s.redraft(ctx, c, d, append(now.Policy.Compare(base), rest...))
}

// redraft makes a draft one of other changes, by the hand of a caller, and tells what it is now.
func (s *Service) redraft(ctx context.Context, c Caller, d *draft, done []policy.RecordChange) (wire.Draft, error) {
	if err := d.put(done); err != nil {
		return wire.Draft{}, err
	}
	d.hand(c.User)
	if err := s.keepDraft(ctx, d); err != nil {
		return wire.Draft{}, err
	}
	return s.wireDraft(ctx, c, d)
}

// TakeOut takes what a draft does to one record out of it.
func (s *Service) TakeOut(ctx context.Context, c Caller, id, typeName, record string) (wire.Draft, error) {
	s.drafting.Lock()
	defer s.drafting.Unlock()
	d, err := s.openDraft(ctx, c, id)
	if err != nil {
		return wire.Draft{}, err
	}
	left := slices.DeleteFunc(slices.Clone(d.done), func(x policy.RecordChange) bool {
		return x.Record().Type().String() == typeName && x.Record().Key() == record
	})
	if len(left) == len(d.done) {
		return wire.Draft{}, ErrNotFound
	}
	return s.redraft(ctx, c, d, left)
}

// DropDraft gives a draft up.
func (s *Service) DropDraft(ctx context.Context, c Caller, id string) error {
	s.drafting.Lock()
	defer s.drafting.Unlock()
	d, err := s.openDraft(ctx, c, id)
	if err != nil {
		return err
	}
	d.State, d.ApplyAt, d.Until = store.DraftDropped, nil, nil
	if err := s.keepDraft(ctx, d); err != nil {
		return err
	}
	s.noteDraft(c, d, audit.Ended)
	return nil
}

func (s *Service) noteDraft(c Caller, d *draft, outcome string) {
	more := details{"draft": d.ID, "name": d.Name}
	if d.ApplyAt != nil {
		more["apply_at"] = d.ApplyAt.UTC()
	}
	if d.Problem != "" {
		more["problem"] = d.Problem
	}
	s.note(c, audit.Draft, outcome, d.Author, more)
}

// Approve agrees to what a draft changes: for whoever could make the change, and has put nothing into the draft.
func (s *Service) Approve(ctx context.Context, c Caller, id string, in wire.Approve) (wire.Draft, error) {
	s.drafting.Lock()
	defer s.drafting.Unlock()
	d, err := s.openDraft(ctx, c, id)
	if err != nil {
		return wire.Draft{}, err
	}
	now := s.State()
	if err := d.asSeen(in.Digest); err != nil {
		return wire.Draft{}, err
	}
	if err := s.mayAgree(ctx, c, strings.Fields(d.Hands), d.CreatedAt); err != nil {
		return wire.Draft{}, err
	}
	on, err := d.whole(now)
	if err != nil {
		return wire.Draft{}, err
	}
	if err := s.Rights(now, c).Change(now.Policy, on.Policy, on.done); err != nil {
		return wire.Draft{}, err
	}
	if len(d.acts) > 0 {
		if err := s.Permit(now, c, Manage, ""); err != nil {
			return wire.Draft{}, err
		}
	}
	rules, err := s.rulesOf(ctx, now, c, on)
	if err != nil {
		return wire.Draft{}, err
	}
	rules = s.actRules(d, rules)
	at, sum := s.borders.Clock().UTC(), d.digest()
	d.ApprovedBy, d.ApprovedAt, d.Approved = string(c.User), &at, sum[:]
	d.ApprovedFor, d.ApprovedOn, d.Problem = strings.Join(rules, " "), now.Revision.Number, ""
	if err := s.keepDraft(ctx, d); err != nil {
		return wire.Draft{}, err
	}
	s.noteDraft(c, d, audit.Done)
	return s.wireDraft(ctx, c, d)
}
