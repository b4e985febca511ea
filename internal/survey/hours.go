package survey

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"sentier/internal/decision"
	"sentier/internal/policy"
)

// Hours is when some rights are allowed on some devices, or on a point of one: the same for all of them.
type Hours struct {
	Rights  []policy.RightID
	Devices []Reached[policy.DeviceID] // the first of them, without their rights
	Total   int                        // how many there are
	Open    []policy.Span
}

// Hours finds when a user is allowed what, from an instant to another, as it will run and where nothing is said of the circumstances. What is allowed all the time is left
// out. In each, up to shown devices are told.
func (c Survey) Hours(user policy.UserID, from, until time.Time, shown int) []*Hours {
	in := Circumstances{At: from, Degrees: Degrees(1<<Now | 1<<Later)}
	reach, reason := c.DevicesOf(user, in)
	if reason != decision.Granted {
		return nil
	}
	var out []*Hours
	same := map[string]*Hours{} // by rights and hours
	for _, s := range reach.shares {
		for _, h := range c.hoursOf(user, s, from, until) {
			h.Total = s.members.Size
			for _, d := range s.members.From("", shown) {
				h.Devices = append(h.Devices, Reached[policy.DeviceID]{ID: d, Point: s.point})
			}
			key := fmt.Sprint(h.Rights, h.Open)
			if with := same[key]; with != nil {
				with.Total += h.Total
				with.Devices = append(with.Devices, h.Devices...)
				continue
			}
			same[key] = h
			out = append(out, h)
		}
	}
	for _, h := range out {
		slices.SortFunc(h.Devices, func(a, b Reached[policy.DeviceID]) int { return strings.Compare(a.Key(), b.Key()) })
		h.Devices = h.Devices[:min(len(h.Devices), shown)]
	}
	return out
}

// hoursOf finds when what is allowed on the devices of one class, by the hours: rights that have the same are together.
func (c Survey) hoursOf(user policy.UserID, s share[policy.DeviceID], from, until time.Time) (out []*Hours) {
	one := s.members.From("", 1)
	if len(one) == 0 {
		return nil
	}
	for _, right := range c.possibilities(s.prospects) {
		stretches, _ := c.Stretches(decision.Question{User: user, Right: right.Right, Device: one[0], Point: s.point, At: from}, until)
		var open []policy.Span
		for _, x := range stretches {
			if x.Allowed {
				open = append(open, policy.Span{From: x.From, Until: x.Until})
			}
		}
		if len(open) == 0 || len(open) == 1 && open[0].From.Equal(from) && open[0].Until.Equal(until) {
			continue // never, or all the time
		}
		if i := slices.IndexFunc(out, func(h *Hours) bool { return slices.Equal(h.Open, open) }); i >= 0 {
			out[i].Rights = append(out[i].Rights, right.Right)
			continue
		}
		out = append(out, &Hours{Rights: []policy.RightID{right.Right}, Open: open})
	}
	return out
}
