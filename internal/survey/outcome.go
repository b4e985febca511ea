package survey

import (
	"encoding/binary"
	"reflect"
	"slices"
	"sync"

	"sentier/internal/decision"
)

// outcome is what is gained and lost by a pair of classes: control first.
type outcome struct {
	gained, lost        []Possibility
	loosened, tightened []LimitChange
	controls            int  // of what is gained, rights that control
	loosens             int  // of what is loosened, likewise
	control             bool // anything of it does
}

func (o *outcome) equal(x *outcome) bool {
	if o == nil || x == nil {
		return o == x
	}
	same := func(a, b Possibility) bool { return a.Right == b.Right && a.Prospect.equal(b.Prospect) }
	limits := func(a, b LimitChange) bool {
		return same(a.Possibility, b.Possibility) && reflect.DeepEqual(a.Before, b.Before) && reflect.DeepEqual(a.After, b.After)
	}
	return slices.EqualFunc(o.gained, x.gained, same) && slices.EqualFunc(o.lost, x.lost, same) &&
		slices.EqualFunc(o.loosened, x.loosened, limits) && slices.EqualFunc(o.tightened, x.tightened, limits)
}

// way is how a pair is compared.
type way byte

const (
	apart   way = '/' // each side by its own policy
	added   way = '+' // lines are added alone: both sides are told by the later policy
	dropped way = '-' // lines are dropped alone: by the earlier
)

// outcome compares the answers about a user and a resource before and after; nil where they are the same.
func (p *comparison) outcome(u *userJoint, d *deviceJoint, point [2]decision.Target) *outcome {
	var had, has hand
	old, new := decision.ResolvedQuery{Who: u.before, What: d.before, PointTarget: point[0]}, decision.ResolvedQuery{Who: u.after, What: d.after, PointTarget: point[1]}
	was, is := u.nearBefore && d.nearBefore, u.nearAfter && d.nearAfter
	way := apart
	switch other := p.everything || u.moved || d.moved; {
	case !other && !was:
		way = added
		has = p.handIn(&p.after, &new)
		had = has.but(p.after.changed, &p.before.room)
	case !other && !is:
		way = dropped
		had = p.handIn(&p.before, &old)
		has = had.but(p.before.changed, &p.after.room)
	default:
		had, has = p.handIn(&p.before, &old), p.handIn(&p.after, &new)
	}
	if len(had.parts)+len(has.parts) == 0 || way != apart && len(had.parts) == len(has.parts) {
		return nil
	}
	key := append(p.key[:0], byte(way))
	if way != added {
		key = p.before.all(&had, key)
	}
	if way != dropped {
		key = p.after.all(&has, key)
	}
	p.key = key
	return p.pairs.of(key, func() *outcome { return p.compared(&had, &has, way) })
}

func (p *comparison) compared(had, has *hand, way way) *outcome {
	var out outcome
	rights := p.differing(had, has, way)
	for n, id := range p.rights.ids {
		if !rights.Has(n) || p.in.Right != "" && p.in.Right != id {
			continue
		}
		x := p.about(had, has, slices.Index(p.rights.old, n), slices.Index(p.rights.new, n), way)
		controls := p.controls(id)
		if x.gained.Degree != Impossible {
			out.gained = append(out.gained, Possibility{id, x.gained})
			out.controls += decision.Bit(controls)
			out.control = out.control || controls
		}
		if x.lost.Degree != Impossible {
			out.lost = append(out.lost, Possibility{id, x.lost})
			out.control = out.control || controls
		}
		x.looser.Right, x.closer.Right = id, id
		if x.looser.Degree != Impossible {
			out.loosened = append(out.loosened, x.looser)
			out.loosens += decision.Bit(controls)
			out.control = out.control || controls
		}
		if x.closer.Degree != Impossible {
			out.tightened = append(out.tightened, x.closer)
			out.control = out.control || controls
		}
	}
	if len(out.gained)+len(out.lost)+len(out.loosened)+len(out.tightened) == 0 {
		return nil
	}
	controlFirst(p, out.gained)
	controlFirst(p, out.lost)
	controlFirst(p, out.loosened)
	controlFirst(p, out.tightened)
	return &out
}

