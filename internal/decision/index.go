package decision

import (
	"hash/maphash"
	"maps"
	"math/bits"
	"slices"
)

// index finds the number of a class by an id or a key. It is immutable: a changed index shares all shards but
// the changed ones with the one it came from, so that a change to one of a million costs microseconds.
type index struct {
	seed   maphash.Seed
	shards [][]slot // by the high bits of the hash; each a power of two long
	used   []int32  // slots in use, by shard
	shift  uint     // how far to shift a hash for its shard
	fill   int      // a shard grows when more of its slots than one in fill are in use
}

// slot is one place of a shard; it is free where hash is 0.
type slot struct {
	key   string
	class int32
	hash  uint32
}

const (
	shardAim    = 512 // entries that a shard is made for: a change copies one shard and the list of all
	maxShards   = 1 << 14
	firstShards = 16

	firstSlots = 8

	// Few entries get the room that nearly every one is where it is looked for first.
	few     = 1 << 14
	fewFill = 5
	fill    = 2
)

// noSlots is an empty shard.
var noSlots = make([]slot, 1)

// newIndex makes an empty index for about n entries.
func newIndex(n int) index {
	shards := firstShards
	for shards < maxShards && shards*shardAim < n {
		shards *= 2
	}
	x := index{
		seed: maphash.MakeSeed(), shards: make([][]slot, shards), used: make([]int32, shards),
		shift: uint(64 - bits.TrailingZeros(uint(shards))), fill: fill,
	}
	if n <= few {
		x.fill = fewFill
	}
	for i := range x.shards {
		x.shards[i] = noSlots
	}
	return x
}

func (x *index) hash(key string) uint64 { return maphash.String(x.seed, key) }

func (x *index) find(key string) *slot { return x.findHashed(x.hash(key), key) }

// tagOf is what a slot keeps of a hash; never 0, which says that it is free.
func tagOf(h uint64) uint32 { return uint32(h) | 1 }

// first is where a hash is looked for first.
func (x *index) first(h uint64) *slot {
	shard := x.shards[h>>(x.shift&63)]
	return &shard[int(h>>8)&(len(shard)-1)]
}

func (x *index) findHashed(h uint64, key string) *slot {
	shard := x.shards[h>>(x.shift&63)]
	tag := tagOf(h)
	mask := len(shard) - 1
	for i := int(h>>8) & mask; ; i = (i + 1) & mask {
		s := &shard[i]
		if s.hash == tag && s.key == key {
			return s
		}
		if s.hash == 0 {
			return nil
		}
	}
}

// insert puts a slot into a shard that the caller alone has.
func (x *index) insert(h uint64, s slot) {
	n := h >> x.shift
	if int(x.used[n]+1)*x.fill > len(x.shards[n]) {
		old := x.shards[n]
		x.shards[n], x.used[n] = make([]slot, max(firstSlots, 2*len(old))), 0
		for _, o := range old {
			if o.hash != 0 {
				x.insert(x.hash(o.key), o)
			}
		}
	}
	shard := x.shards[n]
	s.hash = tagOf(h)
	mask := len(shard) - 1
	for i := int(h>>8) & mask; ; i = (i + 1) & mask {
		if shard[i].hash == 0 {
			shard[i] = s
			x.used[n]++
			return
		}
		if shard[i].hash == s.hash && shard[i].key == s.key {
			shard[i] = s
			return
		}
	}
}

