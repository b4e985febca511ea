package answers

import (
	"context"
	"strconv"
	"time"

	"sentier/internal/policy"
	"sentier/internal/service"
	"sentier/internal/store"
	"sentier/internal/survey"
	"sentier/internal/translate"
	"sentier/internal/wire"
	"sentier/internal/wording"
)

// HistoryQuery says which revisions are asked for, as people write it.
type HistoryQuery struct {
	By, Since, Until string
	Type, ID         string // of a record that they changed
	Limit            int
	Cursor           string
}

// History lists revisions, newest first: who made each, when, why, and what it changed.
func (s Service) History(ctx context.Context, c service.Caller, q HistoryQuery) (wire.Revisions, error) {
	st := s.State()
	out := wire.Revisions{Items: []wire.Happened{}}
	if err := s.Permit(st, c, service.Whole, ""); err != nil {
		return out, err
	}
	w := store.Which{By: q.By, Type: q.Type, ID: q.ID, UpTo: st.Revision.Number}
	if _, known := policy.TypeNamed(q.Type); q.Type != "" && !known {
		return out, service.Wrong("type", "%q is no type of record: write users, user_groups, devices, …", policy.Clip(q.Type))
	}
	if (q.Type == "") != (q.ID == "") {
		return out, service.Wrong("id", "goes with type: give both, or neither")
	}
	var err error
	if w.Since, w.Until, err = s.between(st, q.Since, q.Until); err != nil {
		return out, err
	}
	if q.Limit == 0 {
		q.Limit = DefaultPage
	}
	if q.Limit < 0 || q.Limit > MaxPage {
		return out, pageError(q.Limit)
	}
	pages := cursorOf("revisions", q.By, q.Since, q.Until, q.Type, q.ID)
	before, err := pages.read("cursor", q.Cursor)
	if err != nil {
		return out, err
	}
	if before != "" {
		last, err := strconv.ParseUint(before, 10, 64)
		if err != nil || last < 2 {
			return out, err
		}
		w.UpTo = min(w.UpTo, last-1)
	}
	list, err := s.Revisions(ctx, w, q.Limit+1)
	if err != nil {
		return out, err
	}
	if len(list) > q.Limit {
		list = list[:q.Limit]
		out.Next = pages.after(strconv.FormatUint(list[q.Limit-1].Number, 10))
	}
	out.Items, err = s.happened(ctx, st.Policy, s.View(st, c), list)
	return out, err
}

// Compare tells what leads from the policy as it was to what it was later, or is, and who gained and lost what by it. Each is a revision or a time,
// as in [Service.AsOf]; an empty one is the present.
func (s Service) Compare(ctx context.Context, c service.Caller, from, to string) (wire.Compared, error) {
	out := wire.Compared{Changes: []wire.RecordChange{}}
	if err := s.Permit(s.State(), c, service.Whole, ""); err != nil {
		return out, err
	}
	ends := [2]*service.State{s.State(), s.State()}
	times := [2]time.Time{s.Now(), s.Now()}
	for i, end := range []struct{ field, text string }{{"from", from}, {"to", to}} {
		if end.text == "" {
			continue
		}
		var err error
		if ends[i], times[i], err = s.moment(ctx, end.field, end.text); err != nil {
			return out, err
		}
	}
	out.From, out.To = wire.Moment{Revision: ends[0].Revision.Number, At: times[0]}, wire.Moment{Revision: ends[1].Revision.Number, At: times[1]}
	done := ends[0].Policy.Compare(ends[1].Policy)
	out.All = len(done)
	out.Changes = translate.Changes(done[:min(len(done), mostShown)])
	out.Impact = *impactBetween(c, ends[0], ends[1], done, times[1])
	return out, nil
}

// impactOf is who gained and lost what from one revision to another, at an instant.
func (s Service) impactOf(ctx context.Context, c service.Caller, from, to uint64, at time.Time) (*wire.Impact, error) {
	after, err := s.Past(ctx, to)
	if err != nil {
		return nil, err
	}
	before, err := s.Past(ctx, from)
	if err != nil {
		return nil, err
	}
	return impactBetween(c, before, after, before.Policy.Compare(after.Policy), at), nil
}

func impactBetween(c service.Caller, before, after *service.State, done []policy.RecordChange, at time.Time) *wire.Impact {
	at = at.UTC().Truncate(time.Microsecond)
	found := survey.Compare(before.Compiled, after.Compiled, done, survey.Circumstances{At: at}, service.MostItems)
	return wording.Accepted(c.Language).Impact(after.Policy, found, at)
}

// Revision tells what a revision did, record by record, and, where it is asked for, who gained and lost what by it when it was made.
func (s Service) Revision(ctx context.Context, c service.Caller, number uint64, impact bool) (wire.RevisionShown, error) {
	st := s.State()
	out := wire.RevisionShown{Changes: []wire.RecordChange{}}
	if err := s.Permit(st, c, service.Whole, ""); err != nil {
		return out, err
	}
	if number == 0 || number > st.Revision.Number {
		return out, service.ErrNotFound
	}
	list, err := s.Revisions(ctx, store.Which{UpTo: number}, 1)
	if err != nil || len(list) == 0 {
		return out, err
	}
	r := list[0]
	out.Revision, out.At, out.Via, out.Note = r.Number, r.At, r.Via, r.Note
	out.By = wire.Named{ID: r.By, Name: st.Policy.Title(policy.Users, r.By)}
	if impact && number > 1 {
		if out.Impact, err = s.impactOf(ctx, c, number-1, number, r.At); err != nil {
			return out, err
		}
	}
	touched, all, err := s.TouchedBy(ctx, number, mostShown)
	if out.All = all; err != nil {
		return out, err
	}
	if all <= mostShown {
		done, err := s.ChangesOf(ctx, number)
		out.Changes = translate.Changes(done)
		return out, err
	}
	for _, x := range touched {
		t, _ := policy.TypeNamed(x.Type)
		out.Changes = append(out.Changes, wire.RecordChange{Op: x.Op(), Type: x.Type, ID: x.ID, Name: st.Policy.Title(t, x.ID)})
	}
	return out, nil
}
