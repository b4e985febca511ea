package decision

import "sync"

// inverse leads from subjects to the classes of users who are one, or from targets to the classes of devices that they cover. It is made when somebody
// first asks about many, and shared by the policies that come of it as long as it is the same.
type inverse struct {
	once sync.Once
	by   [][]int32
}

// Holders lists the classes of users who are a subject, whatever the period.
func (c *Compiled) Holders(s Subject) []int32 {
	c.holders.once.Do(func() {
		by := make([][]int32, len(c.BySubject))
		for n := range c.Users.Inhabited {
			held := c.Users.Classes.At(n).Held
			for i, h := range held {
				if !heldBefore(held[:i], h.Subject) {
					by[h.Subject] = append(by[h.Subject], n)
				}
			}
		}
		c.holders.by = by
	})
	return c.holders.by[s]
}

// Covered lists the classes of devices that a target covers, points among them.
func (c *Compiled) Covered(t Target) []int32 {
	c.covers.once.Do(func() {
		by := make([][]int32, len(c.Targets)+1)
		for n := range c.Devices.Inhabited {
			facts := c.Devices.Classes.At(n).Facts
			for _, t := range facts.Targets {
				by[t] = append(by[t], n)
			}
			for _, t := range facts.Points {
				by[t] = append(by[t], n)
			}
		}
		c.covers.by = by
	})
	return c.covers.by[t]
}

func heldBefore(list []Held, s Subject) bool {
	for _, h := range list {
		if h.Subject == s {
			return true
		}
	}
	return false
}

// ClassSet gathers the numbers of classes, each once.
type ClassSet struct {
	seen []bool
	List []int32
}

// NewClassSet makes a set of classes that are numbered below size.
func NewClassSet(size int) *ClassSet { return &ClassSet{seen: make([]bool, size)} }

// Clear leaves the set empty.
func (s *ClassSet) Clear() {
	for _, n := range s.List {
		s.seen[n] = false
	}
	s.List = s.List[:0]
}

// Add puts numbers into the set.
func (s *ClassSet) Add(numbers []int32) {
	for _, n := range numbers {
		if !s.seen[n] {
			s.seen[n] = true
			s.List = append(s.List, n)
		}
	}
}
