package container

import (
	"hash/maphash"
	"maps"
	"math/bits"
	"slices"
)

// Index finds the number of a class by an id or a key. It is immutable: a changed index shares all shards but
// the changed ones with the one it came from, so that a change to one of a million costs microseconds.
type Index struct {
	seed   maphash.Seed
	shards [][]Slot // by the high bits of the hash; each a power of two long
	used   []int32  // slots in use, by shard
	shift  uint     // how far to shift a hash for its shard
	fill   int      // a shard grows when more of its slots than one in fill are in use
}

// Slot is one place of a shard; it is free where hash is 0.
type Slot struct {
	key   string
	Class int32
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
var noSlots = make([]Slot, 1)

// newIndex makes an empty index for about n entries.
func newIndex(n int) Index {
	shards := firstShards
	for shards < maxShards && shards*shardAim < n {
		shards *= 2
	}
	x := Index{
		seed: maphash.MakeSeed(), shards: make([][]Slot, shards), used: make([]int32, shards),
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

func (x *Index) hash(key string) uint64 { return maphash.String(x.seed, key) }

// Find gives the slot of a key, nil where there is none.
func (x *Index) Find(key string) *Slot { return x.findHashed(x.hash(key), key) }

// tagOf is what a slot keeps of a hash; never 0, which says that it is free.
func tagOf(h uint64) uint32 { return uint32(h) | 1 }

// first is where a hash is looked for first.
func (x *Index) first(h uint64) *Slot {
	shard := x.shards[h>>(x.shift&63)]
	return &shard[int(h>>8)&(len(shard)-1)]
}

func (x *Index) findHashed(h uint64, key string) *Slot {
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
func (x *Index) insert(h uint64, s Slot) {
	n := h >> x.shift
	if int(x.used[n]+1)*x.fill > len(x.shards[n]) {
		old := x.shards[n]
		x.shards[n], x.used[n] = make([]Slot, max(firstSlots, 2*len(old))), 0
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
func (x Index) with(puts map[string]Slot) Index {
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
		gone := slices.ContainsFunc(keys, func(k string) bool { return puts[k] == Slot{} })
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
			if s := puts[k]; s != (Slot{}) {
				s.key = k
				x.insert(x.hash(k), s)
			}
		}
	}
	return x
}
