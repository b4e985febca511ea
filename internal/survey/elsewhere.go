package survey

import (
	"iter"
	"math/bits"
	"net/netip"
	"slices"

	"sentier/internal/decision"
	"sentier/internal/policy"
)

// Circumstances are looked through by what tells them apart. Networks nest or are disjoint, so that one address of each network in
// play that lies in none of those inside it, and one outside all of them, stand for all addresses; a site counts by the nearest place in play
// at which it lies, and one outside all of them stands for the rest: "What is possible" in the semantics.

// cell is addresses, or places, that no condition in play tells apart.
type cell struct {
	networks []netip.Prefix  // exactly its addresses
	places   []policy.SiteID // with what lies below them; the first stands for all
}

// aspect is one thing that a context says.
type aspect uint8

const (
	byAddress aspect = iota
	byPlace
	bySignIn
	byAttendance
	aspects
)

// value is one that an aspect can have.
type value struct {
	cell cell
	tri  decision.Tri
}

func (v *value) in(a aspect, c decision.Context) decision.Context {
	switch a {
	case byAddress:
		c.IP = v.cell.networks[0].Addr()
	case byPlace:
		c.Place = v.cell.places[0]
	case bySignIn:
		c.StrongSignIn = v.tri
	case byAttendance:
		c.Attended = v.tri
	}
	return c
}

// values lists, by aspect, the values that tell circumstances apart for the search; none for an aspect that no line looks at.
func (s *search) values() (out [aspects][]value) {
	var networks []netip.Prefix
	var places []policy.SiteID
	var used [aspects]bool
	var with *decision.Compiled
	look := func(h *hand, right int) {
		if h == nil || h.what == nil || right < 0 {
			return
		}
		with = h.c
		for i := range h.parts {
			p := &h.parts[i]
			if !p.Bears(right) || p.Line.Ifs == nil {
				continue
			}
			networks = append(networks, p.Line.Ifs.Networks...)
			places = append(places, p.Line.Ifs.Places...)
			used[bySignIn] = used[bySignIn] || p.Line.Ifs.StrongSignIn != nil
			used[byAttendance] = used[byAttendance] || p.Line.Ifs.Attended != nil
		}
	}
	look(s.before, s.had)
	look(s.after, s.right) // whose sites are those that there are
	for _, c := range addressCells(networks) {
		out[byAddress] = append(out[byAddress], value{cell: c})
	}
	for _, c := range s.placeCells(with, places) {
		out[byPlace] = append(out[byPlace], value{cell: c})
	}
	for _, a := range []aspect{bySignIn, byAttendance} {
		if used[a] {
			out[a] = []value{{tri: decision.True}, {tri: decision.False}}
		}
	}
	return out
}

// elsewhere finds the fewest values that must be given for what the search looks for, at the instant rather than later, and the
// first instant at which it then holds.
func (s *search) elsewhere() (*Given, decision.Moment, bool) {
	values := s.values()
	size, best := 0, choice{}
	for _, set := range subsets(usable(&values))[1:] { // but for the empty one: the search has begun with it
		if n := bits.OnesCount(set); n != size {
			if best.ok {
				break
			}
			size = n
		}
		s.choose(set, &values, choice{set: set}, 0, &best)
	}
	if !best.ok {
		return nil, 0, false
	}
	return s.told(&values, best), best.first, true
}

// earliest finds the first instant in any circumstances, and the fewest values that must be given for it. A search that does so begins
// with nothing known: what is not known never allows more than some value would.
func (s *search) earliest() (*Given, decision.Moment, bool) {
	values := s.values()
	full := usable(&values)
	var most choice
	s.choose(full, &values, choice{set: full}, 0, &most)
	if !most.ok {
		return nil, 0, false
	}
	for _, set := range subsets(full) { // small ones first
		var best choice
		s.choose(set, &values, choice{set: set}, 0, &best)
		if best.ok && best.first == most.first {
			if set == 0 {
				return nil, best.first, true
			}
			return s.told(&values, best), best.first, true
		}
	}
	return s.told(&values, most), most.first, true
}

