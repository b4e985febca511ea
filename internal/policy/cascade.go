package policy

import "slices"

// Cascade gives the changes that remove a record together with every mention of it. What is left never gives
// more than before for want of the mention: a line that loses its last schedule, right or place goes, a match
// that loses its last kind or site goes, and so does a grant or a mandate that reaches nobody any more. A
// right bound to the removed kind alone goes as well. Sites and groups below move up.
func (p *Policy) Cascade(t Type, id string) []Change {
	gone := []target{{Type: t, ID: id}}
	changed := map[target]Record{}
	var order []target
	for i := 0; i < len(gone); i++ {
		for _, m := range p.Mentions(gone[i].Type, gone[i].ID) {
			at := target{Type: m.By.Type(), ID: m.By.Key()}
			if slices.Contains(gone, at) {
				continue
			}
			r, seen := changed[at]
			if !seen {
				r = m.By
				order = append(order, at)
			}
			next := p.without(r, gone[i])
			changed[at] = next
			if next == nil {
				gone = append(gone, at)
			}
		}
	}
	var out []Change
	for _, g := range gone {
		out = append(out, Change{Op: Remove, Type: g.Type, ID: g.ID})
	}
	for _, at := range order {
		if r := changed[at]; r != nil && !slices.Contains(gone, at) {
			out = append(out, Change{Op: Put, Type: at.Type, ID: at.ID, Record: r})
		}
	}
	return out
}

func drop[T ~string](list []T, t Type, gone target) []T {
	if t != gone.Type {
		return list
	}
	return slices.DeleteFunc(slices.Clone(list), func(id T) bool { return string(id) == gone.ID })
}

// dropPoints drops the points of a device that is gone.
func dropPoints(list []PointRef, gone target) []PointRef {
	return slices.DeleteFunc(slices.Clone(list), func(ref PointRef) bool {
		d, _, _ := SplitPoint(string(ref))
		return gone.Type == Devices && string(d) == gone.ID
	})
}

// emptied tells whether a list that had something has nothing left.
func emptied[T any](before, after []T) bool { return len(before) > 0 && len(after) == 0 }

// without gives a record without its mentions of another, nil where nothing of use is left.
func (p *Policy) without(r Record, gone target) Record {
	switch r := r.(type) {
	case *Right:
		n := *r
		n.Implies, n.Kinds = drop(r.Implies, Rights, gone), drop(r.Kinds, Kinds, gone)
		if emptied(r.Kinds, n.Kinds) {
			return nil // without kinds it would hold for every kind
		}
		return &n
	case *Role:
		n := *r
		n.Rights = drop(r.Rights, Rights, gone)
		return &n
	case *Site:
		n := *r
		if removed, ok := Find[*Site](p, gone.ID); ok {
			n.Parent = removed.Parent
		}
		return &n
	case *Device:
		n := *r
		if gone.Type == Kinds {
			n.Kind = ""
		} else {
			n.Site = ""
		}
		return &n
	case *DeviceGroup:
		return p.deviceGroupWithout(r, gone)
	case *UserGroup:
		n := *r
		n.Includes = drop(r.Includes, UserGroups, gone)
		if gone.Type == Users {
			n.Members = slices.DeleteFunc(slices.Clone(r.Members), func(m Member) bool { return string(m.User) == gone.ID })
		}
		return &n
	case *Schedule:
		n := *r
		n.Closed = drop(r.Closed, Calendars, gone)
		n.Special = slices.DeleteFunc(slices.Clone(r.Special), func(s Special) bool { return string(s.Calendar) == gone.ID })
		return &n
	case *Grant:
		return grantWithout(r, gone)
	case *Expectation:
		return expectationWithout(r, gone)
	case *Mandate:
		n := *r
		n.To.Groups, n.To.Users = drop(r.To.Groups, UserGroups, gone), drop(r.To.Users, Users, gone)
		n.Sites, n.Groups, n.Rights = drop(r.Sites, Sites, gone), drop(r.Groups, UserGroups, gone), drop(r.Rights, Rights, gone)
		if len(n.To.Groups)+len(n.To.Users) == 0 {
			return nil
		}
		return &n
	}
	return r
}

func (p *Policy) deviceGroupWithout(r *DeviceGroup, gone target) Record {
	n := *r
	if gone.Type == DeviceGroups {
		if removed, ok := Find[*DeviceGroup](p, gone.ID); ok {
			n.Parent = removed.Parent
		}
	}
	n.Devices = drop(r.Devices, Devices, gone)
	if m := r.Match; m != nil {
		n.Match = &Match{drop(m.Kinds, Kinds, gone), m.Tags, drop(m.Sites, Sites, gone)}
		if emptied(m.Kinds, n.Match.Kinds) || emptied(m.Sites, n.Match.Sites) {
			n.Match = nil // without the list it would match more
		}
	}
	return &n
}

func (w Where) without(gone target) Where {
	w.Sites, w.DeviceGroups = drop(w.Sites, Sites, gone), drop(w.DeviceGroups, DeviceGroups, gone)
	w.Devices, w.Points = drop(w.Devices, Devices, gone), dropPoints(w.Points, gone)
	return w
}

// expectationWithout drops a mention from an expectation, which goes where nothing is left of what it says: an empty list would say more.
func expectationWithout(e *Expectation, gone target) Record {
	n := *e
	n.Who.Groups, n.Who.Users = drop(e.Who.Groups, UserGroups, gone), drop(e.Who.Users, Users, gone)
	n.Except.Groups, n.Except.Users = drop(e.Except.Groups, UserGroups, gone), drop(e.Except.Users, Users, gone)
	n.Rights, n.When, n.On = drop(e.Rights, Rights, gone), drop(e.When, Schedules, gone), e.On.without(gone)
	nobody := !n.Who.Everyone && len(n.Who.Groups)+len(n.Who.Users) == 0
	if nobody || len(n.Rights) == 0 || emptied(e.When, n.When) || n.On.count() == 0 {
		return nil
	}
	return &n
}

func grantWithout(r *Grant, gone target) Record {
	n := *r
	n.To.Groups, n.To.Users = drop(r.To.Groups, UserGroups, gone), drop(r.To.Users, Users, gone)
	n.Lines = nil
	for _, l := range r.Lines {
		m := l
		m.Rights, m.Roles = drop(l.Rights, Rights, gone), drop(l.Roles, Roles, gone)
		m.When, m.If.Places = drop(l.When, Schedules, gone), drop(l.If.Places, Sites, gone)
		m.On = l.On.without(gone)
		lost := emptied(l.When, m.When) || emptied(l.If.Places, m.If.Places) || len(l.Rights)+len(l.Roles) > 0 && len(m.Rights)+len(m.Roles) == 0 ||
			l.On.count() > 0 && m.On.count() == 0
		if !lost {
			n.Lines = append(n.Lines, m)
		}
	}
	nobody := !n.To.Everyone && len(n.To.Groups)+len(n.To.Users) == 0 && len(r.To.Groups)+len(r.To.Users) > 0
	if nobody || emptied(r.Lines, n.Lines) {
		return nil
	}
	return &n
}
