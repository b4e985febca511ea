package container

import "slices"

// Roll is an immutable sorted list of ids that shares what did not change.
type Roll[ID ~string] struct {
	Parts [][]ID // none empty
	Size  int
}

const rollPart = 512

// RollOf takes a sorted list that nobody changes any more.
func RollOf[ID ~string](ids []ID) Roll[ID] {
	r := Roll[ID]{Size: len(ids)}
	for part := range slices.Chunk(ids, rollPart) {
		r.Parts = append(r.Parts, part)
	}
	return r
}

// Part finds the only part that can hold an id.
func (r Roll[ID]) Part(id ID) int {
	n, found := slices.BinarySearchFunc(r.Parts, id, func(part []ID, id ID) int {
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

func (r Roll[ID]) with(id ID) Roll[ID] {
	if r.Size == 0 {
		return Roll[ID]{[][]ID{{id}}, 1}
	}
	n := r.Part(id)
	i, found := slices.BinarySearch(r.Parts[n], id)
	if found {
		return r
	}
	part := make([]ID, 0, len(r.Parts[n])+1)
	part = append(append(append(part, r.Parts[n][:i]...), id), r.Parts[n][i:]...)
	r.Parts = slices.Clone(r.Parts)
	r.Parts[n] = part
	if len(part) > rollPart {
		r.Parts[n] = part[: len(part)/2 : len(part)/2]
		r.Parts = slices.Insert(r.Parts, n+1, part[len(part)/2:])
	}
	r.Size++
	return r
}

// Without gives a roll without an id.
func (r Roll[ID]) Without(id ID) Roll[ID] {
	if r.Size == 0 {
		return r
	}
	n := r.Part(id)
	i, found := slices.BinarySearch(r.Parts[n], id)
	if !found {
		return r
	}
	part := slices.Delete(slices.Clone(r.Parts[n]), i, i+1)
	r.Parts = slices.Clone(r.Parts)
	r.Parts[n] = part
	if len(part) == 0 {
		r.Parts = slices.Delete(r.Parts, n, n+1)
	}
	r.Size--
	return r
}

// Except gives a roll without those of a list that did not stay.
func (r Roll[ID]) Except(list []ID, stayed func(ID) bool) Roll[ID] {
	for _, id := range list {
		if !stayed(id) {
			r = r.Without(id)
		}
	}
	return r
}

// From lists up to n ids from one on.
func (r Roll[ID]) From(id ID, n int) []ID {
	if r.Size == 0 {
		return nil
	}
	part := r.Part(id)
	at, _ := slices.BinarySearch(r.Parts[part], id)
	out := r.Parts[part][at:]
	for part++; len(out) < n && part < len(r.Parts); part++ {
		out = append(slices.Clip(out), r.Parts[part]...)
	}
	return out[:min(n, len(out))]
}

// All yields every id, in their order.
func (r Roll[ID]) All(yield func(ID) bool) {
	for _, part := range r.Parts {
		for _, id := range part {
			if !yield(id) {
				return
			}
		}
	}
}
