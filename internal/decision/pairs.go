package decision

// pairs tells, where the classes of users and of devices are few, which of them nothing has to be asked about any further: no line
// concerns both, and nothing else ends their questions. It says exactly what the marks say roughly, in one word of memory.
type pairs struct {
	words    int      // of a row
	subjects []uint64 // by subject, a row of a bit for each class of devices that one of its lines covers
	users    []uint64 // by class of users, a row likewise; empty where there are too many classes
}

// mostPairs bounds the memory that is spent on pairs, in bits: more of them do not stay in a near cache, where the marks are as good.
const mostPairs = 1 << 21

// apart tells for sure that nothing concerns a class of users and a class of devices; known is whether it can.
func (p *pairs) apart(user, device int32) (apart, known bool) {
	i := int(user)*p.words + int(device>>6)
	if i >= len(p.users) {
		return false, false
	}
	return p.users[i]>>(device&63)&1 == 0, true
}

// compilePairs makes the pairs of all classes. Devices that are retired or locked out have their answers without any line.
func (c *Compiled) compilePairs() {
	c.pairs = pairs{words: (c.Devices.Classes.Size + 63) / 64}
	if c.pairs.words*64*max(c.Users.Classes.Size, len(c.BySubject)/4) > mostPairs {
		return
	}
	p := &c.pairs
	always := make([]uint64, p.words)
	covered := make([][]int32, len(c.ByTarget)+1)
	for n := range c.Devices.Inhabited {
		class := c.Devices.Classes.At(n)
		if class.Retired || class.Lockout != (Period{}) {
			always[n>>6] |= 1 << (n & 63)
		}
		for _, t := range class.Facts.Targets {
			covered[t] = append(covered[t], n)
		}
	}
	p.subjects = make([]uint64, p.words*len(c.BySubject))
	for s, list := range c.BySubject {
		row := p.subjects[s*p.words:][:p.words]
		copy(row, always)
		for i, rule := range list {
			if i > 0 && list[i-1].Target == rule.Target {
				continue
			}
			for _, n := range covered[rule.Target] {
				row[n>>6] |= 1 << (n & 63)
			}
		}
	}
	c.pairUsers(0)
}

// pairUsers makes the rows of the classes of users from a number on; those before stay as they are.
func (c *Compiled) pairUsers(from int) {
	p := &c.pairs
	if len(p.subjects) == 0 {
		return
	}
	if p.words*64*c.Users.Classes.Size > mostPairs {
		*p = pairs{}
		return
	}
	rows := make([]uint64, p.words*c.Users.Classes.Size)
	copy(rows, p.users[:from*p.words])
	p.users = rows
	for n := range c.Users.Inhabited {
		if int(n) < from {
			continue
		}
		class, row := c.Users.Classes.At(n), rows[int(n)*p.words:][:p.words]
		if class.Bar != 0 || class.Valid != Always {
			for i := range row {
				row[i] = ^uint64(0)
			}
			continue
		}
		copy(row, p.subjects[:p.words]) // the row of no subject: what is always asked about
		for _, h := range class.Held {
			for i, word := range p.subjects[int(h.Subject)*p.words:][:p.words] {
				row[i] |= word
			}
		}
	}
}
