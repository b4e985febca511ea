package survey

import (
	"runtime"
	"slices"
	"sync"
	"sync/atomic"

	"sentier/internal/decision"
	"sentier/internal/policy"
)

// worth is what some lines come to for those whom they reach, beside all others, in rising order.
type worth uint8

const (
	noWorth       worth = iota // nobody has anything by them
	denied                     // all that they give is denied
	heldOtherwise              // others give all of it as well
	needed                     // somebody would lose something without them
)

// standing is what grants and memberships come to for the users of a class.
type standing struct {
	grants []grantWorth
	idle   []policy.UserGroupID // memberships that give nothing that is not held otherwise
}

type grantWorth struct {
	grant    policy.GrantID
	all, own worth // of all its lines, and of those alone by which it names the user
}

func (s *standing) of(id policy.GrantID) grantWorth {
	if i := s.place(id); i >= 0 {
		return s.grants[i]
	}
	return grantWorth{}
}

// place is where a grant is among those of the standing; -1: it is not.
func (s *standing) place(id policy.GrantID) int {
	return slices.IndexFunc(s.grants, func(g grantWorth) bool { return g.grant == id })
}

// assessor finds the standings of the classes of users, and what they share.
type assessor struct {
	Survey
	at      decision.Moment
	times   []int32         // see [decision.Kin]
	worths  *memo[worth]    // by what bears on a right, and which of it is left out
	shifts  *memo[bool]     // likewise: whether anybody gains or loses anything
	limits  *memo[bool]     // likewise: whether limits are closer
	spans   *numbers        // of periods
	weeks   *decision.Weeks // nil: instants are looked at
	faces   []deviceJoint   // all devices
	limited bool            // any line has limits
}

// verdict is what the grants and the memberships of a hand come to, in the order in which they are met.
type verdict struct {
	grants []grantWorth
	groups [maxGroups]membership
}

// membership is what one comes to on some devices.
type membership struct{ held, needed bool }

// maxGroups is in how many groups a user is at most whose memberships are looked at.
const maxGroups = 16

func (c Survey) assessor(at decision.Moment) *assessor {
	a := &assessor{Survey: c, at: at, worths: newMemo[worth](), shifts: newMemo[bool](), limits: newMemo[bool](), spans: &numbers{by: map[string]int64{}}, weeks: c.Weeks(), faces: all(&c.Devices)}
	a.faces = slices.DeleteFunc(a.faces, func(d deviceJoint) bool { return d.after.Retired })
	a.times = c.Kin().Times
	a.limited = slices.ContainsFunc(c.Lines, func(l decision.Line) bool { return len(l.Limits()) > 0 })
	return a
}

// begin is one who assesses beside others.
func (a *assessor) begin() *assessing {
	return &assessing{assessor: a, judged: map[string]struct{}{}, devices: newFacing(Survey{}, a.Survey, slices.Clone(a.faces))}
}

// assess finds the standings of some classes of users, side by side.
func (c Survey) assess(at decision.Moment, classes []int32, into []standing) {
	if len(classes) == 0 {
		return
	}
	a := c.assessor(at)
	if len(classes) < few {
		a.face(classes)
	}
	var wait sync.WaitGroup
	var next atomic.Int64
	for range min(runtime.GOMAXPROCS(0), len(classes)/few+1) {
		wait.Go(func() {
			w := a.begin()
			for n := next.Add(1) - 1; n < int64(len(classes)); n = next.Add(1) - 1 {
				into[classes[n]] = w.user(c.Users.Classes.At(classes[n]))
			}
		})
	}
	wait.Wait()
}

// face leaves of the devices those with which users of some classes have to do.
func (a *assessor) face(classes []int32) {
	near := concern{targets: make([]bool, len(a.ByTarget))}
	for _, n := range classes {
		for _, h := range a.Users.Classes.At(n).Held {
			for _, r := range a.BySubject[h.Subject] {
				near.targets[r.Target] = true
			}
		}
	}
	a.faces = slices.DeleteFunc(a.faces, func(d deviceJoint) bool { return !near.device(d.after) })
}

// few classes are assessed by one.
const few = 64

