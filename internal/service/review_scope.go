package service

import (
	"slices"
	"time"

	"sentier/internal/authority"
	"sentier/internal/decision"
	"sentier/internal/policy"
	"sentier/internal/store"
	"sentier/internal/wire"
)

// once lists what is given several times once, in its order.
func once(list []string) (out []string) {
	for _, x := range list {
		if !slices.Contains(out, x) {
			out = append(out, x)
		}
	}
	return out
}

// unansweredTold is that nothing becomes of what nobody has answered, but that it is told.
const unansweredTold = "told"

// heldIn lists what is held in the scope of a review at an instant: mandates and grants that name somebody, and memberships of its groups.
func heldIn(st *State, in wire.NewReview, now time.Time) ([]store.ReviewItem, error) {
	if len(in.Groups)+len(in.Sites) == 0 && !in.Everything {
		return nil, Wrong("groups", "is empty: say what is looked at, by groups, by sites, or everything")
	}
	groups, grants, err := scopeOfReview(st, in)
	if err != nil {
		return nil, err
	}
	var out, named []store.ReviewItem
	members := map[policy.UserID]bool{}
	for g := range policy.Each[*policy.UserGroup](st.Policy) {
		if !groups[g.ID] {
			continue
		}
		for _, m := range g.Members {
			if !isOver(m.Until, now) {
				if last := len(out) - 1; last < 0 || out[last].Record != string(g.ID) || out[last].User != string(m.User) { // for several times, it is held once
					out = append(out, store.ReviewItem{Type: policy.UserGroups.String(), Record: string(g.ID), User: string(m.User)})
				}
				members[m.User] = true
			}
		}
	}
	for g := range policy.Each[*policy.Grant](st.Policy) {
		if g.Effect == policy.Deny || isOver(g.Valid.Until, now) {
			continue
		}
		for _, id := range g.To.Users {
			if grants[g.ID] || len(in.Groups) > 0 && members[id] {
				out = append(out, store.ReviewItem{Type: policy.Grants.String(), Record: string(g.ID), User: string(id)})
			}
		}
	}
	for m := range policy.Each[*policy.Mandate](st.Policy) { // the greatest powers first
		if m.Enabled == policy.Off || isOver(m.Valid.Until, now) {
			continue
		}
		there := in.Everything || slices.ContainsFunc(m.Sites, func(id policy.SiteID) bool { return slices.Contains(in.Sites, string(id)) })
		for _, id := range m.To.Users {
			if there || len(in.Groups) > 0 && members[id] {
				named = append(named, store.ReviewItem{Type: policy.Mandates.String(), Record: string(m.ID), User: string(id)})
			}
		}
	}
	out = append(named, out...)
	switch n := len(out); {
	case n == 0:
		return nil, Wrong("groups", "nobody holds anything there")
	case n > mostReviewed:
		return nil, Wrong("groups", "%d things are held there: a review has %d at most, look at fewer groups or sites at a time", n, mostReviewed)
	}
	return out, nil
}

// scopeOfReview finds the groups of which the members are looked at, those that they include among them, and the grants of which all who are named are.
func scopeOfReview(st *State, in wire.NewReview) (groups map[policy.UserGroupID]bool, grants map[policy.GrantID]bool, err error) {
	groups, grants = map[policy.UserGroupID]bool{}, map[policy.GrantID]bool{}
	var add func(id policy.UserGroupID)
	add = func(id policy.UserGroupID) {
		if g, ok := policy.Find[*policy.UserGroup](st.Policy, string(id)); ok && !groups[id] {
			groups[id] = true
			for _, other := range g.Includes {
				add(other)
			}
		}
	}
	for _, id := range in.Groups {
		if _, ok := st.Policy.Get(policy.UserGroups, id); !ok {
			return nil, nil, Wrong("groups", "there is no user group %q", policy.Clip(id))
		}
		add(policy.UserGroupID(id))
	}
	inSites := map[policy.SiteID]bool{}
	for _, id := range in.Sites {
		if _, ok := st.Policy.Get(policy.Sites, id); !ok {
			return nil, nil, Wrong("sites", "there is no site %q", policy.Clip(id))
		}
		inSites[policy.SiteID(id)] = true
	}
	for i := range st.Compiled.Lines {
		l := &st.Compiled.Lines[i]
		if l.Deny || !in.Everything && !st.coversAny(l, inSites) {
			continue
		}
		grants[l.Grant.ID] = true
		for _, id := range l.Grant.To.Groups {
			add(id)
		}
	}
	if in.Everything {
		for g := range policy.Each[*policy.UserGroup](st.Policy) {
			groups[g.ID] = true
		}
	}
	return groups, grants, nil
}

