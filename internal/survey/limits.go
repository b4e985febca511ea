package survey

import (
	"slices"

	"sentier/internal/decision"
	"sentier/internal/policy"
)

// lineLimits are the limits that a line carries.
type lineLimits = map[string]policy.Limit

// asLoose tells whether limits are none that others are not: each of them stands in the others, and allows as much there or less.
func asLoose(mine, others lineLimits) bool {
	for name, m := range mine {
		o, there := others[name]
		if !there || m.Number < o.Number || slices.ContainsFunc(o.Texts, func(text string) bool { return !slices.Contains(m.Texts, text) }) {
			return false
		}
	}
	return true
}

// heedLimits makes of what is held otherwise something that is needed where limits would be others without it: by “What an impact tells” of the semantics, what
// gives nothing that others do not give leaves the limits as they are too.
func (w *assessing) heedLimits(h *hand, a *decision.ResolvedQuery) {
	if !w.limited || !slices.ContainsFunc(h.parts, func(p decision.Part) bool { return len(p.Line.Limits()) > 0 }) {
		return
	}
	v, l := &w.verdict, &w.local
	for n := range v.grants {
		g := &v.grants[n]
		if g.all == heldOtherwise && w.tightens(h, func(i int) bool { return l.grants[i] == n }) {
			g.all = needed
		}
		if g.own == heldOtherwise && w.tightens(h, func(i int) bool { return l.grants[i] == n && h.parts[i].Direct }) {
			g.own = needed
		}
	}
	for n := range w.groups {
		m := &v.groups[n]
		switch {
		case !m.held || m.needed:
		case l.plain:
			m.needed = w.tightens(h, func(i int) bool { return l.gone[i]>>n&1 != 0 })
		default:
			left := w.leftWithout(n, a)
			for right := range w.RightList {
				m.needed = m.needed || w.looser(h, &left, right) || w.looser(&left, h, right)
			}
		}
	}
}

// tightens tells whether limits would be closer without some parts of a hand: by fewer lines they never are looser.
func (w *assessing) tightens(h *hand, drops func(int) bool) bool {
	for right := range w.RightList {
		if w.mayTighten(h, right, drops) && w.limits.of(w.dropping(h, right, drops), func() bool {
			left := w.but(h, drops)
			return w.looser(h, &left, right)
		}) {
			return true
		}
	}
	return false
}

// mayTighten tells, by the lines alone, whether a line that stays carries a limit that one that goes does not, or a closer one.
func (w *assessing) mayTighten(h *hand, right int, drops func(int) bool) bool {
	for i := range h.parts {
		gone := &h.parts[i]
		if gone.Line.Deny || !drops(i) || !gone.Bears(right) {
			continue
		}
		for j := range h.parts {
			stays := &h.parts[j]
			if !stays.Line.Deny && !drops(j) && stays.Bears(right) && !asLoose(stays.Line.Limits(), gone.Line.Limits()) {
				return true
			}
		}
	}
	return false
}

// looser tells whether a hand has looser limits than another at any instant and in any circumstances in which both allow a right.
func (w *assessing) looser(h, other *hand, right int) bool {
	return (&search{before: other, after: h, had: right, right: right, at: w.at, loosens: true}).any()
}
