package container

import (
	"hash/maphash"
	"maps"
)

// Map is a map that forks: the fork shares all with it but what is changed, so that a change of one entry among a million costs microseconds. The zero Map is
// empty.
type Map[K comparable, V any] struct {
	seed  maphash.Seed
	forks bool // it is a fork: there is a seed
	size  int

	branches [mapWidth]*branch[K, V]
	own      mapSet // the branches that nobody else has
	ownLeaf  [mapWidth]mapSet
}

// branch is a part of a map: its entries lie in the leaves.
type branch[K comparable, V any] [mapWidth]map[K]V

// mapSet is a set of places of a branch.
type mapSet uint32

func (s mapSet) has(n uint64) bool { return s&(1<<n) != 0 }

// mapWidth is how many branches a map has, and how many leaves a branch: a fork copies the list of branches, and the first change in a branch its list of leaves and one leaf of a thousand.
const mapWidth = 32

// Fork is a map with the same entries, to be changed until others have it. The map itself stays as it is.
func (m *Map[K, V]) Fork() Map[K, V] {
	if !m.forks {
		return Map[K, V]{seed: maphash.MakeSeed(), forks: true}
	}
	return Map[K, V]{seed: m.seed, forks: true, size: m.size, branches: m.branches}
}

// place is where a key lies: its branch, and its leaf in that.
func (m *Map[K, V]) place(key K) (branch, leaf uint64) {
	hash := maphash.Comparable(m.seed, key)
	return hash % mapWidth, hash / mapWidth % mapWidth
}

// Get gives the value of a key; false where it has none.
func (m *Map[K, V]) Get(key K) (value V, ok bool) {
	if m.size == 0 {
		return value, false
	}
	at, leaf := m.place(key)
	if b := m.branches[at]; b != nil {
		value, ok = b[leaf][key]
	}
	return value, ok
}

// Len is how many entries there are.
func (m *Map[K, V]) Len() int { return m.size }

// All gives all entries, in no order.
func (m *Map[K, V]) All(yield func(K, V) bool) {
	for _, b := range m.branches {
		if b == nil {
			continue
		}
		for _, leaf := range b {
			for key, value := range leaf {
				if !yield(key, value) {
					return
				}
			}
		}
	}
}

// Set gives a key a value, in a fork that nobody else has.
func (m *Map[K, V]) Set(key K, value V) {
	leaf := m.edit(key)
	was := len(leaf)
	leaf[key] = value
	m.size += len(leaf) - was
}

// Delete takes a key out, of a fork that nobody else has.
func (m *Map[K, V]) Delete(key K) {
	if _, there := m.Get(key); there {
		delete(m.edit(key), key)
		m.size--
	}
}

// edit gives the leaf of a key to be changed.
func (m *Map[K, V]) edit(key K) map[K]V {
	at, n := m.place(key)
	b := m.branches[at]
	if !m.own.has(at) {
		m.own |= 1 << at
		own := new(branch[K, V])
		if b != nil {
			*own = *b
		}
		b = own
		m.branches[at] = b
	}
	if !m.ownLeaf[at].has(n) {
		m.ownLeaf[at] |= 1 << n
		if b[n] = maps.Clone(b[n]); b[n] == nil {
			b[n] = map[K]V{}
		}
	}
	return b[n]
}
