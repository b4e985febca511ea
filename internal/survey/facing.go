package survey

import (
	"encoding/binary"

	"sentier/internal/decision"
	"sentier/internal/policy"
)

// facing parts devices, for the users of one class after another, into those about which the same is to be said of them: alike in all that an answer
// looks at, and covered by the same of what the users' lines cover. Users have to do with few devices, and what they may do on all the others
// is said once. So a comparison costs what there is to be told apart, and not every pair of classes.
type facing struct {
	before, after Survey
	devices       []deviceJoint
	steady        bool         // none of them is another than before, so that the lines of after tell them apart where none of before is gone
	base          []int32      // by device: its block, of those that are alike to whoever has to do with no sparse target
	blocks        []block      // in the order in which they are met
	sparse        [2][][]int32 // by side and target: the devices that it covers
	dense         [2][]bool    // by side and target: whether the blocks tell it

	// For the users at hand:
	round   int32
	seen    [2][]int32 // by side and target: the round in which it was met last
	now     []int32    // by device: the part that it is in
	touched []int32    // devices that are in another part than their block
	parts   int        // that there are, blocks among them
	stamp   []int32    // by part: the target that split it last
	into    []int32    // by part: what is split off by that target
	stamps  int32
	lists   [][]int32 // devices of the parts that are no blocks
}

// block is devices that are alike to whoever has to do with no sparse target.
type block struct {
	devices   []int32
	size      int // devices in all classes
	concerned int // for how many users those of them are concerned that are in no other part
	touched   int // how many are, for the users at hand
	left      int // devices in the classes that are not
}

// part is devices that are alike to the users of a class.
type part struct {
	among   *facing
	block   int32   // those of it that are not touched, where list is nil
	list    []int32 // all of the part
	example *deviceJoint
}

// denseShare is of how many devices one at least is covered by a target that the blocks tell.
const denseShare = 16

func newFacing(before, after Survey, devices []deviceJoint) *facing {
	f := &facing{before: before, after: after, devices: devices, steady: before.Compiled != nil, base: make([]int32, len(devices)), now: make([]int32, len(devices))}
	for side, c := range []Survey{before, after} {
		if c.Compiled != nil {
			f.cover(side, c)
		}
	}
	blocks := map[string]int32{}
	var key decision.ClassKey
	for i := range devices {
		d := &devices[i]
		f.steady = f.steady && !d.moved
		key = f.key(i, key[:0])
		n, ok := blocks[string(key)]
		if !ok {
			n = int32(len(f.blocks))
			blocks[string(key)] = n
			f.blocks = append(f.blocks, block{})
		}
		f.base[i], f.now[i] = n, n
		f.blocks[n].devices = append(f.blocks[n].devices, int32(i))
		f.blocks[n].size += d.ids.Size
	}
	return f
}

// cover finds which devices each target covers.
func (f *facing) cover(side int, c Survey) {
	f.sparse[side], f.dense[side], f.seen[side] = make([][]int32, len(c.ByTarget)), make([]bool, len(c.ByTarget)), make([]int32, len(c.ByTarget))
	for i := range f.devices {
		class := f.side(i, side)
		if class == nil {
			continue
		}
		for _, t := range class.Facts.Targets {
			f.sparse[side][t] = append(f.sparse[side][t], int32(i))
		}
		for _, t := range class.Facts.Points { // what is said of a point is said of one device
			if t != 0 {
				f.sparse[side][t] = append(f.sparse[side][t], int32(i))
			}
		}
	}
	for t, list := range f.sparse[side] {
		f.dense[side][t] = len(list) > denseShare && len(list)*denseShare > len(f.devices)
	}
}

func (f *facing) side(i, side int) *decision.DeviceClass {
	if side == 0 {
		return f.devices[i].before
	}
	return f.devices[i].after
}