// assessing is one of those who assess side by side.
type assessing struct {
	*assessor
	devices *facing
	room    []decision.Part
	left    []decision.Part
	key     []byte
	local   local
	verdict verdict
	sets    decision.WeekSets
	with    []uint64
	rest    []uint64
	weekly  int // hands that were judged by the minutes of the week

	// Of the users at hand:
	class   *decision.UserClass
	groups  []policy.UserGroupID        // in which a membership may be idle
	without []*decision.UserClass       // the class without each of them
	gone    map[decision.Subject]uint32 // the groups, a bit each, with which a subject goes
	by      map[decision.Subject]uint32 // the groups by which the users are a subject
	simple  bool                        // all that changes without a group is that subjects go
	out     standing
	named   []bool // by grant of out: it names the user
	held    []bool // by group: something is held by it
	lost    []bool // by group: something would be lost or gained without it

	judged  map[string]struct{} // hands, by their keys
	handKey []byte
}

// user finds the standing of the users of a class.
func (w *assessing) user(class *decision.UserClass) standing {
	class, _ = cameIn(class)
	w.class, w.out = class, standing{}
	clear(w.judged)
	if class.Bar != 0 {
		return w.out
	}
	w.memberships()
	pending := w.grantsOf()
	for part := range w.devices.of(&userJoint{after: class}) {
		if pending == 0 {
			break
		}
		d := part.example.after
		pending -= w.on(d, 0)
		for _, target := range d.Facts.Points {
			if target != 0 {
				pending -= w.on(d, target)
			}
		}
	}
	for i, id := range w.groups {
		if w.held[i] && !w.lost[i] {
			w.out.idle = append(w.out.idle, id)
		}
	}
	return w.out
}

// memberships lists the groups of the users, and what goes with each.
func (w *assessing) memberships() {
	w.groups, w.without, w.simple = nil, nil, true
	w.gone, w.by = map[decision.Subject]uint32{}, map[decision.Subject]uint32{}
	direct := w.class.Direct()
	if len(direct)+decision.Bit(w.class.Named() != "") > 1 && len(direct) <= maxGroups {
		w.groups = direct
	}
	w.held, w.lost = make([]bool, len(w.groups)), make([]bool, len(w.groups))
	for i, id := range w.groups {
		for _, g := range w.PassesTo(id) {
			if s, ok := w.Subjects[decision.SubjectKey{Group: g}]; ok {
				w.by[s] |= 1 << i
			}
		}
		without := w.Without(w.class, id)
		w.without = append(w.without, without)
		left := 0
		for _, h := range w.class.Held {
			if slices.ContainsFunc(without.Held, func(x decision.Held) bool { return x.Subject == h.Subject && x.Period == h.Period }) {
				left++
			} else {
				w.gone[h.Subject] |= 1 << i
			}
		}
		w.simple = w.simple && left == len(without.Held) && !slices.ContainsFunc(without.Held, func(x decision.Held) bool { return w.gone[x.Subject]>>i&1 != 0 })
	}
}

// grantsOf lists the grants that reach the users, and counts what is to be found out.
func (w *assessing) grantsOf() (pending int) {
	w.named = w.named[:0]
	for _, h := range w.class.Held {
		for _, n := range w.LinesOf(h.Subject) {
			l := &w.Lines[n]
			if l.Deny || l.Valid == (decision.Period{}) {
				continue
			}
			place := w.out.place(l.Grant.ID)
			if place < 0 {
				place = len(w.out.grants)
				w.out.grants, w.named = append(w.out.grants, grantWorth{grant: l.Grant.ID}), append(w.named, false)
				pending++
			}
			if h.Subject == w.class.Self && !w.named[place] {
				w.named[place] = true
				pending++
			}
		}
	}
	return pending + len(w.groups)
}

