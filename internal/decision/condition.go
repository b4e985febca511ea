package decision

import (
	"net/netip"

	"sentier/internal/policy"
)

// Circumstance describes a condition of a line: one list from which the explanation, the reader of contexts, the words and what is possible follow. The decision
// itself has them written out, for speed; a test holds it to this list, and the list to [policy.If].
type Circumstance struct {
	Name    string // in a line's “if”
	Context string // as a context calls its value; empty: it is no matter of the context, and stays as it is
	explain func(c *Compiled, l *Line, a *ResolvedQuery) (_ Condition, given bool)
	met     func(c *Compiled, l *Line, a *ResolvedQuery) bool
}

var yes = map[bool]string{true: "yes", false: "no"}

// Circumstances are all conditions that a line can have, in the order in which they are told. A new one is a field of [policy.If] and an entry here; what else it takes is
// named by TestEveryConditionIsKnownEverywhere.
var Circumstances = []Circumstance{
	{"networks", "ip", func(c *Compiled, l *Line, a *ResolvedQuery) (Condition, bool) {
		one := Condition{Name: "networks", Met: networkMet(l, a), Known: a.Context.IP.IsValid()}
		for _, p := range l.Ifs.Networks {
			one.Want = append(one.Want, netip.Prefix.String(p))
		}
		if one.Known {
			one.Have = a.Context.IP.String()
		}
		return one, len(l.Ifs.Networks) > 0
	}, func(_ *Compiled, l *Line, a *ResolvedQuery) bool { return networkMet(l, a) }},
	{"places", "place", func(c *Compiled, l *Line, a *ResolvedQuery) (Condition, bool) {
		one := Condition{Name: "places", Met: c.placeMet(l, a), Want: texts(l.Ifs.Places)}
		if _, one.Known = c.Places.Chains[a.Context.Place]; one.Known {
			one.Have = string(a.Context.Place)
		}
		return one, len(l.Ifs.Places) > 0
	}, (*Compiled).placeMet},
	{"states", "", func(_ *Compiled, l *Line, a *ResolvedQuery) (Condition, bool) {
		return Condition{"states", StateMet(l, a), true, texts(l.Ifs.States), string(a.What.Facts.State)}, len(l.Ifs.States) > 0
	}, func(_ *Compiled, l *Line, a *ResolvedQuery) bool { return StateMet(l, a) }},
	yesOrNo("strong_sign_in", func(f *policy.If) *bool { return f.StrongSignIn }, func(c *Context) Tri { return c.StrongSignIn }),
	yesOrNo("attended", func(f *policy.If) *bool { return f.Attended }, func(c *Context) Tri { return c.Attended }),
}

// yesOrNo is a circumstance that holds or does not.
func yesOrNo(name string, want func(*policy.If) *bool, have func(*Context) Tri) Circumstance {
	met := func(_ *Compiled, l *Line, a *ResolvedQuery) bool {
		return triMet(want(l.Ifs), have(&a.Context), l.Deny)
	}
	return Circumstance{name, name, func(c *Compiled, l *Line, a *ResolvedQuery) (Condition, bool) {
		asked, is := want(l.Ifs), have(&a.Context)
		if asked == nil {
			return Condition{}, false
		}
		one := Condition{Name: name, Met: met(c, l, a), Known: is != NotKnown, Want: []string{yes[*asked]}}
		if one.Known {
			one.Have = yes[is == True]
		}
		return one, true
	}, met}
}

// conditions are those of a line, and how they are met.
func (c *Compiled) conditions(l *Line, a *ResolvedQuery) (out []Condition) {
	for i := range Circumstances {
		if one, given := Circumstances[i].explain(c, l, a); given {
			out = append(out, one)
		}
	}
	return out
}

// Met tells whether a condition of a line is met, by the list of all.
func (k *Circumstance) Met(c *Compiled, l *Line, a *ResolvedQuery) bool { return k.met(c, l, a) }
