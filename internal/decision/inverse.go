package decision

import "sync"

// inverse leads from subjects to the classes of users who are one, and from targets to the classes of
// devices that they cover. It is made when somebody first asks about many.
type inverse struct {
	once    sync.Once
	holders [][]int32 // classes of users by subject, whatever the period
	covered [][]int32 // classes of devices by target, points among them
}

func (c *Compiled) inverted() *inverse {
	c.inverse.once.Do(func() {
		in := c.inverse
		in.holders = make([][]int32, len(c.bySubject))
		for n := range c.users.Inhabited {
			for i, h := range c.users.Classes.At(n).held {
				if !heldBefore(c.users.Classes.At(n).held[:i], h.subject) {
					in.holders[h.subject] = append(in.holders[h.subject], n)
				}
			}
		}
		in.covered = make([][]int32, len(c.targets)+1)
		for n := range c.devices.Inhabited {
			facts := c.devices.Classes.At(n).facts
			for _, t := range facts.targets {
				in.covered[t] = append(in.covered[t], n)
			}
			for _, t := range facts.points {
				in.covered[t] = append(in.covered[t], n)
			}
		}
	})
	return c.inverse
}

func heldBefore(list []held, s subject) bool {
	for _, h := range list {
		if h.subject == s {
			return true
		}
	}
	return false
}

// classSet gathers the numbers of classes, each once.
type classSet struct {
	seen []bool
	list []int32
}

func newClassSet(size int) *classSet { return &classSet{seen: make([]bool, size)} }

func (s *classSet) add(numbers []int32) {
	for _, n := range numbers {
		if !s.seen[n] {
			s.seen[n] = true
			s.list = append(s.list, n)
		}
	}
}
