package service

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"sentier/internal/decision"
	"sentier/internal/demo"
	"sentier/internal/policy"
	"sentier/internal/specimen"
	"sentier/internal/store"
	"sentier/internal/wire"
)

// TestWhatAReviewLooksAt: memberships of groups and of those that they include, and grants that name members; what is given at sites, or below; and everything.
// What is over is held by nobody.
func TestWhatAReviewLooksAt(t *testing.T) {
	t.Parallel()
	now := specimen.Instant(t, "2026-11-24T10:00:00Z")
	c := specimen.Compile(t, `
sites: [{id: port}, {id: quay, parent: port}, {id: hill}]
devices: [{id: gate, site: quay}, {id: mast, site: hill}]
users: [{id: ana, name: Ana}, {id: ben, name: Ben}, {id: cho, name: Cho}, {id: dee, name: Dee}]
user_groups:
  - {id: crew, includes: [night], members: [ana, {user: ben, until: 2026-11-01T00:00:00Z}, {user: cho, from: 2026-12-01T00:00:00Z}, {user: cho, until: 2026-11-30T00:00:00Z}]}
  - {id: night, members: [dee]}
  - {id: far, members: [ben]}
grants:
  - {id: locks, to: {groups: [crew]}, lines: [{rights: [control], on: {devices: [gate]}}]}
  - {id: hill, to: {groups: [far], users: [cho]}, lines: [{rights: [view], on: {sites: [hill]}}]}
  - {id: never, effect: deny, to: {users: [ana]}, lines: [{rights: [view], on: {sites: [hill]}}]}
  - {id: over, to: {users: [ana]}, valid: {until: 2026-11-02T00:00:00Z}, lines: [{rights: [view], on: {sites: [hill]}}]}
`)
	st := &State{Policy: c.Policy(), Compiled: c}
	for _, x := range []struct {
		name, want string
		in         wire.NewReview
	}{
		{"a group, what it includes, and grants that name its members", "crew ana, crew cho, night dee, hill cho", wire.NewReview{Groups: []string{"crew"}}},
		{"a group that includes none", "night dee", wire.NewReview{Groups: []string{"night"}}},
		{"a site, and what lies below it", "crew ana, crew cho, night dee", wire.NewReview{Sites: []string{"port"}}},
		{"another site", "far ben, hill cho", wire.NewReview{Sites: []string{"hill"}}},
		{"everything", "crew ana, crew cho, far ben, night dee, hill cho", wire.NewReview{Everything: true}},
		{"nothing", "groups is empty: say what is looked at, by groups, by sites, or everything", wire.NewReview{}},
		{"a group that is not there", `groups there is no user group "none"`, wire.NewReview{Groups: []string{"none"}}},
		{"a site that is not there", `sites there is no site "none"`, wire.NewReview{Sites: []string{"none"}}},
	} {
		items, err := heldIn(st, x.in, now)
		var got []string
		for _, i := range items {
			got = append(got, i.Record+" "+i.User)
		}
		text := strings.Join(got, ", ")
		if err != nil {
			text = err.Error()
		}
		if strings.ReplaceAll(text, ":", "") != strings.ReplaceAll(x.want, ":", "") {
			t.Errorf("%s: %s, want %s", x.name, text, x.want)
		}
	}
}

// TestWhenAReviewIsToldAgain: when it begins, a week and a day before it is due, where that is after it began.
func TestWhenAReviewIsToldAgain(t *testing.T) {
	t.Parallel()
	begun := demo.Written
	day := 24 * time.Hour
	for _, x := range []struct {
		lasts, since time.Duration
		times        int
		next         time.Duration
	}{
		{21 * day, 0, 1, 14 * day}, {21 * day, 14*day - 1, 1, 14 * day}, {21 * day, 14 * day, 2, 20 * day}, {21 * day, 20 * day, 3, 21 * day},
		{3 * day, 0, 1, 2 * day}, {3 * day, 2 * day, 2, 3 * day}, {12 * time.Hour, time.Hour, 1, 12 * time.Hour}, {7 * day, 0, 1, 6 * day},
	} {
		r := &store.Review{CreatedAt: begun, Due: begun.Add(x.lasts)}
		times, next := remindedBy(r, begun.Add(x.since))
		if times != x.times || !next.Equal(begun.Add(x.next)) {
			t.Errorf("of %v, after %v: told %d times, next after %v; want %d and %v", x.lasts, x.since, times, next.Sub(begun), x.times, x.next)
		}
	}
}

