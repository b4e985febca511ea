package authority

import (
	"iter"
	"slices"
	"sync"

	"sentier/internal/decision"
	"sentier/internal/policy"
)

// View is what a user may see of a policy. What it does not show is, to them, not there. The zero value shows nothing.
type View struct {
	c       *decision.Compiled
	whole   bool
	scopes  []*scope
	touched func() [2]map[policy.DeviceGroupID]bool // groups that hold a device that may be seen: by themselves, and with what lies below
}

// View is what the user may see of a policy.
func (r Rights) View(c *decision.Compiled) View {
	v := View{c: c}
	switch {
	case !r.in:
	case r.May(Whole, "") == nil:
		v.whole = true
	default:
		for _, m := range r.Delegations() {
			v.scopes = append(v.scopes, scopeOf(m, c.Policy(), r.at))
		}
		v.touched = sync.OnceValue(v.groupsTouched)
	}
	return v
}

// Whole tells whether everything may be seen.
func (v View) Whole() bool { return v.whole }

// Get finds a record that may be seen.
func (v View) Get(t policy.Type, id string) (policy.Record, bool) {
	if !v.whole && len(v.scopes) == 0 {
		return nil, false
	}
	r, ok := v.c.Policy().Get(t, id)
	if !ok || !v.Sees(r) {
		return nil, false
	}
	return v.cut(r), true
}

// cut is a record without the mention of what is not seen around it.
func (v View) cut(r policy.Record) policy.Record {
	if v.whole {
		return r
	}
	switch r := r.(type) {
	case *policy.Site:
		if r.Parent != "" && !v.Site(r.Parent) {
			top := *r
			top.Parent = ""
			return &top
		}
	case *policy.DeviceGroup:
		if r.Parent != "" && !v.DeviceGroup(r.Parent) {
			top := *r
			top.Parent = ""
			return &top
		}
	case *policy.Grant:
		return v.cutGrant(r)
	case *policy.Schedule:
		if len(r.Closed)+len(r.Special) > 0 { // calendars are not seen
			bare := *r
			bare.Closed, bare.Special = nil, nil
			return &bare
		}
	}
	return r
}

// cutGrant is a grant without the mention of sites, devices and groups of them that are not seen.
func (v View) cutGrant(g *policy.Grant) *policy.Grant {
	out := *g
	out.Lines = nil
	for _, l := range g.Lines {
		any := !empty(&l.On)
		l.On.Sites = seen(l.On.Sites, v.Site)
		l.On.DeviceGroups = seen(l.On.DeviceGroups, v.DeviceGroup)
		l.On.Devices = seen(l.On.Devices, v.Device)
		l.On.Points = seen(l.On.Points, func(ref policy.PointRef) bool { return v.Device(ref.Device()) })
		if len(l.If.Places) > 0 {
			if l.If.Places = seen(l.If.Places, v.Site); len(l.If.Places) == 0 {
				continue // without the condition it would say more than it gives
			}
		}
		if !any || !empty(&l.On) {
			out.Lines = append(out.Lines, l)
		}
	}
	return &out
}

func empty(on *policy.Where) bool {
	return !on.Everything && len(on.Sites)+len(on.DeviceGroups)+len(on.Devices)+len(on.Points) == 0
}

// seen are those of some that may be seen.
func seen[ID any](list []ID, sees func(ID) bool) (out []ID) {
	for _, id := range list {
		if sees(id) {
			out = append(out, id)
		}
	}
	return out
}

// DeviceGroup tells whether a device group may be seen: one that holds a device, and none but those of the sites that may be seen.
func (v View) DeviceGroup(id policy.DeviceGroupID) bool {
	g, ok := policy.Find[*policy.DeviceGroup](v.c.Policy(), string(id))
	return v.whole || ok && slices.ContainsFunc(v.scopes, func(s *scope) bool { return s.inside()[id] && s.holdsAny(g, true) })
}

// All yields the records of a type that may be seen, in the order of their ids.
func (v View) All(t policy.Type) iter.Seq[policy.Record] { return v.After(t, "") }

