package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"sentier/internal/audit"
	"sentier/internal/decision"
	"sentier/internal/policy"
	"sentier/internal/store"
	"sentier/internal/wire"
)

// Bounds of reviews.
const (
	mostReviews  = 200    // that are told
	mostReviewed = 20_000 // things held of one review
	mostAnswers  = 1000   // at once
)

// review is a review with what is held, as the policy is.
type review struct {
	store.Review
	scope wire.NewReview
	items []store.ReviewItem
}

// NewReview begins a review of what is held now.
func (s *Service) NewReview(ctx context.Context, c Caller, in wire.NewReview) (wire.Review, error) {
	st, now := s.State(), s.borders.Clock()
	if err := s.Permit(st, c, Manage, ""); err != nil {
		return wire.Review{}, err
	}
	in.Name, in.Reason = strings.TrimSpace(in.Name), strings.TrimSpace(in.Reason)
	if err := checkName(in.Name); err != nil {
		return wire.Review{}, err
	}
	if len([]rune(in.Reason)) > mostReason {
		return wire.Review{}, Wrong("reason", "is longer than %d characters", mostReason)
	}
	if !slices.Contains([]string{unansweredTold, store.ReviewSuspended, store.ReviewTaken}, in.Unanswered) {
		return wire.Review{}, Wrong("unanswered", "%q is none of told, suspended and taken", policy.Clip(in.Unanswered))
	}
	due, err := s.hourOf("due", in.Due, now)
	if err != nil {
		return wire.Review{}, err
	}
	if due == nil {
		return wire.Review{}, Wrong("due", "is missing: say by when it is answered")
	}
	in.Groups, in.Sites = once(in.Groups), once(in.Sites)
	items, err := heldIn(st, in, now)
	if err != nil {
		return wire.Review{}, err
	}
	scope, err := json.Marshal(in)
	if err != nil {
		return wire.Review{}, fmt.Errorf("write the review %s: %w", in.Name, err)
	}
	s.reviewing.Lock()
	defer s.reviewing.Unlock()
	r := &review{Review: store.Review{Name: in.Name, Reason: in.Reason, Author: string(c.User), Mandate: string(c.Mandate), Scope: scope, Due: *due, Unanswered: in.Unanswered,
		State: store.ReviewOpen, CreatedAt: now.UTC(), Version: 1}, scope: in, items: items}
	if r.ID, err = freeID(in.Name, func(id string) error { _, err := s.borders.Reviews.ReviewOfID(ctx, id); return err }); err != nil {
		return wire.Review{}, err
	}
	for i := range r.items {
		r.items[i].Review = r.ID
	}
	if err := s.kept(s.borders.Reviews.AddReview(ctx, r.Review, r.items)); err != nil {
		return wire.Review{}, err
	}
	s.noteReview(c, r, audit.Made, details{"items": len(items), "due": due.UTC(), "unanswered": in.Unanswered, "reason": in.Reason})
	s.wakeHours()
	return s.wireReview(st, c, r), nil
}

func (s *Service) noteReview(c Caller, r *review, outcome string, more details) {
	if more == nil {
		more = details{}
	}
	more["review"], more["name"] = r.ID, r.Name
	s.note(c, audit.Review, outcome, "", more)
}

// reviewShown is how long a review that is over is among the others.
const reviewShown = 14 * 24 * time.Hour

// Reviews lists the reviews of which a caller sees anything: those that are open, or ended of late, or all.
func (s *Service) Reviews(ctx context.Context, c Caller, all bool) ([]wire.ReviewHead, error) {
	st := s.State()
	if err := s.Permit(st, c, Read, ""); err != nil {
		return nil, err
	}
	since := s.borders.Clock().Add(-reviewShown)
	if all {
		since = time.Time{}
	}
	list, err := s.borders.Reviews.Reviews(ctx, since, mostReviews)
	if err != nil {
		return nil, err
	}
	out := []wire.ReviewHead{}
	for _, kept := range list {
		r, err := s.readReview(ctx, kept)
		if err != nil {
			return nil, err
		}
		if told := s.wireReview(st, c, r); told.Counts.Total > 0 {
			out = append(out, told.ReviewHead)
		}
	}
	return out, nil
}