// on looks at devices of a class, or at a point of one, and tells how much is found out by it for good.
func (w *assessing) on(d *decision.DeviceClass, point decision.Target) (done int) {
	a := decision.ResolvedQuery{Who: w.class, What: d, PointTarget: point, Moment: w.at}
	if d.Retired || !a.Prefilter() {
		return 0
	}
	h := w.handIn(&a, w.room[:0])
	w.room = h.parts
	if w.alike(&h) {
		w.weekly++
		return 0
	}
	w.localize(&h)
	if w.judgeWeekly(&h) {
		w.weekly++
		w.judged[string(w.handKey)] = struct{}{}
	} else {
		clear(w.verdict.groups[:])
		w.judge(&h, &a)
	}
	w.heedLimits(&h, &a)
	v := &w.verdict
	for i := range v.grants {
		g := &w.out.grants[w.local.places[i]]
		was := *g
		g.all, g.own = max(g.all, v.grants[i].all), max(g.own, v.grants[i].own)
		done += decision.Bit(was.all != needed && g.all == needed) + decision.Bit(was.own != needed && g.own == needed)
	}
	for i := range w.groups {
		was := w.lost[i]
		w.held[i], w.lost[i] = w.held[i] || v.groups[i].held, w.lost[i] || v.groups[i].needed
		done += decision.Bit(!was && w.lost[i])
	}
	return done
}

// alike tells whether a hand of the same lines was judged by the minutes of the week, on which the clock of the device does not bear: nothing new comes of it.
func (w *assessing) alike(h *hand) bool {
	k := decision.ClassKey(w.handKey[:0])
	for i := range w.RightList {
		k = append(k, byte(decision.Bit(w.RightList[i].For(h.what.Facts.Kind))))
	}
	k.Period(h.what.Lockout)
	for i := range h.parts {
		k.Number(int64(h.parts[i].Number)<<2 | int64(decision.Bit(h.parts[i].Direct)<<1|decision.Bit(h.parts[i].Idle)))
	}
	w.handKey = k
	_, found := w.judged[string(k)]
	return found
}

// local is what is to be found out of a hand.
type local struct {
	places []int    // by grant of the verdict: its place in the standing
	grants []int    // by part: the place of its grant in the verdict; -1: it is a denial
	gone   []uint32 // by part: the groups with which it goes
	by     uint32   // the groups by which any part is there
	plain  bool     // the parts tell all that is different without a group
}

// localize begins the verdict on a hand.
func (w *assessing) localize(h *hand) {
	l, v := &w.local, &w.verdict
	l.places, l.grants, l.gone, l.by, l.plain = l.places[:0], l.grants[:0], l.gone[:0], 0, w.simple
	v.grants, v.groups = v.grants[:0], [maxGroups]membership{}
	for i := range h.parts {
		x := &h.parts[i]
		grant := -1
		if !x.Line.Deny {
			if grant = slices.IndexFunc(v.grants, func(g grantWorth) bool { return g.grant == x.Line.Grant.ID }); grant < 0 {
				grant = len(v.grants)
				v.grants = append(v.grants, grantWorth{grant: x.Line.Grant.ID})
				l.places = append(l.places, w.out.place(x.Line.Grant.ID))
			}
		}
		gone, ways := ^uint32(0), 0
		if len(w.groups) > 0 {
			for _, held := range w.class.Held {
				if slices.Contains(x.Line.To, held.Subject) && (held.Subject == w.class.Self) == x.Direct {
					gone &= w.gone[held.Subject]
					l.by |= w.by[held.Subject]
					ways++
				}
			}
		}
		l.plain = l.plain && (ways < 2 || len(x.Periods) == 1 && x.Periods[0] == decision.Always)
		l.grants, l.gone = append(l.grants, grant), append(l.gone, gone)
	}
}

