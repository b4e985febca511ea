package authority

import (
	"reflect"
	"slices"
	"sync"
	"time"

	"sentier/internal/decision"
	"sentier/internal/policy"
)

// scope is what one mandate of a delegate reaches in a policy.
type scope struct {
	mandate *policy.Mandate
	p       *policy.Policy
	at      time.Time
	inside  func() map[policy.DeviceGroupID]bool // whose devices lie inside, with all below
	rights  func() map[policy.RightID]bool       // of the mandate, and what they imply
}

func scopeOf(m *policy.Mandate, p *policy.Policy, at time.Time) *scope {
	s := &scope{mandate: m, p: p, at: at}
	s.inside = sync.OnceValue(s.groupsInside)
	s.rights = sync.OnceValue(func() map[policy.RightID]bool { return implied(p, m.Rights) })
	return s
}

// site tells whether a site is one of the mandate's or lies below one.
func (s *scope) site(id policy.SiteID) bool {
	return within(s.p, id, func(x policy.SiteID) bool { return slices.Contains(s.mandate.Sites, x) })
}

// within tells whether a site, or one around it, is what is meant.
func within(p *policy.Policy, id policy.SiteID, meant func(policy.SiteID) bool) bool {
	for around := range p.Around(id) {
		if meant(around) {
			return true
		}
	}
	return false
}

func (s *scope) device(id policy.DeviceID) bool {
	d, ok := policy.Find[*policy.Device](s.p, string(id))
	return ok && s.site(d.Site)
}

// groupsInside finds the device groups that can hold nothing but devices of the mandate's sites: by what they list, by what their
// rule selects, and by what lies below them.
func (s *scope) groupsInside() map[policy.DeviceGroupID]bool {
	out := map[policy.DeviceGroupID]bool{}
	var outside []*policy.DeviceGroup
	for g := range policy.Each[*policy.DeviceGroup](s.p) {
		if out[g.ID] = s.ownInside(g); !out[g.ID] {
			outside = append(outside, g)
		}
	}
	for _, g := range outside {
		for around := g; ; {
			out[around.ID] = false
			next, ok := policy.Find[*policy.DeviceGroup](s.p, string(around.Parent))
			if !ok || !out[next.ID] {
				break
			}
			around = next
		}
	}
	return out
}

func (s *scope) ownInside(g *policy.DeviceGroup) bool {
	if m := g.Match; m != nil && len(m.Kinds)+len(m.Tags)+len(m.Sites) > 0 {
		if len(m.Sites) == 0 || slices.ContainsFunc(m.Sites, func(id policy.SiteID) bool { return !s.site(id) }) {
			return false
		}
	}
	return !slices.ContainsFunc(g.Devices, func(id policy.DeviceID) bool { return !s.device(id) })
}

// holdsAny tells whether a device group has at least one device, with what lies below it where that counts: one that is empty can be filled by others
// with anything.
func (s *scope) holdsAny(g *policy.DeviceGroup, below bool) bool {
	if g == nil {
		return false
	}
	if len(g.Devices) > 0 {
		return true
	}
	if m := g.Match; m != nil && len(m.Kinds)+len(m.Tags)+len(m.Sites) > 0 {
		for d := range policy.Each[*policy.Device](s.p) {
			if s.matches(m, d) {
				return true
			}
		}
	}
	if below {
		for other := range policy.Each[*policy.DeviceGroup](s.p) {
			if other.Parent == g.ID && other.ID != g.ID && s.holdsAny(other, true) {
				return true
			}
		}
	}
	return false
}

// matches tells whether the rule of a device group holds for a device: "Where: what covers a resource".
func (s *scope) matches(m *policy.Match, d *policy.Device) bool {
	if len(m.Kinds) > 0 && !slices.Contains(m.Kinds, d.Kind) || slices.ContainsFunc(m.Tags, func(tag string) bool { return !slices.Contains(d.Tags, tag) }) {
		return false
	}
	return len(m.Sites) == 0 || within(s.p, d.Site, func(id policy.SiteID) bool { return slices.Contains(m.Sites, id) })
}

// implied are rights and all that they imply.
func implied(p *policy.Policy, ids []policy.RightID) map[policy.RightID]bool {
	out := map[policy.RightID]bool{}
	todo := slices.Clone(ids)
	for len(todo) > 0 {
		id := todo[len(todo)-1]
		todo = todo[:len(todo)-1]
		if out[id] {
			continue
		}
		out[id] = true
		if r, ok := policy.Find[*policy.Right](p, string(id)); ok {
			todo = append(todo, r.Implies...)
		}
	}
	return out
}

