package wording

import (
	"maps"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"sentier/internal/decision"
	"sentier/internal/policy"
	"sentier/internal/survey"
	"sentier/internal/wire"
)

// Given is the circumstances that must be given, as they travel; nil for none.
func Given(g *survey.Given) *wire.Circumstances {
	if g == nil {
		return nil
	}
	out := &wire.Circumstances{StrongSignIn: known(g.StrongSignIn), Attended: known(g.Attended), ComesIn: g.ComesIn}
	for _, n := range g.Networks {
		out.IP = append(out.IP, netip.Prefix.String(n))
	}
	for _, id := range g.Places {
		out.Place = append(out.Place, string(id))
	}
	return out
}

func known(t decision.Tri) *bool {
	if t == decision.NotKnown {
		return nil
	}
	v := t == decision.True
	return &v
}

// mostNamed is how many networks or places are named in a sentence.
const mostNamed = 4

// Circumstances says what must be given and, where the times of what it takes are known, when it is open: “if the address is in
// 10.44.0.0/16, weekdays 08:00–16:00”. Empty where it takes nothing.
func (c Catalogue) Circumstances(p *policy.Policy, g *survey.Given, times []decision.Time) string {
	var parts []string
	if g != nil {
		var conditions []string
		some := func(key string, list []string) {
			if len(list) > mostNamed {
				list = append(list[:mostNamed:mostNamed], "…")
			}
			if len(list) > 0 {
				conditions = append(conditions, c.Say(key, "want", strings.Join(list, ", ")))
			}
		}
		w := Given(g)
		some("condition.networks", w.IP)
		for i, id := range w.Place {
			w.Place[i] = p.Title(policy.Sites, id)
		}
		some("condition.places", w.Place)
		for _, x := range []struct {
			key string
			v   decision.Tri
		}{{"condition.strong_sign_in", g.StrongSignIn}, {"condition.attended", g.Attended}} { // in this order each time: rows that say the same are one
			if x.v != decision.NotKnown {
				conditions = append(conditions, c.Say(x.key+map[bool]string{true: "_yes", false: "_no"}[x.v == decision.True]))
			}
		}
		if g.ComesIn {
			parts = append(parts, c.Say("possible.comes_in"))
		}
		if len(conditions) > 0 {
			parts = append(parts, c.Say("possible.if", "conditions", strings.Join(conditions, c.Say("console.and"))))
		}
	}
	for _, t := range times {
		parts = append(parts, c.Schedule(t.Schedule))
	}
	return strings.Join(parts, ", ")
}

// mostWindows is how many windows of a schedule are told in a sentence; one of more is told by its name.
const mostWindows = 2

// Schedule says when a schedule is open in few words: “weekdays 08:00–16:00”, or by its name where it takes more.
func (c Catalogue) Schedule(s *policy.Schedule) string {
	if len(s.Windows) > mostWindows || len(s.Windows) == 0 || len(s.Special) > 0 || s.Dates != nil {
		return s.Title()
	}
	var out []string
	for _, w := range s.Windows {
		days := ""
		switch names := weekdaysOf(w.Days); {
		case names == "" || names == "mon tue wed thu fri sat sun":
			days = c.Say("possible.every_day")
		case names == "mon tue wed thu fri":
			days = c.Say("possible.weekdays")
		case names == "sat sun":
			days = c.Say("possible.weekends")
		default:
			for _, d := range strings.Fields(names) {
				days += c.Say("console.day."+d) + " "
			}
			days = strings.TrimSpace(days)
		}
		out = append(out, days+" "+w.From.String()+"–"+w.To.String())
	}
	return strings.Join(out, ", ")
}

func weekdaysOf(days []policy.Weekday) string {
	var out []string
	for _, d := range days {
		name, _ := d.MarshalText() // which never fails
		out = append(out, string(name))
	}
	return strings.Join(out, " ")
}

// Possible tells a right that is possible. until is the end of what is allowed now, zero where there is none.
func (c Catalogue) Possible(p *policy.Policy, x survey.Possibility, at, until time.Time, times []decision.Time) wire.PossibleRight {
	out := wire.PossibleRight{ID: string(x.Right), Name: p.Title(policy.Rights, string(x.Right)), Degree: x.Degree.String(), Circumstances: Given(x.Given)}
	if x.Degree != survey.Now {
		until = x.First()
	}
	if !until.IsZero() {
		out.Until = &until
	}
	if x.Degree == survey.If {
		out.When = "later"
		if x.First().Equal(at) {
			out.When = "at"
		}
	}
	if x.Degree != survey.Now {
		out.Text = c.Circumstances(p, x.Given, times)
	}
	return out
}

