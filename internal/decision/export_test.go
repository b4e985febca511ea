package decision

import "sentier/internal/policy"

// WithoutPairs is the policy as one with too many classes is compiled: by marks alone.
func (c *Compiled) WithoutPairs() *Compiled {
	large := *c
	large.pairs = pairs{}
	return &large
}

// CourseOf is how the answer about one right of a user on a device runs, with nothing known of the circumstances.
func CourseOf(c *Compiled, user policy.UserID, device policy.DeviceID, right int) Course {
	return c.course(&ResolvedQuery{Who: c.Users.Find(user), What: c.Devices.Find(device), Right: right})
}