// taken are rights and all that imply one of them: what a deny of them takes.
func taken(p *policy.Policy, ids []policy.RightID) (out []policy.RightID) {
	for r := range policy.Each[*policy.Right](p) {
		implies := implied(p, []policy.RightID{r.ID})
		if slices.ContainsFunc(ids, func(id policy.RightID) bool { return implies[id] }) {
			out = append(out, r.ID)
		}
	}
	return out
}

// member tells whether a user is, at the instant, in one of the groups that the mandate names.
func (s *scope) member(user policy.UserID) bool {
	seen, found := map[policy.UserGroupID]bool{}, false
	for _, id := range s.mandate.Groups {
		decision.MembersOf(s.p, id, seen, func(m policy.Member) { found = found || m.User == user && m.Span().Holds(s.at) })
	}
	return found
}

// grant says what of a grant lies outside the mandate; nothing where all of it lies inside.
func (s *scope) grant(g *policy.Grant) (missing policy.Said) {
	if g.To.Everyone {
		return policy.Say("a mandate of the role owner: only an owner gives something to everyone, or takes it")
	}
	for _, id := range g.To.Groups {
		if !slices.Contains(s.mandate.Groups, id) {
			return policy.Say("a mandate that names the user group %q", id)
		}
	}
	for _, id := range g.To.Users {
		if !s.member(id) {
			return policy.Say("a mandate that names a user group which %q is in now", id)
		}
	}
	for i := range g.Lines {
		if missing := s.line(g, &g.Lines[i]); missing.Form != "" {
			return missing
		}
	}
	return policy.Said{}
}

func (s *scope) line(g *policy.Grant, l *policy.Line) (missing policy.Said) {
	if l.On.Everything {
		return policy.Say("a mandate of the role owner: everything never lies in the sites of a delegate")
	}
	for _, id := range l.On.Sites {
		if !s.site(id) {
			return policy.Say("a mandate that names the site %q, or one around it", id)
		}
	}
	for _, id := range l.On.DeviceGroups {
		// One that is judged without those below it may lie inside where, with them, it does not.
		group, ok := policy.Find[*policy.DeviceGroup](s.p, string(id))
		if !s.inside()[id] && !(ok && l.Depth == policy.Here && s.ownInside(group)) || !s.holdsAny(group, l.Depth != policy.Here) {
			return policy.Say("a mandate for the sites of all devices that are, or by its rule can come, into the device group %q", id)
		}
	}
	for _, id := range l.On.Devices {
		if !s.device(id) {
			return policy.Say("a mandate that names the site of the device %q, or one around it", id)
		}
	}
	for _, ref := range l.On.Points {
		if id := ref.Device(); !s.device(id) {
			return policy.Say("a mandate that names the site of the device %q, or one around it", id)
		}
	}
	rights := slices.Clone(l.Rights)
	for _, id := range l.Roles {
		if r, ok := policy.Find[*policy.Role](s.p, string(id)); ok {
			rights = append(rights, r.Rights...)
		}
	}
	meant := implied(s.p, rights)
	if g.Effect == policy.Deny {
		for _, id := range taken(s.p, rights) {
			meant[id] = true
		}
	}
	for r := range policy.Each[*policy.Right](s.p) {
		if meant[r.ID] && !s.rights()[r.ID] {
			return policy.Say("a mandate with the right %q", r.ID)
		}
	}
	return policy.Said{}
}

// judge says what it would take to make one change of a record, beside the mandate; nothing where it lies inside.
func (s *scope) judge(after *scope, done *policy.RecordChange) (missing policy.Said) {
	switch r := done.Record().(type) {
	case *policy.Device, *policy.Grant:
		if done.Before != nil {
			missing = s.holds(done.Before)
		}
		if missing.Form == "" && done.After != nil {
			missing = after.holds(done.After)
		}
		return missing
	case *policy.UserGroup:
		return s.members(after, done, r)
	case *policy.User:
		if done.Before != nil || r.Status != policy.Invited || r.Kind == policy.Service || !after.lists(r.ID) {
			return policy.Say("a mandate of the role owner: a delegate adds a user only as one who is invited, and at once into a user group that the mandate names")
		}
	default:
		return notForDelegates(r.Type())
	}
	return policy.Said{}
}