// key is the same for devices of one block.
func (f *facing) key(i int, k decision.ClassKey) decision.ClassKey {
	d := &f.devices[i]
	k.Number(int64(decision.Bit(d.moved)<<2 | decision.Bit(d.nearBefore)<<1 | decision.Bit(d.nearAfter)))
	k.Text(d.points.key())
	for side := range 2 {
		class := f.side(i, side)
		if class == nil {
			k.Number(-1)
			continue
		}
		k.Number(int64(class.Clock))
		k.Text(class.Facts.Zone.String())
		c := []*Survey{&f.before, &f.after}[side]
		for r := range c.RightList { // of the kind nothing else counts
			k.Number(int64(decision.Bit(c.RightList[r].For(class.Facts.Kind))))
		}
		k.Text(string(class.Facts.State))
		k.Period(class.Lockout)
		for _, t := range class.Facts.Targets {
			if f.dense[side][t] {
				k = binary.AppendUvarint(k, uint64(t))
			}
		}
		k.Number(-1)
	}
	return k
}

// of yields the devices by what is alike to users of a class. One part is done with before the next.
func (f *facing) of(u *userJoint) func(yield func(part) bool) {
	for _, i := range f.touched {
		f.now[i] = f.base[i]
	}
	f.touched, f.parts = f.touched[:0], len(f.blocks)
	f.round++
	if !f.steady || u.moved || u.nearBefore {
		f.split(0, f.before, u.before)
	}
	f.split(1, f.after, u.after)
	return f.told
}

func (f *facing) told(yield func(part) bool) {
	for n := range f.blocks {
		b := &f.blocks[n]
		b.touched, b.left = 0, b.size
	}
	first := len(f.blocks)
	for len(f.lists) < f.parts-first {
		f.lists = append(f.lists, nil)
	}
	lists := f.lists[:f.parts-first]
	for n := range lists {
		lists[n] = lists[n][:0]
	}
	for _, i := range f.touched {
		n := int(f.now[i]) - first
		lists[n] = append(lists[n], i)
		b := &f.blocks[f.base[i]]
		b.touched++
		b.left -= f.devices[i].ids.Size
	}
	for _, list := range lists {
		if len(list) > 0 && !yield(part{f, -1, list, &f.devices[list[0]]}) {
			return
		}
	}
	for n := range f.blocks {
		b := &f.blocks[n]
		if b.touched == len(b.devices) {
			continue
		}
		for _, i := range b.devices {
			if f.now[i] == int32(n) {
				if !yield(part{f, int32(n), nil, &f.devices[i]}) {
					return
				}
				break
			}
		}
	}
}

// split tells devices apart by the sparse targets of the lines of a user.
func (f *facing) split(side int, c Survey, u *decision.UserClass) {
	if c.Compiled == nil || u == nil {
		return
	}
	first := int32(len(f.blocks))
	for _, held := range u.Held {
		for _, r := range c.BySubject[held.Subject] {
			t := r.Target
			if f.seen[side][t] == f.round || f.dense[side][t] {
				continue
			}
			f.seen[side][t] = f.round
			f.stamps++
			for _, i := range f.sparse[side][t] {
				from := f.now[i]
				if from < first {
					f.touched = append(f.touched, i)
				}
				for len(f.stamp) <= f.parts {
					f.stamp, f.into = append(f.stamp, 0), append(f.into, 0)
				}
				if f.stamp[from] != f.stamps {
					f.stamp[from], f.into[from] = f.stamps, int32(f.parts)
					f.parts++
				}
				f.now[i] = f.into[from]
			}
		}
	}
}

// size is how many devices the part has.
func (p part) size() int {
	if p.list == nil {
		return p.among.blocks[p.block].left
	}
	size := 0
	for _, i := range p.list {
		size += p.among.devices[i].ids.Size
	}
	return size
}

// concern notes that the users at hand are concerned with the part.
func (p part) concern() {
	f := p.among
	if p.list == nil {
		f.blocks[p.block].concerned++
		for _, i := range f.touched {
			if f.base[i] == p.block {
				f.devices[i].spared++
			}
		}
		return
	}
	for _, i := range p.list {
		f.devices[i].concerned = true
	}
}

// concerned tells whether anybody is concerned with a device.
func (f *facing) concerned(i int) bool {
	d := &f.devices[i]
	return d.concerned || d.spared < f.blocks[f.base[i]].concerned
}

// ids gathers the first devices of a part, some at most.
func (p part) ids(most int) (out []policy.DeviceID) {
	list := p.list
	if list == nil {
		list = p.among.blocks[p.block].devices
	}
	for _, i := range list {
		if len(out) >= most {
			break
		}
		if p.list != nil || p.among.now[i] == p.block {
			out = append(out, p.among.devices[i].ids.From("", most-len(out))...)
		}
	}
	return out
}
