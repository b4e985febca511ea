package service

import (
	"context"
	"fmt"
	"maps"
	"math"
	"slices"
	"strings"
	"time"

	"sentier/internal/audit"
	"sentier/internal/policy"
	"sentier/internal/store"
)

// viaReview is by what a revision came that nobody made at that moment.
const viaReview = "review"

// reminders are how long before a review is due those are told again who have not answered.
var reminders = []time.Duration{7 * 24 * time.Hour, 24 * time.Hour}

// Reminder is that somebody is to answer a review.
type Reminder struct {
	To      Addressee
	ID      string
	Name    string
	Due     time.Time
	Waiting int
}

// Remind has those told by tell who are to answer a review: when it begins, a week and a day before it is due.
func (s *Service) Remind(tell func(context.Context, []Reminder)) { s.remind.Store(&tell) }

// reviews ends the reviews that are due, has those told who are to answer the others, and notes when anything is due next.
func (s *Service) reviews(ctx context.Context) error {
	s.reviewing.Lock()
	defer s.reviewing.Unlock()
	list, err := s.borders.Reviews.Reviews(ctx, s.borders.Clock(), math.MaxInt32)
	if err != nil {
		return err
	}
	list = slices.DeleteFunc(list, func(r store.Review) bool { return r.State != store.ReviewOpen }) // the clock may have been ahead
	for _, kept := range list {
		now := s.borders.Clock()
		told, next := remindedBy(&kept, now)
		if now.Before(kept.Due) {
			s.nextHour.Store(min(s.nextHour.Load(), next.UnixMilli()))
			if told <= kept.Reminded {
				continue
			}
		}
		r, err := s.readReview(ctx, kept)
		if err != nil {
			return err
		}
		if now.Before(kept.Due) {
			r.Reminded = told
			if err = s.keepReview(ctx, r, nil); err == nil {
				s.tellOfReview(ctx, r)
			}
		} else {
			err = s.endReview(ctx, r)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// remindedBy is how often those who are to answer have been told by an instant, and when something is due next.
func remindedBy(r *store.Review, now time.Time) (times int, next time.Time) {
	times, next = 1, r.Due
	for i := len(reminders) - 1; i >= 0; i-- {
		switch at := r.Due.Add(-reminders[i]); {
		case !at.After(r.CreatedAt):
		case at.After(now):
			next = at
		default:
			times++
		}
	}
	return times, next
}

// tellOfReview tells those by mail for whom anything of a review waits.
func (s *Service) tellOfReview(ctx context.Context, r *review) {
	tell := s.remind.Load()
	if tell == nil {
		return
	}
	st, now := s.State(), s.borders.Clock()
	seen := map[policy.UserID]bool{}
	var out []Reminder
	s.eachHolder(st, now, func(_ *policy.Mandate, id policy.UserID) {
		if seen[id] || len(out) >= mostTold {
			return
		}
		seen[id] = true
		if _, ok := st.Compiled.MaySignIn(id, now); !ok {
			return
		}
		if mine := s.wireReview(st, Caller{User: id}, r).Mine; mine > 0 {
			if to := s.Addressee(ctx, string(id)); to.Email != "" {
				out = append(out, Reminder{to, r.ID, r.Name, r.Due, mine})
			}
		}
	})
	if len(out) > 0 {
		go (*tell)(context.WithoutCancel(ctx), out)
	}
}

// endReview ends a review that is due: what was set becomes of what nobody has answered, as whoever began it, if they still may.
func (s *Service) endReview(ctx context.Context, r *review) error {
	c := Caller{User: policy.UserID(r.Author), Via: viaReview, Mandate: policy.MandateID(r.Mandate)}
	now := s.borders.Clock().UTC()
	var waiting []store.ReviewItem
	for _, item := range r.items {
		record, _ := stillHeld(s.State().Policy, &item, now)
		begun := item.By == "" && item.Revision == 0 && item.Answer == r.Unanswered // when the program ended in the middle of it
		if record != nil && (item.Answer == "" || begun) {
			waiting = append(waiting, item)
		}
	}
	var done []store.ReviewItem
	if r.Unanswered != unansweredTold && len(waiting) > 0 {
		// What is to become of them is kept first: so the report is right, whenever the program ends.
		if err := s.keepReview(ctx, r, answered(waiting, r.Unanswered, &now)); err != nil {
			return err
		}
		var problems []string
		done, problems = s.unanswered(ctx, c, r, waiting)
		for i := range done {
			done[i].At = &now
		}
		if r.Problem = strings.Join(problems, "; "); len(r.Problem) > mostProblem {
			r.Problem = r.Problem[:strings.LastIndexByte(r.Problem[:mostProblem], ' ')] + " …"
		}
	}
	r.State, r.EndedAt = store.ReviewOver, &now
	if r.Problem != "" {
		s.borders.Log.Error("not all of what nobody has answered in a review could be taken away, or suspended", "review", r.ID, "error", r.Problem)
	}
	type key struct{ typ, record, user string }
	became := map[key]store.ReviewItem{}
	for _, item := range append(answered(waiting, "", nil), done...) {
		became[key{item.Type, item.Record, item.User}] = item
	}
	if err := s.keepReview(ctx, r, slices.Collect(maps.Values(became))); err != nil {
		return err
	}
	s.noteReview(c, r, audit.Ended, details{"waiting": len(waiting), r.Unanswered: len(done), "problem": r.Problem})
	return nil
}

// answered are some items with an answer that nobody has given.
func answered(items []store.ReviewItem, answer string, at *time.Time) []store.ReviewItem {
	out := slices.Clone(items)
	for i := range out {
		out[i].Answer, out[i].At = answer, at
	}
	return out
}

// mostProblem is how long the problem of a review may be, in bytes.
const mostProblem = 2000

// unanswered takes away what nobody has answered, or suspends who holds it: all at once, or, where that is refused, what can be.
func (s *Service) unanswered(ctx context.Context, c Caller, r *review, waiting []store.ReviewItem) (done []store.ReviewItem, problems []string) {
	try := func(items []store.ReviewItem) error {
		o := EditOptions{way: WayReviewEnd, Note: "review “" + r.Name + "”: nobody has answered by its end"}
		saved, err := answerOf(s.edit(ctx, c, &o, func(now *State) ([]policy.Change, error) {
			if r.Unanswered == store.ReviewTaken {
				return takenAway(now.Policy, items)
			}
			return suspended(now.Policy, items), nil
		}))
		if err != nil {
			return err
		}
		for _, item := range items {
			item.Answer, item.Revision = r.Unanswered, saved.Revision
			done = append(done, item)
		}
		return nil
	}
	if err := s.Permit(s.State(), c, Write, ""); err != nil {
		return nil, []string{err.Error()}
	}
	if len(waiting) > 1 && try(waiting) == nil {
		return done, nil
	}
	byUser := map[string][]store.ReviewItem{}
	var users []string
	for _, item := range waiting {
		if byUser[item.User] == nil {
			users = append(users, item.User)
		}
		byUser[item.User] = append(byUser[item.User], item)
	}
	for _, user := range users {
		if err := try(byUser[user]); err != nil {
			problems = append(problems, fmt.Sprintf("%s: %v", s.State().Policy.Title(policy.Users, user), err))
		}
	}
	return done, problems
}

// suspended are the changes by which those who hold some items can do nothing any more.
func suspended(p *policy.Policy, items []store.ReviewItem) (out []policy.Change) {
	seen := []string{}
	for _, item := range items {
		u, ok := policy.Find[*policy.User](p, item.User)
		if !ok || u.Status == policy.Suspended || slices.Contains(seen, item.User) {
			continue
		}
		seen = append(seen, item.User)
		less := *u
		less.Status = policy.Suspended
		out = append(out, policy.Change{Op: policy.Put, Type: policy.Users, ID: item.User, Record: &less})
	}
	return out
}
