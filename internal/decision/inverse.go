package decision

import "sync"

// Inverse leads from subjects to the classes of users who are one, and from targets to the classes of
// devices that they cover. It is made when somebody first asks about many.
type Inverse struct {
	once    sync.Once
	Holders [][]int32 // classes of users by subject, whatever the period
	Covered [][]int32 // classes of devices by target, points among them
}

// Inverted is the inverse of a compiled policy, made once.
func (c *Compiled) Inverted() *Inverse {
	c.inverse.once.Do(func() {
		in := c.inverse
		in.Holders = make([][]int32, len(c.BySubject))
		for n := range c.Users.Inhabited {
			for i, h := range c.Users.Classes.At(n).Held {
				if !heldBefore(c.Users.Classes.At(n).Held[:i], h.Subject) {
					in.Holders[h.Subject] = append(in.Holders[h.Subject], n)
				}
			}
		}
		in.Covered = make([][]int32, len(c.Targets)+1)
		for n := range c.Devices.Inhabited {
			facts := c.Devices.Classes.At(n).Facts
			for _, t := range facts.Targets {
				in.Covered[t] = append(in.Covered[t], n)
			}
			for _, t := range facts.Points {
				in.Covered[t] = append(in.Covered[t], n)
			}
		}
	})
	return c.inverse
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