// ofRight is what is told of one right.
type ofRight interface{ told() Possibility }

func (p Possibility) told() Possibility { return p }

// controlFirst puts the rights that control before the others.
func controlFirst[T ofRight](p *comparison, list []T) {
	slices.SortStableFunc(list, func(a, b T) int {
		return decision.Bit(p.controls(b.told().Right)) - decision.Bit(p.controls(a.told().Right))
	})
}

// but is a hand without some lines, in a room that is used again.
func (h hand) but(lines []bool, room *[]decision.Part) hand {
	*room = (*room)[:0]
	for _, x := range h.parts {
		if !lines[x.Number] {
			*room = append(*room, x)
		}
	}
	h.parts = *room
	return h
}

// differing are the rights of which the answers may be others, by the union's numbers: those that a line bears on that is not on both sides.
func (p *comparison) differing(had, has *hand, way way) decision.RightSet {
	all := func() decision.RightSet {
		for n := range p.rights.ids {
			p.differs.Add(n)
		}
		return p.differs
	}
	clear(p.differs)
	if had.who == nil || has.who == nil || p.before.DirectFirst != p.after.DirectFirst || !p.rights.alike {
		return all()
	}
	a, b := had.what, has.what
	if had.comesIn != has.comesIn || had.who.Valid != has.who.Valid || a.Lockout != b.Lockout || a.Facts.Kind != b.Facts.Kind || a.Facts.Zone.String() != b.Facts.Zone.String() {
		return all()
	}
	lone := func(part *decision.Part, numbers []int) bool {
		if part.Direct && p.after.DirectFirst {
			return true // it may keep any other line from counting
		}
		for i, n := range numbers {
			if part.Line.Rights.Has(i) {
				p.differs.Add(n)
			}
		}
		return false
	}
	for i := range has.parts {
		if x := &has.parts[i]; (way == added && p.after.changed[x.Number] || way == apart && !p.within(x, had, p.sameBefore)) && lone(x, p.rights.new) {
			return all()
		}
	}
	for i := range had.parts {
		if x := &had.parts[i]; (way == dropped && p.before.changed[x.Number] || way == apart && !p.within(x, has, p.sameAfter)) && lone(x, p.rights.old) {
			return all()
		}
	}
	return p.differs
}

// within tells whether a part is in a hand of the other policy as well; same gives the number that its line has there.
func (p *comparison) within(x *decision.Part, other *hand, same []int32) bool {
	n := same[x.Number]
	return n >= 0 && slices.ContainsFunc(other.parts, func(y decision.Part) bool {
		return y.Number == n && y.Direct == x.Direct && y.Idle == x.Idle && slices.Equal(y.Periods, x.Periods)
	})
}

// shift is what is gained and lost of one right, and how its limits are others: of which right is still to be said.
type shift struct {
	gained, lost   Prospect
	looser, closer LimitChange
}

// about finds what is gained and lost of one right, once for all pairs of which the same bears on it.
func (p *comparison) about(had, has *hand, was, is int, way way) shift {
	key := decision.ClassKey(append(p.key[:0], byte(way)))
	key.Number(int64(was))
	key.Number(int64(is))
	if way != added { // what is added tells what was there
		key = p.before.bearing(had, was, key)
	}
	if way != dropped {
		key = p.after.bearing(has, is, key)
	}
	p.key = key
	return p.known.of(p.key, func() (out shift) {
		gives, takes := true, true
		if way != apart && !p.after.DirectFirst { // what is added alone, or dropped alone, tells who can gain and who can lose
			gives, takes = p.bearers(had, has, is, false), p.bearers(had, has, is, true)
			if way == dropped {
				gives, takes = takes, gives
			}
		}
		if gives {
			out.gained = p.search(had, has, was, is)
			out.looser = p.loosened(had, has, was, is)
		}
		if takes {
			out.lost = p.search(has, had, is, was)
			out.closer = p.loosened(has, had, is, was)
			out.closer.Before, out.closer.After = out.closer.After, out.closer.Before
		}
		return out
	})
}

