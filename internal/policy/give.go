package policy

import (
	"reflect"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Access is what is given to somebody by one act: who, what on what, and during which time.
type Access struct {
	To    To   `json:"to"`
	Line  Line `json:"line"`
	Valid Span `json:"valid,omitzero"`
}

// normalize gives the access as a grant of its own, in normal form.
func (a Access) normalize() *Grant {
	g := &Grant{Effect: Allow, To: a.To, Valid: a.Valid, Lines: []Line{a.Line}}
	return g.normalize().(*Grant)
}

// fault says what is missing of an access.
func (a Access) fault() error {
	on := a.Line.On
	switch {
	case !a.To.Everyone && len(a.To.Groups)+len(a.To.Users) == 0:
		return Say("says not to whom: name groups, users, or everyone")
	case len(a.Line.Rights)+len(a.Line.Roles) == 0:
		return Say("says not what: name rights or roles")
	case !on.Everything && len(on.Sites)+len(on.DeviceGroups)+len(on.Devices)+len(on.Points) == 0:
		return Say("says not on what: name sites, device groups, devices or points, or everything")
	}
	return nil
}

// Give gives the changes that give an access: a line that says the same of other devices takes these along; else a grant of the very same
// rights to the very same people for the very same time gets a line more; else there is a new grant. From whichever side it is given, it is
// the same. Where it is given already there is nothing to change. Grants that mine does not hold for, as whoever gives may not change them, are left
// as they are; nil holds for all.
func (p *Policy) Give(a Access, mine func(*Grant) bool) ([]Change, error) {
	if err := a.fault(); err != nil {
		return nil, err
	}
	want := a.normalize()
	var fits *Grant
	for g := range Each[*Grant](p) {
		if !sameReach(g, want) || mine != nil && !mine(g) {
			continue
		}
		for i, l := range g.Lines {
			if sameRule(l, want.Lines[0]) {
				n := *g
				n.Lines = slices.Clone(g.Lines)
				n.Lines[i].On = union(l.On, want.Lines[0].On)
				return changed(g, &n), nil
			}
		}
		if fits == nil && slices.ContainsFunc(g.Lines, func(l Line) bool { return sameWhat(l, want.Lines[0]) }) {
			fits = g
		}
	}
	if fits != nil {
		n := *fits
		n.Lines = append(slices.Clone(fits.Lines), want.Lines[0])
		return changed(fits, &n), nil
	}
	want.Name = p.grantName(want)
	want.ID = GrantID(MakeID(want.Name, func(id string) bool { _, taken := p.Get(Grants, id); return taken }))
	return []Change{{Op: Put, Type: Grants, ID: want.Key(), Record: want}}, nil
}

// TakeBack gives the changes that take an access back as it was given: from the lines that say the same, what they cover goes; lines and
// grants with nothing left go too. What somebody has through other grants stays.
func (p *Policy) TakeBack(a Access) ([]Change, error) {
	if err := a.fault(); err != nil {
		return nil, err
	}
	want := a.normalize()
	var out []Change
	for g := range Each[*Grant](p) {
		if !sameReach(g, want) {
			continue
		}
		n := *g
		n.Lines = nil
		for _, l := range g.Lines {
			if sameRule(l, want.Lines[0]) {
				if l.On = less(l.On, want.Lines[0].On); reflect.DeepEqual(l.On, Where{}) {
					continue
				}
			}
			n.Lines = append(n.Lines, l)
		}
		if len(n.Lines) == 0 && len(g.Lines) > 0 {
			out = append(out, Change{Op: Remove, Type: Grants, ID: g.Key()})
		} else {
			out = append(out, changed(g, &n)...)
		}
	}
	return out, nil
}

func changed(before, after *Grant) []Change {
	n := after.normalize()
	if reflect.DeepEqual(before, n) {
		return nil
	}
	return []Change{{Op: Put, Type: Grants, ID: before.Key(), Record: n}}
}

// sameReach tells whether a grant gives to the very same people for the very same time.
func sameReach(g, want *Grant) bool {
	return g.Effect == Allow && g.Enabled != Off && reflect.DeepEqual(g.To, want.To) && g.Valid.Same(want.Valid)
}

// sameWhat tells whether two lines give the very same rights and roles.
func sameWhat(a, b Line) bool {
	return slices.Equal(a.Rights, b.Rights) && slices.Equal(a.Roles, b.Roles)
}

// sameRule tells whether two lines differ in nothing but what they cover.
func sameRule(a, b Line) bool {
	a.On, b.On = Where{}, Where{}
	return reflect.DeepEqual(a, b)
}

func union(a, b Where) Where {
	return Where{
		Everything: a.Everything || b.Everything,
		Sites:      set(slices.Concat(a.Sites, b.Sites)), DeviceGroups: set(slices.Concat(a.DeviceGroups, b.DeviceGroups)),
		Devices: set(slices.Concat(a.Devices, b.Devices)), Points: set(slices.Concat(a.Points, b.Points)),
	}
}

func less(a, b Where) Where {
	return Where{
		Everything: a.Everything && !b.Everything,
		Sites:      except(a.Sites, b.Sites), DeviceGroups: except(a.DeviceGroups, b.DeviceGroups),
		Devices: except(a.Devices, b.Devices), Points: except(a.Points, b.Points),
	}
}

func except[T ~string](list, gone []T) []T {
	return set(slices.DeleteFunc(slices.Clone(list), func(x T) bool { return slices.Contains(gone, x) }))
}

// mostNamed is how many of a list the name of a new grant holds.
const mostNamed = 2

// grantName names a new grant by whom it is for and what it gives: Bridge crew: Control.
func (p *Policy) grantName(g *Grant) string {
	var who, what []string
	if g.To.Everyone {
		who = append(who, "Everyone")
	}
	for _, id := range g.To.Groups {
		who = append(who, p.Title(UserGroups, string(id)))
	}
	for _, id := range g.To.Users {
		who = append(who, p.Title(Users, string(id)))
	}
	for _, id := range g.Lines[0].Roles {
		what = append(what, p.Title(Roles, string(id)))
	}
	for _, id := range g.Lines[0].Rights {
		what = append(what, p.Title(Rights, string(id)))
	}
	short := func(list []string) string {
		if len(list) > mostNamed {
			list = append(slices.Clone(list[:mostNamed]), "…")
		}
		return strings.Join(list, ", ")
	}
	name := short(who) + ": " + short(what)
	if !g.Valid.Until.IsZero() {
		name += untilDay(g.Valid.Until)
	}
	return p.FreeName(Grants, name)
}

// untilDay is what stands behind a name that is made for what ends at an instant.
func untilDay(at time.Time) string { return " until " + at.UTC().Format("2 January 2006") }

// FreeName is a name that no record of a type has yet, nor one that looks like it: the name, or the first with a number behind it.
func (p *Policy) FreeName(t Type, name string) string {
	taken := map[string]bool{}
	for r := range p.Table(t).All() {
		taken[FoldName(r.Title())], taken[skeleton(r.Title())] = true, true
	}
	free := name
	for n := 2; taken[FoldName(free)] || taken[skeleton(free)]; n++ {
		free = name + " " + strconv.Itoa(n)
	}
	return free
}
