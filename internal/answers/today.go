package answers

import (
	"cmp"
	"context"
	"slices"
	"time"

	"sentier/internal/authority"
	"sentier/internal/decision"
	"sentier/internal/policy"
	"sentier/internal/schedule"
	"sentier/internal/service"
	"sentier/internal/store"
	"sentier/internal/survey"
	"sentier/internal/wire"
)

// How much of each the first look shows.
const (
	shownToday   = 12
	shownRecords = 3
	endingWithin = service.EndsSoon
	lookAhead    = 366 * 24 * time.Hour
)

// Today is the first look of whoever administers.
func (s Service) Today(ctx context.Context, c service.Caller) (wire.Today, error) {
	st := s.State()
	if err := s.Permit(st, c, service.Read, ""); err != nil {
		return wire.Today{}, err
	}
	p, now, v := st.Policy, s.Now().UTC(), s.View(st, c)
	out := wire.Today{At: now, Zone: p.Settings().Zone, Lockouts: []wire.LockedOut{}, Invited: []wire.Named{}, Counts: map[string]int{}}
	for _, t := range policy.Types() {
		out.Counts[t.String()] = v.Len(t)
	}
	var err error
	if out.Schedules, err = openNow(p, now); err != nil {
		return out, err
	}
	ending := service.Endings(p, v.Sees, now, now.Add(endingWithin))
	if s.Permit(st, c, service.Whole, "") == nil {
		for _, x := range s.Ending(now.Add(endingWithin)) {
			ending = append(ending, wire.Ending{Kind: "token", At: *x.Expires, Token: x.Name, User: &wire.Named{ID: x.User, Name: p.Title(policy.Users, x.User)}})
		}
		slices.SortStableFunc(ending, func(a, b wire.Ending) int { return a.At.Compare(b.At) })
	}
	out.Endings, out.Ending = len(ending), ending[:min(len(ending), shownToday)]
	for d := range policy.Each[*policy.Device](p) {
		if l := d.Lockout; l != nil && v.Sees(d) && decision.PeriodOf(policy.Span{From: l.From, Until: l.Until}).Holds(decision.MomentOf(now)) {
			out.Lockouts = append(out.Lockouts, wire.LockedOut{Device: wire.Named{ID: d.Key(), Name: d.Title()}, Reason: l.Reason, Since: end(l.From), Until: end(l.Until), Zone: decision.SiteZone(p, d.Site)})
		}
	}
	for u := range policy.Each[*policy.User](p) {
		if u.Status != policy.Invited {
			continue
		}
		if out.Invitees++; len(out.Invited) < shownToday {
			out.Invited = append(out.Invited, wire.Named{ID: u.Key(), Name: u.Title()})
		}
	}
	if out.Look, err = s.toLook(ctx, c, st, v); err != nil {
		return out, err
	}
	last, err := s.Revisions(ctx, store.Which{}, shownToday)
	if err != nil {
		return out, err
	}
	out.Revisions, err = s.happened(ctx, p, v, last)
	return out, err
}

// end is an instant that is there, or nil.
func end(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}

// openNow tells of each schedule that a line uses whether it is open; those by the clock of a site, by that of the settings.
func openNow(p *policy.Policy, now time.Time) ([]wire.OpenNow, error) {
	used := map[policy.ScheduleID]bool{}
	for g := range policy.Each[*policy.Grant](p) {
		for _, l := range g.Lines {
			for _, id := range l.When {
				used[id] = true
			}
		}
	}
	out := []wire.OpenNow{}
	for r := range policy.Each[*policy.Schedule](p) {
		if !used[r.ID] {
			continue
		}
		zone := r.Zone
		if zone == policy.SiteZone {
			zone = p.Settings().Zone
		}
		loc, err := policy.LoadZone(zone)
		if err != nil {
			return nil, err
		}
		compiled := schedule.Compile(r, func(id policy.CalendarID) (*policy.Calendar, bool) {
			return policy.Find[*policy.Calendar](p, string(id))
		})
		open, until := compiled.In(loc).At(now.Unix())
		item := wire.OpenNow{ID: r.Key(), Name: r.Title(), Open: open, Zone: zone}
		if at := time.Unix(until, 0).UTC(); until < now.Add(lookAhead).Unix() {
			item.Until = &at
		}
		out = append(out, item)
	}
	slices.SortStableFunc(out, func(a, b wire.OpenNow) int {
		switch {
		case a.Until == nil || b.Until == nil:
			return cmp.Compare(btoi(a.Until == nil), btoi(b.Until == nil))
		default:
			return a.Until.Compare(*b.Until)
		}
	})
	return out[:min(len(out), shownToday)], nil
}

func btoi(b bool) int {
	if b {
		return 1
	}
	return 0
}

