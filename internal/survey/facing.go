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
	base          []int32      // by device: its block, of those that are alike to whoever has to do with no sparse target
	blocks        [][]int32    // devices by block
	sparse        [2][][]int32 // by side and target: the devices that it covers
	dense         [2][]bool    // by side and target: whether the blocks tell it

	now     []int32 // by device: the part that it is in, for the users at hand
	touched []int32 // devices that are in another part than their block
	seen    [2][]int32
	round   int32
	next    map[[2]int32]int32
}

// part is devices that are alike to the users of a class.
type part struct {
	of      *facing
	block   int32   // those of it that are not touched, where list is nil
	list    []int32 // all of the part
	example *deviceJoint
}

// denseShare is of how many devices one at least is covered by a target that the blocks tell.
const denseShare = 16

func newFacing(before, after Survey, devices []deviceJoint) *facing {
	f := &facing{before: before, after: after, devices: devices, base: make([]int32, len(devices)), now: make([]int32, len(devices)), next: map[[2]int32]int32{}}
	for side, c := range []Survey{before, after} {
		if c.Compiled == nil {
			continue
		}
		f.sparse[side], f.dense[side], f.seen[side] = make([][]int32, len(c.ByTarget)), make([]bool, len(c.ByTarget)), make([]int32, len(c.ByTarget))
		for i := range devices {
			if class := f.side(i, side); class != nil {
				for _, t := range class.Facts.Targets {
					f.sparse[side][t] = append(f.sparse[side][t], int32(i))
				}
				for _, t := range class.Facts.Points { // what is said of a point is said of one device
					if t != 0 {
						f.sparse[side][t] = append(f.sparse[side][t], int32(i))
					}
				}
			}
		}
		for t, list := range f.sparse[side] {
			f.dense[side][t] = len(list) > denseShare && len(list)*denseShare > len(devices)
		}
	}
	blocks := map[string]int32{}
	var key decision.ClassKey
	for i := range devices {
		key = f.key(i, key[:0])
		n, ok := blocks[string(key)]
		if !ok {
			n = int32(len(f.blocks))
			blocks[string(key)] = n
			f.blocks = append(f.blocks, nil)
		}
		f.base[i], f.now[i] = n, n
		f.blocks[n] = append(f.blocks[n], int32(i))
	}
	return f
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
	for side := range 2 {
		class := f.side(i, side)
		if class == nil {
			k.Number(-1)
			continue
		}
		k.Number(int64(class.Clock))
		k.Text(class.Facts.Zone.String())
		k.Text(string(class.Facts.Kind))
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

// parts yields the devices by what is alike to users of a class.
func (f *facing) parts(u *userJoint) func(yield func(part) bool) {
	f.round++
	clear(f.next)
	first := int32(len(f.blocks))
	f.split(0, f.before, u.before, first)
	f.split(1, f.after, u.after, first)
	return func(yield func(part) bool) {
		lists := make([][]int32, len(f.next))
		used := make([]int, len(f.blocks))
		for _, i := range f.touched {
			lists[f.now[i]-first] = append(lists[f.now[i]-first], i)
			used[f.base[i]]++
		}
		more := true
		for _, list := range lists {
			if more = more && (len(list) == 0 || yield(part{f, -1, list, &f.devices[list[0]]})); !more {
				break
			}
		}
		for n, list := range f.blocks {
			if !more || used[n] == len(list) {
				continue
			}
			for _, i := range list {
				if f.now[i] == int32(n) {
					more = yield(part{f, int32(n), nil, &f.devices[i]})
					break
				}
			}
		}
		for _, i := range f.touched {
			f.now[i] = f.base[i]
		}
		f.touched = f.touched[:0]
	}
}

// split tells devices apart by the sparse targets of the lines of a user.
func (f *facing) split(side int, c Survey, u *decision.UserClass, first int32) {
	if c.Compiled == nil || u == nil {
		return
	}
	for _, held := range u.Held {
		for _, r := range c.BySubject[held.Subject] {
			t := r.Target
			if f.seen[side][t] == f.round || f.dense[side][t] {
				continue
			}
			f.seen[side][t] = f.round
			for _, i := range f.sparse[side][t] {
				if f.now[i] < first {
					f.touched = append(f.touched, i)
				}
				key := [2]int32{f.now[i], int32(t)<<1 | int32(side)}
				n, ok := f.next[key]
				if !ok {
					n = first + int32(len(f.next))
					f.next[key] = n
				}
				f.now[i] = n
			}
		}
	}
}

// joints yields the devices of the part by their classes.
func (p part) joints(yield func(*deviceJoint) bool) {
	list := p.list
	if list == nil {
		list = p.of.blocks[p.block]
	}
	for _, i := range list {
		if p.list == nil && p.of.now[i] != p.block {
			continue
		}
		if !yield(&p.of.devices[i]) {
			return
		}
	}
}

// ids gathers the first devices of a part, some at most.
func (p part) ids(most int) (out []policy.DeviceID) {
	for d := range p.joints {
		if out = append(out, d.ids.From("", most-len(out))...); len(out) >= most {
			break
		}
	}
	return out
}
