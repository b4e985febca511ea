package decision

import (
	"slices"

	"sentier/internal/policy"
)

// Rights are all rights, by number in the order of their ids.
type Rights struct {
	RightList []RightInfo
	Words     int // of a set of rights
	likely    [shapes]uint16
}

// shapes is how many forms of an id are told apart to guess which right it names.
const shapes = 64

func shape(id policy.RightID) int {
	if id == "" {
		return 0
	}
	return (int(id[0])*5 + len(id)) & (shapes - 1)
}

// RightInfo is a right with all that it implies worked out.
type RightInfo struct {
	ID       policy.RightID
	gives    RightSet // what the right implies, itself included
	takenBy  RightSet // what implies the right, itself included
	Kinds    []policy.KindID
	Controls bool // is control or implies it
}

// For tells whether the right can be exercised on devices of a kind.
func (r *RightInfo) For(kind policy.KindID) bool {
	return len(r.Kinds) == 0 || slices.Contains(r.Kinds, kind)
}

// Implied lists a right and all that it implies; none where it is not there.
func (r *Rights) Implied(id policy.RightID) (out []policy.RightID) {
	if n, ok := r.Right(id); ok {
		for i := range r.RightList {
			if r.RightList[n].gives.Has(i) {
				out = append(out, r.RightList[i].ID)
			}
		}
	}
	return out
}

// RightSet is a set of rights by their numbers.
type RightSet []uint64

// Has tells whether a right is in the set.
func (b RightSet) Has(i int) bool { return b[i>>6]&(1<<(i&63)) != 0 }

// Add puts a right into the set.
func (b RightSet) Add(i int) { b[i>>6] |= 1 << (i & 63) }

// folded is the set in one word, which rules out rights that are not in it: for sure, where there are no more than 64.
func (b RightSet) folded() uint64 {
	word := uint64(0)
	for _, w := range b {
		word |= w
	}
	return word
}

// AddAll puts all of another set into the set.
func (b RightSet) AddAll(o RightSet) {
	for i := range b {
		b[i] |= o[i]
	}
}

// Right finds a right's number. There are few: to guess it by the form of its id, or else to compare all, costs less than a map.
func (r *Rights) Right(id policy.RightID) (int, bool) {
	if i := int(r.likely[shape(id)]); i < len(r.RightList) && r.RightList[i].ID == id {
		return i, true
	}
	for i := range r.RightList {
		if r.RightList[i].ID == id {
			return i, true
		}
	}
	return 0, false
}

func compileRights(p *policy.Policy) *Rights {
	c := &Rights{}
	number := map[policy.RightID]int{}
	for r := range policy.Each[*policy.Right](p) {
		number[r.ID] = len(c.RightList)
		c.likely[shape(r.ID)] = uint16(len(c.RightList))
		c.RightList = append(c.RightList, RightInfo{ID: r.ID, Kinds: r.Kinds})
	}
	c.Words = (len(c.RightList) + 63) / 64
	for i := range c.RightList {
		c.RightList[i].gives, c.RightList[i].takenBy = make(RightSet, c.Words), make(RightSet, c.Words)
	}
	for i := range c.RightList {
		todo := []policy.RightID{c.RightList[i].ID}
		for len(todo) > 0 {
			j := number[todo[0]]
			todo = todo[1:]
			if c.RightList[i].gives.Has(j) {
				continue
			}
			c.RightList[i].gives.Add(j)
			c.RightList[j].takenBy.Add(i)
			r, _ := policy.Find[*policy.Right](p, string(c.RightList[j].ID))
			todo = append(todo, r.Implies...)
		}
		c.RightList[i].Controls = c.RightList[i].gives.Has(number[policy.Control])
	}
	return c
}

// Meets tells whether the sets have a right in common.
func (b RightSet) Meets(o RightSet) bool {
	for i := range b {
		if b[i]&o[i] != 0 {
			return true
		}
	}
	return false
}

// Within tells whether all of a set is in another.
func (b RightSet) Within(o RightSet) bool {
	for i := range b {
		if b[i]&^o[i] != 0 {
			return false
		}
	}
	return true
}
