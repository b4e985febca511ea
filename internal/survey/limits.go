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

// heedLimits makes of what is held otherwise something that is needed where limits could be others without it: by “What an impact tells” of the semantics, what
// gives nothing that others do not give leaves the limits as they are too. Of lines that are open at different times it is not looked at when they are.
func (w *assessing) heedLimits(h *hand) {
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
		if m := &v.groups[n]; m.held && !m.needed {
			m.needed = !l.plain || w.tightens(h, func(i int) bool { return l.gone[i]>>n&1 != 0 })
		}
	}
}

// tightens tells whether limits could be others without some parts of a hand: a line that stays carries one that those that go do not, or a closer one.
func (w *assessing) tightens(h *hand, drops func(int) bool) bool {
	for right := range w.RightList {
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
	}
	return false
}
