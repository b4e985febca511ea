package decision

import (
	"net/netip"
	"slices"
)

// survey finds what is possible for many pairs of a user and a resource, in the same circumstances.
type survey struct {
	c      *Compiled
	in     Circumstances
	wanted rightSet
	set    sets
	key    []byte
	known  map[string][]Prospect // by what bears on a pair: many classes differ in nothing that does
}

func (c *Compiled) survey(in Circumstances, wanted rightSet) *survey {
	return &survey{c: c, in: in, wanted: wanted, set: c.newSets(), known: map[string][]Prospect{}}
}

// prospects tells what is possible for the user and the resource of a question, by right; nil where nothing is. The list is shared, and
// not to be changed.
func (s *survey) prospects(a *resolvedQuery) []Prospect {
	if s.in.Degrees == 0 || s.in.Degrees == 1<<Now {
		if !s.c.allowed(a, s.wanted, &s.set) {
			return nil
		}
		return s.now(a)
	}
	if !a.prefilter() || a.who.bar != 0 || a.what.retired {
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
func (s *survey) now(a *resolvedQuery) []Prospect {
	s.key = s.key[:0]
	for _, w := range s.set.given {
		s.key = append(s.key, byte(w), byte(w>>8), byte(w>>16), byte(w>>24), byte(w>>32), byte(w>>40), byte(w>>48), byte(w>>56))
	}
	out, ok := s.known[string(s.key)]
	if !ok {
		out = make([]Prospect, len(s.c.rightList))
		for i := range out {
			if s.set.given.has(i) {
				out[i] = Prospect{Degree: Now, first: a.at}
			}
		}
		s.known[string(s.key)] = out
	}
	return out
}

// search looks for each of the wanted rights.
func (s *survey) search(a *resolvedQuery, h *hand) []Prospect {
	out := make([]Prospect, len(s.c.rightList))
	some := false
	for i := range out {
		if !s.wanted.has(i) || !slices.ContainsFunc(h.parts, func(p part) bool { return !p.line.deny && p.bears(i) }) {
			continue
		}
		// What the same lines give and take is possible alike, but for what is told of the rights themselves.
		if k := slices.IndexFunc(out[:i], func(p Prospect) bool { return p.Degree != Impossible }); k >= 0 && s.alike(h, k, i) {
			out[i] = out[k]
		} else {
			out[i] = (&search{after: h, right: i, had: -1, at: a.at, context: a.context}).prospect(s.in.Degrees)
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
	a, b := &s.c.rightList[k], &s.c.rightList[i]
	return a.controls == b.controls && slices.Equal(a.kinds, b.kinds) && !slices.ContainsFunc(h.parts, func(p part) bool { return p.bears(k) != p.bears(i) })
}

// key is the same for what is possible alike.
func (h *hand) key(out []byte) []byte {
	k := classKey(out)
	k.period(h.who.valid)
	k.period(h.what.lockout)
	k.number(int64(h.what.clock))
	k.text(string(h.what.facts.kind))
	for i := range h.parts {
		p := &h.parts[i]
		k.number(int64(p.number)<<2 | int64(bit(p.direct)<<1|bit(p.idle)))
		k.number(int64(len(p.periods)))
		for _, held := range p.periods {
			k.period(held)
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
		g.StrongSignIn == o.StrongSignIn && g.Attended == o.Attended
}
