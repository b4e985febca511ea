package policy

import (
	"cmp"
	"net/netip"
	"slices"
)

// A record in normal form has its defaults spelled out, its sets sorted and
// without repetition, and its instants in UTC, so that two records that mean
// the same are written the same. Lists whose order means something keep it.

func set[T cmp.Ordered](list []T) []T {
	if len(list) == 0 {
		return nil
	}
	out := slices.Clone(list)
	slices.Sort(out)
	return slices.Compact(out)
}

func orDefault[T ~string](value, standard T) T {
	if value == "" {
		return standard
	}
	return value
}

func (s *Settings) normalize() Record {
	n := *s
	n.Combine, n.Zone = orDefault(s.Combine, Sum), orDefault(s.Zone, "UTC")
	return &n
}

func (r *Right) normalize() Record {
	n := *r
	n.Implies, n.Kinds = set(r.Implies), set(r.Kinds)
	if r.ID == Control && !slices.Contains(n.Implies, View) {
		n.Implies = set(append(n.Implies, View))
	}
	if r.ID == View || r.ID == Control {
		n.Name = orDefault(r.Name, map[RightID]string{View: "View", Control: "Control"}[r.ID])
	}
	return &n
}

func (r *Role) normalize() Record {
	n := *r
	n.Rights = set(r.Rights)
	return &n
}

func (k *Kind) normalize() Record { n := *k; return &n }
func (s *Site) normalize() Record { n := *s; return &n }

func (d *Device) normalize() Record {
	n := *d
	n.Tags = set(d.Tags)
	n.State = orDefault(d.State, InService)
	n.Points = slices.Clone(d.Points)
	if len(n.Points) == 0 {
		n.Points = nil
	}
	if d.Lockout != nil {
		s := d.Lockout.Span().utc()
		n.Lockout = &Lockout{d.Lockout.By, d.Lockout.Reason, s.From, s.Until}
	}
	return &n
}

func (g *DeviceGroup) normalize() Record {
	n := *g
	n.Devices = set(g.Devices)
	if g.Match != nil {
		n.Match = &Match{set(g.Match.Kinds), set(g.Match.Tags), set(g.Match.Sites)}
	}
	return &n
}

func (u *User) normalize() Record {
	n := *u
	n.Kind = orDefault(u.Kind, Person)
	n.Status = orDefault(u.Status, Active)
	n.Valid = u.Valid.utc()
	return &n
}

func (g *UserGroup) normalize() Record {
	n := *g
	n.Includes = set(g.Includes)
	n.Members = nil
	if len(g.Members) > 0 {
		n.Members = slices.Clone(g.Members)
		for i, m := range n.Members {
			s := m.Span().utc()
			n.Members[i].From, n.Members[i].Until = s.From, s.Until
		}
		slices.SortFunc(n.Members, CompareMembers)
		n.Members = slices.Compact(n.Members)
	}
	if g.SignIn != nil {
		n.SignIn = &SignIn{orDefault(g.SignIn.SecondFactor, Optional), g.SignIn.PasswordDays}
	}
	if g.Join != nil {
		n.Join = &Join{set(g.Join.Groups), g.Join.Minutes, orDefault(g.Join.Approval, ApprovalMandate)}
	}
	return &n
}

// CompareMembers is the order of a group's members in a record: by user, then by the ends of the membership.
func CompareMembers(a, b Member) int {
	if a.User != b.User {
		return cmp.Compare(a.User, b.User)
	}
	if a == b { // the usual case, by which lists of thousands are compared
		return 0
	}
	return cmp.Or(a.From.Compare(b.From), a.Until.Compare(b.Until))
}

func (k *Calendar) normalize() Record {
	n := *k
	n.Days = slices.Clone(k.Days)
	if len(n.Days) == 0 {
		n.Days = nil
	}
	return &n
}

func (s *Schedule) normalize() Record {
	n := *s
	n.Zone = orDefault(s.Zone, SiteZone)
	n.Closed = set(s.Closed)
	n.Windows = nil
	for _, w := range s.Windows {
		w.Days = slices.Clone(w.Days)
		slices.SortFunc(w.Days, func(a, b Weekday) int { return cmp.Compare((a+6)%7, (b+6)%7) }) // Monday first
		w.Days = slices.Compact(w.Days)
		if len(w.Days) == 0 {
			w.Days = nil
		}
		n.Windows = append(n.Windows, w)
	}
	n.Special = nil
	for _, special := range s.Special {
		special.Windows = append([]SpecialWindow{}, special.Windows...)
		n.Special = append(n.Special, special)
	}
	return &n
}

func (g *Grant) normalize() Record {
	n := *g
	n.Effect = orDefault(g.Effect, Allow)
	n.Valid = g.Valid.utc()
	n.To.Groups, n.To.Users = set(g.To.Groups), set(g.To.Users)
	n.Lines = nil
	for _, l := range g.Lines {
		l.Rights, l.Roles, l.When = set(l.Rights), set(l.Roles), set(l.When)
		l.Depth = orDefault(l.Depth, All)
		l.On = l.On.normalize()
		l.If.Places, l.If.States = set(l.If.Places), set(l.If.States)
		l.If.Networks = networks(l.If.Networks)
		l.Limits = limits(l.Limits)
		n.Lines = append(n.Lines, l)
	}
	return &n
}

func (w Where) normalize() Where {
	w.Sites, w.DeviceGroups, w.Devices, w.Points = set(w.Sites), set(w.DeviceGroups), set(w.Devices), set(w.Points)
	return w
}

// networks drops the host bits of each prefix: 10.1.2.3/8 is 10.0.0.0/8.
func networks(list []netip.Prefix) []netip.Prefix {
	if len(list) == 0 {
		return nil
	}
	out := make([]netip.Prefix, len(list))
	for i, p := range list {
		out[i] = family(p).Masked()
	}
	slices.SortFunc(out, netip.Prefix.Compare)
	return slices.Compact(out)
}

// family writes a prefix of IPv4 addresses that are mapped into IPv6 as the IPv4 prefix that it is: "Conditions".
func family(p netip.Prefix) netip.Prefix {
	if mapped := 96; p.Addr().Is4In6() && p.Bits() >= mapped {
		return netip.PrefixFrom(p.Addr().Unmap(), p.Bits()-mapped)
	}
	return p
}

func limits(of map[string]Limit) map[string]Limit {
	if len(of) == 0 {
		return nil
	}
	out := make(map[string]Limit, len(of))
	for name, l := range of {
		if l.Texts != nil {
			l.Texts = append([]string{}, set(l.Texts)...) // an empty list stays a list
		}
		out[name] = l
	}
	return out
}

func (e *Expectation) normalize() Record {
	n := *e
	n.Who.Groups, n.Who.Users = set(e.Who.Groups), set(e.Who.Users)
	n.Except.Groups, n.Except.Users = set(e.Except.Groups), set(e.Except.Users)
	n.Rights, n.When = set(e.Rights), set(e.When)
	n.On, n.Depth = e.On.normalize(), orDefault(e.Depth, All)
	if e.Expect == Someone {
		n.AtLeast = max(1, e.AtLeast)
	}
	return &n
}

func (m *Mandate) normalize() Record {
	n := *m
	n.Valid = m.Valid.utc()
	n.To.Groups, n.To.Users = set(m.To.Groups), set(m.To.Users)
	n.Sites, n.Groups, n.Rights = set(m.Sites), set(m.Groups), set(m.Rights)
	return &n
}