// judgeWeekly judges a hand where all of its schedules are the same every week, and nothing else bears on it but ends that lie weeks apart: by the sets
// of the minutes of the week, without a look at any instant. It tells whether it could. What is settled for the users is not looked at again.
func (w *assessing) judgeWeekly(h *hand) bool {
	if w.weeks == nil || !w.local.plain || !w.sets.Take(w.Compiled, w.weeks, h.parts, h.who, h.what, w.at) {
		return false
	}
	v, l, sets := &w.verdict, &w.local, &w.sets
	var room [mostGrants]uint64
	own, groups := uint64(0), [maxGroups]uint64{}
	grants := append(room[:0], make([]uint64, max(len(v.grants)-mostGrants, 0))...)[:len(v.grants)]
	for i := range h.parts {
		bit := uint64(1) << i
		if l.grants[i] >= 0 {
			grants[l.grants[i]] |= bit
		}
		if h.parts[i].Direct {
			own |= bit
		}
		for n := range w.groups {
			groups[n] |= uint64(l.gone[i]>>n&1) << i
		}
	}
	for right, bears := range sets.Bears {
		if bears == 0 || w.likeEarlier(right) {
			continue
		}
		w.with = sets.Allowed(right, ^uint64(0), w.with)
		for n, all := range grants {
			settled := &w.out.grants[l.places[n]]
			if g := &v.grants[n]; settled.all != needed && !w.missing(right, all, &g.all) {
				return false
			}
			if g := &v.grants[n]; all&own != 0 && settled.own != needed && !w.missing(right, all&own, &g.own) {
				return false
			}
		}
		for n := range w.groups {
			m := &v.groups[n]
			if m.needed || w.lost[n] || l.by>>n&1 == 0 {
				continue
			}
			m.held = true
			if groups[n]&bears != 0 {
				w.rest = sets.Allowed(right, ^groups[n], w.rest)
				loses, sure := sets.Less(w.rest, w.with)
				gains, surely := sets.Less(w.with, w.rest)
				if m.needed = loses || gains; !m.needed && !(sure && surely) {
					return false
				}
			}
		}
	}
	return true
}

// mostGrants is room for those of most hands.
const mostGrants = 32

// missing finds what parts that are told by their bits come to for a right, beside what is known of others; it tells whether it could.
func (w *assessing) missing(right int, parts uint64, most *worth) bool {
	if *most == needed || parts&w.sets.Bears[right] == 0 {
		return true
	}
	w.rest = w.sets.Allowed(right, ^parts, w.rest)
	less, sure := w.sets.Less(w.rest, w.with)
	some, surely := w.sets.Some(w.with)
	switch {
	case less:
		*most = needed
	case !sure || !some && !surely:
		return false
	case some:
		*most = max(*most, heldOtherwise)
	case w.sets.Denies&w.sets.Bears[right] != 0:
		*most = max(*most, denied)
	}
	return true
}

// likeEarlier tells whether the same parts give and take a right as an earlier one, so that it goes with that.
func (w *assessing) likeEarlier(right int) bool {
	for earlier := range right {
		if w.sets.Bears[earlier] == w.sets.Bears[right] && w.RightList[earlier].Controls == w.RightList[right].Controls {
			return true
		}
	}
	return false
}

// judge finds what each grant and each membership comes to on the devices of a hand.
func (w *assessing) judge(h *hand, a *decision.ResolvedQuery) {
	v := &w.verdict
	for n := range v.grants {
		v.grants[n].all = w.worth(h, func(i int) bool { return w.local.grants[i] == n })
		if slices.ContainsFunc(h.parts, func(p decision.Part) bool { return p.Direct && p.Line.Grant.ID == v.grants[n].grant }) {
			v.grants[n].own = w.worth(h, func(i int) bool { return w.local.grants[i] == n && h.parts[i].Direct })
		}
	}
	for n := range w.groups {
		switch {
		case w.local.by>>n&1 == 0:
		case w.local.plain:
			v.groups[n] = w.leaving(h, func(i int) bool { return w.local.gone[i]>>n&1 != 0 })
		default:
			left := w.leftWithout(n, a)
			v.groups[n] = w.against(h, &left)
		}
	}
}

// leftWithout is the hand that is left without the membership in a group.
func (w *assessing) leftWithout(n int, a *decision.ResolvedQuery) hand {
	b := *a
	b.Who = w.without[n]
	return w.hand(&b)
}

// worth tells what the parts that are dropped come to.
func (w *assessing) worth(h *hand, drops func(int) bool) worth {
	most := noWorth
	for right := range w.RightList {
		bears := false
		for i := range h.parts {
			bears = bears || h.parts[i].Bears(right) && drops(i)
		}
		if !bears || likeEarlier(w.Compiled, h, right) {
			continue
		}
		if most = max(most, w.worths.of(w.dropping(h, right, drops), func() worth { return w.worthOf(h, right, drops) })); most == needed {
			break
		}
	}
	return most
}