// bearers tells whether any line that is in one of the policies alone gives a right, or takes it.
func (p *comparison) bearers(had, has *hand, right int, deny bool) bool {
	is := func(s *side, h *hand) bool {
		return slices.ContainsFunc(h.parts, func(x decision.Part) bool { return s.changed[x.Number] && x.Line.Deny == deny && x.Bears(right) })
	}
	if len(has.parts) > len(had.parts) {
		return is(&p.after, has)
	}
	return is(&p.before, had)
}

// memo keeps what was found for all who look for it side by side.
type memo[V any] struct {
	mu sync.RWMutex
	by map[string]V
}

func newMemo[V any]() *memo[V] { return &memo[V]{by: map[string]V{}} }

func (m *memo[V]) of(key []byte, find func() V) V {
	m.mu.RLock()
	out, ok := m.by[string(key)]
	m.mu.RUnlock()
	if !ok {
		kept := string(key) // what finds it may write another
		out = find()
		m.mu.Lock()
		m.by[kept] = out
		m.mu.Unlock()
	}
	return out
}

func (p *comparison) search(before, after *hand, had, right int) Prospect {
	if right < 0 || after.who == nil || after.what == nil {
		return Prospect{}
	}
	return (&search{before: before, after: after, had: had, right: right, at: p.at, context: p.in.Context}).prospect(p.in.Degrees)
}

// loosened finds when a right that both hands allow has looser limits after than before.
func (p *comparison) loosened(before, after *hand, had, right int) (out LimitChange) {
	if had < 0 || right < 0 || before.who == nil || before.what == nil || after.who == nil || after.what == nil || before.comesIn != after.comesIn || !before.limited(had) {
		return out
	}
	s := search{before: before, after: after, had: had, right: right, at: p.at, context: p.in.Context, loosens: true}
	out.Prospect = s.prospect(p.in.Degrees)
	if out.Degree != Impossible {
		is, was := s.courses(out.Given.In(p.in.Context))
		out.Before, out.After = was.Limits(out.first), is.Limits(out.first)
	}
	return out
}

// limited tells whether any line that gives a right carries limits.
func (h *hand) limited(right int) bool {
	return slices.ContainsFunc(h.parts, func(x decision.Part) bool { return len(x.Line.Limits()) > 0 && x.Bears(right) })
}

func (p *comparison) hand(c Survey, a *decision.ResolvedQuery) hand { return handOf(c, a, nil) }

// handOf is a hand in a room that is used again: the zero one of those who are not there, or can do nothing.
func handOf(c Survey, a *decision.ResolvedQuery, room []decision.Part) hand {
	if a.Who == nil || a.What == nil || a.Who.Bar != 0 && a.Who.Bar != decision.UserInvited || a.What.Retired || !a.Prefilter() {
		return hand{c: c.Compiled}
	}
	return c.handIn(a, room)
}

// handIn is the hand by one of the policies, good until that of the next pair.
func (p *comparison) handIn(s *side, a *decision.ResolvedQuery) hand {
	h := handOf(s.Survey, a, s.room[:0])
	if h.parts != nil {
		s.room = h.parts
	}
	return h
}

