package container

import (
	"runtime"
	"sync"
)

// Crowd is all users, or all devices. Those that no decision tells apart share a class: what
// holds for one of a class holds for all, so that questions about many are asked by class.
type Crowd[ID ~string, C any] struct {
	Where   Index              // each by its id
	Classes Sections[C]        // by number; one that everybody has left stays, and is not found again
	Members Sections[Roll[ID]] // by the number of the class
	keys    Sections[string]   // by the number of the class
	numbers Index              // of the classes, by their keys
}

// Find gives the class of an id, nil where there is no such.
func (c *Crowd[ID, C]) Find(id ID) *C {
	s := c.Where.Find(string(id))
	if s == nil {
		return nil
	}
	return c.Classes.At(s.Class)
}

// Together is how many are looked for at a time.
const Together = 128

// FindMany gives the classes of up to [together] ids. A million ids lie far apart in memory: where each is looked for first is
// read for all of them before any is compared, so that the waits for it overlap.
func (c *Crowd[ID, C]) FindMany(n int, id func(int) ID, out *[Together]*C) {
	var hashes [Together]uint64
	for i := range n {
		hashes[i] = c.Where.hash(string(id(i)))
	}
	read := uint32(0)
	for i := range n {
		read |= c.Where.first(hashes[i]).hash
	}
	for i := range n { // and then, now that it is known where they are, the keys
		if s := c.Where.first(hashes[i]); s.hash == tagOf(hashes[i]) {
			read |= uint32(s.key[0])
		}
	}
	runtime.KeepAlive(read)
	for i := range n {
		out[i] = nil
		if s := c.Where.findHashed(hashes[i], string(id(i))); s != nil {
			out[i] = c.Classes.At(s.Class)
		}
	}
}

// Inhabited yields the number of every class with somebody in it.
func (c *Crowd[ID, C]) Inhabited(yield func(int32) bool) {
	for n := range int32(c.Classes.Size) {
		if c.Members.At(n).Size > 0 && !yield(n) {
			return
		}
	}
}

// Derive makes all classes again of their facts, on other rules, groups or places: side by side, so that again is called by several at a time.
func (c *Crowd[ID, C]) Derive(again func(*C) C) {
	classes := c.Classes.draft()
	for n := range classes.parts {
		classes.edit(int32(n * sectionSize))
	}
	shares := min(runtime.GOMAXPROCS(0), len(classes.parts))
	var wait sync.WaitGroup
	for k := range shares {
		wait.Go(func() {
			for n := int32(k*len(classes.parts)/shares) * sectionSize; n < min(int32((k+1)*len(classes.parts)/shares)*sectionSize, int32(c.Classes.Size)); n++ {
				if c.Members.At(n).Size > 0 {
					class := &classes.parts[n/sectionSize][n%sectionSize]
					*class = again(class)
				}
			}
		})
	}
	wait.Wait()
	c.Classes = classes.Sections
}

// Gathering fills an empty crowd, in the order of the ids.
type Gathering[ID ~string, C any] struct {
	crowd   *Crowd[ID, C]
	classes *drafted[C]
	members [][]ID
	keys    map[string]int32
}

// Gather begins to fill an empty crowd with about n.
func Gather[ID ~string, C any](into *Crowd[ID, C], n int) *Gathering[ID, C] {
	*into = Crowd[ID, C]{Where: newIndex(n)}
	return &Gathering[ID, C]{into, into.Classes.draft(), nil, map[string]int32{}}
}

// Add puts somebody into the class of a key, which is made where it is not there.
func (g *Gathering[ID, C]) Add(id ID, key []byte, class func() C) {
	n, ok := g.keys[string(key)]
	if !ok {
		n = g.classes.add(class())
		g.keys[string(key)] = n
		g.members = append(g.members, nil)
	}
	g.members[n] = append(g.members[n], id)
	x := &g.crowd.Where
	x.insert(x.hash(string(id)), Slot{key: string(id), Class: n, hash: 1})
}

// End leaves the crowd filled.
func (g *Gathering[ID, C]) End() {
	c := g.crowd
	c.Classes = g.classes.Sections
	members := c.Members.draft()
	for _, ids := range g.members {
		members.add(RollOf(ids))
	}
	c.Members = members.Sections
	keys := c.keys.draft()
	for range g.keys {
		keys.add("")
	}
	c.numbers = newIndex(len(g.keys))
	for key, n := range g.keys {
		*keys.edit(n) = key
		c.numbers.insert(c.numbers.hash(key), Slot{key: key, Class: n})
	}
	c.keys = keys.Sections
}

// Moving changes a crowd a little.
type Moving[ID ~string, C any] struct {
	crowd   *Crowd[ID, C]
	classes *drafted[C]
	members *drafted[Roll[ID]]
	keys    *drafted[string]
	where   map[string]Slot
	numbers map[string]Slot
}

// Move begins to change a crowd. Whoever holds a copy of it keeps what it was.
func Move[ID ~string, C any](c *Crowd[ID, C]) *Moving[ID, C] {
	return &Moving[ID, C]{c, c.Classes.draft(), c.Members.draft(), c.keys.draft(), map[string]Slot{}, map[string]Slot{}}
}

// Put moves somebody, new or not, into the class of a key.
func (m *Moving[ID, C]) Put(id ID, key []byte, class func() C) {
	old := m.crowd.Where.Find(string(id))
	n, ok := m.number(string(key))
	if !ok {
		n = m.classes.add(class())
		m.members.add(Roll[ID]{})
		m.keys.add(string(key))
		m.numbers[string(key)] = Slot{key: string(key), Class: n, hash: 1}
	}
	if old != nil && old.Class != n {
		m.leave(id, old.Class)
	}
	list := m.members.edit(n)
	*list = list.with(id)
	m.where[string(id)] = Slot{key: string(id), Class: n, hash: 1}
}

func (m *Moving[ID, C]) number(key string) (int32, bool) {
	if s, ok := m.numbers[key]; ok {
		return s.Class, s.hash != 0
	}
	if s := m.crowd.numbers.Find(key); s != nil {
		return s.Class, true
	}
	return 0, false
}

func (m *Moving[ID, C]) leave(id ID, class int32) {
	list := m.members.edit(class)
	if *list = list.Without(id); list.Size == 0 {
		m.numbers[*m.keys.At(class)] = Slot{}
	}
}

// Remove takes somebody out.
func (m *Moving[ID, C]) Remove(id ID) {
	if old := m.crowd.Where.Find(string(id)); old != nil {
		m.leave(id, old.Class)
		m.where[string(id)] = Slot{}
	}
}

// End leaves the crowd changed.
func (m *Moving[ID, C]) End() {
	c := m.crowd
	c.Classes, c.Members, c.keys = m.classes.Sections, m.members.Sections, m.keys.Sections
	c.Where = c.Where.with(m.where)
	c.numbers = c.numbers.with(m.numbers)
}
