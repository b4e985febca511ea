package service

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"sentier/internal/audit"
	"sentier/internal/policy"
	"sentier/internal/store"
	"sentier/internal/wire"
)

// AnswerReview confirms or takes away what people hold: for whoever may change it, and nobody for themselves. What is taken away is one change, which is
// made as any other; with o.DryRun it is only looked at.
func (s *Service) AnswerReview(ctx context.Context, c Caller, id string, in wire.ReviewAnswers, o EditOptions) (wire.Reviewed, error) {
	s.reviewing.Lock()
	defer s.reviewing.Unlock()
	var out wire.Reviewed
	st := s.State()
	if err := s.Permit(st, c, Write, ""); err != nil {
		return out, err
	}
	r, err := s.openReview(ctx, id)
	if err != nil {
		return out, err
	}
	now, who := s.borders.Clock(), s.responsible(st, c)
	if !slices.ContainsFunc(r.items, func(item store.ReviewItem) bool { return who.sees(&item) }) {
		return out, ErrNotFound // the same as for what is not there
	}
	if n := len(in.Answers); n == 0 || n > mostAnswers {
		return out, Wrong("answers", "are %d: give 1 to %d", n, mostAnswers)
	}
	var answered, taken []store.ReviewItem
	for i, a := range in.Answers {
		if slices.ContainsFunc(in.Answers[:i], func(b wire.ReviewAnswer) bool { return a.Type == b.Type && a.Record == b.Record && a.User == b.User }) {
			return out, Wrong(fmt.Sprintf("answers[%d]", i), "is about what was answered before in the same list")
		}
		item, err := s.answerable(st, c, r, who, a, now, fmt.Sprintf("answers[%d]", i))
		if err != nil {
			return out, err
		}
		at := now.UTC()
		item.Answer, item.By, item.At, item.Note = a.Answer, string(c.User), &at, strings.TrimSpace(a.Note)
		if answered = append(answered, item); a.Answer == store.ReviewTaken {
			taken = append(taken, item)
		}
	}
	out.Kept, out.Taken = len(answered)-len(taken), len(taken)
	if len(taken) > 0 {
		o.way, o.title = WayReview, "review “"+r.Name+"”"
		saved, err := answerOf(s.edit(ctx, c, &o, func(now *State) ([]policy.Change, error) { return takenAway(now.Policy, taken) }))
		if err != nil {
			return out, err
		}
		out.Saved = &saved
		for i := range answered {
			if answered[i].Answer == store.ReviewTaken {
				answered[i].Revision = saved.Revision
			}
		}
	}
	if o.DryRun {
		return out, nil
	}
	if err := s.keepReview(ctx, r, answered); err != nil {
		return out, err
	}
	s.noteReview(c, r, audit.Done, details{"kept": out.Kept, "taken": out.Taken})
	return out, nil
}

// answerable finds the item that an answer is about, where the caller may answer it. The error names the field of the answer.
func (s *Service) answerable(st *State, c Caller, r *review, who *responsible, a wire.ReviewAnswer, now time.Time, field string) (item store.ReviewItem, err error) {
	i := slices.IndexFunc(r.items, func(x store.ReviewItem) bool { return x.Type == a.Type && x.Record == a.Record && x.User == a.User })
	var record policy.Record
	if i >= 0 {
		record, _ = stillHeld(st.Policy, &r.items[i], now)
	}
	if record == nil || !who.whole && !who.of(record).may {
		return item, Wrong(field, "is about nothing that %q holds still, and that is looked at here", policy.Clip(a.User))
	}
	item = r.items[i]
	switch {
	case a.Answer != store.ReviewKept && a.Answer != store.ReviewTaken:
		return item, Wrong(field+".answer", "%q is neither kept nor taken", policy.Clip(a.Answer))
	case len([]rune(a.Note)) > mostReason:
		return item, Wrong(field+".note", "is longer than %d characters", mostReason)
	case a.User == string(c.User):
		return item, &ForbiddenError{Missing: policy.Say("somebody else: nobody answers for themselves")}
	case !who.of(record).may:
		return item, &ForbiddenError{Missing: policy.Say("a mandate that covers it")}
	case becameOf(&item, record) == store.ReviewSuspended:
		return item, Wrong(field, "is about somebody who was suspended already")
	}
	return item, nil
}

// takenAway are the changes by which people hold some items no more.
func takenAway(p *policy.Policy, items []store.ReviewItem) ([]policy.Change, error) {
	var out []policy.Change
	grants := map[string]*policy.Grant{}
	mandates := map[string]*policy.Mandate{}
	var order, held []string
	for _, item := range items {
		user := policy.UserID(item.User)
		if item.Type == policy.UserGroups.String() {
			out = append(out, policy.Change{Op: policy.Drop, Type: policy.UserGroups, ID: item.Record, List: "members", Entry: policy.Entry{Value: item.User}})
			continue
		}
		if item.Type == policy.Mandates.String() {
			m := mandates[item.Record]
			if m == nil {
				was, ok := policy.Find[*policy.Mandate](p, item.Record)
				if !ok {
					return nil, ErrNotFound
				}
				less := *was
				less.To.Users = slices.Clone(was.To.Users)
				m, held = &less, append(held, item.Record)
				mandates[item.Record] = m
			}
			m.To.Users = slices.DeleteFunc(m.To.Users, func(id policy.UserID) bool { return id == user })
			continue
		}
		g := grants[item.Record]
		if g == nil {
			was, ok := policy.Find[*policy.Grant](p, item.Record)
			if !ok {
				return nil, ErrNotFound
			}
			less := *was
			less.To.Users = slices.Clone(was.To.Users)
			g, order = &less, append(order, item.Record)
			grants[item.Record] = g
		}
		g.To.Users = slices.DeleteFunc(g.To.Users, func(id policy.UserID) bool { return id == user })
	}
	for _, id := range order {
		g := grants[id]
		if len(g.To.Users)+len(g.To.Groups) == 0 && !g.To.Everyone {
			out = append(out, policy.Change{Op: policy.Remove, Type: policy.Grants, ID: id})
		} else {
			out = append(out, policy.Change{Op: policy.Put, Type: policy.Grants, ID: id, Record: g})
		}
	}
	for _, id := range held {
		if m := mandates[id]; len(m.To.Users)+len(m.To.Groups) == 0 {
			out = append(out, policy.Change{Op: policy.Remove, Type: policy.Mandates, ID: id})
		} else {
			out = append(out, policy.Change{Op: policy.Put, Type: policy.Mandates, ID: id, Record: m})
		}
	}
	return out, nil
}
