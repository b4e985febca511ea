package survey

import (
	"fmt"
	"slices"
	"time"

	"sentier/internal/decision"
	"sentier/internal/policy"
)

// Standings are what grants and memberships come to for every class of users, told by the minutes of the week where they can be, or by instants alone; and
// how many hands were told by the week.
func Standings(c Survey, at time.Time, weekly bool) (out []string, byWeek int) {
	a := c.assessor(decision.MomentOf(at))
	if !weekly {
		a.weeks = nil
	}
	w := a.begin()
	for n := range c.Users.Inhabited {
		s := w.user(c.Users.Classes.At(n))
		slices.SortFunc(s.grants, func(a, b grantWorth) int { return cmpStrings(string(a.grant), string(b.grant)) })
		out = append(out, fmt.Sprint(s))
	}
	return out, w.weekly
}

func cmpStrings(a, b string) int {
	if a < b {
		return -1
	}
	return 1
}

// Parts are the devices as they are told apart for the users of a class: by the ids of one of each class, with what bears on it.
func Parts(c Survey, user policy.UserID) (out [][]string, hands map[string]string) {
	hands = map[string]string{}
	f := newFacing(Survey{}, c, all(&c.Devices))
	class := c.Users.Find(user)
	for p := range f.of(&userJoint{after: class}) {
		var ids []string
		for _, id := range p.ids(1 << 20) {
			ids = append(ids, string(id))
			h := c.hand(&decision.ResolvedQuery{Who: class, What: c.Devices.Find(id)})
			var lines []string
			for _, x := range h.parts {
				lines = append(lines, fmt.Sprint(x.Number, x.Direct, x.Idle, x.Periods))
			}
			slices.Sort(lines)
			hands[string(id)] = fmt.Sprint(lines)
		}
		if p.size() != len(ids) {
			panic(fmt.Sprint("a part has ", p.size(), " devices and lists ", ids))
		}
		out = append(out, ids)
	}
	return out, hands
}