func (w *assessing) worthOf(h *hand, right int, drops func(int) bool) worth {
	left := w.but(h, drops)
	switch {
	case (&search{before: &left, after: h, had: right, right: right, at: w.at}).any():
		return needed
	case (&search{after: h, had: -1, right: right, at: w.at}).any():
		return heldOtherwise
	case slices.ContainsFunc(h.parts, func(p decision.Part) bool { return p.Line.Deny && p.Bears(right) }):
		return denied
	}
	return noWorth
}

// but is a hand without what is dropped, good until the next.
func (w *assessing) but(h *hand, drops func(int) bool) hand {
	left := *h
	w.left = w.left[:0]
	for i := range h.parts {
		if !drops(i) {
			w.left = append(w.left, h.parts[i])
		}
	}
	left.parts = w.left
	return left
}

// leaving tells what a membership comes to with which some parts go.
func (w *assessing) leaving(h *hand, drops func(int) bool) (out membership) {
	for right := range w.RightList {
		bears := false
		for i := range h.parts {
			bears = bears || h.parts[i].Bears(right)
		}
		if !bears || likeEarlier(w.Compiled, h, right) {
			continue
		}
		out.held = true
		out.needed = out.needed || w.shifts.of(w.dropping(h, right, drops), func() bool {
			left := w.but(h, drops)
			return w.differ(h, &left, right)
		})
	}
	return out
}

// against tells what a membership comes to without which another hand is left.
func (w *assessing) against(h, left *hand) (out membership) {
	for right := range w.RightList {
		bears := func(p decision.Part) bool { return p.Bears(right) }
		if !slices.ContainsFunc(h.parts, bears) && !slices.ContainsFunc(left.parts, bears) {
			continue
		}
		out.held = true
		out.needed = out.needed || w.differ(h, left, right)
	}
	return out
}

// differ tells whether two hands allow a right at different instants, or in different circumstances.
func (w *assessing) differ(h, left *hand, right int) bool {
	return (&search{before: left, after: h, had: right, right: right, at: w.at}).any() || (&search{before: h, after: left, had: right, right: right, at: w.at}).any()
}

// dropping is the same where the same bears on a right, and the same of it is dropped.
func (w *assessing) dropping(h *hand, right int, drops func(int) bool) []byte {
	k := decision.ClassKey(w.key[:0])
	k.Number(int64(right)<<1 | int64(decision.Bit(w.RightList[right].For(h.what.Facts.Kind))))
	k.Number(int64(h.what.Clock))
	k.Period(h.who.Valid)
	k.Period(h.what.Lockout)
	var room [32]int64
	list := room[:0]
	for i := range h.parts {
		x := &h.parts[i]
		if bears := x.Bears(right); bears || w.DirectFirst && x.Direct {
			list = append(list, w.spans.held(x.Periods)<<40|int64(w.times[x.Number])<<3|int64(decision.Bit(drops(i))<<2|decision.Bit(x.Direct)<<1|decision.Bit(!bears)))
		}
	}
	slices.Sort(list)
	for _, n := range slices.Compact(list) {
		k.Number(n)
	}
	w.key = k
	return k
}

// likeEarlier tells whether the same lines give and take a right as an earlier one, so that it goes with that.
func likeEarlier(c *decision.Compiled, h *hand, right int) bool {
	for earlier := range right {
		x, y := &c.RightList[earlier], &c.RightList[right]
		if x.Controls == y.Controls && slices.Equal(x.Kinds, y.Kinds) && !slices.ContainsFunc(h.parts, func(p decision.Part) bool { return p.Bears(earlier) != p.Bears(right) }) {
			return true
		}
	}
	return false
}

// any tells whether there is an instant, and circumstances, at which the search finds anything.
func (s *search) any() bool {
	s.ever = true
	values := s.values()
	full, found := usable(&values), false
	if full != 0 && !s.loosens && s.nothing() {
		return false
	}
	if _, ok := s.first(s.context); ok {
		return true
	}
	if full == 0 {
		return false
	}
	s.each(full, &values, choice{}, 0, func(at decision.Context) {
		if !found {
			_, found = s.first(at)
		}
	})
	return found
}