// holds says what of a device or a grant lies outside the mandate; nothing where all of it lies inside.
func (s *scope) holds(r policy.Record) (missing policy.Said) {
	switch r := r.(type) {
	case *policy.Grant:
		return s.grant(r)
	case *policy.Device:
		if s.site(r.Site) {
			return policy.Said{}
		}
		if r.Site == "" {
			return policy.Say("a mandate of the role owner: the device %q is at no site", r.ID)
		}
		return policy.Say("a mandate that names the site %q, or one around it", r.Site)
	}
	return notForDelegates(r.Type())
}

// lists tells whether one of the groups that the mandate names lists a user, from now or from a time to come.
func (s *scope) lists(user policy.UserID) bool {
	return slices.ContainsFunc(s.mandate.Groups, func(id policy.UserGroupID) bool {
		g, ok := policy.Find[*policy.UserGroup](s.p, string(id))
		return ok && g.IsMember(user)
	})
}

// Touch tells whether the user could make a change of its kind to anything. The error is a [*Forbidden].
func (r Rights) Touch(change policy.Change) error {
	switch {
	case r.has(policy.Owner) || len(r.Delegations()) == 0:
		return r.May(Write, "")
	case change.Type == policy.Devices, change.Type == policy.Grants:
		return nil
	case change.Type == policy.Users && change.Op != policy.Remove, change.Type == policy.UserGroups && change.Op != policy.Remove:
		return nil
	}
	return &Forbidden{notForDelegates(change.Type)}
}

func notForDelegates(t policy.Type) policy.Said {
	return policy.Say("a mandate of the role owner: a delegate changes no %s", policy.Say(t.Noun()))
}

// Acts are what the user may do with a record that is there.
type Acts struct {
	Edit, Remove bool
	Members      bool // change those of a user group, where Edit tells of all of it
}

// Acts tells what the user may do with a record of a policy.
func (r Rights) Acts(p *policy.Policy, rec policy.Record) Acts {
	if r.has(policy.Owner) {
		return Acts{true, rec.Type() != policy.SettingsType, true}
	}
	var out Acts
	for _, m := range r.Delegations() {
		if !Covers(m, p, rec, r.at) {
			continue
		}
		switch rec.Type() {
		case policy.UserGroups:
			out.Members = true
		case policy.Devices, policy.Grants:
			out.Edit, out.Remove = true, true
		}
	}
	return out
}

// Covers tells whether a mandate of a delegate lets its holders change the members of a user group, or a device or a grant, as it is.
func Covers(m *policy.Mandate, p *policy.Policy, rec policy.Record, at time.Time) bool {
	s := scopeOf(m, p, at)
	return s.judge(s, &policy.RecordChange{Before: rec, After: rec}).Form == ""
}

// Sees lists the types of which the user may see records, and Makes those of which they may add some.
func (r Rights) Sees() (out []policy.Type) {
	for _, t := range policy.Types() {
		if r.May(Whole, "") == nil || len(r.Delegations()) > 0 && t != policy.Calendars && t != policy.Expectations && t != policy.Mandates {
			out = append(out, t)
		}
	}
	return out
}

// Makes lists the types of which the user may add records; see [Rights.Sees].
func (r Rights) Makes() (out []policy.Type) {
	for _, t := range policy.Types() {
		if r.has(policy.Owner) || len(r.Delegations()) > 0 && (t == policy.Devices || t == policy.Grants || t == policy.Users) {
			out = append(out, t)
		}
	}
	return out
}

// Invite tells whether the user may make a link by which another comes in, and whether one that they made holds still: "Ways in". A delegate may for
// somebody who is invited into a user group that the mandate names, and who has nothing outside it: no mandate, no membership and no grant by name,
// now or at a time to come. The error is a [*Forbidden]. A user who is not there is nil.
func (r Rights) Invite(p *policy.Policy, u *policy.User) error {
	err := r.May(Manage, "")
	if err == nil || len(r.Delegations()) == 0 {
		return err
	}
	missing := policy.Say("a mandate of the role owner: a delegate makes a link for who is invited, and in a user group that the mandate names")
	for _, m := range r.Delegations() {
		s := scopeOf(m, p, r.at)
		if u == nil || u.Status != policy.Invited || !s.lists(u.ID) {
			continue
		}
		beyond := s.beyond(u.ID)
		if beyond.Form == "" {
			return nil
		}
		missing = beyond
	}
	return &Forbidden{missing}
}