// Review is a review as a whole, as far as a caller sees it.
func (s *Service) Review(ctx context.Context, c Caller, id string) (wire.Review, error) {
	st := s.State()
	if err := s.Permit(st, c, Read, ""); err != nil {
		return wire.Review{}, err
	}
	r, err := s.reviewOf(ctx, id)
	if err != nil {
		return wire.Review{}, err
	}
	out := s.wireReview(st, c, r)
	if out.Counts.Total == 0 {
		return wire.Review{}, ErrNotFound
	}
	return out, nil
}

func (s *Service) reviewOf(ctx context.Context, id string) (*review, error) {
	kept, err := s.borders.Reviews.ReviewOfID(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return nil, ErrNotFound
	}
	if err != nil {
		return nil, err
	}
	return s.readReview(ctx, kept)
}

// readReview reads what is held in a review; of one that is open, once for all who look at it as it is. Nobody changes the items.
func (s *Service) readReview(ctx context.Context, kept store.Review) (*review, error) {
	if last, ok := s.openReviews.Load(kept.ID); ok && last.(*review).Version == kept.Version {
		return &review{kept, last.(*review).scope, last.(*review).items}, nil
	}
	r := &review{Review: kept}
	if err := json.Unmarshal(kept.Scope, &r.scope); err != nil {
		return nil, fmt.Errorf("read the review %s: %w", kept.ID, err)
	}
	var err error
	if r.items, err = s.borders.Reviews.ReviewItems(ctx, kept.ID); err != nil {
		return nil, err
	}
	if kept.State == store.ReviewOpen {
		s.openReviews.Store(kept.ID, &review{kept, r.scope, r.items})
	} else {
		s.openReviews.Delete(kept.ID)
	}
	return r, nil
}

func count(c *wire.ReviewCount, answer string) {
	c.Total++
	switch answer {
	case store.ReviewKept:
		c.Kept++
	case store.ReviewTaken:
		c.Taken++
	case store.ReviewSuspended:
		c.Suspended++
	case "gone":
		c.Gone++
	default:
		c.Waiting++
	}
}

// wireReview tells of a review what a caller sees of it: all of it, or what is theirs to answer.
func (s *Service) wireReview(st *State, c Caller, r *review) wire.Review {
	p, who := st.Policy, s.responsible(st, c)
	named := func(t policy.Type, id string) wire.Named { return wire.Named{ID: id, Name: p.Title(t, id)} }
	out := wire.Review{ReviewHead: wire.ReviewHead{
		ID: r.ID, Name: r.Name, Reason: r.Reason, Author: named(policy.Users, r.Author), State: r.State, Created: r.CreatedAt, Due: r.Due, Ended: r.EndedAt,
		Unanswered: r.Unanswered, Scope: wire.ReviewScope{Groups: []wire.Named{}, Sites: []wire.Named{}, Everything: r.scope.Everything}, Problem: r.Problem,
	}, At: who.at.UTC(), Parts: []wire.ReviewPart{}, Items: []wire.ReviewItem{}}
	for _, id := range r.scope.Groups {
		out.Scope.Groups = append(out.Scope.Groups, named(policy.UserGroups, id))
	}
	for _, id := range r.scope.Sites {
		out.Scope.Sites = append(out.Scope.Sites, named(policy.Sites, id))
	}
	parts := map[policy.MandateID]*wire.ReviewPart{}
	part := func(m *policy.Mandate) *wire.ReviewPart {
		id := policy.MandateID("")
		if m != nil {
			id = m.ID
		}
		if parts[id] == nil {
			parts[id] = &wire.ReviewPart{People: s.holdersOf(st, m)}
			if m != nil {
				name := named(policy.Mandates, string(id))
				parts[id].Mandate = &name
			}
		}
		return parts[id]
	}
	for i := range r.items {
		item := &r.items[i]
		record, until := stillHeld(p, item, who.at)
		of := who.ofItem(item)
		if !who.sees(item) {
			continue
		}
		t, _ := policy.TypeNamed(item.Type)
		told := wire.ReviewItem{User: named(policy.Users, item.User), Type: item.Type, Record: named(t, item.Record), Until: instant(until), Terms: termsOf(p, item, who.at), Mandates: []wire.Named{},
			Answer: becameOf(item, record), At: item.At, Note: item.Note, Revision: item.Revision}
		if u, ok := policy.Find[*policy.User](p, item.User); ok {
			told.Status = string(u.Status)
		}
		if item.By != "" {
			by := named(policy.Users, item.By)
			told.By = &by
		}
		told.May = r.State == store.ReviewOpen && of.may && item.User != string(c.User) && (told.Answer == "waiting" || told.Answer == store.ReviewKept)
		count(&out.Counts, told.Answer)
		if told.May && told.Answer == "waiting" {
			out.Mine++
		}
		for _, m := range of.mandates {
			told.Mandates = append(told.Mandates, named(policy.Mandates, string(m.ID)))
			count(&part(m).Counts, told.Answer)
		}
		if len(of.mandates) == 0 {
			count(&part(nil).Counts, told.Answer)
		}
		out.Items = append(out.Items, told)
	}
	slices.SortStableFunc(out.Items, func(a, b wire.ReviewItem) int { // the greatest powers first
		return decision.Bit(b.Type == policy.Mandates.String()) - decision.Bit(a.Type == policy.Mandates.String())
	})
	for m := range policy.Each[*policy.Mandate](p) {
		if x := parts[m.ID]; x != nil {
			out.Parts = append(out.Parts, *x)
		}
	}
	if x := parts[""]; x != nil {
		out.Parts = append(out.Parts, *x)
	}
	out.MayStop = r.State == store.ReviewOpen && who.rights.May(Manage, "") == nil
	return out
}