// usable is the set of the aspects that have any values.
func usable(values *[aspects][]value) (out uint) {
	for a := range aspects {
		if len(values[a]) > 0 {
			out |= 1 << a
		}
	}
	return out
}

// subsets lists the subsets of a set of aspects, small ones first.
func subsets(of uint) []uint {
	var out []uint
	for set := range uint(1 << aspects) {
		if set&^of == 0 {
			out = append(out, set)
		}
	}
	slices.SortStableFunc(out, func(a, b uint) int { return bits.OnesCount(a) - bits.OnesCount(b) })
	return out
}

// choice is a value for each of a set of aspects.
type choice struct {
	set    uint
	values [aspects]*value
	first  decision.Moment
	ok     bool
}

// choose tries all values of the aspects from one on, and keeps the best choice: that with the earliest instant.
func (s *search) choose(set uint, values *[aspects][]value, now choice, from aspect, best *choice) {
	for from < aspects && set&(1<<from) == 0 {
		from++
	}
	if from == aspects {
		if first, ok := s.first(s.chosen(&now)); ok && (!best.ok || first < best.first) {
			*best = now
			best.first, best.ok = first, true
		}
		return
	}
	for i := range values[from] {
		now.values[from] = &values[from][i]
		s.choose(set, values, now, from+1, best)
		if best.ok && best.first == s.at {
			return // nothing is earlier
		}
	}
}

// chosen is the context with what a choice gives.
func (s *search) chosen(c *choice) decision.Context {
	out := s.context
	for a, v := range c.values {
		if v != nil {
			out = v.in(aspect(a), out)
		}
	}
	return out
}

// told says a choice, with all networks and all places that do as well as the chosen ones.
func (s *search) told(values *[aspects][]value, best choice) *Given {
	out := &Given{}
	if v := best.values[bySignIn]; v != nil {
		out.StrongSignIn = v.tri
	}
	if v := best.values[byAttendance]; v != nil {
		out.Attended = v.tri
	}
	same := func(c *choice) bool {
		first, ok := s.first(s.chosen(c))
		return ok && first == best.first
	}
	addresses := []*value{nil}
	if best.values[byAddress] != nil {
		addresses = addresses[:0]
		for i := range values[byAddress] {
			one := best
			one.values[byAddress] = &values[byAddress][i]
			if same(&one) {
				addresses = append(addresses, one.values[byAddress])
				out.Networks = append(out.Networks, one.values[byAddress].cell.networks...)
			}
		}
		out.Networks = joined(out.Networks)
	}
	if best.values[byPlace] != nil {
		for i := range values[byPlace] {
			one := best
			one.values[byPlace] = &values[byPlace][i]
			if !slices.ContainsFunc(addresses, func(v *value) bool { one.values[byAddress] = v; return !same(&one) }) {
				out.Places = append(out.Places, one.values[byPlace].cell.places...)
			}
		}
		slices.Sort(out.Places)
	}
	return out
}

// addressCells parts all addresses by networks; none where there are no networks.
func addressCells(networks []netip.Prefix) []cell {
	if len(networks) == 0 {
		return nil
	}
	slices.SortFunc(networks, netip.Prefix.Compare)
	networks = slices.Compact(networks)
	var out []cell
	add := func(whole netip.Prefix) {
		rest := []netip.Prefix{whole}
		for _, inner := range networks {
			if inner != whole && inner.Bits() >= whole.Bits() && whole.Contains(inner.Addr()) {
				var left []netip.Prefix
				for _, p := range rest {
					left = append(left, without(p, inner)...)
				}
				rest = left
			}
		}
		if len(rest) > 0 {
			out = append(out, cell{networks: rest})
		}
	}
	for _, p := range networks {
		add(p)
	}
	for _, all := range []string{"0.0.0.0/0", "::/0"} {
		if p := netip.MustParsePrefix(all); !slices.Contains(networks, p) {
			add(p)
		}
	}
	return out
}

// without is what is left of a network without another.
func without(p, gone netip.Prefix) []netip.Prefix {
	switch {
	case !p.Overlaps(gone):
		return []netip.Prefix{p}
	case gone.Bits() <= p.Bits():
		return nil
	}
	low, high := halves(p)
	return append(without(low, gone), without(high, gone)...)
}