// TestAReviewEndsOnce: what nobody has answered is taken away in one revision, also where the program ended in the middle of it; and what must not be is told.
func TestAReviewEndsOnce(t *testing.T) {
	t.Parallel()
	now := demo.Written
	s, _ := on(t, func() time.Time { return now })
	owner := Caller{User: "ines.carvalho", Via: "test"}
	begin := func(name, unanswered string, groups ...string) *review {
		t.Helper()
		made, err := s.NewReview(t.Context(), owner, wire.NewReview{Name: name, Groups: groups, Due: "in 2 days", Unanswered: unanswered})
		if err != nil {
			t.Fatal(err)
		}
		r, err := s.reviewOf(t.Context(), made.ID)
		if err != nil {
			t.Fatal(err)
		}
		return r
	}
	over := func(r *review) wire.Review {
		t.Helper()
		now = r.Due.Add(time.Minute)
		if err := s.reviews(t.Context()); err != nil {
			t.Fatal(err)
		}
		out, err := s.Review(t.Context(), owner, r.ID)
		if err != nil || out.State != store.ReviewOver {
			t.Fatalf("%+v, %v", out.ReviewHead, err)
		}
		return out
	}
	r := begin("Crew", store.ReviewTaken, "bridge-crew")
	keep := wire.ReviewAnswers{Answers: []wire.ReviewAnswer{{User: "tomas.field", Type: "user_groups", Record: "bridge-crew", Answer: "kept"}}}
	if _, err := s.AnswerReview(t.Context(), owner, r.ID, keep, EditOptions{}); err != nil {
		t.Fatal(err)
	}
	r, err := s.reviewOf(t.Context(), r.ID)
	if err != nil {
		t.Fatal(err)
	}
	// As far as it had come when the program ended: it is kept what is to become of them, and not done.
	waiting := slices.DeleteFunc(slices.Clone(r.items), func(i store.ReviewItem) bool { return i.Answer != "" })
	if err := s.keepReview(t.Context(), r, answered(waiting, store.ReviewTaken, &now)); err != nil {
		t.Fatal(err)
	}
	before := s.State().Revision.Number
	out := over(r)
	if out.Counts.Kept != 1 || out.Counts.Taken != len(waiting) || s.State().Revision.Number != before+1 || out.Problem != "" {
		t.Errorf("it ended with %+v at revision %d, from %d: %s", out.Counts, s.State().Revision.Number, before, out.Problem)
	}
	for _, i := range out.Items {
		if i.Answer == "taken" && (i.Revision != before+1 || i.By != nil) {
			t.Errorf("%+v", i)
		}
	}
	if err := s.reviews(t.Context()); err != nil || s.State().Revision.Number != before+1 {
		t.Errorf("it ended twice: %v", err)
	}

	// The last owner stays; and whoever began it must be able still to do it.
	if _, err := s.Edit(t.Context(), owner, wire.Edits{Changes: []wire.Edit{{Op: "add", Type: "user_groups", ID: "bridge-crew", List: "members", Value: "ines.carvalho"}}}, EditOptions{}); err != nil {
		t.Fatal(err)
	}
	out = over(begin("Owners", store.ReviewSuspended, "bridge-crew"))
	if out.Counts.Suspended != 1 || out.Counts.Waiting != 2 || !strings.Contains(out.Problem, "Ines Carvalho: ") {
		t.Errorf("it ended with %+v: %q", out.Counts, out.Problem)
	}
	r = begin("Told", unansweredTold, "instrument-technicians")
	if out = over(r); out.Counts.Waiting != out.Counts.Total || out.Problem != "" {
		t.Errorf("it ended with %+v: %q", out.Counts, out.Problem)
	}
	for what, err := range map[string]error{
		"answered": func() error { _, err := s.AnswerReview(t.Context(), owner, r.ID, keep, EditOptions{}); return err }(),
		"stopped":  s.StopReview(t.Context(), owner, r.ID),
	} {
		if err == nil || !strings.Contains(err.Error(), "is over") {
			t.Errorf("%s after its end: %v", what, err)
		}
	}
}