// holdersOf lists who holds a mandate now; without one, the owners.
func (s *Service) holdersOf(st *State, mandate *policy.Mandate) []wire.Named {
	now := s.borders.Clock()
	out := []wire.Named{}
	s.eachHolder(st, now, func(m *policy.Mandate, id policy.UserID) {
		if m != mandate && (mandate != nil || m.Role != policy.Owner) || slices.ContainsFunc(out, func(n wire.Named) bool { return n.ID == string(id) }) {
			return
		}
		if _, ok := st.Compiled.MaySignIn(id, now); ok {
			out = append(out, wire.Named{ID: string(id), Name: st.Policy.Title(policy.Users, string(id))})
		}
	})
	return out
}

// eachHolder visits everybody who holds a mandate of an owner or a delegate at an instant.
func (s *Service) eachHolder(st *State, now time.Time, visit func(m *policy.Mandate, id policy.UserID)) {
	for m := range policy.Each[*policy.Mandate](st.Policy) {
		if m.Role != policy.Owner && m.Role != policy.Delegate || m.Enabled == policy.Off || !m.Valid.Holds(now) {
			continue
		}
		for _, id := range m.To.Users {
			visit(m, id)
		}
		groups := map[policy.UserGroupID]bool{}
		for _, id := range m.To.Groups {
			decision.MembersOf(st.Policy, id, groups, func(member policy.Member) {
				if member.Span().Holds(now) {
					visit(m, member.User)
				}
			})
		}
	}
}

// openReview finds a review that can be answered still. The caller holds s.reviewing.
func (s *Service) openReview(ctx context.Context, id string) (*review, error) {
	r, err := s.reviewOf(ctx, id)
	if err != nil {
		return nil, err
	}
	if r.State != store.ReviewOpen {
		return nil, &DraftError{policy.Say("the review %q is over: begin another", r.Name)}
	}
	return r, nil
}

// keepReview keeps what became of a review and of some of its items.
func (s *Service) keepReview(ctx context.Context, r *review, items []store.ReviewItem) error {
	r.Version++
	kept, err := s.borders.Reviews.KeepReview(context.WithoutCancel(ctx), r.Review, items)
	if err == nil && !kept {
		err = &DraftError{policy.Say("somebody else has changed the review %q meanwhile: look at it again", r.Name)}
	}
	return s.kept(err)
}

// StopReview gives a review up: what was answered stays as it was, and nothing becomes of the rest.
func (s *Service) StopReview(ctx context.Context, c Caller, id string) error {
	if err := s.Permit(s.State(), c, Manage, ""); err != nil {
		return err
	}
	s.reviewing.Lock()
	defer s.reviewing.Unlock()
	r, err := s.openReview(ctx, id)
	if err != nil {
		return err
	}
	at := s.borders.Clock().UTC()
	r.State, r.EndedAt = store.ReviewStopped, &at
	if err := s.keepReview(ctx, r, nil); err != nil {
		return err
	}
	s.noteReview(c, r, audit.Ended, nil)
	return nil
}
