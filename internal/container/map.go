package container

import (
	"hash/maphash"
	"maps"
	"slices"
)

// Map is a map that forks: the fork shares all with it but what is changed, so that a change of one entry among a million costs microseconds. The zero Map is
// empty.
type Map[K comparable, V any] struct {
	seed   maphash.Seed
	shards []map[K]V
	own    []bool // by shard: nobody else has it
	size   int
}

// mapShards is into how many parts a map falls: a change copies one of them, and the list of all.
const mapShards = 1024

// Fork is a map with the same entries, to be changed until others have it. The map itself stays as it is.
func (m *Map[K, V]) Fork() Map[K, V] {
	if m.shards == nil {
		return Map[K, V]{seed: maphash.MakeSeed(), shards: make([]map[K]V, mapShards), own: make([]bool, mapShards)}
	}
	return Map[K, V]{seed: m.seed, shards: slices.Clone(m.shards), own: make([]bool, mapShards), size: m.size}
}

// Get gives the value of a key; false where it has none.
func (m *Map[K, V]) Get(key K) (value V, ok bool) {
	if m.size == 0 {
		return value, false
	}
	value, ok = m.shards[maphash.Comparable(m.seed, key)%mapShards][key]
	return value, ok
}

// Len is how many entries there are.
func (m *Map[K, V]) Len() int { return m.size }

// All gives all entries, in no order.
func (m *Map[K, V]) All(yield func(K, V) bool) {
	for _, shard := range m.shards {
		for key, value := range shard {
			if !yield(key, value) {
				return
			}
		}
	}
}

// Set gives a key a value, in a fork that nobody else has.
func (m *Map[K, V]) Set(key K, value V) {
	shard := m.edit(key)
	was := len(*shard)
	(*shard)[key] = value
	m.size += len(*shard) - was
}

// Delete takes a key out, of a fork that nobody else has.
func (m *Map[K, V]) Delete(key K) {
	if _, there := m.Get(key); there {
		delete(*m.edit(key), key)
		m.size--
	}
}

// edit gives the shard of a key to be changed.
func (m *Map[K, V]) edit(key K) *map[K]V {
	n := maphash.Comparable(m.seed, key) % mapShards
	if !m.own[n] {
		m.own[n] = true
		if m.shards[n] = maps.Clone(m.shards[n]); m.shards[n] == nil {
			m.shards[n] = map[K]V{}
		}
	}
	return &m.shards[n]
}