// TestAReviewHoldsItsBounds: what is held by too many, answers without number, and texts without end are refused.
func TestAReviewHoldsItsBounds(t *testing.T) {
	t.Parallel()
	s, owner := larkmere(t)
	if _, err := s.Edit(t.Context(), owner, wire.Edits{Changes: []wire.Edit{{Op: "put", Type: "user_groups", ID: "nobody-yet", Record: []byte(`{"name":"Nobody yet"}`)}}}, EditOptions{}); err != nil {
		t.Fatal(err)
	}
	long := strings.Repeat("x", mostReason+1)
	for want, in := range map[string]wire.NewReview{
		"name":                  {Name: strings.Repeat("n", mostName+1), Everything: true, Due: "in 2 days", Unanswered: "told"},
		"reason":                {Name: "x", Reason: long, Everything: true, Due: "in 2 days", Unanswered: "told"},
		"nobody holds anything": {Name: "x", Groups: []string{"nobody-yet"}, Due: "in 2 days", Unanswered: "told"},
	} {
		if _, err := s.NewReview(t.Context(), owner, in); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", want, err)
		}
	}
	members := make([]policy.Member, mostReviewed+1)
	for i := range members {
		members[i].User = policy.UserID(fmt.Sprint("u", i))
	}
	r := &policy.Records{UserGroups: []policy.UserGroup{{ID: "crowd", Members: members}}}
	for i := range members {
		r.Users = append(r.Users, policy.User{ID: policy.UserID(fmt.Sprint("u", i))})
	}
	p, err := policy.FromRecords(r)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := heldIn(&State{Policy: p, Compiled: decision.Compile(p)}, wire.NewReview{Groups: []string{"crowd"}}, demo.Written); err == nil || !strings.Contains(err.Error(), "at most") {
		t.Errorf("too many: %v", err)
	}
	made, err := s.NewReview(t.Context(), owner, wire.NewReview{Name: "All", Everything: true, Due: "in 2 days", Unanswered: "told"})
	if err != nil {
		t.Fatal(err)
	}
	one := wire.ReviewAnswer{User: "tomas.field", Type: "user_groups", Record: "bridge-crew", Answer: "kept"}
	noted := one
	noted.Note = long
	for want, in := range map[string][]wire.ReviewAnswer{"answers": {}, "give 1 to": slices.Repeat([]wire.ReviewAnswer{one}, mostAnswers+1), "note": {noted}, "the same list": {one, noted}} {
		if _, err := s.AnswerReview(t.Context(), owner, made.ID, wire.ReviewAnswers{Answers: in}, EditOptions{}); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", want, err)
		}
	}
}

// TestAReviewTellsEachMembership by itself, where one end does not tell all of them.
func TestAReviewTellsEachMembership(t *testing.T) {
	now := demo.Written
	day := func(n int) time.Time { return now.AddDate(0, 0, n) }
	for name, c := range map[string]struct {
		members []policy.Member
		want    string
	}{
		"for good":                {[]policy.Member{{User: "ana"}}, "[]"},
		"with an end":             {[]policy.Member{{User: "ana", Until: day(3)}}, "[]"},
		"yet to begin":            {[]policy.Member{{User: "ana", From: day(1), Until: day(3)}}, "[1–3]"},
		"twice":                   {[]policy.Member{{User: "ana", From: day(-2), Until: day(3)}, {User: "ana", From: day(5), Until: day(8)}}, "[-2–3 5–8]"},
		"twice, one of them over": {[]policy.Member{{User: "ana", From: day(-9), Until: day(-3)}, {User: "ana", From: day(-1), Until: day(8)}}, "[]"},
	} {
		p, _, err := policy.Empty().Apply([]policy.Change{specimen.Put(&policy.User{ID: "ana"}), specimen.Put(&policy.UserGroup{ID: "crew", Members: c.members})})
		if err != nil {
			t.Fatal(err)
		}
		var got []string
		for _, term := range termsOf(p, &store.ReviewItem{Type: "user_groups", Record: "crew", User: "ana"}, now) {
			got = append(got, fmt.Sprintf("%.0f–%.0f", term.From.Sub(now).Hours()/24, term.Until.Sub(now).Hours()/24))
		}
		if fmt.Sprint(got) != c.want {
			t.Errorf("%s: %v, want %s", name, got, c.want)
		}
	}
}