// all adds to a key all of a hand, in its order.
func (s *side) all(h *hand, k decision.ClassKey) decision.ClassKey {
	if h.who == nil || h.what == nil {
		return append(k, '-')
	}
	k.Period(h.who.Valid)
	k.Period(h.what.Lockout)
	k.Number(int64(h.what.Clock)<<1 | int64(decision.Bit(h.comesIn)))
	for i := range h.c.RightList { // of the kind nothing else counts
		k = append(k, byte(decision.Bit(h.c.RightList[i].For(h.what.Facts.Kind))))
	}
	for i := range h.parts {
		x := &h.parts[i]
		k = binary.LittleEndian.AppendUint32(k, uint32(s.Kinds[x.Number])<<4|uint32(decision.Bit(s.changed[x.Number])<<2|decision.Bit(x.Direct)<<1|decision.Bit(x.Idle)))
		if n := s.periods.held(x.Periods); n != 0 {
			k[len(k)-4] |= 8
			k = binary.LittleEndian.AppendUint32(k, uint32(n))
		}
	}
	return append(k, '.', '.', '.', '.')
}

// bearing adds to a key all of a hand that bears on one right: lines that hold alike and are held alike count once, in no order.
func (s *side) bearing(h *hand, right int, k decision.ClassKey) decision.ClassKey {
	if right < 0 || h.who == nil || h.what == nil {
		k.Number(-1)
		return k
	}
	info := &h.c.RightList[right]
	k.Period(h.who.Valid)
	k.Number(int64(h.what.Clock)<<2 | int64(decision.Bit(h.comesIn)<<1|decision.Bit(info.For(h.what.Facts.Kind))))
	if info.Controls {
		k.Period(h.what.Lockout)
	}
	var room [32]int64
	list := room[:0]
	s.united = [2]bool{}
	for i := range h.parts {
		x := &h.parts[i]
		if bears := x.Bears(right); bears || h.c.DirectFirst && x.Direct {
			if s.unite(x) {
				continue
			}
			list = append(list, s.periods.held(x.Periods)<<40|int64(s.Times[x.Number])<<3|int64(decision.Bit(s.changed[x.Number])<<2|decision.Bit(x.Direct)<<1|decision.Bit(!bears)))
		}
	}
	slices.Sort(list)
	for _, n := range slices.Compact(list) {
		k.Number(n)
	}
	for n, any := range s.united {
		if k = append(k, byte(decision.Bit(any))); any {
			for _, word := range s.union[n] {
				k = binary.LittleEndian.AppendUint64(k, word)
			}
		}
	}
	k.Number(-1)
	return k
}

// unite adds a part to those that count by the minutes at which any of them is open, where it is one of them: which of them it is then tells nothing.
func (s *side) unite(x *decision.Part) bool {
	if s.open == nil || s.DirectFirst || len(x.Periods) != 1 || x.Periods[0] != decision.Always {
		return false
	}
	set := s.open[s.Times[x.Number]]
	if set == nil {
		return false
	}
	n := decision.Bit(s.changed[x.Number])
	if !s.united[n] {
		s.united[n], s.union[n] = true, append(s.union[n][:0], set...)
		return true
	}
	for w, word := range set {
		s.union[n][w] |= word
	}
	return true
}

// findOpen finds which lines count by the minutes at which they are open.
func (s *side) findOpen() {
	weeks := s.Weeks()
	for i, n := range s.Times {
		for len(s.open) <= int(n) {
			s.open = append(s.open, nil)
		}
		if s.open[n] == nil && len(s.Lines[i].Limits()) == 0 { // which lines are open tells which limits there are
			s.open[n] = weeks.Open(&s.Lines[i])
		}
	}
}

// numbers are given to keys as they come, by several at a time.
type numbers struct {
	mu sync.Mutex
	by map[string]int64
}

func (n *numbers) of(key string) int64 {
	n.mu.Lock()
	defer n.mu.Unlock()
	number, ok := n.by[key]
	if !ok {
		number = int64(len(n.by)) + 1
		n.by[key] = number
	}
	return number
}

// held numbers periods, from 1 but for always.
func (n *numbers) held(periods []decision.Period) int64 {
	if len(periods) == 1 && periods[0] == decision.Always {
		return 0
	}
	var k decision.ClassKey
	for _, p := range periods {
		k.Period(p)
	}
	return n.of(string(k))
}
