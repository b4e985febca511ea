package container

import "slices"

// Sections is an immutable list that shares what did not change, 256 entries at a time.
type Sections[T any] struct {
	parts []*[sectionSize]T
	Size  int
}

const sectionSize = 256

// At is an entry, which nobody changes.
func (l *Sections[T]) At(i int32) *T { return &l.parts[uint32(i)>>8][uint8(i)] }

// drafted is a list of sections that is being changed.
type drafted[T any] struct {
	Sections[T]
	own map[int]bool
}

// draft begins a change, which leaves l as it is.
func (l Sections[T]) draft() *drafted[T] {
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
	n := int32(d.Size)
	if n%sectionSize == 0 {
		d.own[len(d.parts)] = true
		d.parts = append(d.parts, new([sectionSize]T))
	}
	d.Size++
	*d.edit(n) = v
	return n
}