// Impact names who gains and loses what; p is a policy that knows them, and at the instant of the comparison.
func (c Catalogue) Impact(p *policy.Policy, d survey.Differences, at time.Time) *wire.Impact {
	named := func(t policy.Type, id string) wire.Named { return wire.Named{ID: id, Name: p.Title(t, id)} }
	out := &wire.Impact{
		Gained: tally(d.Gained), Lost: tally(d.Lost), Loosened: tally(d.Loosened), Tightened: tally(d.Tightened), Users: d.Users, Devices: d.Devices, More: max(0, d.Pairs-len(d.Items)),
		Items: []wire.Difference{}, Mandates: []wire.MandateDifference{},
	}
	for _, m := range d.Mandates {
		out.Mandates = append(out.Mandates, wire.MandateDifference{
			User: named(policy.Users, string(m.User)), Mandate: wire.Named{ID: m.Mandate.Key(), Name: m.Mandate.Title()}, Role: string(m.Mandate.Role),
			Gained: m.Gained, Degree: m.Degree.String(), Until: m.First,
		})
	}
	rights := func(list []survey.Change) (out []wire.ChangedRight) {
		for _, x := range list {
			out = append(out, wire.ChangedRight{PossibleRight: c.Possible(p, x.Possibility, at, time.Time{}, nil), Before: x.Before.String(), After: x.After.String()})
		}
		return out
	}
	limits := func(list []survey.LimitChange) (out []wire.ChangedLimit) {
		for _, x := range list {
			out = append(out, wire.ChangedLimit{PossibleRight: c.Possible(p, x.Possibility, at, time.Time{}, nil), Before: orNone(x.Before), After: orNone(x.After), Limits: c.limits(x.Before, x.After)})
		}
		return out
	}
	for _, i := range d.Items {
		item := wire.Difference{User: named(policy.Users, string(i.User)), Device: named(policy.Devices, string(i.Device)), Gained: rights(i.Gained), Lost: rights(i.Lost), Loosened: limits(i.Loosened), Tightened: limits(i.Tightened)}
		if i.Point != "" {
			item.Device.ID += "/" + string(i.Point)
			item.Device.Name = PointName(p, i.Device, i.Point)
		}
		out.Items = append(out.Items, item)
	}
	return out
}

// orNone is limits as they travel: none is an empty object.
func orNone(limits map[string]policy.Limit) map[string]policy.Limit {
	if limits == nil {
		return map[string]policy.Limit{}
	}
	return limits
}

// limits says which limits are others after a change than before: “minutes 30 → 60”.
func (c Catalogue) limits(before, after map[string]policy.Limit) string {
	value := func(l policy.Limit, there bool) string {
		switch {
		case !there:
			return c.Say("possible.no_limit")
		case l.Texts != nil:
			return strings.Join(l.Texts, ", ")
		}
		return strconv.FormatFloat(l.Number, 'f', -1, 64)
	}
	all := maps.Clone(orNone(before))
	maps.Copy(all, after)
	var out []string
	for _, name := range slices.Sorted(maps.Keys(all)) {
		b, was := before[name]
		a, is := after[name]
		if old, new := value(b, was), value(a, is); old != new {
			out = append(out, name+" "+old+" → "+new)
		}
	}
	return strings.Join(out, "; ")
}

func tally(t survey.Tally) wire.Tally {
	return wire.Tally{All: t.All(), Now: t[survey.Now], Later: t[survey.Later], If: t[survey.If]}
}

// Totals counts by degree, as it travels.
func Totals(t [survey.Now + 1]int) wire.Totals {
	return wire.Totals{Now: t[survey.Now], Later: t[survey.Later], If: t[survey.If]}
}

// PointName is the name of a device and of a point of it; of the device alone where the point is empty.
func PointName(p *policy.Policy, device policy.DeviceID, point policy.PointID) string {
	d, ok := policy.Find[*policy.Device](p, string(device))
	if !ok || point == "" {
		return p.Title(policy.Devices, string(device))
	}
	name := string(point)
	for _, one := range d.Points {
		if one.ID == point && one.Name != "" {
			name = one.Name
		}
	}
	return d.Title() + " / " + name
}
