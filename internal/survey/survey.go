package survey

import (
	"net/netip"
	"slices"

	"sentier/internal/decision"
)

// survey finds what is possible for many pairs of a user and a resource, in the same circumstances.
type survey struct {
	c      Survey
	in     Circumstances
	wanted decision.RightSet
	set    sets
	key    []byte
	known  map[string][]Prospect // by what bears on a pair: many classes differ in nothing that does
}

func (c Survey) survey(in Circumstances, wanted decision.RightSet) *survey {
	return &survey{c: c, in: in, wanted: wanted, set: c.newSets(), known: map[string][]Prospect{}}
}

// prospects tells what is possible for the user and the resource of a question, by right; nil where nothing is. The list is shared, and
// not to be changed.
func (s *survey) prospects(a *decision.ResolvedQuery) []Prospect {
	if s.in.Degrees == 0 || s.in.Degrees == 1<<Now {
		if !s.c.allowed(a, s.wanted, &s.set) {
			return nil
		}
		return s.now(a)
	}
	if !a.Prefilter() || a.Who.Bar != 0 && a.Who.Bar != decision.UserInvited || a.What.Retired {
		return nil
	}
	h := s.c.hand(a)
	if len(h.parts) == 0 {
		return nil
	}
	s.key = h.key(s.key[:0])
	if out, ok := s.known[string(s.key)]; ok {
		return out
	}
	out := s.search(a, &h)
	s.known[string(s.key)] = out
	return out
}

// now tells the rights in s.set.given as allowed now.
func (s *survey) now(a *decision.ResolvedQuery) []Prospect {
	s.key = s.key[:0]
	for _, w := range s.set.given {
		s.key = append(s.key, byte(w), byte(w>>8), byte(w>>16), byte(w>>24), byte(w>>32), byte(w>>40), byte(w>>48), byte(w>>56))
	}
	out, ok := s.known[string(s.key)]
	if !ok {
		out = make([]Prospect, len(s.c.RightList))
		for i := range out {
			if s.set.given.Has(i) {
				out[i] = Prospect{Degree: Now, first: a.Moment}
			}
		}
		s.known[string(s.key)] = out
	}
	return out
}

// search looks for each of the wanted rights.
func (s *survey) search(a *decision.ResolvedQuery, h *hand) []Prospect {
	out := make([]Prospect, len(s.c.RightList))
	some := false
	for i := range out {
		if !s.wanted.Has(i) || !slices.ContainsFunc(h.parts, func(p decision.Part) bool { return !p.Line.Deny && p.Bears(i) }) {
			continue
		}
		// What the same lines give and take is possible alike, but for what is told of the rights themselves.
		if k := slices.IndexFunc(out[:i], func(p Prospect) bool { return p.Degree != Impossible }); k >= 0 && s.alike(h, k, i) {
			out[i] = out[k]
		} else {
			out[i] = (&search{after: h, right: i, had: -1, at: a.Moment, context: a.Context}).prospect(s.in.Degrees)
		}
		if !s.in.Degrees.Has(out[i].Degree) {
			out[i] = Prospect{}
		}
		some = some || out[i].Degree != Impossible
	}
	if !some {
		return nil
	}
	return out
}

// alike tells whether two rights have the same lines and the same bounds.
func (s *survey) alike(h *hand, k, i int) bool {
	a, b := &s.c.RightList[k], &s.c.RightList[i]
	return a.Controls == b.Controls && slices.Equal(a.Kinds, b.Kinds) && !slices.ContainsFunc(h.parts, func(p decision.Part) bool { return p.Bears(k) != p.Bears(i) })
}

// key is the same for what is possible alike.
func (h *hand) key(out []byte) []byte {
	k := decision.ClassKey(out)
	k.Period(h.who.Valid)
	k.Period(h.what.Lockout)
	k.Number(int64(h.what.Clock)<<1 | int64(decision.Bit(h.comesIn)))
	k.Text(string(h.what.Facts.Kind))
	for i := range h.parts {
		p := &h.parts[i]
		k.Number(int64(p.Number)<<2 | int64(decision.Bit(p.Direct)<<1|decision.Bit(p.Idle)))
		k.Number(int64(len(p.Periods)))
		for _, held := range p.Periods {
			k.Period(held)
		}
	}
	return k
}

func (p Prospect) equal(o Prospect) bool {
	return p.Degree == o.Degree && p.first == o.first && p.Given.equal(o.Given)
}

func (g *Given) equal(o *Given) bool {
	if g == nil || o == nil {
		return g == o
	}
	return slices.EqualFunc(g.Networks, o.Networks, func(a, b netip.Prefix) bool { return a == b }) && slices.Equal(g.Places, o.Places) &&
		g.StrongSignIn == o.StrongSignIn && g.Attended == o.Attended && g.ComesIn == o.ComesIn
}
