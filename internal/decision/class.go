package decision

import (
	"encoding/binary"
	"runtime"
)

// crowd is all users, or all devices. Those that no decision tells apart share a class: what
// holds for one of a class holds for all, so that questions about many are asked by class.
type crowd[ID ~string, C any] struct {
	where   index              // each by its id
	classes sections[C]        // by number; one that everybody has left stays, and is not found again
	members sections[roll[ID]] // by the number of the class
	keys    sections[string]   // by the number of the class
	numbers index              // of the classes, by their keys
}

// find gives the class of an id, nil where there is no such.
func (c *crowd[ID, C]) find(id ID) *C {
	s := c.where.find(string(id))
	if s == nil {
		return nil
	}
	return c.classes.at(s.class)
}

// together is how many are looked for at a time.
const together = 128

// findMany gives the classes of up to [together] ids. A million ids lie far apart in memory: where each is looked for first is
// read for all of them before any is compared, so that the waits for it overlap.
func (c *crowd[ID, C]) findMany(n int, id func(int) ID, out *[together]*C) {
	var hashes [together]uint64
	for i := range n {
		hashes[i] = c.where.hash(string(id(i)))
	}
	read := uint32(0)
	for i := range n {
		read |= c.where.first(hashes[i]).hash
	}
	for i := range n { // and then, now that it is known where they are, the keys
		if s := c.where.first(hashes[i]); s.hash == tagOf(hashes[i]) {
			read |= uint32(s.key[0])
		}
	}
	runtime.KeepAlive(read)
	for i := range n {
		out[i] = nil
		if s := c.where.findHashed(hashes[i], string(id(i))); s != nil {
			out[i] = c.classes.at(s.class)
		}
	}
}

// inhabited yields the number of every class with somebody in it.
func (c *crowd[ID, C]) inhabited(yield func(int32) bool) {
	for n := range int32(c.classes.size) {
		if c.members.at(n).size > 0 && !yield(n) {
			return
		}
	}
}

// derive makes all classes again of their facts, on other rules, groups or places.
func (c *crowd[ID, C]) derive(again func(*C) C) {
	classes := c.classes.draft()
	for n := range c.inhabited {
		class := classes.edit(n)
		*class = again(class)
	}
	c.classes = classes.sections
}

// gathering fills an empty crowd, in the order of the ids.
type gathering[ID ~string, C any] struct {
	crowd   *crowd[ID, C]
	classes *drafted[C]
	members [][]ID
	keys    map[string]int32
}

func gather[ID ~string, C any](into *crowd[ID, C], n int) *gathering[ID, C] {
	*into = crowd[ID, C]{where: newIndex(n)}
	return &gathering[ID, C]{into, into.classes.draft(), nil, map[string]int32{}}
}

// add puts somebody into the class of a key, which is made where it is not there.
func (g *gathering[ID, C]) add(id ID, key []byte, class func() C) {
	n, ok := g.keys[string(key)]
	if !ok {
		n = g.classes.add(class())
		g.keys[string(key)] = n
		g.members = append(g.members, nil)
	}
	g.members[n] = append(g.members[n], id)
	x := &g.crowd.where
	x.insert(x.hash(string(id)), slot{key: string(id), class: n, hash: 1})
}

func (g *gathering[ID, C]) end() {
	c := g.crowd
	c.classes = g.classes.sections
	members := c.members.draft()
	for _, ids := range g.members {
		members.add(rollOf(ids))
	}
	c.members = members.sections
	keys := c.keys.draft()
	for range g.keys {
		keys.add("")
	}
	c.numbers = newIndex(len(g.keys))
	for key, n := range g.keys {
		*keys.edit(n) = key
		c.numbers.insert(c.numbers.hash(key), slot{key: key, class: n})
	}
	c.keys = keys.sections
}

// moving changes a crowd a little.
type moving[ID ~string, C any] struct {
	crowd   *crowd[ID, C]
	classes *drafted[C]
	members *drafted[roll[ID]]
	keys    *drafted[string]
	where   map[string]slot
	numbers map[string]slot
}

func move[ID ~string, C any](c *crowd[ID, C]) *moving[ID, C] {
	return &moving[ID, C]{c, c.classes.draft(), c.members.draft(), c.keys.draft(), map[string]slot{}, map[string]slot{}}
}

// put moves somebody, new or not, into the class of a key.
func (m *moving[ID, C]) put(id ID, key []byte, class func() C) {
	old := m.crowd.where.find(string(id))
	n, ok := m.number(string(key))
	if !ok {
		n = m.classes.add(class())
		m.members.add(roll[ID]{})
		m.keys.add(string(key))
		m.numbers[string(key)] = slot{key: string(key), class: n, hash: 1}
	}
	if old != nil && old.class != n {
		m.leave(id, old.class)
	}
	list := m.members.edit(n)
	*list = list.with(id)
	m.where[string(id)] = slot{key: string(id), class: n, hash: 1}
}

func (m *moving[ID, C]) number(key string) (int32, bool) {
	if s, ok := m.numbers[key]; ok {
		return s.class, s.hash != 0
	}
	if s := m.crowd.numbers.find(key); s != nil {
		return s.class, true
	}
	return 0, false
}

func (m *moving[ID, C]) leave(id ID, class int32) {
	list := m.members.edit(class)
	if *list = list.without(id); list.size == 0 {
		m.numbers[*m.keys.at(class)] = slot{}
	}
}

// remove takes somebody out.
func (m *moving[ID, C]) remove(id ID) {
	if old := m.crowd.where.find(string(id)); old != nil {
		m.leave(id, old.class)
		m.where[string(id)] = slot{}
	}
}

func (m *moving[ID, C]) end() {
	c := m.crowd
	c.classes, c.members, c.keys = m.classes.sections, m.members.sections, m.keys.sections
	c.where = c.where.with(m.where)
	c.numbers = c.numbers.with(m.numbers)
}

// classKey writes what tells one class from another.
type classKey []byte

func (k *classKey) number(n int64) { *k = binary.AppendVarint(*k, n) }

func (k *classKey) text(s string) {
	*k = binary.AppendUvarint(*k, uint64(len(s)))
	*k = append(*k, s...)
}

func (k *classKey) period(p period) {
	k.number(int64(p.from))
	k.number(int64(p.until))
}