// beyond says what somebody has, now or at a time to come, that lies outside the mandate; nothing where there is nothing.
func (s *scope) beyond(user policy.UserID) (missing policy.Said) {
	over := func(until time.Time) bool { return !until.IsZero() && !until.After(s.at) }
	var groups []policy.UserGroupID
	for g := range policy.Each[*policy.UserGroup](s.p) {
		if !slices.ContainsFunc(g.Members, func(m policy.Member) bool { return m.User == user && !over(m.Until) }) {
			continue
		}
		if !slices.Contains(s.mandate.Groups, g.ID) {
			return policy.Say("a mandate of the role owner: %q is in a user group that the mandate does not name", user)
		}
		groups = append(groups, s.around(g.ID)...)
	}
	for m := range policy.Each[*policy.Mandate](s.p) {
		if !over(m.Valid.Until) && (slices.Contains(m.To.Users, user) || slices.ContainsFunc(m.To.Groups, func(id policy.UserGroupID) bool { return slices.Contains(groups, id) })) {
			return policy.Say("a mandate of the role owner: %q holds a mandate", user)
		}
	}
	for g := range policy.Each[*policy.Grant](s.p) {
		if g.Effect == policy.Deny || over(g.Valid.Until) || !slices.Contains(g.To.Users, user) {
			continue
		}
		inside := *g
		inside.To = policy.To{} // to whom else it is given does not matter
		if s.grant(&inside).Form != "" {
			return policy.Say("a mandate of the role owner: %q has a grant by name that lies outside the mandate", user)
		}
	}
	return policy.Said{}
}

// members judges a change of a user group: of its members alone, and not of one by which somebody would hold a mandate.
func (s *scope) members(after *scope, done *policy.RecordChange, g *policy.UserGroup) (missing policy.Said) {
	if !slices.Contains(s.mandate.Groups, g.ID) {
		return policy.Say("a mandate that names the user group %q", g.ID)
	}
	was, ok := done.Before.(*policy.UserGroup)
	is, there := done.After.(*policy.UserGroup)
	if !ok || !there {
		return policy.Say("a mandate of the role owner: a delegate changes the members of the user group %q, and does not make or remove it", g.ID)
	}
	bare := func(g policy.UserGroup) policy.UserGroup {
		g.Members = nil
		return g
	}
	if !reflect.DeepEqual(bare(*was), bare(*is)) {
		return policy.Say("a mandate of the role owner: a delegate changes the members of the user group %q, and nothing else of it", g.ID)
	}
	around := s.around(g.ID)
	for m := range policy.Each[*policy.Mandate](s.p) {
		if slices.ContainsFunc(m.To.Groups, func(id policy.UserGroupID) bool { return slices.Contains(around, id) }) {
			return policy.Say("a mandate of the role owner: whoever is in the user group %q holds a mandate by it", g.ID)
		}
	}
	return policy.Said{}
}

// around lists a user group and those that include it, over any number of steps.
func (s *scope) around(id policy.UserGroupID) []policy.UserGroupID {
	out := []policy.UserGroupID{id}
	for i := 0; i < len(out); i++ {
		for _, m := range s.p.Mentions(policy.UserGroups, string(out[i])) {
			if g, ok := m.By.(*policy.UserGroup); ok && slices.Contains(g.Includes, out[i]) && !slices.Contains(out, g.ID) {
				out = append(out, g.ID)
			}
		}
	}
	return out
}

// judgeAll tells whether each change of a record lies inside one of some mandates. What a change is about and may not be seen is not there.
func judgeAll(mandates []*policy.Mandate, before, after *policy.Policy, at time.Time, done []policy.RecordChange) error {
	was, is := make([]*scope, len(mandates)), make([]*scope, len(mandates))
	for i, m := range mandates {
		was[i], is[i] = scopeOf(m, before, at), scopeOf(m, after, at)
	}
	for i := range done {
		var first policy.Said
		for k := range mandates {
			missing := was[k].judge(is[k], &done[i])
			if missing.Form == "" {
				first = missing
				break
			}
			if k == 0 {
				first = missing
			}
		}
		if first.Form != "" {
			return &Forbidden{first}
		}
	}
	return nil
}