// After yields the records of a type that may be seen whose id comes after one.
func (v View) After(t policy.Type, id string) iter.Seq[policy.Record] {
	return func(yield func(policy.Record) bool) {
		if !v.whole && len(v.scopes) == 0 {
			return
		}
		for r := range v.c.Policy().Table(t).After(id) {
			if v.Sees(r) && !yield(v.cut(r)) {
				return
			}
		}
	}
}

// Len counts the records of a type that may be seen.
func (v View) Len(t policy.Type) int {
	if v.whole {
		return v.c.Policy().Table(t).Len()
	}
	n := 0
	for range v.All(t) {
		n++
	}
	return n
}

// Site tells whether a site may be seen, and what is at it; no site is one that only a view of everything shows.
func (v View) Site(id policy.SiteID) bool {
	return v.whole || slices.ContainsFunc(v.scopes, func(s *scope) bool { return s.site(id) })
}

// Sites is [View.Site] for a question about many devices; nil where every device may be seen.
func (v View) Sites() func(policy.SiteID) bool {
	if v.whole {
		return nil
	}
	known := map[policy.SiteID]bool{}
	return func(id policy.SiteID) bool {
		seen, ok := known[id]
		if !ok {
			seen = v.Site(id)
			known[id] = seen
		}
		return seen
	}
}

// Device tells whether a device may be seen.
func (v View) Device(id policy.DeviceID) bool {
	d, ok := policy.Find[*policy.Device](v.c.Policy(), string(id))
	return v.whole || ok && v.Site(d.Site)
}

// Sees tells whether a record may be seen. A delegate sees users, user groups, schedules, rights, roles and kinds, the sites of the mandate
// and all below, their devices, the device groups that hold no others, and the grants that touch them.
func (v View) Sees(r policy.Record) bool {
	if v.whole {
		return true
	}
	if len(v.scopes) == 0 {
		return false
	}
	switch r := r.(type) {
	case *policy.User, *policy.UserGroup, *policy.Schedule, *policy.Right, *policy.Role, *policy.Kind:
		return true
	case *policy.Site:
		return v.Site(r.ID)
	case *policy.Device:
		return v.Site(r.Site)
	case *policy.DeviceGroup:
		return v.DeviceGroup(r.ID)
	case *policy.Grant:
		return v.grant(r)
	}
	return false
}

// grant tells whether a grant touches what may be seen, or could have been made by the user.
func (v View) grant(g *policy.Grant) bool {
	if slices.ContainsFunc(g.Lines, func(l policy.Line) bool { return v.touches(&l) }) {
		return true
	}
	return slices.ContainsFunc(v.scopes, func(s *scope) bool { return s.grant(g).Form == "" })
}

func (v View) touches(l *policy.Line) bool {
	on, p := &l.On, v.c.Policy()
	groups := v.touched()[1]
	if l.Depth == policy.Here {
		groups = v.touched()[0]
	}
	return on.Everything ||
		slices.ContainsFunc(on.Sites, func(id policy.SiteID) bool {
			return v.Site(id) || l.Depth != policy.Here && slices.ContainsFunc(v.scopes, func(s *scope) bool {
				return slices.ContainsFunc(s.mandate.Sites, func(own policy.SiteID) bool {
					return within(p, own, func(around policy.SiteID) bool { return around == id })
				})
			})
		}) ||
		slices.ContainsFunc(on.DeviceGroups, func(id policy.DeviceGroupID) bool { return groups[id] }) ||
		slices.ContainsFunc(on.Devices, v.Device) ||
		slices.ContainsFunc(on.Points, func(ref policy.PointRef) bool { return v.Device(ref.Device()) })
}

func (v View) groupsTouched() (out [2]map[policy.DeviceGroupID]bool) {
	out = [2]map[policy.DeviceGroupID]bool{{}, {}}
	for n := range v.c.Devices.Inhabited {
		facts := v.c.Devices.Classes.At(n).Facts
		if !v.Site(facts.Site) {
			continue
		}
		for _, id := range facts.Groups() {
			out[0][id] = true
		}
		for _, id := range v.c.GroupsOf(facts) {
			out[1][id] = true
		}
	}
	return out
}