// with gives an index with slots put, by key; those that are zero are taken out.
func (x index) with(puts map[string]slot) index {
	if len(puts) == 0 {
		return x
	}
	x.shards, x.used = slices.Clone(x.shards), slices.Clone(x.used)
	byShard := map[uint64][]string{}
	for _, key := range slices.Sorted(maps.Keys(puts)) {
		n := x.hash(key) >> x.shift
		byShard[n] = append(byShard[n], key)
	}
	for n, keys := range byShard {
		old := x.shards[n]
		gone := slices.ContainsFunc(keys, func(k string) bool { return puts[k] == slot{} })
		x.shards[n] = slices.Clone(old)
		if gone { // what follows a free slot cannot be found: the others move up
			clear(x.shards[n])
			x.used[n] = 0
			for _, o := range old {
				if _, changed := puts[o.key]; o.hash != 0 && !changed {
					x.insert(x.hash(o.key), o)
				}
			}
		}
		for _, k := range keys {
			if s := puts[k]; s != (slot{}) {
				s.key = k
				x.insert(x.hash(k), s)
			}
		}
	}
	return x
}

// sections is an immutable list that shares what did not change, 256 entries at a time.
type sections[T any] struct {
	parts []*[sectionSize]T
	size  int
}

const sectionSize = 256

func (l *sections[T]) at(i int32) *T { return &l.parts[uint32(i)>>8][uint8(i)] }

// drafted is a list of sections that is being changed.
type drafted[T any] struct {
	sections[T]
	own map[int]bool
}

// draft begins a change, which leaves l as it is.
func (l sections[T]) draft() *drafted[T] {
	l.parts = slices.Clone(l.parts)
	return &drafted[T]{l, map[int]bool{}}
}

// edit gives the place of an entry to be changed.
func (d *drafted[T]) edit(i int32) *T {
	n := int(i >> 8)
	if !d.own[n] {
		part := *d.parts[n]
		d.parts[n], d.own[n] = &part, true
	}
	return &d.parts[n][i&(sectionSize-1)]
}

func (d *drafted[T]) add(v T) int32 {
	n := int32(d.size)
	if n%sectionSize == 0 {
		d.own[len(d.parts)] = true
		d.parts = append(d.parts, new([sectionSize]T))
	}
	d.size++
	*d.edit(n) = v
	return n
}

// roll is an immutable sorted list of ids that shares what did not change.
type roll[ID ~string] struct {
	parts [][]ID // none empty
	size  int
}

const rollPart = 512

// rollOf takes a sorted list that nobody changes any more.
func rollOf[ID ~string](ids []ID) roll[ID] {
	r := roll[ID]{size: len(ids)}
	for part := range slices.Chunk(ids, rollPart) {
		r.parts = append(r.parts, part)
	}
	return r
}

// part finds the only part that can hold an id.
func (r roll[ID]) part(id ID) int {
	n, found := slices.BinarySearchFunc(r.parts, id, func(part []ID, id ID) int {
		switch {
		case part[0] > id:
			return 1
		case part[0] == id:
			return 0
		}
		return -1
	})
	if !found && n > 0 {
		n--
	}
	return n
}

func (r roll[ID]) with(id ID) roll[ID] {
	if r.size == 0 {
		return roll[ID]{[][]ID{{id}}, 1}
	}
	n := r.part(id)
	i, found := slices.BinarySearch(r.parts[n], id)
	if found {
		return r
	}
	part := make([]ID, 0, len(r.parts[n])+1)
	part = append(append(append(part, r.parts[n][:i]...), id), r.parts[n][i:]...)
	r.parts = slices.Clone(r.parts)
	r.parts[n] = part
	if len(part) > rollPart {
		r.parts[n] = part[: len(part)/2 : len(part)/2]
		r.parts = slices.Insert(r.parts, n+1, part[len(part)/2:])
	}
	r.size++
	return r
}

func (r roll[ID]) without(id ID) roll[ID] {
	if r.size == 0 {
		return r
	}
	n := r.part(id)
	i, found := slices.BinarySearch(r.parts[n], id)
	if !found {
		return r
	}
	part := slices.Delete(slices.Clone(r.parts[n]), i, i+1)
	r.parts = slices.Clone(r.parts)
	r.parts[n] = part
	if len(part) == 0 {
		r.parts = slices.Delete(r.parts, n, n+1)
	}
	r.size--
	return r
}