// toLook counts what needs a look: findings by their kinds, and drafts that wait for somebody.
func (s Service) toLook(ctx context.Context, c service.Caller, st *service.State, v authority.View) ([]wire.ToLook, error) {
	out := []wire.ToLook{}
	drafts, err := s.Drafts(ctx, c, false)
	if err != nil {
		return out, err
	}
	failed := 0
	for _, d := range drafts {
		if d.Problem != "" {
			failed++
		}
	}
	reviews, err := s.Reviews(ctx, c, false)
	if err != nil {
		return out, err
	}
	waiting, unanswered, stuck, vanished, untold, amiss := 0, 0, 0, 0, 0, 0
	for _, r := range reviews {
		waiting += btoi(r.Mine > 0)
		unanswered += btoi(v.Whole() && r.State == store.ReviewOver && r.Counts.Waiting > 0)
	}
	if v.Whole() {
		sources, err := s.Sources(ctx, c)
		if err != nil {
			return out, err
		}
		for i := range sources {
			if last := sources[i].Last; last != nil && (last.Outcome == store.RunHeld || last.Outcome == store.RunFailed) {
				stuck++
			}
			vanished += len(sources[i].Vanished)
		}
		hooks, err := s.Hooks(ctx, c)
		if err != nil {
			return out, err
		}
		for i := range hooks {
			untold += btoi(hooks[i].Tries > 0)
		}
		if amiss, err = s.MachinesAmiss(ctx, c); err != nil {
			return out, err
		}
	}
	clock := 0
	if v.Whole() {
		clock = int(s.ClockBehind().Minutes())
	}
	for _, of := range []wire.ToLook{{Kind: "clock", Count: clock}, {Kind: "sources", Count: stuck}, {Kind: "vanished", Count: vanished}, {Kind: "hooks", Count: untold}, {Kind: "machines", Count: amiss}, {Kind: "drafts_failed", Count: failed}, {Kind: "drafts", Count: len(drafts) - failed}, {Kind: "reviews", Count: waiting}, {Kind: "reviews_over", Count: unanswered}} {
		if of.Count > 0 {
			out = append(out, of)
		}
	}
	if !s.FindingsKnown() {
		return out, nil
	}
	found, err := s.Upkeep(ctx, c, "", false)
	if err != nil {
		return out, err
	}
	if v.Whole() {
		if n := len(survey.Of(st.Compiled).Unmet(s.Now())); n > 0 {
			out = append(out, wire.ToLook{Kind: "unmet", Count: n})
		}
	}
	for _, kind := range survey.FindingKinds() {
		if n := found.Counts[string(kind)]; n > 0 {
			out = append(out, wire.ToLook{Kind: string(kind), Count: n})
		}
	}
	return out, nil
}

// HistoryOf lists the last revisions that changed a record.
func (s Service) HistoryOf(ctx context.Context, c service.Caller, typeName, id string) ([]wire.Happened, error) {
	st := s.State()
	if err := s.Permit(st, c, service.Read, ""); err != nil {
		return nil, err
	}
	if _, err := s.Get(c, typeName, id); err != nil {
		return nil, err
	}
	list, err := s.Revisions(ctx, store.Which{Type: typeName, ID: id, UpTo: st.Revision.Number}, shownToday)
	if err != nil {
		return nil, err
	}
	return s.happened(ctx, st.Policy, s.View(st, c), list)
}

// readForSome is how many records of a revision are looked at for whoever sees only some.
const readForSome = 200

// seenOf are those of some records that may be seen still.
func seenOf(p *policy.Policy, v authority.View, list []store.Touched) []store.Touched {
	return slices.DeleteFunc(list, func(x store.Touched) bool {
		t, _ := policy.TypeNamed(x.Type)
		_, seen := v.Get(t, x.ID)
		return !seen
	})
}

// happened tells of revisions what each did to which records.
func (s Service) happened(ctx context.Context, p *policy.Policy, v authority.View, list []store.Revision) ([]wire.Happened, error) {
	out := []wire.Happened{}
	for _, r := range list {
		most := shownRecords
		if !v.Whole() {
			most = readForSome
		}
		first, all, err := s.TouchedBy(ctx, r.Number, most)
		if err != nil {
			return nil, err
		}
		if !v.Whole() {
			told := all
			if first = seenOf(p, v, first); len(first) < told { // what else it did, and why, may be about what they do not see
				r.Note = ""
			}
			if all, first = len(first), first[:min(len(first), shownRecords)]; all == 0 {
				continue
			}
		}
		h := wire.Happened{Revision: r.Number, At: r.At.UTC(), By: wire.Named{ID: r.By, Name: p.Title(policy.Users, r.By)}, Note: r.Note, Records: []wire.Touched{}, All: all}
		for _, x := range first {
			t, _ := policy.TypeNamed(x.Type)
			h.Records = append(h.Records, wire.Touched{Op: x.Op(), Type: x.Type, ID: x.ID, Name: nameThen(p, t, x)})
		}
		out = append(out, h)
	}
	return out, nil
}

// nameThen is what a record is called that a revision changed, or, where it has gone since, was called then.
func nameThen(p *policy.Policy, t policy.Type, x store.Touched) string {
	if _, there := p.Get(t, x.ID); !there && x.Name != "" {
		return x.Name
	}
	return p.Title(t, x.ID)
}