func halves(p netip.Prefix) (low, high netip.Prefix) {
	bits := p.Bits() + 1
	low = netip.PrefixFrom(p.Addr(), bits)
	address := p.Addr().AsSlice()
	address[(bits-1)/8] |= 1 << (7 - (bits-1)%8)
	top, _ := netip.AddrFromSlice(address)
	return low, netip.PrefixFrom(top, bits)
}

// joined writes networks, none of which overlap, with as few as will do.
func joined(list []netip.Prefix) []netip.Prefix {
	slices.SortFunc(list, netip.Prefix.Compare)
	var out []netip.Prefix
	for _, p := range list {
		out = append(out, p)
		for len(out) > 1 {
			a, b := out[len(out)-2], out[len(out)-1]
			if a.Bits() == 0 || a.Bits() != b.Bits() {
				break
			}
			whole := netip.PrefixFrom(a.Addr(), a.Bits()-1).Masked()
			if low, high := halves(whole); low != a || high != b {
				break
			}
			out = append(out[:len(out)-2], whole)
		}
	}
	return out
}

// placeCells parts all sites by places, as far as either policy tells them apart.
func (s *search) placeCells(with *decision.Compiled, places []policy.SiteID) []cell {
	if with == nil || len(places) == 0 {
		return nil
	}
	if s.before == nil || s.before.c == nil || s.before.c.Policy().Table(policy.Sites).Same(with.Policy().Table(policy.Sites)) {
		return Of(with).placeCells(places)
	}
	// Where a site lies is another in each policy: it counts by all the places in play at or above it in both.
	var order []string
	cells := map[string]*cell{}
	for site := range eitherSite(s.before.c, with) {
		var key decision.ClassKey
		for _, c := range []*decision.Compiled{s.before.c, with} {
			for _, p := range places {
				key.Number(int64(decision.Bit(slices.Contains(c.Places.Chains[site], string(p)))))
			}
		}
		if cells[string(key)] == nil {
			cells[string(key)] = &cell{}
			order = append(order, string(key))
		}
		cells[string(key)].places = append(cells[string(key)].places, site)
	}
	var out []cell
	for _, key := range order {
		out = append(out, *cells[key])
	}
	return out
}

// eitherSite yields the sites of two policies, each once.
func eitherSite(a, b *decision.Compiled) iter.Seq[policy.SiteID] {
	return func(yield func(policy.SiteID) bool) {
		for site := range policy.Each[*policy.Site](a.Policy()) {
			if !yield(site.ID) {
				return
			}
		}
		for site := range policy.Each[*policy.Site](b.Policy()) {
			if _, both := policy.Find[*policy.Site](a.Policy(), site.Key()); !both && !yield(site.ID) {
				return
			}
		}
	}
}

// placeCells gives a site for each way in which places tell sites apart; none where there are no places.
func (c Survey) placeCells(places []policy.SiteID) []cell {
	if len(places) == 0 {
		return nil
	}
	slices.Sort(places)
	places = slices.Compact(places)
	var out []cell
	above := map[string]bool{} // sites with a place in play at or below them
	for _, p := range places {
		if chain := c.Places.Chains[p]; len(chain) > 0 {
			out = append(out, cell{places: []policy.SiteID{p}})
			for _, id := range chain {
				above[id] = true
			}
		}
	}
	var outside, whole []policy.SiteID // in no place; and those of them with all that lies below them, the topmost
	for site := range policy.Each[*policy.Site](c.Policy()) {
		if slices.ContainsFunc(c.Places.Chains[site.ID], func(id string) bool { return slices.Contains(places, policy.SiteID(id)) }) {
			continue
		}
		outside = append(outside, site.ID)
		if !above[string(site.ID)] && (site.Parent == "" || above[string(site.Parent)]) {
			whole = append(whole, site.ID)
		}
	}
	switch {
	case len(whole) > 0:
		out = append(out, cell{places: whole})
	case len(outside) > 0:
		out = append(out, cell{places: outside})
	}
	return out
}
