package survey

import (
	"cmp"
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
		slices.SortFunc(s.grants, func(a, b grantWorth) int { return cmp.Compare(a.grant, b.grant) })
		out = append(out, fmt.Sprint(s))
	}
	return out, w.weekly
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

// SimilarBothWays finds what is similar by hashes, and by the keys themselves.
func SimilarBothWays(table policy.Table) (byHash, byKey [][2]string) {
	sharing := map[string][]policy.Record{}
	for r := range table.All() {
		for _, key := range nearKeys(plainName(r.Title())) {
			sharing[key] = append(sharing[key], r)
		}
	}
	seen := map[[2]string]bool{}
	for _, list := range sharing {
		if len(list) < 2 || len(list) > called {
			continue
		}
		pair := [2]string{list[0].Key(), list[1].Key()}
		if !seen[pair] && near(list[0].Title(), list[1].Title()) {
			byKey = append(byKey, pair)
		}
		seen[pair] = true
	}
	slices.SortFunc(byKey, func(a, b [2]string) int { return cmp.Or(cmp.Compare(a[0], b[0]), cmp.Compare(a[1], b[1])) })
	return similar(table), byKey
}
