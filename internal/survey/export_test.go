package survey

import (
	"fmt"
	"slices"
	"time"

	"sentier/internal/decision"
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
