package decision

import (
	"sentier/internal/policy"
)

// rights are all rights, by number in the order of their ids.
type rights struct {
	rightList []rightInfo
	words     int // of a set of rights
}

type rightInfo struct {
	id       policy.RightID
	gives    rightSet // what the right implies, itself included
	takenBy  rightSet // what implies the right, itself included
	kinds    []policy.KindID
	controls bool // is control or implies it
}

// rightSet is a set of rights by their numbers.
type rightSet []uint64

func (b rightSet) has(i int) bool { return b[i>>6]&(1<<(i&63)) != 0 }
func (b rightSet) add(i int)      { b[i>>6] |= 1 << (i & 63) }

// folded is the set in one word, which rules out rights that are not in it: for sure, where there are no more than 64.
func (b rightSet) folded() uint64 {
	word := uint64(0)
	for _, w := range b {
		word |= w
	}
	return word
}

func (b rightSet) addAll(o rightSet) {
	for i := range b {
		b[i] |= o[i]
	}
}

// right finds a right's number. There are few, and comparing them costs less than a map.
func (r *rights) right(id policy.RightID) (int, bool) {
	for i := range r.rightList {
		if r.rightList[i].id == id {
			return i, true
		}
	}
	return 0, false
}

func compileRights(p *policy.Policy) *rights {
	c := &rights{}
	number := map[policy.RightID]int{}
	for r := range policy.Each[*policy.Right](p) {
		number[r.ID] = len(c.rightList)
		c.rightList = append(c.rightList, rightInfo{id: r.ID, kinds: r.Kinds})
	}
	c.words = (len(c.rightList) + 63) / 64
	for i := range c.rightList {
		c.rightList[i].gives, c.rightList[i].takenBy = make(rightSet, c.words), make(rightSet, c.words)
	}
	for i := range c.rightList {
		todo := []policy.RightID{c.rightList[i].id}
		for len(todo) > 0 {
			j := number[todo[0]]
			todo = todo[1:]
			if c.rightList[i].gives.has(j) {
				continue
			}
			c.rightList[i].gives.add(j)
			c.rightList[j].takenBy.add(i)
			r, _ := policy.Find[*policy.Right](p, string(c.rightList[j].id))
			todo = append(todo, r.Implies...)
		}
		c.rightList[i].controls = c.rightList[i].gives.has(number[policy.Control])
	}
	return c
}