// coversAny tells whether a line covers any device at some sites, or below one.
func (st *State) coversAny(l *decision.Line, sites map[policy.SiteID]bool) bool {
	if len(sites) == 0 {
		return false
	}
	return slices.ContainsFunc(l.On, func(t decision.Target) bool {
		return slices.ContainsFunc(st.Compiled.Covered(t), func(n int32) bool {
			return slices.ContainsFunc(st.Compiled.Places.Chains[st.Compiled.Devices.Classes.At(n).Facts.Site], func(id string) bool { return sites[policy.SiteID(id)] })
		})
	})
}

// responsible tells who answers for what is held of a record, found once for all who hold it.
type responsible struct {
	s      *Service
	st     *State
	at     time.Time
	rights authority.Rights
	whole  bool
	by     map[policy.Record]*covering
}

type covering struct {
	mandates []*policy.Mandate // of delegates
	may      bool              // the caller
}

func (s *Service) responsible(st *State, c Caller) *responsible {
	return &responsible{s, st, s.borders.Clock(), s.Rights(st, c), s.View(st, c).Whole(), map[policy.Record]*covering{}}
}

func (a *responsible) of(record policy.Record) *covering {
	if c, ok := a.by[record]; ok {
		return c
	}
	out := &covering{}
	for m := range policy.Each[*policy.Mandate](a.st.Policy) {
		if record.Type() != policy.Mandates && m.Role == policy.Delegate && m.Enabled != policy.Off && m.Valid.Holds(a.at) && authority.Covers(m, a.st.Policy, record, a.at) {
			out.mandates = append(out.mandates, m)
		}
	}
	acts := a.rights.Acts(a.st.Policy, record)
	out.may = acts.Members && record.Type() == policy.UserGroups || acts.Edit && (record.Type() == policy.Grants || record.Type() == policy.Mandates)
	a.by[record] = out
	return out
}

// stillHeld finds the record by which somebody holds an item still, and until when; nil where they do no more.
func stillHeld(p *policy.Policy, item *store.ReviewItem, now time.Time) (record policy.Record, until time.Time) {
	user := policy.UserID(item.User)
	if item.Type == policy.Grants.String() {
		if g, ok := policy.Find[*policy.Grant](p, item.Record); ok && slices.Contains(g.To.Users, user) && !isOver(g.Valid.Until, now) {
			return g, g.Valid.Until
		}
		return nil, until
	}
	if item.Type == policy.Mandates.String() {
		if m, ok := policy.Find[*policy.Mandate](p, item.Record); ok && slices.Contains(m.To.Users, user) && m.Enabled != policy.Off && !isOver(m.Valid.Until, now) {
			return m, m.Valid.Until
		}
		return nil, until
	}
	g, ok := policy.Find[*policy.UserGroup](p, item.Record)
	if !ok {
		return nil, until
	}
	for _, m := range g.Memberships(user) {
		if isOver(m.Until, now) {
			continue
		}
		if record == nil || m.Until.IsZero() || !until.IsZero() && m.Until.After(until) {
			record, until = g, m.Until
		}
	}
	return record, until
}

// ofItem is who answers for an item: nobody, where what is held is there no more.
func (a *responsible) ofItem(item *store.ReviewItem) *covering {
	if t, ok := policy.TypeNamed(item.Type); ok {
		if record, ok := a.st.Policy.Get(t, item.Record); ok {
			return a.of(record)
		}
	}
	return &covering{}
}

// sees tells whether the caller sees an item of a review: whoever sees the policy as a whole, and whoever may answer it.
func (a *responsible) sees(item *store.ReviewItem) bool { return a.whole || a.ofItem(item).may }

// becameOf is what has become of an item.
func becameOf(item *store.ReviewItem, record policy.Record) string {
	switch {
	case item.Answer == store.ReviewTaken || item.Answer == store.ReviewSuspended:
		return item.Answer
	case record == nil:
		return "gone"
	case item.Answer == "":
		return "waiting"
	}
	return item.Answer
}

// termsOf are the memberships that make an item, each by itself, where its last end does not tell all of them.
func termsOf(p *policy.Policy, item *store.ReviewItem, now time.Time) (out []wire.Term) {
	g, ok := policy.Find[*policy.UserGroup](p, item.Record)
	if !ok || item.Type != policy.UserGroups.String() {
		return nil
	}
	begins := false
	for _, m := range g.Memberships(policy.UserID(item.User)) {
		if !isOver(m.Until, now) {
			begins = begins || m.From.After(now)
			out = append(out, wire.Term{From: instant(m.From), Until: instant(m.Until)})
		}
	}
	if len(out) < 2 && !begins {
		return nil
	}
	return out
}
